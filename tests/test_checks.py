"""Checks: each with policies that have the fault and with ones that only look so."""

from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from fidelitas.checks import ESTATE_CHECKS, estate_findings
from fidelitas.checks.linux.sudo_rules import NEEDED
from fidelitas.checks.usage.table import USE_CHECKS
from fidelitas.evidence import Item
from fidelitas.facts import Tag
from fidelitas.findings import Finding, Severity
from fidelitas.languages.linux.host import read_host
from fidelitas.platforms import PLATFORMS, findings_on
from fidelitas.rights import HostRights, rights_of
from fidelitas.rights.graph.links import Mechanism
from fidelitas.text import Place
from policy_writer import PolicyWriter
from support import PASSWD, SHADOW, Put, bundle, found, rights


def test_an_extra_root_is_found_and_root_is_none() -> None:
    host = rights("", {"/etc/passwd": PASSWD + "toor:x:0:0::/root:/usr/sbin/nologin\n"})
    assert [(finding.about, str(finding.places[0])) for finding in found(host, "accounts.uid-zero")] == [("toor", "knot:/etc/passwd:7:1")]
    assert not found(rights(), "accounts.uid-zero")


@pytest.mark.parametrize(
    ("shell", "state", "severity"),
    [("/bin/bash", "", "HIGH"), ("/usr/sbin/nologin", "", None), ("/bin/bash", "{none}", None), ("/bin/bash", "{locked}", None)],
)
def test_an_empty_password_matters_where_one_can_log_in(shell: str, state: str, severity: str | None) -> None:
    host = rights("", {"/etc/passwd": f"zoe:x:1500:1500::/:{shell}\n", "/etc/shadow": f"zoe:{state}:::::::\n"})
    assert [finding.severity.name for finding in found(host, "accounts.empty-password")] == ([severity] if severity else [])


def test_an_empty_password_on_the_way_to_root_is_worse() -> None:
    host = rights("tomas ALL=(ALL) ALL\n", {"/etc/shadow": SHADOW.replace("tomas:{usable yescrypt}", "tomas:")})
    assert [finding.severity for finding in found(host, "accounts.empty-password")] == [Severity.CRITICAL]


@pytest.mark.parametrize(
    ("sudoers", "message"),
    [
        ("ines ALL=(ALL) ALL", "ines may run every command as root by a rule outside %sudo"),
        ("%gauges, tomas ALL=ALL", "%gauges, tomas may run every command as root by a rule outside %sudo"),
        ("User_Alias X = ines, %sudo\nX ALL=ALL", "ines may run every command as root by a rule outside %sudo"),
        ("Cmnd_Alias X = /bin/ls, ALL\nines ALL=X", "ines may run every command as root by a rule outside %sudo"),
        ("ALL ALL=(ALL) ALL", "ALL may run every command as root by a rule outside %sudo"),
        ("%sudo ALL=(ALL:ALL) ALL", None),
        ("root ALL=(ALL:ALL) ALL", None),
        ("ines ALL=(tomas) ALL", None),
        ("ines tern=(ALL) ALL", None),
        ("ines ALL=(ALL) !ALL", None),
        ("ines ALL=(ALL) /bin/ls", None),
        ("!ines ALL=(ALL) ALL", None),
    ],
)
def test_all_outside_the_administrators(sudoers: str, message: str | None) -> None:
    assert [finding.message for finding in found(rights(f"{sudoers}\n"), "sudo.full-root-outside-admin-group")] == (
        [message] if message else []
    )


