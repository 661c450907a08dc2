"""Windows machines: who administers them, by SID and through the directory; what runs as the system; the security log; texts of its tools."""

import gzip
import json
import re
import struct
from dataclasses import replace
from datetime import UTC, datetime
from io import BytesIO
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from evtx_writer import event_file
from fidelitas.audit import audit
from fidelitas.checks.windows import CHECKS
from fidelitas.evidence import Bundle, CopiedLog, Listing, Manifest, make_bundle, read_bundle, windows_probe_script
from fidelitas.facts import AccessControlEntry, EventKind, Gap, Place, SecurityDescriptor
from fidelitas.languages.logs.windows_events import WindowsEventReader
from fidelitas.languages.security_descriptors import read_descriptor
from fidelitas.languages.windows.machine import read_windows
from fidelitas.languages.windows.tool_output import decoded, read_group_text
from fidelitas.platforms import findings_on
from fidelitas.rights import WindowsRights, windows_rights_of
from fidelitas.rights.graph.links import Mechanism
from fidelitas.rights.windows.access import EVERYBODY, WRITE_FILE, allowed_to
from fidelitas.rights.windows.commands import is_unquoted, programs_tried
from fidelitas.sources.directory import from_ldif
from support import NOW, fidelitas
from test_directory import DOMAIN, group, person, sid

LOCAL, FOREIGN = "S-1-5-21-7-8-9", "S-1-5-21-" + "-".join(map(str, DOMAIN[1:]))
ADMINISTRATORS, BACKUP = "S-1-5-32-544", "S-1-5-32-551"
GUARDED = "O:SYD:PAI(A;;FA;;;SY)(A;;FA;;;BA)(A;;0x1200a9;;;BU)"
SERVICE = "D:(A;;CCLCSWRPWPDTLOCRRC;;;SY)(A;;CCDCLCSWRPWPDTLOCRSDRCWDWO;;;BA)(A;;CCLCSWLOCRRC;;;IU)"
HERE = Place("avocet", "Security.xml")
Rows = list[dict[str, Any]]


def machine(rights: str = "", log: str = "", **rows: Rows) -> Bundle:
    """A machine of these rows; names of listings have underscores for hyphens."""
    told = {"computer": [{"name": "AVOCET", "system": "Windows 11", "elevated": True}], **rows}
    listings = {name.replace("_", "-"): "".join(json.dumps(row) + "\n" for row in some).encode() for name, some in told.items()}
    if rights:
        listings["user-rights"] = b"\xff\xfe" + f"[Privilege Rights]\r\n{rights}\r\n".encode("utf-16-le")
    logs = (CopiedLog(path="Security.xml", member="logs/s.gz", lines=1, kept=1, begins="", ends=""),) if log else ()
    manifest = Manifest(
        subject="avocet", platform="windows", taken=NOW, kernel="", live=True, probe=1, uid=0, items=(), gaps=(), logs=logs,
        listings=tuple(Listing(name=name, member=f"listings/{number}", tool="") for number, name in enumerate(listings)),
    )  # fmt: skip
    return read_bundle(BytesIO(make_bundle(manifest, {}, listings, {"Security.xml": gzip.compress(log.encode())} if log else {})))


def account(name: str, number: int, **flags: Any) -> dict[str, Any]:
    return {
        "name": name,
        "sid": f"{LOCAL}-{number}",
        "disabled": False,
        "password_required": True,
        "password_never_expires": False,
        **flags,
    }


def groups(*members: tuple[str, str, str], sid: str = ADMINISTRATORS, name: str = "Beheerders") -> dict[str, Any]:
    held = [{"group_sid": sid, "group": name, "sid": member, "name": shown, "kind": kind} for member, shown, kind in members]
    return {"local_groups": [{"name": name, "sid": sid}], "local_members": held}


def service(command: str, sddl: str = SERVICE, **more: Any) -> Rows:
    return [{"name": "Gauge", "account": "LocalSystem", "sid": "S-1-5-18", "command": command, "sddl": sddl, **more}]


def path(name: str, sddl: str = GUARDED, *, folder: bool = False, exists: bool = True) -> dict[str, Any]:
    return {"path": name, "exists": exists, "folder": folder, "sddl": sddl}


def rights(**rows: Any) -> WindowsRights:
    return windows_rights_of(read_windows(machine(**rows)))


