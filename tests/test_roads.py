"""The other roads to root, each on a small host made of text: what leads there, and what only looks so."""

import base64
import struct
from collections.abc import Mapping

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from fidelitas.checks import estate_findings
from fidelitas.evidence import Item
from fidelitas.facts import Place
from fidelitas.findings import Severity
from fidelitas.inquiry import Inquiry
from fidelitas.languages.linux.capabilities import CAPABILITIES, decode_capabilities, read_told_capabilities
from fidelitas.languages.linux.cron import read_crontab
from fidelitas.languages.linux.delegations import read_doas, read_exports, read_polkit_rules
from fidelitas.languages.linux.host import read_host
from fidelitas.languages.linux.keys import read_authorized_keys
from fidelitas.languages.linux.pam import read_lent_groups
from fidelitas.languages.linux.polkit_actions import read_local_authority, read_polkit_actions
from fidelitas.languages.linux.sessions import read_login_sessions
from fidelitas.languages.linux.shell import programs_of
from fidelitas.languages.linux.units import read_units
from fidelitas.platforms import findings_on
from fidelitas.reports.obstacles import cause
from fidelitas.rights import HostRights, rights_of
from fidelitas.rights.linux.sudo import Question
from support import NOW, Put, bundle, found, held

HERE = Place(subject="knot", path="/etc/x")
KEY = "ssh-ed25519 " + base64.b64encode(b"\0\0\0\x0bssh-ed25519\0\0\0\x20" + b"s" * 32).decode()
SSHD = {"/etc/ssh/sshd_config": "PermitRootLogin yes\n"}
FILES = {"file-systems": b"searched\t/\n", "homes": b"read\n", "kept-passwords": b"read\n"}


def host(files: Mapping[str, str | Put] | None = None, listings: Mapping[str, bytes] | None = None, *items: Item) -> HostRights:
    """Return a small host with further files, listings and states of paths."""
    evidence = bundle("", files or {})
    states = {item.path: item for item in (*evidence.items, *items)}
    manifest = replace(evidence.manifest, items=tuple(states.values()))
    return rights_of(read_host(replace(evidence, manifest=manifest, listings={**FILES, **(listings or {})})))


def item(path: str, mode: int = 0o644, uid: int = 0, gid: int = 0, kind: str = "file") -> Item:
    return Item(path=path, kind=kind, mode=mode, uid=uid, gid=gid)


# -- groups ------------------------------------------------------------------------------------------------------------------------

GROUP = "root:x:0:\nsudo:x:27:\ndocker:x:120:tomas\nshadow:x:42:rada\naudio:x:29:ines\nines:x:1001:\ntomas:x:1002:\nrada:x:1003:\n"


@pytest.mark.parametrize(
    ("socket", "strength"),
    [
        ((item("/run/docker.sock", 0o660, gid=120, kind="other"),), "certain"),
        ((item("/run/docker.sock", 0o660, gid=0, kind="other"),), None),
        ((item("/run/docker.sock", 0o640, gid=120, kind="other"),), None),
        ((Item(path="/run/docker.sock", kind="absent"),), None),
        ((), "conditional"),
    ],
)
def test_a_group_counts_only_if_its_socket_is_there_for_it(socket: tuple[Item, ...], strength: str | None) -> None:
    known = host({"/etc/group": GROUP}, None, *socket)
    strengths = {str(holding.strength) for holding in known.held_by("tomas") if str(holding.right) == "root"}
    assert strengths == ({strength} if strength else set())
    assert [one.about for one in found(known, "groups.root-equivalent")] == (["docker"] if strength else [])


def test_harmless_groups_confer_nothing() -> None:
    assert not host({"/etc/group": GROUP}).held_by("ines")


@pytest.mark.parametrize(
    ("groups", "check", "root"),
    [("120", "groups.revoked-but-active", {"ines", "%docker", "tomas"}), ("", None, {"%docker", "tomas"})],
)
def test_a_session_keeps_a_group_that_was_taken_away(groups: str, check: str | None, root: set[str]) -> None:
    processes = f"77\t1\t1001 1001 1001\t1001 1001 1001\t{groups}\tbash\n".encode()
    known = host({"/etc/group": GROUP}, {"processes": processes}, item("/run/docker.sock", 0o660, gid=120, kind="other"))
    assert held(known) == root
    assert [one.message for one in found(known, "groups.revoked-but-active")] == (
        ["ines was removed from group docker, but processes 77 (bash) still have it"] if check else []
    )


def test_a_group_that_was_given_is_in_force_after_the_next_log_in() -> None:
    processes = b"78\t1\t1002 1002 1002\t1002 1002 1002\t1002\tbash\n79\t1\t0 0 0\t0 0 0\t0\tcron\n"
    known = host({"/etc/group": GROUP}, {"processes": processes}, item("/run/docker.sock", 0o660, gid=120, kind="other"))
    assert [one.about for one in found(known, "groups.pending-membership")] == ["tomas\0docker"]