@pytest.mark.parametrize(
    ("sudoers", "broad"),
    [
        ("%sudo ALL=(ALL) NOPASSWD: ALL", "ALL"),
        ("ines ALL=NOPASSWD: /usr/bin/", "/usr/bin/"),
        ("ines ALL=NOPASSWD: /usr/bin/*", "/usr/bin/*"),
        ("ines ALL=NOPASSWD: /bin/bash", "/bin/bash"),
        ("ines ALL=NOPASSWD: /bin/ls, ALL", "ALL"),
        ("ines ALL=NOPASSWD: /bin/ls", None),
        ("ines ALL=NOPASSWD: /bin/ls, PASSWD: ALL", None),
        ("ines ALL=(tomas) NOPASSWD: ALL", None),
        ("ines ALL=NOPASSWD: !ALL", None),
        ("ines ALL=ALL", None),
    ],
)
def test_unasked_all(sudoers: str, broad: str | None) -> None:
    commands = [
        finding.message.split(" may run ")[1].split(" as root")[0]
        for finding in found(rights(f"{sudoers}\n"), "sudo.full-root-without-password")
    ]
    assert commands == ([broad] if broad else [])


@pytest.mark.parametrize(
    ("sudoers", "name"),
    [
        ("nosuch ALL=/bin/a", 'account "nosuch"'),
        ("#4242 ALL=/bin/a", 'account "#4242"'),
        ("%nosuch ALL=/bin/a", 'group "%nosuch"'),
        ("%#4242 ALL=/bin/a", 'group "%#4242"'),
        ("NOSUCH ALL=/bin/a", 'alias or account "NOSUCH"'),
        ("User_Alias X = ines, gone\nX ALL=/bin/a", 'account "gone"'),
        ("ines ALL=(gone) /bin/a", 'account "gone"'),
        ("ines ALL=(:gone) /bin/a", 'group "gone"'),
        ("ines ALL=GONE", 'command alias "GONE"'),
        ("INES, #1001, %SUDO, %#27, +net, %:ext, ALL ALL=(#0:#27) /bin/a", None),
        ("ALL, !gone ALL=/bin/a", None),
    ],
)
def test_unknown_names(sudoers: str, name: str | None) -> None:
    said = [
        finding.message.removeprefix("the rule names the ").split(",")[0] for finding in found(rights(f"{sudoers}\n"), "sudo.unknown-name")
    ]
    assert said == ([name] if name else [])


def test_a_name_that_a_directory_may_know_is_only_told() -> None:
    host = rights("nosuch ALL=/bin/a\n", {"/etc/nsswitch.conf": "passwd: files sss\n"})
    finding = found(host, "sudo.unknown-name")[0]
    assert finding.severity is Severity.INFO
    assert finding.message.endswith("on this host; it may come from sss, which was not read")


@pytest.mark.parametrize(
    ("files", "folders", "message"),
    [
        ({"/etc/sudoers": Put("", 0o446)}, {}, "/etc/sudoers is writable by everyone (mode 0446); sudo ignores it until that is fixed"),
        ({"/etc/sudoers": Put("", 0o460, gid=50)}, {}, "/etc/sudoers is writable by the group with gid 50 (mode 0460); sudo ignores it until that is fixed"),
        ({"/etc/sudoers": Put("", 0o440, uid=1001)}, {}, "/etc/sudoers belongs to ines (mode 0440); sudo ignores it until that is fixed"),
        ({"/etc/sudoers": Put("", 0o660)}, {}, None),
        ({}, {"/etc": Put("", 0o777)}, "/etc, above /etc/sudoers, is writable by everyone (mode 0777)"),
        ({}, {"/etc": Put("", 0o1777)}, None),
        ({}, {"/": Put("", 0o755, uid=5)}, "/, above /etc/sudoers, belongs to uid 5 (mode 0755)"),
        ({"/etc/sudo.conf": Put("", 0o666)}, {}, "/etc/sudo.conf is writable by everyone (mode 0666); sudo ignores it until that is fixed"),
        ({"/etc/passwd": Put(PASSWD, 0o666)}, {}, None),
    ],
)  # fmt: skip
def test_writable_policy(files: dict[str, Put], folders: dict[str, Put], message: str | None) -> None:
    host = rights("", dict(files), folders=folders)
    assert [finding.message for finding in found(host, "sudo.writable-policy")] == ([message] if message else [])


