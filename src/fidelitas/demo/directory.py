"""The made-up directory of the observatory, as LDIF: groups of a Windows domain in another language, nested, and what was planted."""

import base64
import struct
from collections.abc import Sequence
from datetime import datetime

from fidelitas.demo.people import Person
from fidelitas.demo.planted import Planted
from fidelitas.evidence import make_rows_bundle

__all__ = ["DIRECTORY", "DOMAIN_SID", "directory_bundle"]

DIRECTORY = "saltmarsh-ad"
_BASE = "dc=saltmarsh,dc=example"
_DOMAIN = (21, 2857955596, 3257807878, 2609773476)
DOMAIN_SID = "S-1-5-" + "-".join(map(str, _DOMAIN))
# What every object of a domain permits: its administrators and the system everything, everyone who logs on to read.
_USUAL = "O:DAG:DAD:PAI(A;;GA;;;DA)(A;;GA;;;SY)(A;;RPLCRC;;;AU)"
_RESET, _MEMBER = "00299570-246d-11d0-a768-00aa006e0529", "bf9679c0-0de6-11d0-a285-00aa003049e2"
_NORMAL, _DISABLED, _NEVER_EXPIRES, _NO_PREAUTHENTICATION = 0x200, 0x2, 0x10000, 0x400000


class _Ldif:
    """Objects under construction."""

    def __init__(self) -> None:
        self.lines: list[str] = []
        self.planted: list[Planted] = []

    def add(self, name: str, kind: str, number: tuple[int, ...], *lines: str, check: str = "", permits: str = "") -> None:
        """Add an object; a check that must cite it is noted, and the one of who may change it where it `permits` more than is usual."""
        if check:
            self.planted.append(Planted(check, DIRECTORY, "entries", len(self.lines) + 1))
        head = (f"dn: cn={name},{_BASE}", f"objectClass: {kind}", f"cn: {name}", f"sAMAccountName: {name}")
        self.lines += [*head, f"objectSid:: {_sid(*number)}"]
        if permits:
            self.planted.append(Planted("directory.control-by-permissions", DIRECTORY, "entries", len(self.lines) + 1))
        self.lines += [f"nTSecurityDescriptor: {_USUAL}{permits}", *lines, ""]


def _sid(*numbers: int) -> str:
    return base64.b64encode(bytes([1, len(numbers)]) + (5).to_bytes(6, "big") + struct.pack(f"<{len(numbers)}I", *numbers)).decode()


def directory_bundle(people: Sequence[Person], taken: datetime) -> tuple[bytes, list[Planted]]:
    """Return the bundle of the directory, and what was planted in it."""
    made = _Ldif()
    teams: dict[str, list[Person]] = {}
    for person in people:
        teams.setdefault(person.team, []).append(person)
    former, contractor, keeper = teams["operators"][1], teams["contractors"][0], teams["administrators"][2]
    flags = {former.name: _DISABLED, contractor.name: _NO_PREAUTHENTICATION, keeper.name: _NEVER_EXPIRES}
    checks = {
        former.name: "directory.disabled-administrator",
        contractor.name: "directory.no-preauthentication",
        keeper.name: "directory.password-never-expires",
    }
    for person in people:
        control = f"userAccountControl: {_NORMAL | flags.get(person.name, 0)}"
        permits = f"(OA;;CR;{_RESET};;{DOMAIN_SID}-1504)" if person is keeper else ""
        made.add(person.name, "user", (*_DOMAIN, person.uid), control, check=checks.get(person.name, ""), permits=permits)
    made.add("Domein-beheerders", "group", (*_DOMAIN, 512), *_members(keeper.name, "Wachtdienst"))
    made.add("Wachtdienst", "group", (*_DOMAIN, 1501), *_members(former.name, "Storingsdienst"))
    for number, name in ((1601, "svc-rooster"), (1602, "svc-balie")):
        made.add(name, "user", (*_DOMAIN, number), f"userAccountControl: {_NORMAL}")
    rota = f"(OA;;WP;{_MEMBER};;{DOMAIN_SID}-1601)"
    inside = _members(teams["administrators"][0].name, "Wachtdienst")  # a cycle
    made.add("Storingsdienst", "group", (*_DOMAIN, 1502), *inside, permits=rota)
    made.add("Servicedesk", "group", (*_DOMAIN, 1504), *_members("svc-balie"))
    made.add("Domain Admins", "group", (*_DOMAIN, 1503), *_members(teams["technicians"][0].name))  # a name, and no more
    return make_rows_bundle(DIRECTORY, "directory", taken, {"entries": "\n".join(made.lines).encode()}, "LDAP search"), made.planted


def _members(*names: str) -> tuple[str, ...]:
    return tuple(f"member: cn={name},{_BASE}" for name in names)
