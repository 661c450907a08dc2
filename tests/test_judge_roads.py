"""Real tools as judges of the other roads: find, getcap, dpkg, rpm, sshd, the kernel's processes, and a fresh installation of Debian."""

import io
import os
import random
import shutil
import struct
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from fidelitas.evidence import Bundle, probe_script, read_bundle
from fidelitas.languages.linux.host import read_host
from fidelitas.languages.linux.sessions import read_login_sessions
from fidelitas.rights import HostRights, rights_of
from fidelitas.rights.linux.live import stale_groups
from fidelitas.rights.linux.programs import privileged_programs
from fidelitas.rights.linux.ssh import sshd_for
from fidelitas.sources import FileScan, from_this_machine
from support import open_up
from test_probe import grow, probe, put, written

pytestmark = pytest.mark.judge


def read(root: Path) -> HostRights:
    return rights_of(read_host(probe(root)))


def run(*command: str | Path, **kwargs: object) -> str:
    done = subprocess.run(command, check=True, capture_output=True, text=True, **kwargs)  # type: ignore[call-overload]
    return str(done.stdout)


# -- files -------------------------------------------------------------------------------------------------------------------------

NAMES = (b"plain", b"with blank", b"new\nline", b"tab\there", b"back\\slash", b"caf\xc3\xa9", b"\xff\xfe", b"-dash", b"quote'\"", b"$(id)")


def plant(root: Path) -> None:
    """Put files of odd names and all kinds of modes below a folder."""
    chance = random.Random(1)
    for depth in ("a", "a/b", "a/b/c d"):
        (root / depth).mkdir(parents=True, exist_ok=True)
        for name in NAMES:
            path = os.fsencode(root / depth) + b"/" + name
            with open(path, "wb") as stream:  # noqa: PTH123
                stream.write(name)
            os.chown(path, chance.choice([0, 0, 1003]), chance.choice([0, 50]))
            os.chmod(path, chance.choice([0o644, 0o755, 0o4755, 0o2755, 0o6711, 0o4640, 0o1755]))  # noqa: PTH101
    (root / "a/folder").mkdir(mode=0o2755)
    (root / "a/folder").chmod(0o2755)
    (root / "a/link").symlink_to("b/plain")


def test_find_finds_the_same_files(tmp_path: Path, need: Callable[..., None]) -> None:
    need("find", root=True)
    plant(grow(tmp_path / "root"))
    said = subprocess.run(
        ["find", tmp_path / "root", "-xdev", "-type", "f", "-perm", "/6000", "-printf", r"%m %U %G /%P\0"], capture_output=True, check=True
    )
    judged = {os.fsdecode(one) for one in said.stdout.split(b"\0") if one}
    programs = read(tmp_path / "root").facts.programs
    assert programs is not None
    assert {f"{one.mode:o} {one.uid} {one.gid} {one.path}" for one in programs.set_id} == judged
    assert len(judged) > 10


def test_a_find_that_prints_one_way_only_finds_them_too(tmp_path: Path, need: Callable[..., None]) -> None:
    need("find", root=True)
    root = grow(tmp_path / "root")
    plant(root)
    script = probe_script().replace("then gnu=true", "then gnu=false")
    done = subprocess.run(["sh", written(script, tmp_path), "--root", root], capture_output=True, check=True)
    facts, whole = read_host(read_bundle(io.BytesIO(done.stdout))), read(root).facts
    assert facts.programs is not None
    assert whole.programs is not None
    assert {one.path for one in facts.programs.set_id} == {one.path for one in whole.programs.set_id if "\n" not in one.path}
    assert [gap.what for gap in facts.gaps if "line break" in gap.why] == ["setuid files"]