def holders(found: WindowsRights, right: str = "admin") -> set[str]:
    return {str(holding.principal) for holding in found.holdings if str(holding.right) == right}


def told(**rows: Any) -> set[tuple[str, str, str]]:
    return {(one.check.removeprefix("windows."), one.about, str(one.severity)) for one in findings_on(rights(**rows))}


def event(number: int, at: str = "2026-11-20T05:00:00.1234567Z", channel: str = "Security", **data: str) -> str:
    fields = "".join(f"<Data Name='{name}'>{value}</Data>" for name, value in data.items())
    system = f"<EventID>{number}</EventID><TimeCreated SystemTime='{at}'/><Channel>{channel}</Channel><Computer>avocet.saltmarsh.example</Computer>"
    return f"<Event xmlns='http://schemas.microsoft.com/win/2004/08/events/event'><System>{system}</System><EventData>{fields}</EventData></Event>\n"


def events(text: str, size: int = 1 << 20) -> tuple[list[tuple[Any, ...]], list[Gap]]:
    reader = WindowsEventReader(HERE, {f"{LOCAL}-1002": "werkstatt"})
    raw = text.encode("utf-8", "surrogatepass")
    found = list(reader.events(raw[at : at + size] for at in range(0, len(raw), size)))
    return [(one.kind, one.program, one.account, one.target, one.group, one.reason, one.place.line) for one in found], reader.gaps


# -- who administers -----------------------------------------------------------------------------------------------------------------------


def test_administrators_are_known_by_sid_and_groups_of_the_directory_are_resolved_through() -> None:
    ldif = (
        group("Wacht", "ines", "Nacht", number=(*DOMAIN, 1400))
        + group("Nacht", "rada", "Wacht")
        + person("ines")
        + person("rada", number=1101)
    )
    members = groups((f"{LOCAL}-500", "AVOCET\\Beheerder", "user"), (f"{FOREIGN}-1400", "SALTMARSH\\Wacht", "group"))
    bundle = machine(local_accounts=[account("Beheerder", 500)], **members)
    alone = windows_rights_of(read_windows(bundle))
    assert holders(alone) == {"Beheerder", "%Beheerders", "%Wacht@SALTMARSH"}
    assert [(gap.what, gap.weakens) for gap in alone.gaps] == [("group SALTMARSH\\Wacht", "who is in group Beheerders")]
    found = audit([bundle, from_ldif(ldif.encode(), "saltmarsh").bundle])
    together = next(one for one in found.subjects if isinstance(one, WindowsRights))
    assert holders(together) == {"Beheerder", "%Beheerders", "%Wacht", "%Nacht", "ines", "rada"}
    assert not together.gaps
    assert "%Beheerders" in together.belongs_to("rada")
    # A group that is only called so is none.
    assert holders(rights(**groups((f"{LOCAL}-1001", "AVOCET\\x", "user"), sid=f"{LOCAL}-1005", name="Administrators"))) == set()


def together(machine_bundle: Bundle, *ldif: str) -> WindowsRights:
    """Return the rights on a machine beside directories."""
    directories = [from_ldif(text.encode(), f"directory{number}").bundle for number, text in enumerate(ldif)]
    return next(one for one in audit([machine_bundle, *directories]).subjects if isinstance(one, WindowsRights))


@pytest.mark.parametrize(("own", "expected"), [(LOCAL, set()), (FOREIGN, {"rada", "%Back-up"})])
def test_groups_that_each_machine_has_are_the_domains_on_a_domain_controller_alone(own: str, expected: set[str]) -> None:
    ldif = group("Back-up", "rada", number=(32, 551)) + person("rada", number=1101)
    local = [{"name": "x", "sid": f"{own}-1001", "disabled": False}]
    found = together(machine(rights=f"SeDebugPrivilege = *{BACKUP}", local_accounts=local), ldif)
    assert holders(found) - {"Backup Operators"} == expected


def test_a_local_and_a_domain_account_of_one_name_are_two() -> None:
    ldif = person("tomas", "userAccountControl: 512\n") + person("rada", number=1101)
    local = [account("tomas", 1001, disabled=True), account("kofi", 1002)]
    found = together(machine(local_accounts=local, **groups((f"{FOREIGN}-1100", "SALTMARSH\\tomas", "user"))), ldif)
    assert holders(found) == {"%Beheerders", "tomas"}
    assert not findings_on(found)  # the disabled one is not an administrator
    assert found.account_states() == {"AVOCET\\tomas": False, "kofi": True}
    own = together(machine(local_accounts=local, **groups((f"{LOCAL}-1001", "AVOCET\\tomas", "user"))), ldif)
    assert holders(own) == {"%Beheerders", "AVOCET\\tomas"}
    assert [(one.check, one.about) for one in findings_on(own)] == [("windows.disabled-administrator", "AVOCET\\tomas")]
    assert own.knows("tomas")
    assert own.knows("avocet\\tomas")


