"""The made-up Windows machines of the observatory: avocet, a workstation in Dutch, and godwit, a server in German, with what was planted.

They stand in for real ones: rows and texts as the collector for Windows would bring them, in the layout of its archive.
"""

import gzip
import json
import random
from collections.abc import Callable, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from fidelitas.demo.directory import DOMAIN_SID
from fidelitas.demo.people import Person
from fidelitas.demo.planted import Planted
from fidelitas.demo.windows_log import SecurityLog
from fidelitas.evidence import CopiedLog, Listing, Manifest, make_bundle

__all__ = ["MACHINES", "windows_bundle"]

_ADMINISTRATORS, _USERS = "S-1-5-32-544", "S-1-5-32-545"
_POLICY = "HKLM\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Policies\\System"
_LOGON = "HKLM\\SOFTWARE\\Microsoft\\Windows NT\\CurrentVersion\\Winlogon"
# Access control lists as they are below Program Files, in a folder that everyone writes to, and of a service.
_GUARDED = "O:SYG:SYD:PAI(A;;FA;;;SY)(A;;FA;;;BA)(A;;0x1200a9;;;BU)(A;OICIIO;GA;;;CO)"
_ROOT = "O:SYG:SYD:PAI(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)(A;OICI;0x1200a9;;;BU)(A;CI;LC;;;AU)"
_OPEN = "O:BAG:SYD:AI(A;;FA;;;SY)(A;;FA;;;BA)(A;;0x1301bf;;;BU)"
_SERVICE = "D:(A;;CCLCSWRPWPDTLOCRRC;;;SY)(A;;CCDCLCSWRPWPDTLOCRSDRCWDWO;;;BA)(A;;CCLCSWLOCRRC;;;IU)"
# The user rights that every machine gives, as the export writes them.
_RIGHTS = (
    "SeBackupPrivilege = *S-1-5-32-544,*S-1-5-32-551", "SeRestorePrivilege = *S-1-5-32-544,*S-1-5-32-551",
    "SeImpersonatePrivilege = *S-1-5-19,*S-1-5-20,*S-1-5-32-544,*S-1-5-6", "SeAssignPrimaryTokenPrivilege = *S-1-5-19,*S-1-5-20",
    "SeTakeOwnershipPrivilege = *S-1-5-32-544", "SeLoadDriverPrivilege = *S-1-5-32-544", "SeSecurityPrivilege = *S-1-5-32-544",
    "SeInteractiveLogonRight = *S-1-5-32-544,*S-1-5-32-545,*S-1-5-32-551",
)  # fmt: skip


