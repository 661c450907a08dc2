"""Windows machines: who administers them, by SID and through the directory; what runs as the system; the security log; texts of its tools."""

import gzip
import json
import re
import struct
from datetime import UTC, datetime
from io import BytesIO
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from evtx_writer import event_file
from fidelitas.audit import audit
from fidelitas.checks.windows import CHECKS
from fidelitas.evidence import Bundle, CopiedLog, Listing, Manifest, make_bundle, read_bundle, windows_probe_script
from fidelitas.facts import AccessControlEntry, EventKind, Gap, Place, SecurityDescriptor
from fidelitas.languages.logs.windows_events import WindowsEventReader
from fidelitas.languages.security_descriptors import read_descriptor
from fidelitas.languages.windows.code_pages import decoded, decoded_as
from fidelitas.languages.windows.machine import read_windows
from fidelitas.languages.windows.tool_output import read_group_text
from fidelitas.platforms import findings_on
from fidelitas.rights import WindowsRights, windows_rights_of
from fidelitas.rights.graph.links import Mechanism
from fidelitas.rights.windows.access import EVERYONE, WRITE_FILE, allowed_to
from fidelitas.rights.windows.commands import files_run, is_unquoted, programs_tried
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


def weak_spots(**rows: Any) -> set[tuple[str, str, str]]:
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
    assert weak_spots(**rows) == expected


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
    assert weak_spots(services=services, access=access, local_accounts=[account("kofi", 1001)]) == expected
    found = rights(services=services, access=access, local_accounts=[account("kofi", 1001)])
    assert bool(holders(found)) == any(severity == "high" for _, _, severity in expected)


SCRIPT = "C:\\jobs\\night\\n.ps1"
RUNS = f'"C:\\Windows\\System32\\WindowsPowerShell\\v1.0\\powershell.exe" -NoProfile -File {SCRIPT}'
REPLACEABLE = {("replaceable-program", "service Gauge", "high")}
WRITE_KEY, WRITE_DAC = "O:BAD:(A;;KA;;;BA)(A;;KW;;;BU)", "O:BAD:(A;;FA;;;BA)(A;;WD;;;BU)"


def night(script: str = GUARDED, inner: str = GUARDED, outer: str = GUARDED, top: str = GUARDED) -> Rows:
    return [
        path(SCRIPT, script),
        path("C:\\jobs\\night", inner, folder=True),
        path("C:\\jobs", outer, folder=True),
        path("C:\\", top, folder=True),
    ]