def test_a_name_with_its_domain_is_of_that_domain() -> None:
    """Of tools that tell names alone; with several directories in evidence, too."""
    named = [("SALTMARSH", "dc=saltmarsh,dc=example", 1), ("OYSTER", "dc=oyster,dc=example", 5)]
    ldifs = [
        f"dn: cn=ines,{base}\nobjectClass: user\nsAMAccountName: ines\nobjectSid:: {sid(21, number, 2, 3, 1100)}\n\n"
        for _, base, number in named
    ]
    members: Rows = [{"group": "Administrators", "group_sid": ADMINISTRATORS, "sid": "", "name": "OYSTER\\ines", "kind": "user"}]
    rows: dict[str, Any] = {"local_groups": [{"name": "Administrators", "sid": ADMINISTRATORS}], "local_members": members}
    found = together(machine(**rows), *ldifs)
    admin = next(held.principal for held in found.holdings if held.principal.name == "ines")
    assert admin.subject == "directory1"


def test_user_rights_are_rights_by_whatever_group() -> None:
    export = f"SeDebugPrivilege = *{ADMINISTRATORS},*{LOCAL}-1001\r\nSeBackupPrivilege = *{BACKUP}\r\nSeSecurityPrivilege = ines\r\nSeImpersonatePrivilege = *S-1-5-6,*S-1-5-19"
    found = rights(
        rights=export,
        local_accounts=[account("kofi", 1001), account("ines", 1002)],
        **groups((f"{LOCAL}-1002", "AVOCET\\ines", "user"), sid=BACKUP, name="Back-up"),
    )
    assert (holders(found), holders(found, "read-secrets"), holders(found, "write-evidence")) == ({"kofi"}, {"ines", "%Back-up"}, {"ines"})
    assert [(one.about, str(one.severity), one.places[0].line) for one in findings_on(found)] == [("kofi", "high", 2)]


@pytest.mark.parametrize(
    ("rows", "expected"),
    [
        ({"local_accounts": [account("alt", 1001, disabled=True)], **groups((f"{LOCAL}-1001", "AVOCET\\alt", "user"))}, {("disabled-administrator", "alt", "medium")}),
        ({"local_accounts": [account("Beheerder", 500, disabled=True, password_never_expires=True)], **groups((f"{LOCAL}-500", "AVOCET\\Beheerder", "user"))}, set()),
        ({"local_accounts": [account("alt", 1001, password_never_expires=True)], **groups((f"{LOCAL}-1001", "AVOCET\\alt", "user"))}, {("password-never-expires", "alt", "medium")}),
        ({"local_accounts": [account("alt", 1001, password_never_expires=True)]}, set()),
        ({"local_accounts": [account("anzeige", 1001, password_required=False)]}, {("no-password-required", "anzeige", "high")}),
        ({"local_accounts": [account("Gast", 501, disabled=True, password_required=False)]}, set()),
        ({"local_accounts": [account("Gast", 501)]}, {("guest-enabled", "Gast", "medium")}),
        (groups((f"{FOREIGN}-513", "SALTMARSH\\Domeingebruikers", "group")), {("everyone-administrator", "SALTMARSH\\Domeingebruikers", "critical")}),
        (groups(("S-1-5-11", "NT AUTHORITY\\Geverifieerd", "group")), {("everyone-administrator", "NT AUTHORITY\\Geverifieerd", "critical")}),
        (groups((f"{FOREIGN}-1400", "", "")), {("unknown-administrator", f"{FOREIGN}-1400", "low")}),
    ],
)  # fmt: skip
def test_weak_administrators(rows: dict[str, Any], expected: set[tuple[str, str, str]]) -> None:
    assert told(**rows) == expected


# -- what runs as the system ---------------------------------------------------------------------------------------------------------------

