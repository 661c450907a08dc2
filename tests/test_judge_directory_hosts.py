"""What a host has of a directory, held against a real sssd and nslcd on a real OpenLDAP server: accounts, groups, who may log in.

Asked is the built program (`accounts`, JSON) with the host's own configuration, and the C library and PAM of that host.
"""

import json
import os
import random
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from directory_host import NSLCD, SSSD, Daemon, asked, asked_of_sudo, asked_of_sudo_ldap
from slapd_server import BASE, scratch_slapd
from support import fidelitas

pytestmark = pytest.mark.judge

# Directories with settings of sssd; JUDGE_ESTATES makes more of them.
SEEDS = max(int(os.environ.get("JUDGE_ESTATES", "20")) // 5, 4)
PEOPLE, GROUPS = 14, 12
# An account that every configuration here lets the host see: the judge waits for it.
FIRST = "first"
ENTRY = "dn: {dn}\n{lines}\n"


def tree(chance: random.Random, zero: int = 0) -> str:
    """Return a directory: people and groups in units and below them, numbers of all sorts, members by name and by DN, groups in groups.

    Some groups have the number 0, or numbers from `zero` on.
    """
    units = ["ou=people", "ou=people", "ou=staff,ou=people", "ou=guests,ou=people"]
    entries = [f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\no: x\ndc: saltmarsh\n"]
    for unit in ("ou=people", "ou=staff,ou=people", "ou=guests,ou=people", "ou=groups", "ou=inner,ou=groups"):
        entries.append(f"dn: {unit},{BASE}\nobjectClass: organizationalUnit\nou: {unit.partition('=')[2].partition(',')[0]}\n")
    people, groups = [FIRST, *names(chance)], [f"g{number}" for number in range(GROUPS)]
    where = {name: "ou=people" if name == FIRST else chance.choice(units) for name in people}
    inside = {group: chance.choice(["ou=groups", "ou=groups", "ou=inner,ou=groups"]) for group in groups}
    gids = {
        group: chance.choice([zero and zero + number, 500 + number, 6000 + number, 6000 + number, 6000 + number, 90000 + number])
        for number, group in enumerate(groups)
    }
    for number, name in enumerate(people):
        uid = (
            5000 + number
            if name == FIRST
            else chance.choice([0, 300 + number, 5000 + number, 5000 + number, 5000 + number, 70000 + number])
        )
        gid = 6999 if name == FIRST else chance.choice([0, 6999, 77, *gids.values(), *gids.values()])
        kind = (
            ["objectClass: inetOrgPerson", "objectClass: posixAccount"]
            if name == FIRST or chance.random() < 0.9
            else ["objectClass: inetOrgPerson"]
        )
        posix = [f"uidNumber: {uid}", f"gidNumber: {gid}", f"homeDirectory: /home/{number}"] if len(kind) == 2 else []
        title = [f"title: {chance.choice(['keeper', 'guest'])}"]
        lines = [*kind, f"uid: {name}", f"cn: {name}", f"sn: {name}", *posix, *title]
        entries.append(ENTRY.format(dn=f"uid={name},{where[name]},{BASE}", lines="\n".join(lines)))
    for group in groups:
        listed = [f"memberUid: {name}" for name in chance.sample(people, chance.randrange(4))]
        dns = [f"member: uid={name},{where[name]},{BASE}" for name in chance.sample(people, chance.randrange(4))]
        inner = [
            f"member: cn={other},{inside[other]},{BASE}" for other in chance.sample(groups, chance.choice([0, 1, 1, 2])) if other != group
        ]
        kind = ["objectClass: posixGroup", "objectClass: extensibleObject"]
        lines = [*kind, f"cn: {group}", f"gidNumber: {gids[group]}", *listed, *dns, *inner]
        entries.append(ENTRY.format(dn=f"cn={group},{inside[group]},{BASE}", lines="\n".join(lines)))
    return "\n".join(entries)


def names(chance: random.Random) -> list[str]:
    written = ["rada", "Ines", "tomas", "vesna", "svc-tide", "a.b", "o'neill", "root", "nils", "zoe", "pier", "guest1", "rada2", "x" * 31]
    return chance.sample(written, PEOPLE)


def of_sssd(chance: random.Random) -> tuple[str, str]:
    """Return settings of the section [nss] and of a domain."""
    nss: list[str] = []
    domain: list[str] = []

    def perhaps(lines: list[str], share: float, text: str) -> None:
        if chance.random() < share:
            lines.append(text)

    filters = ["", "(title=keeper)", "(!(uid=r*))", "(|(uid=first)(uidNumber=5*))"]
    one = f"ou=people,{BASE}?{chance.choice(['subtree', 'onelevel'])}?{chance.choice(filters)}"
    base = chance.choice(
        [
            f"ldap_user_search_base = {one}",
            f"ldap_user_search_base = ou=people,{BASE}?onelevel?(uid=first)?ou=staff,ou=people,{BASE}?subtree?",
        ]
    )
    domain.append(f"ldap_search_base = {BASE}")
    perhaps(domain, 0.5, base)
    perhaps(
        domain,
        0.4,
        f"ldap_group_search_base = ou=groups,{BASE}?{chance.choice(['subtree', 'onelevel'])}?{chance.choice(['', '(!(cn=g3))', '(cn=g1*)'])}",
    )
    # Between these the cache of sssd decides: what one account's lookup has found counts for all.
    perhaps(
        domain,
        0.6,
        f"ldap_schema = {chance.choice(['rfc2307bis', 'rfc2307bis', 'rfc2307'])}\nldap_group_nesting_level = {chance.choice([0, 9, 9])}",
    )
    perhaps(domain, 0.3, f"min_id = {chance.choice([400, 1000])}")
    perhaps(domain, 0.3, "max_id = 60000")
    perhaps(domain, 0.2, "override_gid = 6999")
    perhaps(domain, 0.2, "case_sensitive = false")
    perhaps(nss, 0.3, "filter_users = root, rada")
    perhaps(nss, 0.3, "filter_groups = root, g2, g5")
    access = [
        "access_provider = permit", "access_provider = deny", "access_provider = simple\nsimple_allow_groups = g1, g4", "access_provider = simple\nsimple_deny_users = rada, Ines",
        "access_provider = simple\nsimple_allow_users = first, tomas\nsimple_deny_groups = g0", "access_provider = simple\nsimple_deny_groups = g6, g7",
        "access_provider = ldap\nldap_access_filter = (title=keeper)", "access_provider = ldap\nldap_access_filter = (|(uid=first)(uid=t*))", "access_provider = ldap",
    ]  # fmt: skip
    perhaps(domain, 0.7, chance.choice(access))
    return "\n".join(nss), "\n".join(domain)


def of_nslcd(chance: random.Random) -> tuple[str, str]:
    """Return settings of nslcd.conf."""
    lines = [f"base {BASE}"]

    def perhaps(share: float, text: str) -> None:
        if chance.random() < share:
            lines.append(text)

    perhaps(0.4, f"base passwd ou=people,{BASE}")
    perhaps(0.3, f"base group ou=groups,{BASE}")
    perhaps(0.3, f"scope {chance.choice(['sub', 'group sub'])}")
    if f"base passwd ou=people,{BASE}" in lines:
        perhaps(0.3, "scope passwd one")
    if f"base group ou=groups,{BASE}" in lines:
        perhaps(0.4, "scope group one")
    perhaps(
        0.3, f"filter passwd {chance.choice(['(&(objectClass=posixAccount)(title=keeper))', '(&(objectClass=posixAccount)(!(uid=r*)))'])}"
    )
    perhaps(0.3, f"filter group {chance.choice(['(&(objectClass=posixGroup)(!(cn=g3)))', '(&(objectClass=posixGroup)(cn=g1*))'])}")
    perhaps(0.4, f"nss_min_uid {chance.choice([1, 1000])}")
    perhaps(0.6, f"nss_nested_groups {chance.choice(['yes', 'yes', 'no'])}")
    return "", "\n".join(lines)


@pytest.mark.parametrize("seed", range(SEEDS))
@pytest.mark.parametrize(("daemon", "settings"), [(SSSD, of_sssd), (NSLCD, of_nslcd)], ids=["sssd", "nslcd"])
def test_a_host_has_what_its_own_daemon_gives_it(
    daemon: Daemon, settings: Callable[[random.Random], tuple[str, str]], seed: int, tmp_path: Path, need: Callable[..., None]
) -> None:
    need("unshare", daemon.program, root=True)
    chance = random.Random(seed)
    text = tree(chance, 100 if daemon is NSLCD else 0)  # nslcd lets several groups have 0
    nss, domain = settings(chance)
    (tmp_path / "slapd").mkdir()
    with scratch_slapd(tmp_path / "slapd") as running:
        running.load(text)
        configuration = daemon.configuration.format(port=running.port, base=BASE, nss=nss, domain=domain)
        people = sorted({line.partition(": ")[2] for line in text.splitlines() if line.startswith("uid: ")})
        groups = [f"g{number}" for number in range(GROUPS)]
        truth, known = asked(tmp_path / "host", daemon, configuration, FIRST, [*people, *(name.lower() for name in people)], groups)
    (tmp_path / "corp.ldif").write_text(text)
    assert truth, (nss, domain)
    assert said(tmp_path, daemon, configuration) == {name: tuple(one) for name, one in truth.items() if name != "root"}, (nss, domain)
    assert known


USERS = ["first", "rada", "Ines", "tomas", "vesna"]
COMMANDS = [f"/usr/bin/{name}" for name in ("true", "false", "id", "env", "head", "tail", "wc", "sort", "tac", "nl")]


def roles(chance: random.Random) -> str:
    """Return accounts, two groups and sudo rules: users and hosts by names of other letters, by wildcards, numbers, groups, taken out again."""
    users = [
        "rada",
        "RADA",
        "Ines",
        "ines",
        "ALL",
        "ALL",
        "!rada",
        "!Ines",
        "#5001",
        "#5002",
        "%keepers",
        "%Keepers",
        "%#6001",
        "%tides",
        "tomas",
        "+nobody",
    ]
    hosts = [
        "ALL",
        "ALL",
        "ALL",
        "tern",
        "tern",
        "TERN",
        "te*",
        "ter?",
        "[t]ern",
        "weir",
        "!tern",
        "!weir",
        "!te*",
        "127.0.0.0/8",
        "tern.far.example",
    ]
    entries = [f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\no: x\ndc: saltmarsh\n"]
    entries += [f"dn: ou={unit},{BASE}\nobjectClass: organizationalUnit\nou: {unit}\n" for unit in ("people", "groups", "sudoers")]
    entries.append(f"dn: ou=old,ou=sudoers,{BASE}\nobjectClass: organizationalUnit\nou: old\n")
    for number, name in enumerate(USERS):
        posix = f"uidNumber: {5000 + number}\ngidNumber: {6002 if number % 2 else 6003}\nhomeDirectory: /home/{name}"
        entries.append(
            f"dn: uid={name},ou=people,{BASE}\nobjectClass: account\nobjectClass: posixAccount\nuid: {name}\ncn: {name}\n{posix}\n"
        )
    for name, gid, members in (("keepers", 6001, ["rada", "tomas"]), ("tides", 6002, ["vesna"])):
        listed = "".join(f"memberUid: {member}\n" for member in members)
        entries.append(f"dn: cn={name},ou=groups,{BASE}\nobjectClass: posixGroup\ncn: {name}\ngidNumber: {gid}\n{listed}")
    for number in range(14):
        lines = [f"sudoUser: {one}" for one in dict.fromkeys(chance.choices(users, k=chance.choice([1, 1, 2, 3])))]
        lines += [f"sudoHost: {one}" for one in dict.fromkeys(chance.choices(hosts, k=chance.choice([0, 1, 1, 2, 3])))]
        lines += [f"sudoCommand: {'!' * (chance.random() < 0.15)}{one}" for one in chance.sample(COMMANDS, chance.choice([1, 2]))]
        lines += [f"sudoOrder: {number}"]
        where = chance.choice(["ou=sudoers", "ou=sudoers", "ou=sudoers", "ou=old,ou=sudoers", "ou=people"])
        entries.append(f"dn: cn=r{number},{where},{BASE}\nobjectClass: sudoRole\ncn: r{number}\n" + "\n".join(lines) + "\n")
    for number, where in enumerate(("ou=sudoers", "ou=old,ou=sudoers", "ou=people")):  # so that something is allowed, wherever sssd looks
        sure = f"sudoUser: tomas\nsudoHost: ALL\nsudoCommand: /usr/bin/nl\nsudoOrder: {20 + number}\n"
        entries.append(f"dn: cn=sure{number},{where},{BASE}\nobjectClass: sudoRole\ncn: sure{number}\n{sure}")
    return "\n".join(entries)


@pytest.mark.parametrize("seed", range(SEEDS // 2))
def test_sudo_allows_what_the_rules_of_the_directory_are_said_to(seed: int, tmp_path: Path, need: Callable[..., None]) -> None:
    need("unshare", "sudo", "sssd", root=True)
    chance = random.Random(seed)
    text = roles(chance)
    more = chance.choice(["", "", "ldap_sudo_include_regexp = true", "case_sensitive = false"])
    users = [name.lower() for name in USERS] if "case_sensitive" in more else USERS
    bases = (f"ou=sudoers,{BASE}", f"ou=sudoers,{BASE}?onelevel?", f"ou=old,ou=sudoers,{BASE}?subtree??ou=people,{BASE}?one?", "")
    base = chance.choice(bases)
    domain = f"ldap_search_base = {BASE}\nsudo_provider = ldap\n{f'ldap_sudo_search_base = {base}' if base else ''}\n{more}"
    (tmp_path / "slapd").mkdir()
    with scratch_slapd(tmp_path / "slapd") as running:
        running.load(text)
        configuration = SSSD.configuration.format(port=running.port, base=BASE, nss="", domain=domain)
        truth = asked_of_sudo(tmp_path / "host", configuration, FIRST, users, COMMANDS)
    (tmp_path / "corp.ldif").write_text(text)
    assert truth
    assert sorted(allowed(tmp_path, {"sssd/sssd.conf": configuration}, users)) == sorted(truth), (more, base)


@pytest.fixture(scope="module")
def plugin(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The plugin of sudo that asks directories, out of the package that would replace the system's own."""
    folder = tmp_path_factory.mktemp("sudo-ldap")
    fetched = "apt-get -qq download sudo-ldap || { apt-get -qq update; apt-get -qq download sudo-ldap; }"
    done = subprocess.run(
        ["sh", "-c", f"({fetched}) && dpkg -x sudo-ldap_*.deb ."], cwd=folder, capture_output=True, text=True, check=False
    )
    if done.returncode != 0:
        assert not os.environ.get("CI"), done.stderr
        pytest.skip(f"sudo-ldap cannot be had: {done.stderr[:200]}")
    return folder / "usr/libexec/sudo/sudoers.so"


@pytest.mark.parametrize("seed", range(SEEDS // 2))
def test_sudo_allows_what_it_finds_in_the_directory_itself(seed: int, plugin: Path, tmp_path: Path, need: Callable[..., None]) -> None:
    need("unshare", "sudo", root=True)
    chance = random.Random(seed)
    text = roles(chance)
    bases = (f"ou=sudoers,{BASE}", f"ou=old,ou=sudoers,{BASE}", f"ou=people,{BASE}\nsudoers_base ou=old,ou=sudoers,{BASE}", BASE, "")
    base = chance.choice(bases)
    (tmp_path / "slapd").mkdir()
    with scratch_slapd(tmp_path / "slapd") as running:
        running.load(text)
        bind = f"uri ldap://127.0.0.1:{running.port}\nbinddn cn=admin,{BASE}\nbindpw admin-pw\n"
        files = {
            "sudo-ldap.conf": bind + (f"sudoers_base {base}\n" if base else ""),
            "nsswitch.conf": "passwd: files\ngroup: files\nsudoers: files ldap\nhosts: files\n", "sudoers": "root ALL=(ALL) ALL\n",
            "passwd": "root:x:0:0::/root:/bin/sh\n" + "".join(
                f"{name}:x:{5000 + number}:{6002 if number % 2 else 6003}::/:/bin/sh\n" for number, name in enumerate(USERS)
            ),
            "group": "root:x:0:\nkeepers:x:6001:rada,tomas\ntides:x:6002:vesna\nrest:x:6003:\n",
        }  # fmt: skip
        truth = asked_of_sudo_ldap(tmp_path / "host", plugin, files, USERS, COMMANDS)
    (tmp_path / "corp.ldif").write_text(text)
    assert bool(truth) is bool(base)
    assert sorted(allowed(tmp_path, files, USERS)) == sorted(truth), base


def allowed(folder: Path, stated: dict[str, str], users: list[str]) -> list[list[str]]:
    """Return which commands the program says that some accounts may run, on a host with some files below /etc."""
    root = folder / "root"
    (root / "etc/sssd").mkdir(parents=True)
    files = {
        "nsswitch.conf": "passwd: files sss\ngroup: files sss\nsudoers: files sss\n",
        "passwd": "root:x:0:0::/root:/bin/sh\n", "group": "root:x:0:\n", "sudoers": "root ALL=(ALL) ALL\n", **stated,
    }  # fmt: skip
    for name, content in files.items():
        (root / "etc" / name).write_text(content)
        (root / "etc" / name).chmod(0o440 if name == "sudoers" else 0o600)
    fidelitas("survey", "--root", root, "--name", "tern", cwd=folder)
    fidelitas("survey", "corp.ldif", "--name", "corp", cwd=folder)
    asks = [
        {"id": f"{user} {command}", "account": user, "command": [command], "host": "tern", "addresses": []}
        for user in users
        for command in COMMANDS
    ]
    (folder / "asks").write_text("".join(json.dumps(one) + "\n" for one in asks))
    ran = fidelitas("may", "tern", "--batch", "asks", "--format", "jsonl", cwd=folder)
    answers = [json.loads(line) for line in ran.out.splitlines()]
    return [str(one["id"]).split(" ") for one in answers if one["decision"] == "allowed"]


def said(folder: Path, daemon: Daemon, configuration: str) -> dict[str, tuple[str, str, list[str], bool]]:
    """Return what the program says of the accounts that the host has of the directory."""
    root = folder / "root"
    (root / daemon.path).parent.mkdir(parents=True)
    (root / daemon.path).write_text(configuration)
    (root / daemon.path).chmod(0o600)
    files = {
        "nsswitch.conf": f"passwd: files {daemon.source}\ngroup: files {daemon.source}\n", "passwd": "root:x:0:0::/root:/bin/sh\n",
        "group": "root:x:0:\n", "sudoers": "root ALL=(ALL) ALL\n",
    }  # fmt: skip
    for name, content in files.items():
        (root / "etc" / name).write_text(content)
    fidelitas("survey", "--root", root, "--name", "tern", cwd=folder)
    fidelitas("survey", "corp.ldif", "--name", "corp", cwd=folder)
    rows = fidelitas("accounts", "tern", "--format", "json", cwd=folder).json["accounts"]
    found = {}
    for row in rows:
        if row["account"] != "root" or row["number"] != "0:0":
            uid, _, gid = row["number"].partition(":")
            found[row["account"]] = (uid, gid, sorted(group["name"] for group in row["groups"]), row["can_log_in"] is not False)
    return found