@pytest.mark.parametrize(
    ("sudoers", "line", "severity"),
    [
        ("ines ALL=!/bin/sh\nines ALL=ALL", 1, "MEDIUM"),
        ("ines ALL=NOPASSWD: ALL\n%sudo ALL=(ALL) ALL", 1, "MEDIUM"),
        ("ines ALL=/bin/ls\nines ALL=/bin/ls", 1, "LOW"),
        ("ines ALL=/bin/ls\nALL ALL=ALL", 1, "LOW"),
        ("%gauges ALL=/bin/ls\nrada ALL=/bin/ls\nvesna ALL=/bin/ls", None, None),
        ("%gauges ALL=/bin/ls\nrada ALL=/bin/ls", None, None),
        ("ines ALL=ALL\nines ALL=!/bin/sh", None, None),
        ("ines ALL=(ALL) ALL\nines ALL=(root) ALL", None, None),
        ("ines ALL=ALL\nines tern=ALL", None, None),
        ("ines ALL=ALL\nines ALL=NOTAFTER=20300101000000Z ALL", None, None),
        ("nosuch ALL=ALL\nALL ALL=ALL", None, None),
        ("ines ALL=ALL\n+net ALL=ALL", None, None),
    ],
)
def test_overridden_rules(sudoers: str, line: int | None, severity: str | None) -> None:
    said = [(finding.places[0].line, finding.severity.name) for finding in found(rights(f"{sudoers}\n"), "sudo.overridden-rule")]
    assert said == ([(line, severity)] if line else [])


@pytest.mark.parametrize(
    ("name", "text", "count"), [("a.conf", "ines ALL=ALL\n", 1), ("README.txt", "# words\n", 0), ("plain", "ines ALL=ALL\n", 0)]
)
def test_a_skipped_file_matters_where_it_states_something(name: str, text: str, count: int) -> None:
    host = rights("@includedir /etc/sudoers.d\n", {f"/etc/sudoers.d/{name}": text})
    assert len(found(host, "sudo.skipped-file")) == count