OPEN = "O:BAD:(A;;FA;;;BA)(A;;0x1301bf;;;BU)"
PLOTTER = "C:\\Program Files\\Tide Tools\\plotter.exe"
FOLDERS = [path("C:\\", folder=True), path("C:\\Program Files", folder=True), path("C:\\Program Files\\Tide Tools", folder=True)]


@pytest.mark.parametrize(
    ("services", "access", "expected"),
    [
        (service("C:\\t\\g.exe -x"), [path("C:\\t\\g.exe", OPEN)], {("replaceable-program", "service Gauge", "high")}),
        (service("C:\\t\\g.exe -x"), [path("C:\\t\\g.exe")], set()),
        (service("C:\\t\\g.exe -x", enabled=False), [path("C:\\t\\g.exe", OPEN)], set()),
        (service("C:\\t\\g.exe"), [path("C:\\t\\g.exe", "O:BAD:(D;;0x2;;;WD)(A;;0x12019f;;;BU)")], set()),
        (service("C:\\t\\g.exe"), [path("C:\\t\\g.exe", "O:BAD:NO_ACCESS_CONTROL")], {("replaceable-program", "service Gauge", "high")}),
        (service("C:\\t\\g.exe"), [path("C:\\t\\g.exe", f"O:{LOCAL}-1001D:(A;;FA;;;BA)")], {("replaceable-program", "service Gauge", "high")}),
        (service("C:\\t\\g.exe"), [path("C:\\t\\g.exe"), path("C:\\t", "O:BAD:(A;OICI;FA;;;BA)(A;;0x46;;;BU)", folder=True)], {("replaceable-program", "service Gauge", "high")}),
        (service("C:\\t\\g.exe"), [path("C:\\t\\g.exe"), path("C:\\t", "O:BAD:(A;OICI;FA;;;BA)(A;OICIIO;FA;;;BU)", folder=True)], set()),
        (service("C:\\t\\g.exe", SERVICE + "(A;;CCDCLC;;;AU)"), [path("C:\\t\\g.exe")], {("replaceable-program", "service Gauge", "high")}),
        (service(PLOTTER), [path(PLOTTER), *FOLDERS], {("unquoted-path", "service Gauge", "low")}),
        (service(f'"{PLOTTER}" -x'), [path(PLOTTER), *FOLDERS], set()),
        (service(PLOTTER), [path(PLOTTER), path("C:\\", "O:BAD:(A;;0x2;;;AU)", folder=True), *FOLDERS[1:]], {("unquoted-path", "service Gauge", "high")}),
    ],
)  # fmt: skip
def test_what_decides_what_a_service_runs(services: Rows, access: Rows, expected: set[tuple[str, str, str]]) -> None:
    assert told(services=services, access=access, local_accounts=[account("kofi", 1001)]) == expected
    found = rights(services=services, access=access, local_accounts=[account("kofi", 1001)])
    assert bool(holders(found)) == any(severity == "high" for _, _, severity in expected)


def test_a_service_or_task_as_an_administrator_hands_its_password_to_the_machine() -> None:
    members = groups((f"{LOCAL}-1001", "AVOCET\\kofi", "user"))
    tasks = [{"name": "\\Nacht", "account": ".\\kofi", "sid": f"{LOCAL}-1001", "command": "C:\\t\\n.exe", "sddl": GUARDED}]
    found = rights(tasks=tasks, access=[path("C:\\t\\n.exe", OPEN)], local_accounts=[account("kofi", 1001)], **members)
    assert {(one.check, one.about) for one in findings_on(found)} == {
        ("windows.administrator-service-account", "task \\Nacht"),
        ("windows.replaceable-program", "task \\Nacht"),
    }
    anybody = next(holding for holding in found.holdings if str(holding.principal) == "any account")
    assert [str(link.target) for link in anybody.routes[0].links] == ["kofi", "%Beheerders", "admin"]


def test_settings_that_weaken_every_administrator() -> None:
    system, logon = (
        "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Policies\\System",
        "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Winlogon",
    )
    rows = [
        (system, "EnableLUA", "0"),
        (system, "ConsentPromptBehaviorAdmin", "0"),
        (system, "LocalAccountTokenFilterPolicy", "1"),
        (logon, "DefaultPassword", "{kept}"),
        (logon, "DefaultUserName", "anzeige"),
        ("HKLM\\SOFTWARE\\Policies\\Microsoft\\Windows\\Installer", "AlwaysInstallElevated", "1"),
    ]
    settings = [{"key": key, "name": name, "value": value} for key, name, value in rows]
    assert told(settings=settings) == {
        ("no-elevation-prompt", "enablelua", "medium"), ("no-elevation-prompt", "consentpromptbehavioradmin", "medium"), ("stored-password", "anzeige", "high"),
        ("remote-local-administrators", "LocalAccountTokenFilterPolicy", "medium"), ("elevated-installs", "AlwaysInstallElevated", "high"),
    }  # fmt: skip
    assert told(settings=[{**row, "value": {"0": "1", "1": "0"}.get(row["value"], "")} for row in settings]) == set()