@pytest.mark.parametrize(
    ("services", "access", "expected"),
    [
        # What an interpreter is given to run.
        (service(RUNS), night(OPEN), REPLACEABLE),
        (service(RUNS), night(), set()),
        (service(RUNS), night(WRITE_DAC), REPLACEABLE),
        (service(RUNS), night(f"O:{LOCAL}-1001D:(A;;FR;;;BU)"), REPLACEABLE),
        (service(RUNS.replace("-File", "-NoLogo")), [path(SCRIPT, OPEN)], REPLACEABLE),  # as a command
        (service("C:\\x.exe --config " + SCRIPT), [path("C:\\x.exe"), path(SCRIPT, OPEN)], set()),  # what an unknown program does with it is not known
        (service(RUNS), [path(SCRIPT, "", exists=False), path("C:\\jobs\\night", "O:BAD:(A;;0x2;;;BU)", folder=True)], REPLACEABLE),
        # Deleted, and made anew; a library beside a script is not loaded by it.
        (service(RUNS), night("O:BAD:(A;;SD;;;BU)", "O:BAD:(A;;0x2;;;BU)"), REPLACEABLE),
        (service(RUNS), night(GUARDED, "O:BAD:(A;;0x2;;;BU)"), set()),
        (service(RUNS), night(GUARDED, "O:BAD:(A;;0x42;;;BU)"), REPLACEABLE),
        # Folders above: moved away and replaced, or taken over.
        (service(RUNS), night(GUARDED, GUARDED, "O:BAD:(A;;0x44;;;BU)"), REPLACEABLE),
        (service(RUNS), night(GUARDED, GUARDED, "O:BAD:(A;;0x4;;;BU)"), set()),
        (service(RUNS), night(GUARDED, "O:BAD:(A;;SD;;;BU)", "O:BAD:(A;;0x4;;;BU)"), REPLACEABLE),
        (service(RUNS), night(GUARDED, GUARDED, WRITE_DAC), REPLACEABLE),
        (service(RUNS), night(top="O:BAD:(A;;0x44;;;BU)"), REPLACEABLE),
        (service(RUNS), night(top="O:BAD:(A;OICIIO;0x44;;;BU)(A;;0x4;;;BU)"), set()),
        # What else a service runs or obeys.
        (service("C:\\Windows\\svchost.exe -k x", library="C:\\t\\l.dll"), [path("C:\\t\\l.dll", OPEN)], REPLACEABLE),
        (service("C:\\g.exe", failure_command="cmd.exe /c C:\\t\\f.bat"), [path("C:\\t\\f.bat", OPEN)], REPLACEABLE),
        (service("C:\\g.exe", keys=[{"path": "HKLM\\S\\Gauge", "sddl": WRITE_KEY}]), [], REPLACEABLE),
        (service("C:\\g.exe", keys=[{"path": "HKLM\\S\\Gauge", "sddl": "O:BAD:(A;;KA;;;BA)(A;;KR;;;BU)"}]), [], set()),
        # By the network's own account of services, too: it may take the system's token.
        (service("C:\\t\\g.exe", account="NT AUTHORITY\\NetworkService", sid="S-1-5-20"), [path("C:\\t\\g.exe", OPEN)], REPLACEABLE),
        (service("C:\\t\\g.exe", account="NT AUTHORITY\\LocalService", sid="S-1-5-19"), [path("C:\\t\\g.exe", OPEN)], REPLACEABLE),
        (service("C:\\t\\g.exe", account="NT SERVICE\\Gauge", sid="S-1-5-80-1-2-3-4-5"), [path("C:\\t\\g.exe", OPEN)], REPLACEABLE),
    ],
)  # fmt: skip
def test_everything_that_a_service_runs_or_obeys(services: Rows, access: Rows, expected: set[tuple[str, str, str]]) -> None:
    rows: dict[str, Any] = {"services": services, "access": access, "local_accounts": [account("kofi", 1001)]}
    assert weak_spots(**rows) == expected
    assert bool(holders(rights(**rows))) == bool(expected)


def test_a_task_of_a_persons_own_is_none_of_anyones_business_unless_it_passes_the_prompt() -> None:
    own = f"O:{LOCAL}-1001D:(A;;FA;;;SY)(A;;FA;;;{LOCAL}-1001)"
    task = {"name": "\\Mine", "account": "kofi", "sid": f"{LOCAL}-1001", "command": '"C:\\Users\\kofi\\m.exe"', "sddl": GUARDED}
    rows: dict[str, Any] = {"access": [path("C:\\Users\\kofi\\m.exe", own)], "local_accounts": [account("kofi", 1001)]}
    assert weak_spots(tasks=[task], **rows) == set()
    assert weak_spots(tasks=[{**task, "run_level": "Highest"}], **rows) == set()
    admin = groups((f"{LOCAL}-1001", "AVOCET\\kofi", "user"))
    checks = {name for name, _, _ in weak_spots(tasks=[{**task, "run_level": "Highest"}], **rows, **admin)}
    assert checks == {"task-past-the-prompt", "administrator-service-account"}
    assert "task-past-the-prompt" not in {name for name, _, _ in weak_spots(tasks=[task], **rows, **admin)}