def test_may_tells_that_the_group_is_not_in_force_yet() -> None:
    processes = b"78\t1\t1001 1001 1001\t1001 1001 1001\t1001\tbash\n"
    evidence = bundle("%sudo ALL=ALL\n")
    asked = Question(account="ines", command=("/bin/ls",), at=NOW)
    answers = [Inquiry(replace(evidence, listings={"processes": listed})).ask(asked, whole=True) for listed in (processes, b"")]
    assert [[cause(one) for one in answer.obstacles] for answer in answers] == [
        ["no running session of ines has group sudo yet, which the rule at /etc/sudoers:1:1 is for"],
        [],
    ]


# -- programs ----------------------------------------------------------------------------------------------------------------------


def set_id(*lines: str) -> bytes:
    return b"".join(f"{line}\0".encode() for line in lines)


DPKG = {
    "dpkg-owners": b"passwd\t/usr/bin/passwd\nvim\t/usr/bin/vim.basic\ntide\t/usr/bin/tide\n",
    "dpkg-md5sums": b"passwd\taaaaaaaaaaaaaaaa  usr/bin/passwd\n",
}


@pytest.mark.parametrize(
    ("line", "listings", "check", "severity"),
    [
        ("4755 0 0 1 1 /usr/bin/passwd", {"md5": b"aaaaaaaaaaaaaaaa\t/usr/bin/passwd\n"}, None, ""),
        ("4755 0 0 1 1 /usr/bin/passwd", {"md5": b"bbbbbbbbbbbbbbbb\t/usr/bin/passwd\n"}, "programs.modified", "high"),
        ("4755 0 0 1 1 /usr/bin/vim.basic", {}, "programs.root-equivalent", "critical"),
        ("4755 0 0 1 1 /usr/bin/tide", {}, "programs.added-set-id", "low"),
        ("4755 0 0 1 1 /usr/bin/vim", {}, "programs.root-equivalent", "critical"),
        ("4750 0 1001 1 1 /usr/bin/vim", {}, "programs.root-equivalent", "high"),
        ("4750 0 0 1 1 /usr/bin/vim", {}, "programs.root-equivalent", "low"),
        (
            "4755 0 0 1 1 /opt/.cache/x",
            {"program-digests": b"d1\t/opt/.cache/x\nd1\t/usr/bin/bash\n"},
            "programs.root-equivalent",
            "critical",
        ),
        ("4755 0 0 1 1 /opt/x", {}, "programs.unpackaged", "medium"),
        ("2755 0 50 1 1 /opt/x", {}, "programs.unpackaged", "low"),
        ("4755 0 0 1 1 /usr/bin/tide", {"dpkg-overrides": b"root root 4755 /usr/bin/tide\n"}, None, ""),
        ("4755 0 0 1 1 /usr/bin/tide", {"dpkg-overrides": b"root root 0755 /usr/bin/tide\n"}, "programs.added-set-id", "medium"),
        ("4755 0 0 1 1 /srv/chroot/old/usr/bin/passwd", {}, "programs.foreign-copies", "medium"),
        ("4755 0 0 1 1 /var/lib/docker/overlay2/ab/diff/bin/su", {}, "programs.foreign-copies", "medium"),
        (
            "4755 0 0 1 1 /srv/chroot/same/usr/bin/passwd",
            {
                "set-id": b"4755 0 0 1 1 /usr/bin/passwd\0" + b"4755 0 0 1 1 /srv/chroot/same/usr/bin/passwd\0",
                "program-digests": b"d1\t/usr/bin/passwd\nd1\t/srv/chroot/same/usr/bin/passwd\n",
            },
            None,
            "",
        ),
        (
            "4755 0 0 1 1 /srv/chroot/old/usr/bin/su",
            {"program-digests": b"d1\t/srv/chroot/old/usr/bin/su\nd1\t/usr/bin/bash\n"},
            "programs.root-equivalent",
            "critical",
        ),
        ("4755 0 0 1 1 /mnt/x", {"mounts": b"1 0 8:1 / / rw - ext4 x rw\n2 1 8:2 / /mnt rw,nosuid - ext4 y rw\n"}, None, ""),
    ],
)
def test_verdicts_on_setuid_files(line: str, listings: dict[str, bytes], check: str | None, severity: str) -> None:
    known = host({}, {**DPKG, "set-id": set_id(line), **listings})
    findings = [
        (one.check, str(one.severity))
        for name in ("root-equivalent", "modified", "unpackaged", "foreign-copies", "added-set-id", "writable")
        for one in found(known, f"programs.{name}")
    ]
    assert findings == ([(check, severity)] if check else [])
    assert ("any account" in held(known)) == (check == "programs.root-equivalent" and severity == "critical")