@pytest.mark.parametrize(
    ("since", "number", "expected"), [("04:00", 4733, "high"), ("04:00", 4732, "info"), ("05:30", 4733, None), ("05:30", 4732, None)]
)
def test_a_session_keeps_the_groups_that_it_began_with(since: str, number: int, expected: str | None) -> None:
    sessions = [{"account": "AVOCET\\kofi", "sid": f"{LOCAL}-1001", "kind": 2, "since": f"2026-11-20T{since}:00Z"}]
    log = event(
        number, MemberSid=f"{LOCAL}-1001", TargetSid=ADMINISTRATORS, SubjectUserName="ines", MemberName="-", TargetUserName="Beheerders"
    )
    found = told(sessions=sessions, log=log, local_accounts=[account("kofi", 1001)], **groups())
    assert found == ({("outdated-session", "kofi", expected)} if expected else set())


def test_every_check_of_windows_is_tried_above() -> None:
    text = Path(__file__).read_text(encoding="utf-8")
    assert all(
        f'"{check.name.removeprefix("windows.")}"' in text or f'"{check.name}"' in text or check.name == "windows.user-right"
        for check in CHECKS
    )


# -- access control lists ------------------------------------------------------------------------------------------------------------------

SIDS = ["S-1-1-0", "S-1-5-11", "S-1-5-32-545", "S-1-5-32-544", f"{LOCAL}-1001", f"{LOCAL}-1002"]
ENTRIES = st.lists(
    st.builds(
        AccessControlEntry,
        allowed=st.booleans(),
        mask=st.sampled_from([0x1, 0x2, 0x40000, 0x10000000, 0x1301BF]),
        sid=st.sampled_from(SIDS),
        inherit_only=st.booleans(),
    ),
    max_size=8,
)


@given(ENTRIES, st.sampled_from([f"{LOCAL}-1001", f"{LOCAL}-1002"]))
def test_whoever_is_told_has_what_the_list_gives_entry_by_entry(entries: list[AccessControlEntry], who: str) -> None:
    """The judge goes by [MS-DTYP] 2.5.3.2 with the token of an ordinary account: itself and the groups of everybody."""
    token, granted, denied = {who, *EVERYBODY}, 0, 0
    for entry in entries:
        if entry.sid in token and not entry.inherit_only:
            mask = 0xFFFFFFFF if entry.mask & 0x10000000 else entry.mask
            granted, denied = (granted | (mask & ~denied), denied) if entry.allowed else (granted, denied | (mask & ~granted))
    found = {one.sid for one in allowed_to(SecurityDescriptor(owner="S-1-5-18", entries=tuple(entries)), WRITE_FILE)}
    assert bool(granted & WRITE_FILE) >= bool(found & {who}) or any(one.sid in token and not one.allowed for one in entries)
    assert bool(found & token) >= (bool(granted & WRITE_FILE))


@given(st.text(alphabet="ODGS:();A-0123456789xFRWBUY", max_size=60))
def test_any_text_is_survived_as_a_descriptor(text: str) -> None:
    found = read_descriptor(text)
    assert found is None or found.owner == "" or found.owner.startswith(("S-1-", "domain-"))


def test_short_names_in_lists_are_of_the_machine_or_of_its_domain() -> None:
    rows: dict[str, Any] = {"services": service("C:\\t\\g.exe"), "access": [path("C:\\t\\g.exe", "O:BAD:(A;;FA;;;DU)(A;;FA;;;LA)")]}
    found = rights(local_accounts=[account("Beheerder", 500)], **groups((f"{FOREIGN}-513", "SALTMARSH\\Domeingebruikers", "group")), **rows)
    assert {str(link.source) for link in found.links if link.mechanism is Mechanism.SERVICE} == {"%Domeingebruikers@SALTMARSH", "Beheerder"}