@pytest.mark.parametrize(
    ("command", "expected"),
    [
        ("powershell.exe -ExecutionPolicy Bypass -File C:\\a\\b.ps1 -Name x", ["C:\\a\\b.ps1"]),
        ('powershell -f "C:\\a b\\c.ps1"', ["C:\\a b\\c.ps1"]),
        ("pwsh.exe -Command \"& 'C:\\a\\b.ps1' -x; . C:\\c\\d.psm1\"", ["C:\\a\\b.ps1", "C:\\c\\d.psm1"]),
        ("powershell C:\\a\\b.ps1", ["C:\\a\\b.ps1"]),
        ("cmd /c C:\\a\\n.bat > C:\\log.txt", ["C:\\a\\n.bat"]),
        ('cmd.exe /d /c ""C:\\a b\\n.bat" x"', ["C:\\a b\\n.bat"]),
        ('cmd /c "C:\\a b\\n.bat"', ["C:\\a b\\n.bat"]),
        ("cmd /c cd /d C:\\a && call C:\\a\\n.cmd", ["C:\\a\\n.cmd"]),
        ('cmd /c start "" /b C:\\a\\n.exe', ["C:\\a\\n.exe"]),
        ("cmd /k powershell -File C:\\a\\b.ps1", ["C:\\a\\b.ps1"]),
        ("rundll32.exe C:\\a\\x.dll,Entry 1", ["C:\\a\\x.dll"]),
        ('rundll32 "C:\\a b\\x.dll",#1', ["C:\\a b\\x.dll"]),
        ("C:\\Windows\\System32\\wscript.exe //B //nologo C:\\a\\s.vbs arg", ["C:\\a\\s.vbs"]),
        ("cscript C:\\a\\s.wsf", ["C:\\a\\s.wsf"]),
        ("msiexec /qn /i C:\\a\\p.msi", ["C:\\a\\p.msi"]),
        ("msiexec.exe /iC:\\a\\p.msi", ["C:\\a\\p.msi"]),
        ("regsvr32 /s C:\\a\\x.ocx", ["C:\\a\\x.ocx"]),
        ('"C:\\Python 3\\python.exe" -u C:\\a\\t.py --x C:\\other.py', ["C:\\a\\t.py"]),
        ("java -Xmx1g -jar C:\\a\\t.jar", ["C:\\a\\t.jar"]),
        ("mshta.exe C:\\a\\t.hta", ["C:\\a\\t.hta"]),
        ("C:\\a\\own.exe C:\\a\\t.bat", []),
        ("notepad C:\\a\\t.bat", []),
        ("", []), ("powershell", []), ("cmd /c", []), ("cmd /c cmd /c cmd /c cmd /c cmd /c cmd /c cmd /c C:\\x.bat", []),
    ],
)  # fmt: skip
def test_what_programs_are_told_to_run(command: str, expected: list[str]) -> None:
    assert files_run(command) == expected


@given(st.text(alphabet="\"' \\\\:/-cCfile.ps1&|,xcmdpowershell", max_size=60))
def test_any_command_line_is_survived(text: str) -> None:
    for program in ("cmd ", "powershell ", "rundll32 ", "msiexec ", "conhost ", ""):
        files_run(program + text)


def test_user_rights_of_groups_that_nobody_knows_are_gaps() -> None:
    stranger = "S-1-5-21-4-5-6-1234"
    assert [gap.weakens for gap in rights(rights=f"SeDebugPrivilege = *{stranger}").gaps] == ["who holds user right SeDebugPrivilege"]
    assert not rights(rights="SeDebugPrivilege = *S-1-5-32-544").gaps
    assert holders(rights(rights="SeTrustedCredManAccessPrivilege = *S-1-5-32-545"), "read-secrets") == {"any account"}
    delegating = "SeEnableDelegationPrivilege = *S-1-5-32-545"
    assert not holders(rights(rights=delegating))
    assert holders(rights(rights=delegating, computer=[{"name": "DC1", "controller": True}])) == {"any account"}


def test_an_automatic_logon_whose_password_lies_elsewhere() -> None:
    key = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Winlogon"
    rows = [{"key": key, "name": "AutoAdminLogon", "value": "1"}, {"key": key, "name": "DefaultUserName", "value": "anzeige"}]
    assert weak_spots(settings=rows) == {("automatic-logon", "anzeige", "medium")}
    assert weak_spots(settings=[{**rows[0], "value": "0"}, rows[1]]) == set()