def test_what_is_to_be_typed_cannot_be_more_than_it_seems() -> None:
    name = "/tmp/x; reboot $(id)"
    known = host({}, {**DPKG, "set-id": set_id(f"4755 0 0 1 1 {name}")})
    listed = [one.safer for one in findings_on(known) if one.safer and name in one.message]
    assert listed == [f"chmod u-s,g-s '{name}'"]


def attribute(version: int, permitted: int, *, effective: bool = True, root: int | None = None) -> bytes:
    words = [version << 24 | effective, permitted & 0xFFFFFFFF, 0]
    words += [permitted >> 32, 0] if version > 1 else []
    words += [root or 0] if version == 3 else []
    return struct.pack(f"<{len(words)}I", *words)


@given(st.sets(st.sampled_from(range(len(CAPABILITIES)))), st.sampled_from([2, 3]), st.booleans())
def test_capabilities_are_what_their_bits_say(numbers: set[int], version: int, effective: bool) -> None:
    value = attribute(version, sum(1 << number for number in numbers), effective=effective, root=7 if version == 3 else None)
    read = decode_capabilities(value, "/x", HERE)
    assert read.permitted == {f"cap_{CAPABILITIES[number]}" for number in numbers}
    assert (read.effective, read.root_uid) == (effective, 7 if version == 3 else None)


@given(st.binary(max_size=30))
def test_any_attribute_is_survived(value: bytes) -> None:
    known = host({}, {"capabilities": b"# file: /x\nsecurity.capability=0x" + value.hex().encode() + b"\n"})
    told = known.facts.programs is not None and (known.facts.programs.capable or known.facts.gaps)
    assert told


@given(st.binary(max_size=80))
def test_any_listing_is_survived(content: bytes) -> None:
    names = ("set-id", "capabilities", "getcap", "dpkg-owners", "dpkg-md5sums", "rpm-files", "md5", "processes", "mounts",
             "kernel", "private-keys", "scripts", "homes", "login-ids", "file-systems", "kept-passwords", "access-lists", "sudo-version")  # fmt: skip
    host({}, dict.fromkeys(names, content))


@pytest.mark.parametrize(
    ("told", "permitted", "effective"),
    [
        ("/x cap_net_raw=ep", {"cap_net_raw"}, True),
        ("/x = cap_net_raw,cap_setuid+p", {"cap_net_raw", "cap_setuid"}, False),
        ("/a b cap_net_raw+ep cap_setuid+i", {"cap_net_raw"}, True),
    ],
)
def test_capabilities_as_they_are_told(told: str, permitted: set[str], effective: bool) -> None:
    (read,), gaps = read_told_capabilities(told.encode(), HERE)
    assert (set(read.permitted), read.effective, list(gaps)) == (permitted, effective, [])


# -- what root runs ----------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("command", "programs"),
    [
        ("/opt/a --x /opt/b", ("/opt/a",)),
        ("/bin/sh /opt/b x", ("/bin/sh", "/opt/b")),
        ("cd / && /opt/a | /opt/b > /opt/c", ("/opt/a", "/opt/b")),
        ("X=1 nice -n 5 /opt/a", ("/opt/a",)),
        ("test -x /opt/a || /opt/b", ("/opt/b",)),
        ("run-parts --report /etc/cron.daily", ("/etc/cron.daily",)),
        ('/opt/a "open', ("/opt/a",)),
    ],
)
def test_programs_of_a_command_line(command: str, programs: tuple[str, ...]) -> None:
    assert programs_of(command) == programs


@given(st.text(max_size=60))
def test_any_text_is_survived_by_every_language(text: str) -> None:
    programs_of(text)
    read_crontab(text, HERE)
    read_doas(text, HERE)
    read_exports(text, HERE)
    read_polkit_rules(text, HERE)
    read_polkit_actions(text, HERE)
    read_polkit_actions(f"<policyconfig><action id='a'>{text}", HERE)
    list(read_local_authority(text, HERE))
    list(read_lent_groups(text, HERE))
    list(read_login_sessions(text.encode() * 40))
    read_authorized_keys(text, HERE)
    read_units({"/etc/systemd/system/a.service": text}, frozenset(), "knot")
    host({"/etc/ssh/sshd_config": text, "/etc/pam.d/su": text})


def test_crontabs_with_and_without_an_account() -> None:
    jobs, folders = read_crontab("PATH=/opt/bin:/bin\nX=y\n# c\n5 4 * * * root\t/opt/a %in\n@daily tomas /opt/b\n", HERE)
    assert [(job.run_as, job.command, job.place.line) for job in jobs] == [("root", "/opt/a", 4), ("tomas", "/opt/b", 5)]
    assert [folder.path for folder in folders] == ["/opt/bin", "/bin"]
    assert [job.command for job in read_crontab("5 4 * * * /opt/a b\n", HERE, "ines")[0]] == ["/opt/a b"]