@pytest.mark.parametrize(
    ("sudoers", "check", "severities"),
    [
        ("ines ALL=/usr/bin/vim /etc/motd", "sudo.root-equivalent-command", "HIGH"),
        ("ines ALL=/usr/bin/less /var/log/x", "sudo.root-equivalent-command", "HIGH"),
        ("ines ALL=NOEXEC: /usr/bin/less /var/log/x", "sudo.root-equivalent-command", ""),
        ("ines ALL=NOEXEC: /usr/bin/vim /etc/motd", "sudo.root-equivalent-command", "HIGH"),
        ("ines ALL=/usr/bin/systemctl restart x", "sudo.root-equivalent-command", ""),
        ("ines ALL=/usr/bin/systemctl status x", "sudo.root-equivalent-command", "HIGH"),
        ("ines ALL=/usr/bin/journalctl --no-pager -u x", "sudo.root-equivalent-command", ""),
        ("ines ALL=/usr/bin/find /srv -exec rm {} +", "sudo.root-equivalent-command", "HIGH"),
        ("ines ALL=/bin/su tomas", "sudo.root-equivalent-command", ""),
        ("ines ALL=(tomas) /bin/vi", "sudo.root-equivalent-command", ""),
        ("ines ALL=!/bin/vi", "sudo.root-equivalent-command", ""),
        ("ines ALL=/bin/cat /var/log/*", "sudo.loose-arguments", "MEDIUM"),
        ("ines ALL=/bin/cat \\*", "sudo.loose-arguments", ""),
        ("ines ALL=/bin/cat ^/var/log/[a-z]*$", "sudo.loose-arguments", ""),
        ("ines ALL=sudoedit /etc/app/*", "sudo.loose-arguments", ""),
        ("ines ALL=/opt/tide/gauge", "sudo.unjudged-program", "INFO"),
        ("ines ALL=/opt/tide/gauge --zero *", "sudo.unjudged-program", "INFO"),
        ("ines ALL=/opt/tide/gauge --zero", "sudo.unjudged-program", ""),
        ("ines ALL=/opt/tide/cancel", "sudo.unjudged-program", "INFO"),
        ("ines ALL=/usr/bin/cancel", "sudo.unjudged-program", ""),
        ("ines ALL=/opt/tide/import", "sudo.unjudged-program", "INFO"),  # an ordinary word: perhaps a script
        ("ines ALL=/usr/bin/import", "sudo.unjudged-program", ""),
        ("ines ALL=/opt/tide/bin/vim", "sudo.unjudged-program", ""),
        ("ines ALL=/usr/bin/uptime, /usr/bin/cat, /usr/bin/python3.11, /opt/tide/", "sudo.unjudged-program", ""),
        ("ines ALL=ALL, !/bin/sh", "sudo.bypassable-exclusion", "MEDIUM"),
        ("Cmnd_Alias S = /bin/sh, /bin/bash\nines ALL=ALL, !S", "sudo.bypassable-exclusion", "MEDIUM"),
        ("ines ALL=/bin/, !/bin/sh", "sudo.bypassable-exclusion", ""),
        ("ines ALL=!/bin/sh, ALL", "sudo.bypassable-exclusion", ""),
        ("ines ALL=SETENV: /bin/ls", "sudo.settable-environment", "MEDIUM"),
        ("ines ALL=NOSETENV: /bin/ls", "sudo.settable-environment", ""),
        ("ines ALL=SETENV: ALL", "sudo.settable-environment", ""),
        ("ines ALL=(ALL) /bin/ls", "sudo.run-as-any-user", "LOW"),
        ("ines ALL=(ALL) ALL", "sudo.run-as-any-user", ""),
        ("ines ALL=NOTAFTER=20200101000000Z /bin/ls", "sudo.expired-rule", "LOW"),
        ("ines ALL=NOTAFTER=20200101000000Z !/bin/ls", "sudo.expired-rule", "MEDIUM"),
        ("ines ALL=NOTAFTER=20990101000000Z /bin/ls", "sudo.expired-rule", ""),
        ("User_Alias A = ines", "sudo.unused-alias", "INFO"),
        ("User_Alias A = ines\nUser_Alias B = A\nB ALL=/bin/ls", "sudo.unused-alias", ""),
        ("Cmnd_Alias A = /bin/ls\nDefaults!A noexec", "sudo.unused-alias", ""),
        ("Defaults !authenticate", "sudo.authentication-disabled", "HIGH"),
        ("Defaults:ines !authenticate", "sudo.authentication-disabled", "MEDIUM"),
        ("Defaults@tern !authenticate", "sudo.authentication-disabled", ""),
        ("Defaults authenticate", "sudo.authentication-disabled", ""),
        ("Defaults timestamp_timeout=-1", "sudo.long-credential-cache", "HIGH"),
        ("Defaults timestamp_timeout=90", "sudo.long-credential-cache", "MEDIUM"),
        ("Defaults timestamp_timeout=15", "sudo.long-credential-cache", ""),
        ("Defaults !timestamp_timeout", "sudo.long-credential-cache", ""),
        ('Defaults env_keep += "LANG LD_PRELOAD"', "sudo.loader-variables-kept", "HIGH"),
        ('Defaults env_keep -= "LD_PRELOAD"', "sudo.loader-variables-kept", ""),
        ("Defaults !env_reset", "sudo.loader-variables-kept", "HIGH"),
        ("Defaults env_keep += EDITOR", "sudo.loader-variables-kept", ""),
        ("Defaults targetpw", "sudo.other-account-password", "LOW"),
        ("Defaults !targetpw", "sudo.other-account-password", ""),
        ("Defaults !syslog", "sudo.logging-disabled", "MEDIUM"),
        ("Defaults !syslog, logfile=/var/log/sudo", "sudo.logging-disabled", ""),
    ],
)
def test_what_rules_and_options_amount_to(sudoers: str, check: str, severities: str) -> None:
    assert [finding.severity.name for finding in found(rights(f"{sudoers}\n"), check)] == severities.split()