class _Machine:
    """Rows under construction."""

    def __init__(self, name: str, system: str, number: int, taken: datetime) -> None:
        self.name, self.taken = name, taken
        self.sid = f"S-1-5-21-{number}-1177238915-682003330"
        self.rows: dict[str, list[dict[str, Any]]] = {}
        self.rights = list(_RIGHTS)
        self.planted: list[Planted] = []
        self.log = SecurityLog(f"{name}.saltmarsh.example")
        self.add("computer", name=name.upper(), domain="saltmarsh.example", joined=True, controller=False, system=system, elevated=True)

    def add(self, listing: str, check: str = "", **row: Any) -> int:
        """Add a row, and return its line; a check that must cite it first is noted."""
        rows = self.rows.setdefault(listing, [])
        rows.append(row)
        if check:
            self.planted.append(Planted(check, self.name, listing, len(rows)))
        return len(rows)

    def account(self, name: str, number: int, check: str = "", **flags: Any) -> str:
        """Add an account of the machine, and return its SID."""
        sid, plain = (
            f"{self.sid}-{number}",
            {"disabled": False, "locked": False, "password_required": True, "password_never_expires": False},
        )
        self.add("local-accounts", check, name=name, sid=sid, **{**plain, "expires": None, "last_log_on": None, "description": "", **flags})
        return sid

    def group(self, name: str, sid: str, *members: tuple[str, str, str, str]) -> None:
        """Add a group and its members: SID, name, kind, and the check that must cite it."""
        self.add("local-groups", name=name, sid=sid, description="")
        for member, shown, kind, check in members:
            self.add("local-members", check, group_sid=sid, group=name, sid=member, name=shown, kind=kind)

    def service(self, name: str, command: str, *, check: str = "", sddl: str = _SERVICE, **row: Any) -> None:
        """Add a service that runs as the system."""
        told = {"account": "LocalSystem", "sid": "S-1-5-18", "enabled": True, "state": "Running", **row}
        self.add("services", check, name=name, command=command, sddl=sddl, **told)

    def program(self, path: str, sddl: str = _GUARDED) -> None:
        """Add a program and the folder that it is in."""
        self.add("access", path=path, exists=True, folder=False, sddl=sddl)
        self.add("access", path=path.rpartition("\\")[0], exists=True, folder=True, sddl=sddl)

    def setting(self, key: str, name: str, value: str, check: str = "") -> None:
        """Add a value of the registry."""
        self.add("settings", check, key=key, name=name, value=value)

    def right(self, line: str, check: str) -> None:
        """Add a line to the export of user rights."""
        self.rights.append(line)
        self.planted.append(Planted(check, self.name, "user-rights", 3 + len(self.rights)))

    def bundle(self) -> bytes:
        """Return the archive that the collector would write."""
        listings = {name: "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows).encode() for name, rows in self.rows.items()}
        export = ["[Unicode]", "Unicode=yes", "[Privilege Rights]", *self.rights, "[Version]", 'signature="$CHICAGO$"', "Revision=1", ""]
        listings["user-rights"] = b"\xff\xfe" + "\r\n".join(export).encode("utf-16-le")
        count, packed = len(self.log.lines()), gzip.compress("".join(f"{line}\n" for line in self.log.lines()).encode(), mtime=0)
        told: dict[str, Any] = {"lines": count, "kept": count, "begins": self.log.begins, "ends": self.log.ends}
        manifest = Manifest(
            subject=self.name,
            platform="windows",
            taken=self.taken,
            kernel="Windows 10.0.20348",
            live=True,
            probe=1,
            uid=0,
            items=(),
            gaps=(),
            listings=tuple(Listing(name=name, member=f"listings/{number:04}", tool="probe.ps1") for number, name in enumerate(listings)),
            logs=(CopiedLog(path="Security.xml", member="logs/Security.xml.gz", **told),),
        )
        return make_bundle(manifest, {}, listings, {"Security.xml": packed})


def _usual(made: _Machine, administrator: str, guest: str) -> None:
    """Add what every machine has."""
    made.account(administrator, 500, disabled=True, password_never_expires=True)
    made.account(guest, 501, disabled=True, password_required=False, password_never_expires=True)
    made.program("C:\\Windows\\System32\\spoolsv.exe")
    made.service("Spooler", "C:\\Windows\\System32\\spoolsv.exe")
    made.add(
        "access",
        path="C:\\",
        exists=True,
        folder=True,
        sddl="O:SYG:SYD:PAI(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)(A;OICI;0x1200a9;;;BU)(A;CI;LC;;;AU)",
    )
    made.setting(_POLICY, "ConsentPromptBehaviorAdmin", "5")


def _of_domain(person: Person) -> tuple[str, str]:
    return f"{DOMAIN_SID}-{person.uid}", f"SALTMARSH\\{person.name}"


def _avocet(people: Sequence[Person], taken: datetime) -> _Machine:
    made = _Machine("avocet", "Microsoft Windows 11 Pro", 1004336348, taken)
    technicians, administrators = _team(people, "technicians"), _team(people, "administrators")
    _usual(made, "Beheerder", "Gast")
    owner, gone = technicians[0], technicians[1]
    made.group(
        "Administrators", _ADMINISTRATORS, (f"{made.sid}-500", "AVOCET\\Beheerder", "user", ""),
        (f"{DOMAIN_SID}-512", "SALTMARSH\\Domein-beheerders", "group", ""), (*_of_domain(owner), "user", ""),
    )  # fmt: skip
    made.group("Gebruikers", _USERS, ("S-1-5-11", "NT AUTHORITY\\Authenticated Users", "group", ""))
    made.group("Back-upoperators", "S-1-5-32-551")
    made.group("Lezers van gebeurtenislogboek", "S-1-5-32-573", (*_of_domain(administrators[1]), "user", ""))
    made.service("GaugeSync", "C:\\Tides\\sync\\gaugesync.exe --every 60", check="windows.replaceable-program")
    made.program("C:\\Tides\\sync\\gaugesync.exe", _OPEN)
    made.service("PlotServer", "C:\\Program Files\\Tide Tools\\plotter.exe -listen")
    made.program("C:\\Program Files\\Tide Tools\\plotter.exe")
    made.right(f"SeDebugPrivilege = *{_ADMINISTRATORS},*{_of_domain(technicians[2])[0]}", "windows.user-right")
    made.setting(_POLICY, "LocalAccountTokenFilterPolicy", "1", "windows.remote-local-administrators")
    _ordinary_days(made, [owner, administrators[0]], taken)
    began = taken.replace(hour=5) - timedelta(hours=1)
    sid, name = _of_domain(gone)
    made.log.logon(began, gone.name, sid, 0x9A001, kind=2)
    line = made.add("sessions", account=name, sid=sid, kind=2, since=f"{began:%Y-%m-%dT%H:%M:%SZ}", id="630785")
    made.planted.append(Planted("windows.outdated-session", "avocet", "sessions", line))
    made.log.member(began + timedelta(minutes=40), 4733, administrators[0].name, sid, "Administrators", _ADMINISTRATORS)
    return made


def _godwit(people: Sequence[Person], taken: datetime) -> _Machine:
    made = _Machine("godwit", "Microsoft Windows Server 2022 Standard", 2139871995, taken)
    administrators, operators = _team(people, "administrators"), _team(people, "operators")
    _usual(made, "Administrator", "Gast")
    old = made.account("altadmin", 1001, "windows.disabled-administrator", disabled=True)
    workshop = made.account("werkstatt", 1002, "windows.password-never-expires", password_never_expires=True)
    made.account("anzeige", 1003, "windows.no-password-required", password_required=False)
    made.group(
        "Administratoren", _ADMINISTRATORS, (f"{made.sid}-500", "GODWIT\\Administrator", "user", ""), (old, "GODWIT\\altadmin", "user", ""),
        (workshop, "GODWIT\\werkstatt", "user", ""), (f"{DOMAIN_SID}-512", "SALTMARSH\\Domein-beheerders", "group", ""),
        ("S-1-5-21-3623811015-3361044348-30300820-1013", "", "", ""),
    )  # fmt: skip
    made.group("Benutzer", _USERS, ("S-1-5-11", "NT-AUTORITÄT\\Authentifizierte Benutzer", "group", ""))
    made.group("Sicherungs-Operatoren", "S-1-5-32-551", (*_of_domain(operators[0]), "user", ""))
    keeper_sid, keeper = _of_domain(administrators[2])
    nightly = {
        "name": "\\Tides\\Nachtlauf",
        "account": keeper,
        "sid": keeper_sid,
        "enabled": True,
        "run_level": "Highest",
        "sddl": _GUARDED,
    }
    made.add("tasks", "windows.administrator-service-account", command='"C:\\Tides\\nightly.exe"', **nightly)
    made.program("C:\\Tides\\nightly.exe")
    made.setting(_POLICY, "EnableLUA", "0", "windows.no-elevation-prompt")
    made.setting(_LOGON, "DefaultUserName", "anzeige")
    made.setting(_LOGON, "DefaultPassword", "{kept}", "windows.stored-password")
    _ordinary_days(made, administrators[:2], taken)
    made.log.member(taken - timedelta(days=9, hours=-4), 4732, administrators[0].name, workshop, "Administratoren", _ADMINISTRATORS)
    return made


def _team(people: Sequence[Person], team: str) -> list[Person]:
    return [person for person in people if person.team == team]


def _ordinary_days(made: _Machine, people: Sequence[Person], taken: datetime) -> None:
    """Log-ons of administrators on working days, with what they do elevated."""
    chance = random.Random(made.name)
    session = 0x10000
    for days in range(60, 0, -1):
        day = (taken - timedelta(days=days)).replace(hour=0, minute=0)
        for person in people if day.weekday() < 5 else ():
            session += 0x1000
            began = day + timedelta(minutes=chance.randint(8 * 60, 10 * 60))
            sid = _of_domain(person)[0]
            made.log.logon(began, person.name, sid, session, kind=chance.choice((2, 10)), elevated=True)
            for _ in range(chance.randint(1, 4)):
                command = chance.choice(("C:\\Windows\\System32\\mmc.exe", "C:\\Windows\\System32\\cmd.exe", "C:\\Windows\\regedit.exe"))
                made.log.process(began + timedelta(minutes=chance.randint(5, 400)), person.name, sid, session, command)
            made.log.log_off(began + timedelta(minutes=chance.randint(420, 500)), person.name, sid, session)


_Maker = Callable[[Sequence[Person], datetime], _Machine]
MACHINES: dict[str, _Maker] = {"avocet": _avocet, "godwit": _godwit}


def windows_bundle(name: str, people: Sequence[Person], taken: datetime) -> tuple[bytes, list[Planted], list[str]]:
    """Return the bundle of a Windows machine, what was planted in it, and the lines of its security log."""
    made = MACHINES[name](people, taken.astimezone(UTC))
    return made.bundle(), made.planted, made.log.lines()