def test_a_drop_in_changes_its_unit_and_a_mask_hides_one() -> None:
    texts = {
        "/lib/systemd/system/a.service": "[Service]\nUser=tomas\nExecStart=/opt/a\nExecStartPre=+/opt/full\n",
        "/etc/systemd/system/a.service.d/x.conf": "[Service]\nExecStart=\nExecStart=-/opt/b \\\n  --long\n",
        "/lib/systemd/system/b.service": "[Service]\nExecStart=/opt/c\nEnvironmentFile=-/etc/default/b\n",
        "/lib/systemd/system/masked.service": "[Service]\nExecStart=/opt/d\n",
    }
    jobs = read_units(texts, frozenset({"/etc/systemd/system/masked.service"}), "knot")
    assert {(job.run_as, job.command) for job in jobs if job.command} == {
        ("tomas", "/opt/b  --long"),
        ("root", "/opt/full"),
        ("root", "/opt/c"),
        ("root", "/etc/default/b"),
    }
    assert {job.place.path for job in jobs if job.kind == "unit file"} == {path for path in texts if "masked" not in path}


@pytest.mark.parametrize(
    ("state", "who"),
    [
        (item("/opt/job", 0o755), set()),
        (item("/opt/job", 0o757), {"any account", "ines", "tomas", "rada", "vesna", "daemon"}),
        (item("/opt/job", 0o775, gid=3001), {"%gauges", "rada", "vesna"}),
        (item("/opt/job", 0o755, uid=1002), {"tomas"}),
    ],
)
def test_who_writes_what_root_runs_is_root(state: Item, who: set[str]) -> None:
    known = host({"/etc/crontab": "1 * * * * root /opt/job\n"}, None, item("/opt", 0o755, kind="folder"), state)
    assert held(known) - {"%sudo"} == who
    assert bool(found(known, "running.writable")) == bool(who)


def test_the_interpreter_of_a_script_and_a_folder_above_count_too() -> None:
    states = (item("/opt/job", 0o755), item("/srv/lang", 0o755, uid=1002), item("/opt", 0o777, kind="folder"))
    known = host({"/etc/crontab": "1 * * * * root /opt/job\n"}, {"scripts": b"/opt/job\t#!/srv/lang -x\n"}, *states)
    assert {one.about.partition("\0")[0] for one in found(known, "running.writable")} == {"/opt", "/srv/lang"}


def test_who_writes_a_command_of_sudo_is_root_as_soon_as_it_is_run() -> None:
    evidence = bundle("ines ALL=(root) /opt/tool\n")
    items = (*evidence.items, item("/opt", 0o755, kind="folder"), item("/opt/tool", 0o755, uid=1002))
    known = rights_of(read_host(replace(evidence, manifest=replace(evidence.manifest, items=items))))
    (holding,) = [one for one in known.held_by("tomas") if str(one.right) == "root"]
    assert holding.routes[0].conditions == ("if someone runs /opt/tool as root by that rule",)


@pytest.mark.parametrize(
    ("rules", "who", "unasked"),
    [
        ("permit nopass ines", {"ines"}, 1),
        ("permit persist :gauges as root", {"rada", "vesna"}, 0),
        ("permit ines\ndeny ines", set(), 0),
        ("permit nopass ines cmd /bin/ls args -l", set(), 0),
        ("permit ines cmd /usr/bin/vim", {"ines"}, 0),
        ("permit nopass ines as tomas", set(), 0),
        ("permit nopass root", set(), 0),
    ],
)
def test_rules_of_doas(rules: str, who: set[str], unasked: int) -> None:
    known = host({"/etc/doas.conf": f"{rules}\n"})
    assert held(known) == who
    assert len(found(known, "running.doas-without-password")) == unasked


def test_administrators_of_polkit_are_root_where_pkexec_is_there() -> None:
    rule = 'polkit.addAdminRule(function(action, subject) { return ["unix-group:gauges"]; });\n'
    rules = {"/etc/polkit-1/rules.d/50-a.rules": rule}
    assert held(host(rules)) == set()
    assert held(host(rules, {"set-id": set_id("4755 0 0 1 1 /usr/bin/pkexec")})) == {"%gauges", "rada", "vesna"}


ONE = 'polkit.addRule(function(action, subject) {{ if (action.id == "{}" && subject.user == "ines") {{ return polkit.Result.YES; }} }});'


@pytest.mark.parametrize(
    ("rule", "severity"),
    [
        ('polkit.addRule(function(a, subject) { if (subject.isInGroup("gauges")) return polkit.Result.YES; });', "high"),
        (ONE.format("org.freedesktop.systemd1.manage-units"), "medium"),
        (ONE.format("org.saltmarsh.read"), None),
        ("// polkit.addRule(function(a, subject) { if (subject.isInGroup('x')) return polkit.Result.YES; });", None),
    ],
)
def test_rules_of_polkit_that_ask_for_nothing(rule: str, severity: str | None) -> None:
    known = host({"/usr/share/polkit-1/rules.d/a.rules": rule + "\n"})
    assert [str(one.severity) for one in found(known, "running.polkit-without-password")] == ([severity] if severity else [])