def test_a_conditional_entry_and_a_long_one_are_read() -> None:
    found = read_descriptor("O:BAG:DUD:PAI(XA;;FA;;;BU;(Member_of{SID(BA)}))(A;;FRFW;;;S-1-5-21-1-2-3-4)(AU;SA;FA;;;WD)S:(AU;SAFA;FA;;;WD)")
    assert found is not None
    assert found.entries is not None
    assert [(one.sid, hex(one.mask)) for one in found.entries] == [("S-1-5-32-545", "0x1f01ff"), ("S-1-5-21-1-2-3-4", "0x12019f")]
    assert read_descriptor("D:" + "(A;;FA;;;BU)" * 20_000) is None


@pytest.mark.parametrize(
    ("command", "tried", "unquoted"),
    [
        ('"C:\\a b\\c.exe" -x', ["C:\\a b\\c.exe"], False), ("C:\\a\\c.exe -x y", ["C:\\a\\c.exe", "C:\\a\\c.exe -x.exe", "C:\\a\\c.exe -x y.exe"], False),
        ("C:\\a b\\c d.exe", ["C:\\a.exe", "C:\\a b\\c.exe", "C:\\a b\\c d.exe"], True), ("", [], False),
    ],
)  # fmt: skip
def test_what_is_tried_as_a_program(command: str, tried: list[str], unquoted: bool) -> None:
    assert (programs_tried(command), is_unquoted(command)) == (tried, unquoted)


# -- the security log ----------------------------------------------------------------------------------------------------------------------


def test_events_tell_who_did_what() -> None:
    subject = {"SubjectUserName": "ines", "SubjectUserSid": f"{FOREIGN}-1100", "SubjectLogonId": "0x3e7a1"}
    text = (
        event(4624, TargetUserName="ines", TargetUserSid=f"{FOREIGN}-1100", TargetLogonId="0x3e7a1", LogonType="10", IpAddress="10.20.3.9")
        + event(4624, TargetUserName="AVOCET$", TargetUserSid="S-1-5-18", LogonType="3") + event(4624, TargetUserName="x", LogonType="5")
        + event(4672, **subject, PrivilegeList="SeDebugPrivilege\n\t\tSeBackupPrivilege")
        + event(4688, **subject, TokenElevationType="%%1937", NewProcessName="C:\\Windows\\System32\\net.exe", CommandLine='"C:\\Windows\\System32\\net.exe" user x S3cret! /add')
        + event(4688, **subject, TokenElevationType="%%1938", NewProcessName="C:\\a.exe")
        + event(4648, **subject, TargetUserName="rada", ProcessName="C:\\Windows\\System32\\runas.exe")
        + event(4732, **subject, MemberName="-", MemberSid=f"{LOCAL}-1002", TargetUserName="Beheerders", TargetSid=ADMINISTRATORS)
        + event(4728, **subject, MemberName="CN=O\\, Rada,CN=Users,DC=x", MemberSid=f"{FOREIGN}-1", TargetUserName="Domein-beheerders")
        + event(4720, **subject, TargetUserName="neu") + event(4704, **subject, TargetSid=f"{LOCAL}-1002", PrivilegeList="SeDebugPrivilege")
        + event(4625, TargetUserName="gast", TargetUserSid="S-1-0-0", LogonType="3", Status="0xC000006D", SubStatus="0xC000006A", IpAddress="::ffff:10.1.1.1")
        + event(4634, TargetUserName="ines", TargetLogonId="0x3e7a1", LogonType="10") + event(4624, channel="Application", TargetUserName="x", LogonType="2")
    )  # fmt: skip
    found, gaps = events(text)
    assert not gaps
    assert found == [
        (EventKind.LOGIN, "logon", "", "ines", "", "remote desktop", 1),
        (EventKind.USED, "logon", "ines", "administrator", "", "SeDebugPrivilege SeBackupPrivilege", 4),
        (EventKind.USED, "elevation", "ines", "administrator", "", "", 6),
        (EventKind.USED, "runas", "ines", "rada", "", "", 8),
        (EventKind.CHANGED, "accounts", "ines", "werkstatt", "Beheerders", "added to the group", 9),
        (EventKind.CHANGED, "accounts", "ines", "O, Rada", "Domein-beheerders", "added to the group", 10),
        (EventKind.CHANGED, "accounts", "ines", "neu", "", "account made", 11),
        (EventKind.CHANGED, "policy", "ines", "werkstatt", "", "user right given: SeDebugPrivilege", 12),
        (EventKind.LOGIN_FAILED, "logon", "", "gast", "", "wrong password", 13),
        (EventKind.CLOSED, "logon", "ines", "administrator", "", "", 14),
    ]
    assert events(text, 700)[0] == found  # wherever a block ends
    (used,) = [one for one in WindowsEventReader(HERE).events([text.encode()]) if one.program == "elevation"]
    assert used.command == "C:\\Windows\\System32\\net.exe user x •¤¤ /add"