def test_a_service_or_task_as_an_administrator_hands_its_password_to_the_machine() -> None:
    members = groups((f"{LOCAL}-1001", "AVOCET\\kofi", "user"))
    tasks = [{"name": "\\Nacht", "account": ".\\kofi", "sid": f"{LOCAL}-1001", "command": "C:\\t\\n.exe", "sddl": GUARDED}]
    found = rights(tasks=tasks, access=[path("C:\\t\\n.exe", OPEN)], local_accounts=[account("kofi", 1001)], **members)
    assert {(one.check, one.about) for one in findings_on(found)} == {
        ("windows.administrator-service-account", "task \\Nacht"),
        ("windows.replaceable-program", "task \\Nacht"),
    }
    anyone = next(holding for holding in found.holdings if str(holding.principal) == "any account")
    assert [str(link.target) for link in anyone.routes[0].links] == ["kofi", "%Beheerders", "admin"]


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
    assert weak_spots(settings=settings) == {
        ("no-elevation-prompt", "enablelua", "medium"), ("no-elevation-prompt", "consentpromptbehavioradmin", "medium"), ("stored-password", "anzeige", "high"),
        ("remote-local-administrators", "LocalAccountTokenFilterPolicy", "medium"), ("elevated-installs", "AlwaysInstallElevated", "high"),
    }  # fmt: skip
    assert weak_spots(settings=[{**row, "value": {"0": "1", "1": "0"}.get(row["value"], "")} for row in settings]) == set()


@pytest.mark.parametrize(
    ("since", "number", "expected"), [("04:00", 4733, "high"), ("04:00", 4732, "info"), ("05:30", 4733, None), ("05:30", 4732, None)]
)
def test_a_session_keeps_the_groups_that_it_began_with(since: str, number: int, expected: str | None) -> None:
    sessions = [{"account": "AVOCET\\kofi", "sid": f"{LOCAL}-1001", "kind": 2, "since": f"2026-11-20T{since}:00Z"}]
    log = event(
        number, MemberSid=f"{LOCAL}-1001", TargetSid=ADMINISTRATORS, SubjectUserName="ines", MemberName="-", TargetUserName="Beheerders"
    )
    found = weak_spots(sessions=sessions, log=log, local_accounts=[account("kofi", 1001)], **groups())
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
    """The judge goes by [MS-DTYP] 2.5.3.2 with the token of an ordinary account: itself and the groups of everyone."""
    token, granted, denied = {who, *EVERYONE}, 0, 0
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