@pytest.mark.parametrize(
    ("items", "check", "message"),
    [
        (
            {"/opt/tool": Put("", 0o777)},
            "sudo.writable-command",
            "/opt/tool, which ines may run as root, is writable by everyone (mode 0777)",
        ),
        (
            {"/opt/tool": Put("", 0o755, uid=1001)},
            "sudo.writable-command",
            "/opt/tool, which ines may run as root, belongs to ines (mode 0755)",
        ),
        ({"/opt/tool": Put("", 0o755)}, "sudo.writable-command", None),
        ({"/opt/tool": None}, "sudo.missing-command", "/opt/tool does not exist"),
        ({"/opt/tool": Put("", 0o755)}, "sudo.missing-command", None),
        ({}, "sudo.missing-command", None),
    ],
)
def test_the_files_that_rules_name(items: dict[str, Put | None], check: str, message: str | None) -> None:
    host = rights("ines ALL=/opt/tool\nines ALL=(tomas) /opt/other\n", dict(items))
    assert [finding.message for finding in found(host, check)] == ([message] if message else [])


def test_a_folder_above_a_command_counts_too() -> None:
    host = rights("ines ALL=/opt/tool\n", {"/opt/tool": Put("", 0o755)}, folders={"/opt": Put("", 0o775, gid=50)})
    assert [finding.message for finding in found(host, "sudo.writable-command")] == [
        "/opt, above /opt/tool, is writable by the group with gid 50 (mode 0775)"
    ]


@pytest.mark.parametrize(
    ("sudoers", "severities"),
    [
        ("Defaults !secure_path", "MEDIUM"),
        ("Defaults secure_path=/bin:bin", "MEDIUM"),
        ("Defaults secure_path=/bin:/opt", "CRITICAL"),
        ("Defaults secure_path=/bin", ""),
    ],
)
def test_the_search_path_of_sudo(sudoers: str, severities: str) -> None:
    host = rights(f"{sudoers}\n", folders={"/opt": Put("", 0o777)})
    assert [finding.severity.name for finding in found(host, "sudo.unsafe-search-path")] == severities.split()


@pytest.mark.parametrize(
    ("sudoers", "names"),
    [
        ("ines tern=ALL", ["tern"]),
        ("Host_Alias H = knot, plover\nines H=ALL", ["plover"]),
        ("ines ALL, knot, KNOT, k*, 10.0.0.0/8, +net, !tern=ALL", []),
        ("ines w*=ALL", ["w*"]),
    ],
)
def test_rules_for_hosts_that_nobody_knows(sudoers: str, names: list[str]) -> None:
    assert [finding.about for finding in estate_findings([rights(f"{sudoers}\n").summary])] == names