def test_a_cleared_log_and_a_changed_audit_policy_are_told_as_such() -> None:
    cleared = "<UserData><LogFileCleared xmlns='x'><SubjectUserName>ines</SubjectUserName></LogFileCleared></UserData>"
    text = event(1102).replace("<EventData></EventData>", cleared) + event(4719, SubjectUserName="ines", SubjectUserSid=f"{FOREIGN}-1100")
    found, gaps = events(text)
    assert not gaps
    assert [(one[1], one[2], one[5]) for one in found] == [
        ("audit", "ines", "audit: log cleared"),
        ("audit", "ines", "audit: policy changed"),
    ]


@pytest.mark.parametrize(
    ("text", "gap"),
    [
        ("<Event ><!DOCTYPE x [<!ENTITY a 'b'>]><System><EventID>4720</EventID></System></Event>\n", "document type"),
        ("<Event ><System><EventID>4720</System></Event>\n", "not an event in XML"), ("<Event ><System><EventID>x</EventID></System></Event>\n", "not an event"),
        ("<Event ><System><EventID>4720", "ends within"), ("<Event >" + "x" * (1 << 20) + "\n", "longer than 1 MiB"),
    ],
)  # fmt: skip
def test_a_broken_event_costs_only_itself(text: str, gap: str) -> None:
    found, gaps = events(event(4720, TargetUserName="a") + text, 1 << 16)
    assert [one[3] for one in found] == ["a"]
    assert [gap in one.why for one in gaps] == [True]


def test_hostile_names_reach_no_terminal() -> None:
    found, gaps = events(event(4720, TargetUserName="\x1b[31mx&#10;y", SubjectUserName="&#x202e;z"))
    assert not gaps
    assert (found[0][2], found[0][3]) == ("\u202ez", "\ufffd[31mx\ny")


@given(st.binary(max_size=300))
def test_any_bytes_are_survived_as_a_log(content: bytes) -> None:
    list(WindowsEventReader(HERE).events([b"<Event >" + content, content + b"</Event>"]))


# -- texts of Windows' own tools -----------------------------------------------------------------------------------------------------------

GERMAN = (
    "Aliasname     Administratoren\r\nBeschreibung  Administratoren haben uneingeschränkten Zugriff\r\n\r\nMitglieder\r\n\r\n"
    + "-" * 79
    + "\r\nAdministrator\r\nSALTMARSH\\Wacht\r\nDer Befehl wurde erfolgreich ausgeführt.\r\n\r\n"
)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-16", "cp850"])
def test_net_localgroup_in_any_language_and_encoding(tmp_path: Path, encoding: str) -> None:
    content = GERMAN.encode(encoding)
    group = read_group_text(decoded(content), Place("godwit", "group"))
    assert (group.name, [(one.name, one.place.line) for one in group.members]) == (
        "Administratoren",
        [("Administrator", 7), ("SALTMARSH\\Wacht", 8)],
    )
    (tmp_path / "godwit.txt").write_bytes(content)
    ran = fidelitas("survey", "godwit.txt", cwd=tmp_path)
    assert "taken for the administrators by its name in German" in ran.out
    assert {"Administrator", "Wacht@SALTMARSH"} <= set(re.findall(r"[\w@%]+", fidelitas("holders", "--right", "admin", cwd=tmp_path).out))


def test_a_group_of_another_name_is_not_guessed_at(tmp_path: Path) -> None:
    (tmp_path / "x.txt").write_text(GERMAN.replace("Administratoren", "Prüfer"))
    assert "not known whether it is the administrators'" in fidelitas("survey", "x.txt", cwd=tmp_path).out


# -- the collector and .evtx ---------------------------------------------------------------------------------------------------------------