SUBJECT = {"SubjectUserName": "ines", "SubjectUserSid": f"{LOCAL}-1100", "SubjectLogonId": "0x1"}
SHELL = {"NewProcessName": "C:\\a.exe", "TokenElevationType": "%%1936"}


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        # An account of this machine that is called like a machine is someone; the machine's own and those of a domain are not.
        (event(4624, TargetUserName="svc$", TargetDomainName="AVOCET", TargetUserSid=f"{LOCAL}-7", LogonType="3"), [("logon", "", "svc$", "over the network")]),
        (event(4624, TargetUserName="AVOCET$", TargetDomainName="AVOCET", TargetUserSid=f"{LOCAL}-7", LogonType="3"), []),
        (event(4624, TargetUserName="WEB1$", TargetDomainName="SALTMARSH", TargetUserSid=f"{FOREIGN}-7", LogonType="3"), []),
        # Full tokens that are not divided: by their level, by the built-in administrator, by the session; else not.
        (event(4688, **SUBJECT, **SHELL, MandatoryLabel="S-1-16-12288"), [("elevation", "ines", "administrator", "")]),
        (event(4688, **SUBJECT, **SHELL, MandatoryLabel="S-1-16-8192"), []),
        (event(4688, **{**SUBJECT, "SubjectUserSid": f"{LOCAL}-500"}, **SHELL), [("elevation", "ines", "administrator", "")]),
        (event(4688, **SUBJECT, **SHELL), []),
        (event(4672, **SUBJECT, PrivilegeList="SeDebugPrivilege") + event(4688, **SUBJECT, **SHELL), [("logon", "ines", "administrator", "SeDebugPrivilege"), ("elevation", "ines", "administrator", "")]),
        (event(4672, **SUBJECT) + event(4688, **{**SUBJECT, "SubjectLogonId": "0x2"}, **SHELL), [("logon", "ines", "administrator", "")]),
        # What was changed.
        (event(4738, **SUBJECT, TargetUserName="kofi", OldUacValue="0x15", NewUacValue="0x210", DisplayName="-", HomePath="C:\\x", PrivilegeList="-"), [("accounts", "ines", "kofi", "account changed: now password never expires, no longer disabled, no longer no password required, HomePath C:\\x")]),
        (event(4738, **SUBJECT, TargetUserName="kofi", SidHistory="-"), [("accounts", "ines", "kofi", "account changed")]),
        (event(4765, **SUBJECT, TargetUserName="kofi", SourceUserName="x"), [("accounts", "ines", "kofi", "former SID added: SourceUserName x")]),
        (event(4735, **SUBJECT, TargetUserName="Ops", SamAccountName="Ops2"), [("accounts", "ines", "", "group changed: SamAccountName Ops2")]),
        (event(4764, **SUBJECT, TargetUserName="Ops", GroupTypeChange="Security Disabled to Enabled"), [("accounts", "ines", "", "sort of group changed: GroupTypeChange Security Disabled to Enabled")]),
        (event(4717, **SUBJECT, TargetSid=f"{LOCAL}-1002", AccessGranted="SeRemoteInteractiveLogonRight"), [("policy", "ines", "werkstatt", "user right given: SeRemoteInteractiveLogonRight")]),
        (event(4718, **SUBJECT, TargetSid=f"{LOCAL}-1002", AccessRemoved="SeBatchLogonRight"), [("policy", "ines", "werkstatt", "user right taken away: SeBatchLogonRight")]),
        (event(4739, **SUBJECT, DomainName="TIDES", DomainPolicyChanged="Password Policy", MinPasswordLength="4"), [("policy", "ines", "TIDES", "policy of the domain changed: MinPasswordLength 4")]),
        (event(4741, **SUBJECT, TargetUserName="NEW$"), [("accounts", "ines", "NEW$", "account of a machine made")]),
        (event(4702, **SUBJECT, TaskName="\\Night"), [("system", "ines", "", "task \\Night changed")]),
        (event(4699, **SUBJECT, TaskName="\\Night"), [("system", "ines", "", "task \\Night removed")]),
        # A SID that the log itself names.
        (event(4720, **SUBJECT, TargetUserName="neu", TargetSid=f"{LOCAL}-1300") + event(4732, **SUBJECT, MemberName="-", MemberSid=f"{LOCAL}-1300", TargetUserName="Ops"), [("accounts", "ines", "neu", "account made"), ("accounts", "ines", "neu", "added to the group")]),
    ],
)  # fmt: skip
def test_what_the_log_says_of_each(text: str, expected: list[tuple[str, ...]]) -> None:
    found = WindowsEventReader(HERE, {f"{LOCAL}-1002": "werkstatt"}).events([text.encode()])
    assert [(one.program, one.account, one.target, one.reason) for one in found] == expected


def test_a_session_as_someone_else_stays_the_first_persons() -> None:
    """runas: a new session of another account, opened by someone; what is done in it, and in one that is opened from it, is theirs."""

    def opened(session: str, by: dict[str, str], target: str, kind: str = "2") -> str:
        return event(4624, **by, TargetUserName=target, TargetUserSid=f"{LOCAL}-1{len(target)}", TargetLogonId=session, LogonType=kind)

    def who(name: str, session: str) -> dict[str, str]:
        return {"SubjectUserName": name, "SubjectUserSid": f"{LOCAL}-1{len(name)}", "SubjectLogonId": session}

    text = (
        opened("0x2", who("ines", "0x1"), "wartung")
        + opened("0x3", who("wartung", "0x2"), "boss")
        + opened("0x4", who("boss", "0x9"), "boss")
    )
    text += (
        event(4720, **who("wartung", "0x2"), TargetUserName="a")
        + event(4720, **who("boss", "0x3"), TargetUserName="b")
        + event(4720, **who("boss", "0x4"), TargetUserName="c")
    )
    text += event(
        4624,
        SubjectUserSid="S-1-5-18",
        SubjectUserName="AVOCET$",
        TargetUserName="kofi",
        TargetLogonId="0x5",
        LogonType="2",
        TargetUserSid=f"{LOCAL}-2",
    )
    text += event(4720, **who("kofi", "0x5"), TargetUserName="d")
    made = [one for one in WindowsEventReader(HERE).events([text.encode()]) if one.program == "accounts"]
    assert [(one.account, one.login, one.target) for one in made] == [
        ("wartung", "ines", "a"),
        ("boss", "ines", "b"),
        ("boss", "", "c"),
        ("kofi", "", "d"),
    ]