ACTION = """<?xml version="1.0"?>
<!DOCTYPE policyconfig PUBLIC "-//freedesktop//DTD polkit 1.0//EN" "http://www.freedesktop.org/software/polkit/policyconfig-1.dtd">
<policyconfig>
  <action id="{name}">
    <defaults><allow_any>{anyone}</allow_any><allow_inactive>no</allow_inactive><allow_active>{active}</allow_active></defaults>
    <annotate key="org.freedesktop.policykit.exec.path">{program}</annotate>
  </action>
</policyconfig>
"""


@pytest.mark.parametrize(
    ("name", "anyone", "active", "program", "right", "conditional", "severity"),
    [
        ("org.freedesktop.policykit.exec", "yes", "yes", "", "root", False, "critical"),
        ("org.freedesktop.systemd1.manage-units", "auth_admin", "yes", "", "root", True, "medium"),
        ("org.freedesktop.systemd1.manage-units", "auth_admin", "auth_admin_keep", "", "", False, ""),
        ("org.saltmarsh.gauges", "no", "yes", "/usr/sbin/gauges", "command:/usr/sbin/gauges", True, "low"),
        ("org.saltmarsh.gauges", "yes", "yes", "/usr/bin/vim", "root", False, "low"),
        ("org.saltmarsh.read", "yes", "yes", "", "", False, ""),
    ],
)
def test_what_polkit_answers_yes_to_by_itself(
    name: str, anyone: str, active: str, program: str, right: str, conditional: bool, severity: str
) -> None:
    text = ACTION.format(name=name, anyone=anyone, active=active, program=program)
    known = host({"/usr/share/polkit-1/actions/a.policy": text}, {"set-id": set_id("4755 0 0 1 1 /usr/bin/pkexec")})
    held_by_all = [one for one in known.holdings if str(one.principal) == "any account"]
    assert [str(one.right) for one in held_by_all] == ([right] if right else [])
    assert [str(one.strength) == "conditional" for one in held_by_all] == ([conditional] if right else [])
    raised = found(known, "running.polkit-without-password")
    assert [(str(one.severity), one.places[0].line) for one in raised] == ([(severity, 4)] if severity else [])


def test_actions_that_break_off_or_grow_without_end_are_gaps() -> None:
    good = ACTION.format(name="org.a", anyone="yes", active="yes", program="")
    actions, gaps = read_polkit_actions(good.replace("</policyconfig>", "<open>"), HERE)
    assert ([one.name for one in actions], [gap.place.line for gap in gaps]) == (["org.a"], [9])
    endless = '<!DOCTYPE x [<!ENTITY a "aa"><!ENTITY b "&a;&a;">]><x>&b;</x>'
    assert [gap.why for gap in read_polkit_actions(endless, HERE)[1]] == ["it defines entities, which are not followed"]


def test_the_older_files_of_polkit() -> None:
    files = {
        "/etc/polkit-1/localauthority.conf.d/50-a.conf": "[Configuration]\nAdminIdentities=unix-user:0;unix-group:gauges\n",
        "/etc/polkit-1/localauthority/50-local.d/a.pkla": "[Gauges]\nIdentity=unix-group:gauges\nAction=org.libvirt.unix.manage\nResultActive=yes\n",
    }
    known = host(files, {"set-id": set_id("4755 0 0 1 1 /usr/bin/pkexec")})
    assert held(known) == {"%gauges", "rada", "vesna"}
    assert [one.about for one in found(known, "running.polkit-without-password")] == ["group gauges, org.libvirt.unix.manage"]