def test_the_collector_is_powershell_by_its_grammar(tmp_path: Path) -> None:
    """It is not run here: there is no PowerShell.  Its grammar is checked, and that the check can fail."""
    import tree_sitter_powershell  # noqa: PLC0415
    from tree_sitter import Language, Parser  # noqa: PLC0415

    parser = Parser(Language(tree_sitter_powershell.language()))
    script = windows_probe_script().encode()
    assert script.isascii()
    assert not parser.parse(script).root_node.has_error
    assert parser.parse(script.replace(b"{", b"", 1)).root_node.has_error
    assert fidelitas("probe", "--windows", cwd=tmp_path).out.encode() == script


def test_the_collector_and_the_reader_agree_on_listings_and_columns() -> None:
    script = windows_probe_script()
    written = set(re.findall(r"Add-(?:Rows|Listing) '([\w-]+)'", script))
    source = Path(read_windows.__code__.co_filename).read_text(encoding="utf-8")
    read = set(re.findall(r"(?:rows|all|get)\(\"([\w-]+)\"", source)) & {*written, "group"} | {"user-rights"}
    assert written == read
    for column in re.findall(r"(?:text_of|_flag|_time)\(row, \"(\w+)\"\)", source):
        assert f"{column} = " in script


def test_an_event_file_is_read_as_its_text_is(tmp_path: Path) -> None:
    at = datetime(2026, 11, 20, 5, tzinfo=UTC)
    data = {
        "SubjectUserSid": f"{FOREIGN}-1100",
        "SubjectUserName": "ines",
        "SubjectLogonId": "0x3e7a1",
        "PrivilegeList": "SeDebugPrivilege\n\t\tSeBackupPrivilege",
    }
    (tmp_path / "Security.evtx").write_bytes(
        event_file([(at, 4672, data), (at, 4720, {"TargetUserName": "neu", "SubjectUserName": "ines"})])
    )
    ran = fidelitas("usage", "--log", "Security.evtx", "--name", "avocet", "--events", cwd=tmp_path)
    assert ran.status == 0, ran.err
    assert "log-on as administrator" in ran.out.replace("  ", " ") or "administrator" in ran.out
    assert "Security.evtx:2" in ran.out
    (tmp_path / "Broken.evtx").write_bytes(b"ElfFile\0" + struct.pack("<Q", 1) * 20)
    ran = fidelitas("usage", "--log", "Broken.evtx", cwd=tmp_path)
    assert "could not read event log" in ran.err
    assert "Traceback" not in ran.err


def test_sessions_with_an_administrators_privileges_and_what_was_done_in_them(tmp_path: Path) -> None:
    subject = {"SubjectUserName": "ines", "SubjectUserSid": f"{FOREIGN}-1100", "SubjectLogonId": "0x3e7a1"}
    lines = [
        event(4672, "2026-11-20T05:00:00Z", **subject, PrivilegeList="SeDebugPrivilege"),
        event(4688, "2026-11-20T05:10:00Z", **subject, TokenElevationType="%%1937", NewProcessName="C:\\Windows\\regedit.exe"),
        event(4732, "2026-11-20T05:20:00Z", **subject, MemberName="-", MemberSid=f"{LOCAL}-1002", TargetUserName="Beheerders"),
        event(4634, "2026-11-20T06:00:00Z", TargetUserName="ines", TargetLogonId="0x3e7a1", LogonType="2"),
    ]
    (tmp_path / "Security.xml").write_text("".join(lines))
    ran = fidelitas("usage", "--log", "Security.xml", "--sessions", "--format", "csv", "--name", "avocet", cwd=tmp_path)
    head, row = ran.out.splitlines()
    told = dict(zip(head.split(","), row.split(","), strict=True))
    assert (told["person"], told["as"], told["lasted"], told["events"]) == ("ines", "administrator", "1 h 00 min", "2")
    other = fidelitas("usage", "--log", "Security.xml", "--sessions", "--format", "csv", "--host", "godwit", cwd=tmp_path)
    assert other.status == 2  # the log is of no such host


def test_a_damaged_security_log_is_a_gap_and_costs_only_itself() -> None:
    whole = machine(log=event(4732, MemberSid=f"{LOCAL}-1001", TargetSid=ADMINISTRATORS) * 200, local_accounts=[account("kofi", 1001)])
    cut = {path: content[: len(content) // 2] for path, content in whole.copies.items()}
    facts = read_windows(replace(whole, copies=cut))
    assert [one.name for one in facts.accounts] == ["kofi"]
    assert "security log" in {gap.what for gap in facts.gaps}