def test_the_number_of_a_session_is_anothers_after_a_start() -> None:
    """Numbers begin anew: who opened a session with one, and its privileges, say nothing of the next that has it, on this machine alone."""
    ines = {"SubjectUserName": "ines", "SubjectUserSid": f"{LOCAL}-1100", "SubjectLogonId": "0x1"}
    rada = {"SubjectUserName": "rada", "SubjectUserSid": f"{LOCAL}-1200", "SubjectLogonId": "0x2"}
    as_rada = {"TargetUserName": "rada", "TargetUserSid": f"{LOCAL}-1200", "TargetLogonId": "0x2"}
    before = event(4624, **ines, **as_rada, LogonType="2") + event(4672, **rada) + event(4688, **rada, **SHELL)
    system = {"SubjectUserSid": "S-1-5-18", "SubjectUserName": "AVOCET$", "SubjectLogonId": "0x3e7"}
    after = event(4624, **system, **as_rada, LogonType="2") + event(4688, **rada, **SHELL) + event(4720, **rada, TargetUserName="x")
    found = [(one.program, one.account, one.login) for one in WindowsEventReader(HERE).events([(before + after).encode()])]
    assert found == [
        ("logon", "", "ines"), ("logon", "rada", "ines"), ("elevation", "rada", "ines"), ("logon", "", ""), ("accounts", "rada", "")
    ]  # fmt: skip


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
    group = read_group_text(decoded(content), Place("godwit", "group")).group
    assert (group.name, [(one.name, one.place.line) for one in group.members]) == (
        "Administratoren",
        [("Administrator", 7), ("SALTMARSH\\Wacht", 8)],
    )
    (tmp_path / "godwit.txt").write_bytes(content)
    ran = fidelitas("survey", "godwit.txt", cwd=tmp_path)
    assert "taken for the administrators by its name in German" in ran.out
    assert {"Administrator", "Wacht@SALTMARSH"} <= set(re.findall(r"[\w@%]+", fidelitas("holders", "--right", "admin", cwd=tmp_path).out))


# A machine in each of five languages: what its groups and accounts are called, and one group that is called like the administrators of another.
LANGUAGES = {
    "German": ("Administratoren", "Sicherungs-Operatoren", "Administrator", "Gast", "Domänen-Admins", "Administrators"),
    "French": ("Administrateurs", "Opérateurs de sauvegarde", "Administrateur", "Invité", "Admins du domaine", "Administratoren"),
    "Polish": ("Administratorzy", "Operatorzy kopii zapasowych", "Administrator", "Gość", "Administratorzy domeny", "Administrateurs"),
    "Russian": ("Администраторы", "Операторы архива", "Администратор", "Гость", "Администраторы домена", "Administrators"),
    "Japanese": ("Administrators", "Backup Operators", "Administrator", "Guest", "Domain Admins", "管理者"),
}