def test_units_of_every_kind_and_jobs_of_at_say_what_root_runs() -> None:
    files = {
        "/etc/systemd/system/a.service": Put("[Service]\nUser=tomas\nExecStart=/opt/a\n", 0o646),
        "/etc/systemd/system/a.timer": Put("[Timer]\nOnCalendar=daily\n", 0o646),
        "/etc/systemd/system/a.socket.d/x.conf": Put("[Socket]\n", 0o646),
        "/etc/systemd/system/a.socket": Put("[Socket]\nExecStartPre=/opt/pre\n", 0o644),
        "/var/spool/cron/atjobs/a00001": Put("", 0o720, 0, 3001),
        "/var/spool/cron/atjobs/a00002": Put("", 0o722, 1002, 3001),
    }
    known = host(files, None, item("/opt/pre", 0o757))
    assert {one.about.partition("\0")[0] for one in found(known, "running.writable")} == {
        "/etc/systemd/system/a.service", "/etc/systemd/system/a.timer", "/etc/systemd/system/a.socket.d/x.conf", "/opt/pre",
        "/var/spool/cron/atjobs/a00001",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("line", "service", "who"),
    [
        ("*;*;ines|tomas;Al0000-2400;disk", "login", {"ines", "tomas"}),
        ("login;tty*&!ttyp*;%gauges;Wk0800-1700;games,disk", "login", {"rada", "vesna"}),
        ("*;*;*&!ines;Al0000-2400;disk", "login", {"daemon", "tomas", "rada", "vesna"}),
        ("sshd;*;ines;Al0000-2400;disk", "login", set()),
        ("*;*;ines;Al0000-2400;nosuch", "login", set()),
        ("# *;*;ines;Al0000-2400;disk", "login", set()),
    ],
)
def test_groups_that_pam_lends_at_log_ins(line: str, service: str, who: set[str]) -> None:
    files = {
        f"/etc/pam.d/{service}": "auth optional pam_group.so\nauth required pam_unix.so\n",
        "/etc/security/group.conf": f"{line}\n",
        "/etc/group": GROUP + "gauges:x:3001:rada\ndisk:x:6:\n",
    }
    known = host(files, None, item("/dev/sda", 0o660, gid=6, kind="other"))
    lent = {str(one.principal) for one in known.holdings for route in one.routes if "pam_group" in route.links[0].because}
    assert lent == who
    without = host({**files, f"/etc/pam.d/{service}": "auth required pam_unix.so\n"}, None, item("/dev/sda", 0o660, gid=6, kind="other"))
    assert not [one for one in without.holdings for route in one.routes if "pam_group" in route.links[0].because]


def test_exports_without_squashing() -> None:
    known = host({"/etc/exports": '/srv "gauge.saltmarsh.example"(ro) *(rw,no_root_squash)\n/b -no_root_squash 192.0.2.7(ro)\n'})
    assert [(one.about.partition("\0")[0], str(one.severity)) for one in found(known, "running.nfs-root")] == [
        ("/srv", "high"),
        ("/b", "medium"),
    ]


# -- log-ins -----------------------------------------------------------------------------------------------------------------------


def test_a_key_of_root_is_a_holder_and_a_confined_one_is_not() -> None:
    keys = f'{KEY} kim@laptop\nfrom="192.0.2.*" {KEY.replace("A", "B")} far\ncommand="/bin/ls -l",restrict {KEY.replace("A", "C")} ls\n'
    known = host({**SSHD, "/root/.ssh/authorized_keys": keys})
    roots = {str(one.principal).rpartition(" ")[2]: str(one.strength) for one in known.holdings if str(one.right) == "root"}
    assert roots == {"root": "direct", "(kim@laptop)": "direct", "(far)": "conditional"}
    assert held(known, "command:/bin/ls -l")


@pytest.mark.parametrize(
    ("config", "opened"),
    [
        ("", True),
        ("PermitRootLogin no\n", False),
        ("PubkeyAuthentication no\n", False),
        ("DenyUsers root\n", False),
        ("DenyUsers root@192.0.2.* tomas\n", True),
        ("AllowUsers root@192.0.2.* tomas\n", True),
        ("AllowUsers ines\n", False),
        ("AllowGroups root\n", True),
        ("Match User root\n PermitRootLogin no\n", False),
        ("Match User ines\n PermitRootLogin no\n", True),
        ("PermitRootLogin forced-commands-only\n", False),
        ("AuthorizedKeysFile /etc/ssh/keys/%u\n", False),
    ],
)
def test_a_key_opens_only_what_sshd_lets_it(config: str, opened: bool) -> None:
    known = host({"/etc/ssh/sshd_config": config, "/root/.ssh/authorized_keys": f"{KEY} kim\n"})
    assert any("kim" in name for name in held(known)) == opened


@pytest.mark.parametrize(
    ("state", "config", "severity"),
    [
        (item("/home/ines/.ssh", 0o777, uid=1001, gid=1001, kind="folder"), "StrictModes no\n", "high"),
        (item("/home/ines/.ssh", 0o777, uid=1001, gid=1001, kind="folder"), "", "low"),
        (item("/home/ines/.ssh", 0o770, uid=1001, gid=1001, kind="folder"), "", None),
        (item("/home/ines/.ssh", 0o770, uid=1001, gid=3001, kind="folder"), "", "low"),
        (item("/home/ines", 0o755, uid=1002, kind="folder"), "StrictModes no\n", "high"),
    ],
)
def test_keys_that_others_can_write(state: Item, config: str, severity: str | None) -> None:
    files = {"/etc/ssh/sshd_config": f"PermitRootLogin no\n{config}", "/home/ines/.ssh/authorized_keys": f"{KEY}\n"}
    assert [str(one.severity) for one in found(host(files, None, state), "login.writable-authorized-keys")] == (
        [severity] if severity else []
    )