@pytest.mark.parametrize(
    ("rule", "check", "safer"),
    [
        ("ines ALL=NOPASSWD: ALL", "sudo.full-root-without-password", "ines ALL=ALL"),
        ("ines ALL=(root) SETENV: /bin/ls", "sudo.settable-environment", "ines ALL=(root) /bin/ls"),
        (
            "ines ALL=/usr/bin/journalctl -u x, /bin/ls",
            "sudo.root-equivalent-command",
            "ines ALL=/usr/bin/journalctl --no-pager -u x, /bin/ls",
        ),
        ("ines ALL=/usr/bin/vim /etc/motd", "sudo.root-equivalent-command", "ines ALL=sudoedit /etc/motd"),
        ("ines ALL=/usr/bin/vim", "sudo.root-equivalent-command", f"ines ALL={NEEDED}"),
        ("ines ALL=/usr/bin/vim /etc/sudoers", "sudo.root-equivalent-command", f"ines ALL={NEEDED}"),
        ("ines ALL=/usr/bin/vim /etc/*", "sudo.root-equivalent-command", f"ines ALL={NEEDED}"),
        ("ines ALL=/usr/bin/systemctl edit tide", "sudo.root-equivalent-command", f"ines ALL={NEEDED}"),
        (
            "ines ALL=/usr/bin/systemctl --no-pager link /home/ines/a.service",
            "sudo.root-equivalent-command",
            f"ines ALL={NEEDED}",
        ),
        ("ines ALL=/usr/bin/find /var", "sudo.root-equivalent-command", None),
        ("ines ALL=/usr/bin/less /var/log/a", "sudo.root-equivalent-command", "ines ALL=NOEXEC: /usr/bin/less /var/log/a"),
        ("ines ALL=/bin/tail -n 5 /var/log/*", "sudo.loose-arguments", "ines ALL=/bin/tail ^-n 5 /var/log/[[:alnum:]_][[:alnum:]_.-]*$"),
        ("ines ALL=(ALL:ALL) /bin/ls", "sudo.run-as-any-user", "ines ALL=(root) /bin/ls"),
        ("ines ALL=(ALL) ALL, !/bin/sh", "sudo.bypassable-exclusion", f"ines ALL=(ALL) {NEEDED}"),
        ("Defaults !authenticate", "sudo.authentication-disabled", "Defaults authenticate"),
        ("Defaults:ines timestamp_timeout=-1", "sudo.long-credential-cache", "Defaults:ines timestamp_timeout=15"),
        ('Defaults env_keep += "LANG LD_PRELOAD"', "sudo.loader-variables-kept", 'Defaults env_keep -= "LD_PRELOAD"'),
        ('Defaults secure_path="/bin:."', "sudo.unsafe-search-path", 'Defaults secure_path="/bin"'),
        ("Defaults targetpw", "sudo.other-account-password", "Defaults !targetpw"),
        ("Defaults !use_pty", "sudo.shared-terminal", "Defaults use_pty"),
        ("ines ALL=sudoedit /etc/shadow", "sudo.root-equivalent-command", f"ines ALL={NEEDED}"),
    ],
)
def test_a_safer_rule_is_written_out_and_is_safer(rule: str, check: str, safer: str | None) -> None:
    assert [finding.safer for finding in found(rights(f"{rule}\n"), check)] == ([] if safer is None else [safer])
    assert not safer or not found(rights(f"{safer}\n"), check)


STATES = {
    "/opt": Item(path="/opt", kind="folder", mode=0o755, uid=0, gid=0),
    "/opt/tool": Item(path="/opt/tool", kind="file", mode=0o755, uid=0, gid=0),
}


def host_with(sudoers: str, *items: Item, access: str = "") -> HostRights:
    """Return a host with these states of files, and access control lists as getfacl(1) prints them."""
    evidence = bundle(sudoers)
    states = {**{item.path: item for item in evidence.items}, **STATES, **{item.path: item for item in items}}
    manifest = replace(evidence.manifest, items=tuple(states.values()))
    return rights_of(read_host(replace(evidence, manifest=manifest, listings={"access-lists": access.encode()})))


@pytest.mark.parametrize(
    ("item", "access", "message"),
    [
        ({"mode": 0o775, "gid": 3001}, "", "is writable by group gauges (mode 0775)"),
        ({"mode": 0o777}, "", "is writable by everyone (mode 0777)"),
        ({"uid": 1002}, "", "belongs to tomas (mode 0755)"),
        ({"mode": 0o775}, "user:1003:rw-\nmask::rwx\n", "is writable by rada by its access control list"),
        ({"mode": 0o775}, "group:3001:-w-\nmask::rwx\n", "is writable by group gauges by its access control list"),
        ({"mode": 0o755}, "user:1003:rw-\t#effective:r--\nmask::r-x\n", None),
        ({"mode": 0o755}, "default:user:1003:rwx\n", None),
    ],
)
def test_who_else_can_write_a_command(item: dict[str, Any], access: str, message: str | None) -> None:
    listed = f"# file: opt/tool\n# owner: 0\n{access}\n" if access else ""
    host = host_with("ines ALL=(root) /opt/tool\n", msgspec.structs.replace(STATES["/opt/tool"], **item), access=listed)
    found_here = [finding.message for finding in found(host, "sudo.writable-command")]
    assert found_here == ([f"/opt/tool, which ines may run as root, {message}"] if message else [])