@pytest.mark.parametrize("language", LANGUAGES)
def test_a_machine_in_every_language_gives_the_same_answer(language: str) -> None:
    admins, backup, built_in, guest, domain_admins, misleading = LANGUAGES[language]
    local_groups = [{"name": admins, "sid": ADMINISTRATORS}, {"name": backup, "sid": BACKUP}, {"name": misleading, "sid": f"{LOCAL}-1009"}]
    local_members = [
        {"group_sid": ADMINISTRATORS, "group": admins, "sid": f"{LOCAL}-500", "name": f"AVOCET\\{built_in}", "kind": "user"},
        {"group_sid": ADMINISTRATORS, "group": admins, "sid": f"{FOREIGN}-512", "name": f"TIDES\\{domain_admins}", "kind": "group"},
        {"group_sid": BACKUP, "group": backup, "sid": f"{LOCAL}-1001", "name": "AVOCET\\kofi", "kind": "user"},
        {"group_sid": f"{LOCAL}-1009", "group": misleading, "sid": f"{LOCAL}-1002", "name": "AVOCET\\rada", "kind": "user"},
    ]
    accounts = [account(built_in, 500), account(guest, 501, disabled=False), account("kofi", 1001), account("rada", 1002)]
    ldif = group(domain_admins, "ines", number=(*DOMAIN, 512)) + person("ines", number=1100)
    evidence = machine(
        rights="SeDebugPrivilege = *S-1-5-32-544,rada", local_groups=local_groups, local_members=local_members, local_accounts=accounts
    )
    found = together(evidence, ldif)
    assert holders(found) == {built_in, f"%{admins}", f"%{domain_admins}", "ines", "rada"}
    assert holders(found, "read-secrets") == {f"%{backup}", "kofi"}
    checks = {(one.check, one.about) for one in findings_on(found)}
    assert ("windows.guest-enabled", guest) in checks
    assert ("windows.user-right", "rada") in checks


RULE = "-" * 79
# What the tool prints in languages of several code pages: its words, the names of groups and of members.
TEXTS = [
    ("cp437", "Alias name     Administrators", "Kommandørene", ["Administrator", "SALTMARSH\\Büro Nord"], "The command completed successfully."),
    ("cp850", "Nome do alias     Administradores", "Os administradores têm acesso", ["João", "SALTMARSH\\Manutenção"], "Comando concluído com êxito."),
    ("cp850", "Nom alias      Administrateurs", "Les membres du groupe", ["Hélène", "SALTMARSH\\Équipe"], "La commande s’est terminée correctement.".replace("’", "'")),
    ("cp852", "Název aliasu     Správci", "Správci mají úplný přístup", ["Jiří", "SALTMARSH\\Údržba"], "Příkaz byl úspěšně dokončen."),
    ("cp852", "Nazwa aliasu     Administratorzy", "Administratorzy mają pełny dostęp", ["Łukasz", "SALTMARSH\\Dyżur"], "Polecenie zostało wykonane pomyślnie."),
    ("cp866", "Псевдоним            Администраторы", "Администраторы имеют полные права", ["Ольга", "SALTMARSH\\Дежурные"], "Команда выполнена успешно."),
    ("cp932", "エイリアス名              Administrators", "コンピューターへの完全なアクセス権", ["管理者", "SALTMARSH\\当番"], "コマンドは正常に終了しました。"),
    ("cp936", "别名     Administrators", "管理员对计算机有不受限制的完全访问权", ["张伟", "SALTMARSH\\值班"], "命令成功完成。"),
]  # fmt: skip


@pytest.mark.parametrize(("page", "head", "comment", "members", "end"), TEXTS)
def test_group_texts_of_every_code_page(page: str, head: str, comment: str, members: list[str], end: str) -> None:
    comment = comment.encode(page, "replace").decode(page)
    text = "\r\n".join((head, f"Comment        {comment}", "", "Members", "", RULE, *members, end, "", ""))
    content = text.encode(page)
    assert decoded_as(content)[0] == text
    found = read_group_text(decoded(content), HERE)
    assert (found.group.name, [one.name for one in found.group.members]) == (head.rsplit("  ", maxsplit=1)[-1].strip(), members)
    assert (found.whole, found.of_domain) == (True, False)


@pytest.mark.parametrize(
    ("below", "members", "whole", "of_domain"),
    [
        ("ines\r\nrada\r\nThe command completed successfully.\r\n\r\n", ["ines", "rada"], True, False),
        ("ines\r\nrada\r\nThe command completed successfully.", ["ines", "rada"], True, False),
        ("ines\r\nrada\r\nВыполнено\r\n\r\n", ["ines", "rada"], True, False),
        ("ines\r\nrada", ["ines", "rada"], False, False),
        ("ines\r\nrada\r\n", ["ines", "rada"], False, False),
        ("ines\r\nSALTMARSH\\night watch\r\n", ["ines", "SALTMARSH\\night watch"], False, False),
        ("", [], False, False),
        ("The command completed successfully.\r\n\r\n", [], True, False),
        ("ines                     rada                     night watch              \r\nkofi                     \r\nThe command completed successfully.\r\n\r\n", ["ines", "rada", "night watch", "kofi"], True, True),
    ],
)  # fmt: skip
def test_where_a_list_of_members_ends(below: str, members: list[str], whole: bool, of_domain: bool) -> None:
    found = read_group_text(f"Alias name     Ops\r\nComment\r\n\r\nMembers\r\n\r\n{RULE}\r\n{below}", HERE)
    assert ([one.name for one in found.group.members], found.whole, found.of_domain) == (members, whole, of_domain)