@pytest.mark.parametrize(
    ("methods", "conditions"),
    [
        ("any", ()),
        ("publickey", ()),
        ("publickey,password publickey,publickey", ()),
        ("publickey,password", ("with password besides (AuthenticationMethods)",)),
        ("publickey,keyboard-interactive:pam,password publickey,password", ("with password besides (AuthenticationMethods)",)),
        ("password keyboard-interactive", None),
    ],
)
def test_what_sshd_asks_besides_a_key(methods: str, conditions: tuple[str, ...] | None) -> None:
    config = f"PermitRootLogin yes\nAuthenticationMethods {methods}\n"
    files = {"/etc/ssh/sshd_config": config, "/root/.ssh/authorized_keys": f"{KEY}\n"}
    keys = [one for one in host(files).holdings if one.principal.kind.value == "key"]
    assert [one.routes[0].conditions for one in keys] == ([] if conditions is None else [conditions])


def test_an_empty_password_that_sshd_takes() -> None:
    files = {"/etc/ssh/sshd_config": "PermitEmptyPasswords yes\n", "/etc/shadow": "ines::1::::::\ntomas:{none}:1::::::\n"}
    assert [one.about for one in found(host(files), "login.empty-password")] == ["ines"]
    assert not found(host({**files, "/etc/ssh/sshd_config": "PermitEmptyPasswords yes\nDenyUsers ines\n"}), "login.empty-password")


@pytest.mark.parametrize(("value", "found_here"), [("0", 1), ("1", 0)])
def test_a_guard_of_the_kernel_that_is_open(value: str, found_here: int) -> None:
    assert len(found(host({}, {"kernel": f"fs/protected_hardlinks\t{value}\n".encode()}), "running.kernel-setting")) == found_here


@pytest.mark.parametrize(("mode", "state", "severity"), [(0o600, "open", "low"), (0o600, "encrypted", None), (0o644, "encrypted", "high")])
def test_private_keys_that_lie_about(mode: int, state: str, severity: str | None) -> None:
    listing = {"private-keys": f"{state}\t/home/ines/.ssh/id\nopen\t/etc/ssh/ssh_host_rsa_key\n".encode()}
    severities = [str(one.severity) for one in found(host({}, listing, item("/home/ines/.ssh/id", mode)), "login.unencrypted-private-key")]
    assert severities == ([severity] if severity else [])


def test_a_relative_folder_in_roots_search_path() -> None:
    assert found(host({"/root/.profile": "export PATH=.:/usr/bin\n"}), "running.unsafe-search-path")
    assert not found(host({"/root/.profile": "export PATH=/usr/bin\n"}), "running.unsafe-search-path")


def test_keys_tell_whether_someone_without_a_password_can_log_in() -> None:
    files = {**SSHD, "/home/ines/.ssh/authorized_keys": f"{KEY}\n", "/etc/shadow": "ines:{none}:1::::::\ntomas:{none}:1::::::\n"}
    known = host(files)
    assert [known.population.by_name[name].login.possible for name in ("ines", "tomas")] == [True, False]


@pytest.mark.parametrize(
    ("pam", "root"),
    [
        ("auth sufficient pam_rootok.so\nauth required pam_unix.so\n", set()),
        ("auth sufficient pam_wheel.so trust group=gauges\nauth required pam_unix.so\n", {"%gauges", "rada", "vesna"}),
        ("auth sufficient pam_permit.so\n", {"any account", "ines", "tomas", "rada", "vesna", "daemon"}),
        ("auth required pam_unix.so\nauth required pam_permit.so\n", set()),
        ("auth required pam_permit.so\n", {"any account", "ines", "tomas", "rada", "vesna", "daemon"}),
        ("auth required pam_wheel.so group=gauges\nauth required pam_permit.so\n", {"%gauges", "rada", "vesna"}),
        ("auth required pam_elsewhere.so\nauth required pam_permit.so\n", set()),
        ("@include common-auth\n", {"any account", "ines", "tomas", "rada", "vesna", "daemon"}),
    ],
)
def test_what_pam_asks_of_su(pam: str, root: set[str]) -> None:
    known = host({"/etc/pam.d/su": pam, "/etc/pam.d/common-auth": "auth [success=done default=ignore] pam_permit.so\n"})
    assert held(known) == root
    assert bool(found(known, "login.su-without-password")) == bool(root)


@pytest.mark.parametrize(("service", "severity"), [("sudo", "high"), ("sshd", "critical")])
def test_a_service_that_pam_lets_everyone_pass(service: str, severity: str) -> None:
    open_to_all = {f"/etc/pam.d/{service}": "auth sufficient pam_permit.so\nauth required pam_unix.so\n"}
    assert [str(one.severity) for one in found(host(open_to_all), "login.su-without-password")] == [severity]
    usual = {
        f"/etc/pam.d/{service}": "auth [success=1 default=ignore] pam_unix.so\nauth requisite pam_deny.so\nauth required pam_permit.so\n"
    }
    assert not found(host(usual), "login.su-without-password")