def test_a_command_that_is_a_link_is_told_from_one_in_a_folder_that_is() -> None:
    inside = Item(path="/opt", kind="folder", mode=0o755, uid=0, gid=0, real="/srv/opt")
    host = host_with("ines ALL=(root) /opt/tool\n", inside, msgspec.structs.replace(STATES["/opt/tool"], real="/srv/opt/tool"))
    assert not found(host, "sudo.symlinked-command")
    host = host_with("ines ALL=(root) /opt/tool\n", inside, msgspec.structs.replace(STATES["/opt/tool"], real="/home/ines/tool"))
    assert [finding.safer for finding in found(host, "sudo.symlinked-command")] == ["ines ALL=(root) /home/ines/tool"]


@pytest.mark.parametrize("digest", ["sha224:" + "a" * 56, "sha224:" + "a" * 56 + ", sha256:" + "b" * 64])
def test_a_digest_that_no_file_has_is_found(digest: str) -> None:
    digests: dict[str, Any] = {"digests": (("sha224", "c" * 56), ("sha256", "b" * 64))}
    host = host_with(f"ines ALL=(root) {digest} /opt/tool\n", msgspec.structs.replace(STATES["/opt/tool"], **digests))
    assert bool(found(host, "sudo.wrong-digest")) == ("sha256" not in digest)


def test_a_terminal_that_is_asked_of_all_but_one_matters_more_without_a_password() -> None:
    asked = "Defaults requiretty\nDefaults:ines !requiretty\nines ALL=(root) {}/bin/ls\n"
    severities = [[one.severity for one in found(rights(asked.format(tag)), "sudo.no-terminal-required")] for tag in ("", "NOPASSWD: ")]
    assert severities == [[Severity.INFO], [Severity.LOW]]
    assert not found(rights("Defaults:ines !requiretty\nines ALL=(root) NOPASSWD: /bin/ls\n"), "sudo.no-terminal-required")


def test_a_missing_secure_path_matters_where_none_is_built_in() -> None:
    red_hat = {"/etc/os-release": 'ID="rocky"\nID_LIKE="rhel"\nVERSION_ID="9.4"\n'}
    assert [finding.severity for finding in found(rights("ines ALL=ALL\n", red_hat), "sudo.unsafe-search-path")] == [Severity.LOW]
    assert not found(rights("ines ALL=ALL\n"), "sudo.unsafe-search-path")
    assert not found(rights("Defaults secure_path=/bin\nines ALL=ALL\n", red_hat), "sudo.unsafe-search-path")


EVERY = (*(check for platform in PLATFORMS.values() for check in platform.checks), *ESTATE_CHECKS, *USE_CHECKS)


def test_every_check_explains_itself() -> None:
    every = EVERY
    assert len({check.name for check in every}) == len(every)
    for check in every:
        assert check.title.endswith(".")
        assert check.why.endswith(".")
        assert check.advice.endswith(".")


def test_findings_come_worst_first() -> None:
    host = rights("nosuch ALL=ALL\nines ALL=NOPASSWD: ALL\n", {"/etc/passwd": PASSWD + "toor:x:0:0::/:/bin/sh\n"})
    severities = [finding.severity for finding in findings_on(host)]
    assert severities == sorted(severities)
    assert severities[0] is Severity.CRITICAL


def finding(subject: str = "knot", about: str = "x", line: int = 1) -> Finding:
    place = Place(subject=subject, path="/etc/sudoers", line=line)
    return Finding(check="a.b", severity=Severity.LOW, subject=subject, about=about, message="m", why="w", advice="d", places=(place,))


