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
_NORMAL, _DISABLED, _NEVER_EXPIRES, _NO_PREAUTHENTICATION = 0x200, 0x2, 0x10000, 0x400000


class _Ldif:
    """Objects under construction."""

    def __init__(self) -> None:
        self.lines: list[str] = []
        self.planted: list[Planted] = []

    def add(self, name: str, kind: str, number: tuple[int, ...], *lines: str, check: str = "") -> None:
        """Add an object; a check that must cite it is noted."""
        if check:
            self.planted.append(Planted(check, DIRECTORY, "entries", len(self.lines) + 1))
        head = (f"dn: cn={name},{_BASE}", f"objectClass: {kind}", f"cn: {name}", f"sAMAccountName: {name}")
        self.lines += [*head, f"objectSid:: {_sid(*number)}", *lines, ""]


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
        made.add(person.name, "user", (*_DOMAIN, person.uid), control, check=checks.get(person.name, ""))
    made.add("Domein-beheerders", "group", (*_DOMAIN, 512), *_members(keeper.name, "Wachtdienst"))
    made.add("Wachtdienst", "group", (*_DOMAIN, 1501), *_members(former.name, "Storingsdienst"))
    made.add("Storingsdienst", "group", (*_DOMAIN, 1502), *_members(teams["administrators"][0].name, "Wachtdienst"))  # a cycle
    made.add("Domain Admins", "group", (*_DOMAIN, 1503), *_members(teams["technicians"][0].name))  # a name, and no more
    return make_rows_bundle(DIRECTORY, "directory", taken, {"entries": "\n".join(made.lines).encode()}, "LDAP search"), made.planted


def _members(*names: str) -> tuple[str, ...]:
    return tuple(f"member: cn={name},{_BASE}" for name in names)