@pytest.mark.parametrize("missing", ["", "getfattr"])
def test_getcap_tells_the_same_capabilities(missing: str, tmp_path: Path, need: Callable[..., None]) -> None:
    need("setcap", "getcap", "getfattr", root=True)
    root = grow(tmp_path / "root")
    sets = ("cap_net_raw=ep", "cap_setuid,cap_net_admin=p", "cap_dac_read_search=i", "cap_checkpoint_restore,cap_chown=eip", "=ep")
    for number, text in enumerate(sets):
        put(root / f"opt/tool {number}", "", 0o755)
        run("setcap", text, root / f"opt/tool {number}")
    put(root / "opt/quiet", "", 0o644)
    found = probe(root) if not missing else probe_without(root, missing)
    programs = read_host(found).programs
    assert programs is not None
    assert len(programs.capable) == len(sets)
    for one in programs.capable:
        # The judge prints what we say in its own form only if it means the same.
        flags = [("i", one.inheritable), ("p", one.permitted)]
        ours = " ".join(f"{','.join(sorted(names))}+{flag}{'e' if flag == 'p' and one.effective else ''}" for flag, names in flags if names)
        path = root / one.path[1:]
        said = run("getcap", path)
        run("setcap", ours, path)
        assert run("getcap", path) == said, ours


def probe_without(root: Path, tool: str) -> Bundle:
    """Return what the probe finds where a tool is missing."""
    script = probe_script().replace(f"command -v {tool}", f"command -v no-{tool}")
    done = subprocess.run(["sh", written(script, root.parent), "--root", root], capture_output=True, check=True)
    return read_bundle(io.BytesIO(done.stdout))


# -- copies and packages ---------------------------------------------------------------------------------------------------------------