def test_other_texts_of_windows_are_taken_for_what_they_are(tmp_path: Path) -> None:
    export = "[Unicode]\r\nUnicode=yes\r\n[Privilege Rights]\r\nSeDebugPrivilege = *S-1-5-32-545\r\n[Version]\r\nRevision=1\r\n"
    (tmp_path / "godwit.inf").write_bytes(b"\xff\xfe" + export.encode("utf-16-le"))
    assert fidelitas("survey", "godwit.inf", cwd=tmp_path).status in (0, 1, 3)
    assert "any account" in fidelitas("holders", "--right", "admin", cwd=tmp_path).out
    fields = [
        f"{name:<29}{value}"
        for name, value in [("User name", "kofi"), ("Full Name", "Kofi A"), *((f"Field {one}", "x") for one in range(9))]
    ]
    whoami = "GROUP INFORMATION\r\n-----\r\n\r\nGroup Name Type SID\r\n========== ==== ============\r\nEveryone   x    S-1-1-0\r\nX          x    S-1-5-32-544\r\n"
    for name, text in (("user.txt", "\r\n".join(fields)), ("whoami.txt", whoami)):
        (tmp_path / name).write_text(text)
        ran = fidelitas("survey", name, cwd=tmp_path)
        assert ran.status == 4
        assert "it is about one account" in ran.err
    (tmp_path / "cut.txt").write_bytes(GERMAN.encode("cp850")[:-60])
    assert "members of Administratoren" in fidelitas("survey", "cut.txt", cwd=tmp_path).out + fidelitas("coverage", cwd=tmp_path).out


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


def test_the_columns_that_the_collector_writes_are_the_documented_ones() -> None:
    script = windows_probe_script()
    documented = (Path(__file__).parent.parent / "docs" / "evidence-format.md").read_text(encoding="utf-8")
    for listing, rows in re.findall(r"Add-Rows '([\w-]+)'.*?\[ordered\] @\{(.*?)\n? *\}\n", script, re.DOTALL):
        written = re.findall(r"(?:^|;|\n)\s*(\w+) = ", rows)
        row = re.search(rf"^\| `{listing}` \| (.*) \|$", documented, re.MULTILINE)
        assert row is not None, listing
        assert written == [name for name in re.findall(r"`(\w+)`", row[1]) if name not in ("ServiceDll", "Highest")], listing


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


def test_someone_of_a_domain_that_is_not_in_evidence_is_found_by_any_of_its_names() -> None:
    one = rights(**groups((f"{FOREIGN}-1101", "SALTMARSH\\ines", "user"), (f"{FOREIGN}-1102", "SALTMARSH\\Night Watch", "group")))
    for name in (
        "ines@SALTMARSH",
        "ines",
        "INES",
        "%NIGHT watch",
        "SALTMARSH\\ines",
        "saltmarsh\\INES",
        "%Night Watch",
        "%SALTMARSH\\Night Watch",
        "%Night Watch@SALTMARSH",
    ):
        assert one.knows(name), name
        assert [str(held.right) for held in one.holdings_of(name)] == ["admin"], name
    assert not one.knows("SALTMARSH\\lena")


def test_blanks_behind_a_name_make_no_columns() -> None:
    """As a form or a mail leaves them: members of a local group, one in a line."""
    lines = ["Alias name     Operators", "", "Members", "", "-" * 79, "ines   ", "rada", "The command completed successfully.", "", ""]
    found = read_group_text("\r\n".join(lines), Place(subject="godwit", path="x"))
    assert ([one.name for one in found.group.members], found.group.name, found.of_domain) == (["ines", "rada"], "Operators", False)