def test_a_key_that_lies_on_one_host_and_opens_root_on_another_is_the_worst() -> None:
    opened = host({**SSHD, "/root/.ssh/authorized_keys": f"{KEY} ines@tern\n", "/home/rada/.ssh/authorized_keys": f"{KEY}\n"})
    private = {"private-keys": b"open\t/home/ines/.ssh/id_ed25519\n"}
    lying = host({"/home/ines/.ssh/id_ed25519.pub": f"{KEY} ines@tern\n"}, private)
    assert [str(one.severity) for one in estate_findings([opened.summary]) if one.check == "login.shared-key"] == ["medium"]
    (worst,) = [one for one in estate_findings([opened.summary, lying.summary]) if one.check == "login.shared-key"]
    assert str(worst.severity) == "high"
    assert worst.message.endswith("its private key is stored on knot in /home/ines/.ssh/id_ed25519, without a passphrase")


@pytest.mark.parametrize(
    ("config", "severity"),
    [
        ("PermitRootLogin yes\n", ["medium"]),
        ("PermitRootLogin prohibit-password\n", []),
        ("PermitRootLogin no\nMatch Address 192.0.2.0/24\n PermitRootLogin yes\n", ["low"]),
        ("PermitRootLogin no\nMatch User tomas\n PermitRootLogin yes\n", []),
        ("PermitRootLogin yes\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n", []),
        ("", []),
    ],
)
def test_root_by_password_over_ssh(config: str, severity: list[str]) -> None:
    known = host({"/etc/ssh/sshd_config": config, "/etc/shadow": "root:{usable sha512}:1::::::\n"})
    assert [str(one.severity) for one in found(known, "login.root-password")] == severity
    locked = host({"/etc/ssh/sshd_config": config, "/etc/shadow": "root:{none}:1::::::\n"})
    assert not [one for one in found(locked, "login.root-password") if one.severity < Severity.LOW]


def test_a_bundle_without_the_listings_says_nothing_of_what_nobody_looked_for() -> None:
    known = rights_of(read_host(replace(bundle(), listings={})))
    assert known.facts.programs is None
    assert known.facts.logins.keys is None
    assert [gap.what for gap in known.facts.gaps] == ["setuid files and capabilities", "authorized keys", "passwords of databases in files"]


@pytest.mark.parametrize(
    ("mode", "folder", "uid", "expected"),
    [(0o644, 0o755, 0, Severity.HIGH), (0o640, 0o755, 0, Severity.MEDIUM), (0o600, 0o755, 1001, None), (0o644, 0o700, 1001, None), (0o600, 0o755, 0, None)],
)  # fmt: skip
def test_who_can_read_the_password_of_a_database(mode: int, folder: int, uid: int, expected: Severity | None) -> None:
    path = "/home/ines/.my.cnf"
    listings = {"kept-passwords": f"read\noption file\t{path}\n".encode()}
    machine = host(None, listings, item(path, mode, uid, 3001), item("/home/ines", folder, 1001, 1001, "folder"))
    told = [finding.severity for finding in found(machine, "login.stored-database-password")]
    assert told == ([expected] if expected else [])


@pytest.mark.parametrize(
    ("mode", "uid", "gid", "who", "severity"),
    [
        (0o755, 0, 0, "any account", "critical"),
        (0o700, 0, 0, "", "low"),
        (0o700, 1001, 0, "ines", "high"),
        (0o750, 0, 3001, "rada", "high"),
    ],
)
def test_a_setuid_shell_is_as_grave_as_it_can_be_reached(mode: int, uid: int, gid: int, who: str, severity: str) -> None:
    known = host(
        {},
        {**DPKG, "set-id": set_id("4755 0 0 1 1 /srv/vault/bash")},
        item("/srv", 0o755, kind="folder"),
        item("/srv/vault", mode, uid, gid, "folder"),
    )
    assert [str(one.severity) for one in found(known, "programs.root-equivalent")] == [severity]
    assert held(known) >= {who} - {""}
    assert ("any account" in held(known)) == (who == "any account")


@pytest.mark.parametrize(
    ("mode", "uid", "gid", "severity"),
    [(0o700, 1001, 0, None), (0o755, 1001, 0, "high"), (0o777, 0, 0, "high"), (0o755, 0, 0, None), (0o770, 0, 3001, "high")],
    ids=["its own alone", "its own, open to all", "anyone's", "root's", "a group's"],
)
def test_a_setuid_program_in_a_folder_of_others(mode: int, uid: int, gid: int, severity: str | None) -> None:
    """One that only its folder's owner can reach fools nobody else: MariaDB's helper of PAM is such a one."""
    known = host({}, {**DPKG, "set-id": set_id("4755 0 0 1 1 /usr/lib/helpers/tool")}, item("/usr/lib/helpers", mode, uid, gid, "folder"))
    assert [str(one.severity) for one in found(known, "programs.writable")] == ([severity] if severity else [])