@given(st.text(), st.text())
def test_a_key_names_what_it_is_about_and_not_the_line(one: str, other: str) -> None:
    assert (finding(about=one).key == finding(about=other).key) == (one == other)
    assert finding(line=1).key == finding(line=99).key
    assert finding(subject="tern").key != finding(subject="knot").key


def test_a_rule_that_moves_keeps_its_key() -> None:
    before = found(rights("ines ALL=ALL\n"), "sudo.full-root-outside-admin-group")[0]
    after = found(rights("# moved\n\nines  ALL=ALL # for now\n"), "sudo.full-root-outside-admin-group")[0]
    assert before.places != after.places
    assert before.key == after.key


# -- one decision: what findings say of rules is what holders hold by them ------------------------------------------------------------

OF_RULES = ("sudo.full-root-outside-admin-group", "sudo.full-root-without-password", "sudo.root-equivalent-command", "sudo.bypassable-exclusion", "sudo.settable-environment", "sudo.loose-arguments")  # fmt: skip


@pytest.mark.parametrize(
    ("sudoers", "expected"),
    [("ines ALL=(ALL) NOPASSWD: ALL\nines ALL=(ALL) !ALL", {"sudo.overridden-rule"}), ("ines ALL=(ALL) NOTAFTER=20200101000000Z NOPASSWD: ALL", {"sudo.expired-rule"}),
     ("ines ALL=/usr/bin/vim\nines ALL=!/usr/bin/vim", {"sudo.overridden-rule"}), ("tomas, ines ALL=ALL\nines ALL=!ALL", {"sudo.full-root-outside-admin-group"}),
     ("nosuch ALL=(ALL) NOPASSWD: ALL", {"sudo.unknown-name"}), ("ines nowhere=(ALL) NOPASSWD: ALL", set())],
)  # fmt: skip
def test_a_rule_that_is_not_in_force_raises_nothing_but_that(sudoers: str, expected: set[str]) -> None:
    findings = [
        one for one in findings_on(rights(f"{sudoers}\n")) if one.check.startswith("sudo.") and one.check != "sudo.logging-disabled"
    ]
    assert {one.check for one in findings if one.check in {*OF_RULES, *expected}} == expected
    assert not [one for one in findings if one.check == "sudo.full-root-outside-admin-group" and "ines" in one.message]


@pytest.mark.parametrize("path", ["//usr/bin/vim", "///bin/ls", "//", "/bin//ls"])
def test_a_path_with_more_slashes_than_it_needs_ends(path: str) -> None:
    assert findings_on(rights(f"ines ALL={path}\n")) is not None


@pytest.mark.parametrize("seed", range(40))
def test_no_finding_contradicts_the_holdings(seed: int) -> None:
    """Generated policies: who a finding names holds something by that very rule; who may do all unasked by a rule is named."""
    writer = PolicyWriter(seed)
    host = rights(writer.policy(), {path: text for path, text in writer.files().items() if path not in ("/etc/sudoers", "/etc/hosts")})
    by_rule: dict[tuple[str, int | None], set[str]] = {}
    unasked: set[tuple[str, int | None]] = set()
    for holding in host.holdings:
        for link in (link for route in holding.routes for link in route.links if link.mechanism is Mechanism.SUDO):
            at = (link.place.path, link.place.line)
            by_rule.setdefault(at, set()).update((link.source.name, str(link.source)))
            if not link.asks and str(link.target) == "root" and not link.conditions:
                unasked.add(at)
    for finding in findings_on(host):
        if finding.check in OF_RULES:
            assert (finding.places[0].path, finding.places[0].line) in by_rule, finding.message
    named = {(finding.places[0].path, finding.places[0].line) for finding in findings_on(host) if finding.check in ("sudo.full-root-without-password", "sudo.root-equivalent-command", "sudo.authentication-disabled")}  # fmt: skip
    tagged = {(rule.place.path, rule.place.line) for rule in host.facts.policy.rules if rule.tag(Tag.PASSWD) is False}
    assert unasked & tagged <= named