def test_an_ordinary_account_gets_nothing_of_a_copy_and_nothing_behind_a_closed_folder(tmp_path: Path, need: Callable[..., None]) -> None:
    """Real attempts, as uid 65534."""
    need("setpriv", "su", root=True)
    open_up(tmp_path)
    for name, mode in (("open", 0o755), ("closed", 0o700)):
        (tmp_path / name).mkdir()
        for program in ("su", "id"):
            shutil.copy(shutil.which(program) or "", tmp_path / name / program)
            (tmp_path / name / program).chmod(0o4755)
        (tmp_path / name).chmod(mode)
    # By way of a shell: setpriv itself looks for the program before its capabilities are gone.
    ordinary = ["setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "sh", "-c", 'exec "$@"', "x"]
    tried = {
        name: subprocess.run(
            [*ordinary, tmp_path / name / program, *words], capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL
        )
        for name, program, words in (("open", "su", ("-c", "id -u")), ("closed", "su", ("-c", "id -u")), ("closed", "id", ("-u",)))
    }
    own = subprocess.run([*ordinary, "su", "-c", "id -u"], capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL)
    assert (tried["open"].returncode, tried["open"].stdout) == (own.returncode, own.stdout)  # what the host's own su does
    assert tried["closed"].returncode == 126 or "Permission denied" in tried["closed"].stderr


def test_a_rpm_database_tells_modes_and_capabilities(tmp_path: Path, need: Callable[..., None]) -> None:
    need("rpm", "rpmbuild", root=True)
    spec = """Name: saltmarsh-tool
Version: 1
Release: 1
Summary: made up
License: MIT
BuildArch: noarch
%description
made up
%install
mkdir -p %{buildroot}/usr/bin
for name in setid plain capable changed; do echo "#!/bin/sh $name" > %{buildroot}/usr/bin/tide-$name; done
%files
%attr(4755,root,root) /usr/bin/tide-setid
%attr(0755,root,root) /usr/bin/tide-plain
%attr(4755,root,root) /usr/bin/tide-changed
%caps(cap_net_raw=ep) %attr(0755,root,root) /usr/bin/tide-capable
"""
    put(tmp_path / "t.spec", spec)
    top = tmp_path / "top"
    run("rpmbuild", "-bb", "--define", f"_dbpath {tmp_path}/db", "--define", f"_topdir {top}", tmp_path / "t.spec")
    root = grow(tmp_path / "root")
    there = ("rpm", "--define", "_dbpath /var/lib/rpm", "--root", root)
    run(*there, "--initdb")
    run(*there, "-i", "--nodeps", "--noscripts", "--force-debian", next(top.rglob("*.rpm")))
    (root / "usr/bin/tide-plain").chmod(0o4755)
    put(root / "usr/bin/tide-changed", "#!/bin/sh other", 0o4755)
    put(root / "usr/bin/tide-stray", "x", 0o4755)
    origins = {one.path.rpartition("-")[2]: one.origin.name for one in privileged_programs(read(root).facts)}
    assert origins == {"setid": "PACKAGED", "plain": "MADE_SO", "capable": "PACKAGED", "changed": "CHANGED", "stray": "UNPACKAGED"}


# -- log-ins -----------------------------------------------------------------------------------------------------------------------

VALUES = {
    "PermitRootLogin": ("yes", "no", "prohibit-password", "forced-commands-only"),
    "PasswordAuthentication": ("yes", "no"),
    "KbdInteractiveAuthentication": ("yes", "no"),
    "PubkeyAuthentication": ("yes", "no"),
    "PermitEmptyPasswords": ("yes", "no"),
    "AuthorizedKeysFile": (".ssh/authorized_keys", "/etc/ssh/keys/%u .ssh/other", "none"),
    "ForceCommand": ("/bin/true -x", "none"),
}
MATCHES = (
    "User ines",
    "User !ines,*",
    "Group gauges",
    "Group sudo,gauges",
    "User i*,rada Group g*",
    "all",
    "User=tomas",
    "Group !gauges,*",
)


def config(chance: random.Random) -> str:
    """Return a configuration with Match blocks, in odd forms."""
    lines = [setting(chance) for _ in range(chance.randrange(4))]
    for _ in range(chance.randrange(4)):
        lines += [f"Match {chance.choice(MATCHES)}", *(f"  {setting(chance)}" for _ in range(chance.randrange(1, 4)))]
    return "".join(f"{line}\n" for line in lines)


def setting(chance: random.Random) -> str:
    name = chance.choice(list(VALUES))
    value = chance.choice(VALUES[name])
    return chance.choice(["{} {}", "{}={}", "{} = {}", "{}\t{} # so"]).format(chance.choice([name, name.lower(), name.upper()]), value)


@pytest.mark.parametrize("seed", range(12))
def test_sshd_applies_the_same_settings(seed: int, tmp_path: Path, need: Callable[..., None]) -> None:
    need("sshd", "ssh-keygen", "unshare", root=True)
    chance = random.Random(seed)
    root = grow(tmp_path / "root")
    main = f"{config(chance)}Include /etc/ssh/sshd_config.d/*.conf\n{config(chance)}" if seed % 2 else config(chance)
    put(root / "etc/ssh/sshd_config", main)
    for name in ("20-b.conf", "10-a.conf", "skipped.txt"):
        put(root / "etc/ssh/sshd_config.d" / name, config(chance))
    run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", tmp_path / "key")
    with (root / "etc/passwd").open("a") as passwd:  # sshd refuses to start without the account that it drops its rights to
        passwd.write("sshd:x:110:65534::/run/sshd:/usr/sbin/nologin\n")
    host = read(root)
    for name in ("root", "ines", "tomas", "rada", "vesna"):
        ours = sshd_for(host.facts.logins, host.population.by_name[name], host.population)
        said = dict(line.split(" ", 1) for line in ask_sshd(root, tmp_path / "key", name).splitlines() if " " in line)
        for keyword in map(str.lower, VALUES):
            judged = said.get(keyword, "none").replace("without-password", "prohibit-password")
            assert ours.values[keyword].lower() == judged.lower(), (name, keyword, main)


def ask_sshd(root: Path, key: Path, account: str) -> str:
    """Ask sshd itself, on this machine with the accounts and the configuration of a folder put over its own."""
    script = """
    mount --make-rprivate /
    for file in passwd group; do mount --bind "$1/etc/$file" "/etc/$file"; done
    mount --bind "$1/etc/ssh" /etc/ssh
    mkdir -p /run/sshd
    exec /usr/sbin/sshd -T -h "$2" -f /etc/ssh/sshd_config -C "user=$3,host=tern.saltmarsh.example,addr=192.0.2.9"
    """
    done = subprocess.run(["unshare", "-m", "sh", "-c", script, "sh", root, key, account], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr + (root / "etc/ssh/sshd_config").read_text()
    return done.stdout


@pytest.mark.parametrize("kind", ["ed25519", "rsa", "ecdsa"])
def test_ssh_keygen_shows_the_same_fingerprint(kind: str, tmp_path: Path, need: Callable[..., None]) -> None:
    need("ssh-keygen")
    root = grow(tmp_path / "root")
    folder = root / "home/ines/.ssh"
    folder.mkdir(parents=True)
    for name, phrase in (("open", ""), ("locked", "saltmarsh")):
        run("ssh-keygen", "-q", "-t", kind, "-N", phrase, "-C", f"{name} key", "-f", folder / f"id_{name}")
    run("ssh-keygen", "-q", "-t", kind, "-m", "PEM", "-N", "saltmarsh", "-C", "old form", "-f", folder / "id_pem")
    lines = [f'from="192.0.2.*",command="echo \\"hi\\"" {(folder / "id_open.pub").read_text()}', "# nothing\n", "no key at all\n"]
    put(folder / "authorized_keys", "".join(lines))
    put(root / "etc/ssh/sshd_config", "PubkeyAuthentication yes\n")
    host = read(root)
    judged = run("ssh-keygen", "-l", "-f", folder / "id_open.pub").split()[1]
    ((key,),) = (host.facts.logins.keys or {}).values()
    assert (key.fingerprint, key.option("from"), key.option("command")) == (judged, "192.0.2.*", 'echo "hi"')
    assert {one.fingerprint for one in host.facts.logins.private_keys if one.path.endswith("_open")} == {judged}
    private = {one.path.rpartition("_")[2]: one.encrypted for one in host.facts.logins.private_keys}
    assert private == {"open": False, "locked": True, "pem": True}
    assert b"PRIVATE" not in b"".join(probe(root).files.values())


# -- what is in force --------------------------------------------------------------------------------------------------------------


def test_a_process_with_other_groups_than_the_files_give_is_seen(need: Callable[..., None]) -> None:
    need("setpriv", root=True)
    with subprocess.Popen(
        ["setpriv", "--reuid=65534", "--regid=65534", "--groups=42,65534", sys.executable, "-c", "print(flush=True); input()"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
    ) as process:
        assert process.stdout is not None
        process.stdout.readline()
        facts = read_host(from_this_machine(scan=FileScan.NOWHERE).bundle)
        judged = {int(number) for number in run("ps", "-o", "supgid=", "-p", str(process.pid)).replace(",", " ").split()}
        process.communicate(b"\n")
    (found,) = [one for one in facts.processes or () if one.pid == process.pid]
    assert found.groups == judged == {42, 65534}
    stale = [one for one in stale_groups(facts, rights_of(facts).population) if process.pid in {one.pid for one in one.processes}]
    assert [(one.who.name, one.group, one.held) for one in stale] == [("nobody", "shadow", True)]


def test_id_tells_the_same_groups_of_every_account_of_this_machine() -> None:
    facts = read_host(from_this_machine(scan=FileScan.NOWHERE).bundle)
    for who in rights_of(facts).population.effective:
        judged = {int(number) for number in run("id", "-G", who.name).split()}
        assert who.gids == judged, who.name


# -- who is logged on --------------------------------------------------------------------------------------------------------------


def test_who_is_logged_on_as_who_tells(tmp_path: Path) -> None:
    """Records of every kind, names that fill their field, a record cut off at the end."""
    chance = random.Random(5)
    rows = [
        (chance.randrange(10), chance.randrange(1, 40000), f"pts/{n}", chance.choice(["ines", "x" * 32, "", "rada"]),
         chance.choice(["192.0.2.7", "", "h" * 256]), 1_750_000_000 + n * 3671)
        for n in range(60)
    ]  # fmt: skip
    record = struct.Struct("<hxxi32s4s32s256shhiii16s20x")
    content = b"".join(
        record.pack(kind, pid, line.encode(), b"id", user.encode(), where.encode(), 0, 0, pid, when, 7, bytes(16))
        for kind, pid, line, user, where, when in rows
    )
    file = tmp_path / "utmp"
    file.write_bytes(content + content[:100])
    told = run("who", file, env={"TZ": "UTC", "LC_ALL": "C", "PATH": os.environ["PATH"]})
    ours = [
        f"{one.account:<8} {one.terminal:<12} {one.since:%b %e %H:%M}" + (f" ({one.host})" if one.host else "")
        for one in read_login_sessions(file.read_bytes())
    ]
    assert ours
    assert [line.rstrip() for line in ours] == [line.rstrip() for line in told.splitlines()]
