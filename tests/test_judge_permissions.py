"""Control by permissions, held against a real domain controller: every account tries to do it, by a bind of its own.

Random entries are put into the permissions of accounts, groups and units; then the program says who can become an administrator of the domain,
and the server is asked who can really add itself to a group, reset a password, or change permissions or the owner of each of these objects.
"""

import random
import struct
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from uuid import UUID

import pytest

from samba_domain import BASE, PROGRAM, Domain, scratch_domain
from support import fidelitas

with warnings.catch_warnings():
    warnings.simplefilter("ignore", DeprecationWarning)
    import ldap3
    from ldap3.protocol.microsoft import security_descriptor_control

# The library leaves sockets to the collector of garbage.
pytestmark = [pytest.mark.judge, pytest.mark.filterwarnings("ignore::ResourceWarning", "ignore::pytest.PytestUnraisableExceptionWarning")]

ROUNDS, PEOPLE, GROUPS, TARGETS, ENTRIES = 3, 14, 6, 12, 24
MEMBER, MEMBERSHIP, RESET = (
    "bf9679c0-0de6-11d0-a285-00aa003049e2",
    "bc0ac240-79a9-11d0-9020-00c04fc2d4cf",
    "00299570-246d-11d0-a768-00aa006e0529",
)
OTHER, USER, GROUP = "bf967950-0de6-11d0-a285-00aa003049e2", "bf967aba-0de6-11d0-a285-00aa003049e2", "bf967a9c-0de6-11d0-a285-00aa003049e2"
# Bits and parts of random entries; some allow nothing that matters.
RIGHTS = [
    (0xF01FF, ""), (0x10000000, ""), (0x40000000, ""), (0x20, ""), (0x20, MEMBER), (0x20, MEMBERSHIP), (0x20, OTHER), (0x8, MEMBER), (0x8, ""),
    (0x100, RESET), (0x100, ""), (0x100, OTHER), (0x40000, ""), (0x80000, ""), (0x20094, ""), (0x10000, ""), (0x30, MEMBER), (0x5, ""),
]  # fmt: skip


def entry(sid: bytes, mask: int, part: str, *, denied: bool, flags: int = 0, only: str = "") -> bytes:
    """Return an entry of a list of permissions ([MS-DTYP] 2.4.4)."""
    kind = (0x06 if denied else 0x05) if part or only else (0x01 if denied else 0x00)
    body = struct.pack("<I", mask)
    if part or only:
        body += (
            struct.pack("<I", bool(part) | 2 * bool(only)) + (UUID(part).bytes_le if part else b"") + (UUID(only).bytes_le if only else b"")
        )
    body += sid
    return struct.pack("<BBH", kind, flags, 4 + len(body)) + body


def with_entries(raw: bytes, new: list[bytes]) -> bytes:
    """Return a descriptor with only a list of permissions: the old one with entries at its beginning."""
    (at,) = struct.unpack_from("<I", raw, 16)
    revision, _, size, count, _ = struct.unpack_from("<BBHHH", raw, at)
    old, more = raw[at + 8 : at + size], b"".join(new)
    listed = struct.pack("<BBHHH", revision, 0, 8 + len(more) + len(old), count + len(new), 0) + more + old
    return struct.pack("<BBHIIII", 1, 0, 0x8004, 0, 0, 0, 20) + listed


class Drawn:
    """Accounts, groups, units and targets of one round, with random permissions."""

    def __init__(self, admin: Any, number: int) -> None:
        self._admin, self._chance, self._number = admin, random.Random(number), number
        chance, unit = self._chance, f"OU=u{number},{BASE}"
        self.password = f"Made-up-{number}!x"
        self.units = [unit, f"OU=v,{unit}"]
        for dn in self.units:
            admin.add(dn, "organizationalUnit")
        self.people = [f"CN=p{number}-{one},CN=Users,{BASE}" for one in range(PEOPLE)]
        self.groups = [f"CN=g{number}-{one},CN=Users,{BASE}" for one in range(GROUPS)]
        self.targets = [f"CN={'tp' if one % 2 else 'tg'}{number}-{one},{chance.choice(self.units)}" for one in range(TARGETS)]
        for dn in (*self.people, *self.groups, *self.targets):
            self._make(dn)
        for group in self.groups:
            for member in chance.sample([*self.people, *self.groups], 4):
                if member != group:
                    admin.modify(group, {"member": [(ldap3.MODIFY_ADD, [member])]})
        for target in self.targets:
            admin.modify(f"CN=Domain Admins,CN=Users,{BASE}", {"member": [(ldap3.MODIFY_ADD, [target])]})
        self._give()

    def _make(self, dn: str) -> None:
        name = dn.partition(",")[0].removeprefix("CN=")
        if name.startswith(("g", "tg")):
            self._admin.add(dn, "group", {"sAMAccountName": name})
            return
        self._admin.add(dn, "user", {"sAMAccountName": name})
        self._admin.modify(dn, {"unicodePwd": [(ldap3.MODIFY_REPLACE, [f'"{self.password}"'.encode("utf-16-le")])]})
        self._admin.modify(dn, {"userAccountControl": [(ldap3.MODIFY_REPLACE, [512])]})

    def _give(self) -> None:
        """Put random entries into the permissions of targets and units; those of units may be inherited, by some classes or all."""
        chance = self._chance
        by_object: dict[str, list[bytes]] = {}
        for _ in range(ENTRIES):
            who, on = chance.choice([*self.people, *self.groups]), chance.choice([*self.targets, *self.targets, *self.units])
            mask, part = chance.choice(RIGHTS)
            flags = chance.choice([0, 0x2, 0xA, 0x6]) if on in self.units else 0
            only = chance.choice(["", "", USER, GROUP]) if flags else ""
            made = entry(sid_of(self._admin, who), mask, part, denied=chance.random() < 0.25, flags=flags, only=only)
            by_object.setdefault(on, []).append(made)
        for dn, entries in sorted(by_object.items(), key=lambda one: self.units.index(one[0]) if one[0] in self.units else 9):
            raw = descriptor(self._admin, dn)
            change = {"nTSecurityDescriptor": [(ldap3.MODIFY_REPLACE, [with_entries(raw, entries)])]}
            self._admin.modify(dn, change, controls=security_descriptor_control(sdflags=4))

    def can(self, host: str, person: str) -> Iterator[str]:
        """Yield the targets that someone can really take."""
        with bound(host, person, self.password, raise_exceptions=False) as own:
            taken = {unit for unit in self.units if self._takes_over(own, person, unit)}
            for target in self.targets:
                # Who takes a unit over gives itself what is inherited by all that is in it, where that inherits.
                if any(target.endswith(unit) for unit in taken) or self._takes(own, person, target):
                    yield target

    def _takes(self, own: Any, person: str, target: str) -> bool:
        if target.startswith("CN=tg"):
            if own.modify(target, {"member": [(ldap3.MODIFY_ADD, [person])]}):
                self._admin.modify(target, {"member": [(ldap3.MODIFY_DELETE, [person])]})
                return True
        elif own.modify(target, {"unicodePwd": [(ldap3.MODIFY_REPLACE, [f'"{self.password}"'.encode("utf-16-le")])]}):
            return True
        return self._takes_over(own, person, target)

    def _takes_over(self, own: Any, person: str, target: str) -> bool:
        """Return whether someone can change the permissions of an object, or make himself its owner; it is undone."""
        raw = descriptor(self._admin, target)
        same = {"nTSecurityDescriptor": [(ldap3.MODIFY_REPLACE, [with_entries(raw, [])])]}
        if own.modify(target, same, controls=security_descriptor_control(sdflags=4)):
            return True
        sid = sid_of(self._admin, person)
        owner = struct.pack("<BBHIIII", 1, 0, 0x8000, 20, 0, 0, 0) + sid
        if own.modify(target, {"nTSecurityDescriptor": [(ldap3.MODIFY_REPLACE, [owner])]}, controls=security_descriptor_control(sdflags=1)):
            admins = struct.pack("<BBHIIII", 1, 0, 0x8000, 20, 0, 0, 0) + sid_of(self._admin, f"CN=Domain Admins,CN=Users,{BASE}")
            back = {"nTSecurityDescriptor": [(ldap3.MODIFY_REPLACE, [admins])]}
            self._admin.modify(target, back, controls=security_descriptor_control(sdflags=1))
            return True
        return False


NAMES, FLAGS, RESTRICTIONS = (
    "f3a64788-5306-11d1-a9c5-0000f80367c1",
    "bf967a68-0de6-11d0-a285-00aa003049e2",
    "4c164200-20c0-11d0-a768-00aa006e0529",
)
SCRIPT, LINK = "bf9679a8-0de6-11d0-a285-00aa003049e2", "f30e3bbe-9ff0-11d1-b603-0000f80367c1"
POLICY = f"CN={{11111111-2222-3333-4444-555555555555}},CN=Policies,CN=System,{BASE}"
# Each kind of action alone: on what, by which right, what is written, and what the program says.
ACTIONS = [
    ("target", 0x20, NAMES, {"servicePrincipalName": ["http/{number}"]}, "may give a service name to target"),
    ("target", 0x20, FLAGS, {"userAccountControl": ["4194816"]}, "may switch off pre-authentication for target"),
    ("target", 0x20, RESTRICTIONS, {"userAccountControl": ["4194816"]}, "may switch off pre-authentication for target"),
    ("target", 0x20, SCRIPT, {"scriptPath": ["x.bat"]}, "may set the logon script of target"),
    ("unit", 0x20, LINK, {"gPLink": [f"[LDAP://{POLICY};0]"]}, "may link group policies to OU=actions"),
    ("unit", 0x40000, "", "permissions", "may change the permissions of OU=actions"),
    ("policy", 0x20, "", {"displayName": ["x"]}, "may change group policy"),
    ("domain", 0x40000, "", "permissions", f"may change the permissions of {BASE}"),
    ("domain", 0x20, LINK, {"gPLink": [f"[LDAP://{POLICY};0]"]}, f"may link group policies to {BASE}"),
    ("template", 0x40000, "", "permissions", "may change the permissions of CN=AdminSDHolder"),
]


@pytest.mark.parametrize("number", range(len(ACTIONS)))
def test_each_deed_alone_is_possible_and_is_shown(number: int, need: Callable[..., None], domain: Domain, tmp_path: Path) -> None:
    need("samba", "ip", root=True)
    what, mask, part, write, because = ACTIONS[number]
    unit, password = f"OU=actions,{BASE}", "Made-up-action!1"
    places = {
        "target": f"CN=target,{unit}", "unit": unit, "policy": POLICY, "domain": BASE,
        "template": f"CN=AdminSDHolder,CN=System,{BASE}",
    }  # fmt: skip
    with bound(domain.host, domain.bind, domain.password, raise_exceptions=False) as admin:
        who = f"CN=doer{number},CN=Users,{BASE}"
        admin.add(unit, "organizationalUnit")
        admin.add(POLICY, ["top", "container", "groupPolicyContainer"], {"displayName": "policy"})
        admin.modify(f"OU=Domain Controllers,{BASE}", {"gPLink": [(ldap3.MODIFY_REPLACE, [f"[LDAP://{POLICY};0]"])]})
        for dn in (who, places["target"]):
            admin.add(dn, "user", {"sAMAccountName": dn.partition(",")[0].removeprefix("CN=")})
            admin.modify(dn, {"unicodePwd": [(ldap3.MODIFY_REPLACE, [f'"{password}"'.encode("utf-16-le")])]})
            admin.modify(dn, {"userAccountControl": [(ldap3.MODIFY_REPLACE, [512])]})
        admin.modify(f"CN=Domain Admins,CN=Users,{BASE}", {"member": [(ldap3.MODIFY_ADD, [places["target"]])]})
        before = descriptor(admin, places[what])
        control = security_descriptor_control(sdflags=4)
        change = {name: [(ldap3.MODIFY_REPLACE, [one.replace("{number}", str(number)) for one in values])] for name, values in write.items()} if isinstance(write, dict) else {}  # fmt: skip
        with bound(domain.host, who, password, raise_exceptions=False) as own:

            def does() -> bool:
                same = {"nTSecurityDescriptor": [(ldap3.MODIFY_REPLACE, [with_entries(descriptor(admin, places[what]), [])])]}
                return bool(own.modify(places[what], change or same, controls=None if change else control))

            assert not does()
            given = with_entries(before, [entry(sid_of(admin, who), mask, part, denied=False)])
            assert admin.modify(places[what], {"nTSecurityDescriptor": [(ldap3.MODIFY_REPLACE, [given])]}, controls=control), admin.result
            assert does(), own.result
        uri = f"ldap://{domain.host}/{BASE}?tls=off&bind={domain.bind}"
        fidelitas("survey", "--directory", uri, "--name", "tides", cwd=tmp_path, env={"LDAP_PASSWORD": domain.password})
        admin.modify(places[what], {"nTSecurityDescriptor": [(ldap3.MODIFY_REPLACE, [with_entries(before, [])])]}, controls=control)
    rows = fidelitas("holders", "--account", f"doer{number}", "--each", "--format", "json", cwd=tmp_path).json["holdings"]
    assert any(because in link["because"] for row in rows for route in row["routes"] for link in route["links"]), rows


def descriptor(connection: Any, dn: str) -> bytes:
    connection.search(dn, "(objectClass=*)", "BASE", attributes=["nTSecurityDescriptor"], controls=security_descriptor_control(sdflags=4))
    raw: bytes = connection.response[0]["raw_attributes"]["nTSecurityDescriptor"][0]
    return raw


def sid_of(connection: Any, dn: str) -> bytes:
    connection.search(dn, "(objectClass=*)", "BASE", attributes=["objectSid"])
    raw: bytes = connection.response[0]["raw_attributes"]["objectSid"][0]
    return raw


@contextmanager
def bound(host: str, dn: str, password: str, *, raise_exceptions: bool = True) -> Iterator[Any]:
    # What is bound already is left open by the library's own context.
    server = ldap3.Server(host, port=636, use_ssl=True, tls=ldap3.Tls(validate=0))
    opened = ldap3.Connection(server, dn, password, raise_exceptions=raise_exceptions, auto_bind=True)
    try:
        yield opened
    finally:
        opened.unbind()


@pytest.fixture(scope="module")
def domain(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Domain]:
    if not Path(PROGRAM).exists():
        pytest.skip("Samba is not installed (apt-get install samba-ad-dc samba-ad-provision)")
    with scratch_domain(tmp_path_factory.mktemp("dc")) as running:
        yield running


@pytest.mark.parametrize("number", range(ROUNDS))
def test_who_becomes_an_administrator_is_who_can(number: int, need: Callable[..., None], domain: Domain, tmp_path: Path) -> None:
    need("samba", "ip", root=True)
    with bound(domain.host, domain.bind, domain.password) as admin:
        drawn = Drawn(admin, number)
        uri = f"ldap://{domain.host}/{BASE}?tls=off&bind={domain.bind}"
        fidelitas("survey", "--directory", uri, "--name", "tides", cwd=tmp_path, env={"LDAP_PASSWORD": domain.password})
        rows = fidelitas("holders", "--right", "directory-admin", "--each", "--format", "json", cwd=tmp_path).json["holdings"]
        links = [
            (row["holder"]["name"], link)
            for row in rows
            if row["right"] == "directory-admin"
            for route in row["routes"]
            for link in route["links"]
        ]
        ours = {row["holder"]["name"] for row in rows if row["right"] == "directory-admin" and row["strength"] != "conditional"}
        able = {person: set(drawn.can(domain.host, person)) for person in drawn.people}
    names = {person: person.partition(",")[0].removeprefix("CN=") for person in drawn.people}
    assert {name for person, name in names.items() if able[person]} == ours & set(names.values())
    # What a route says was done is possible: anyone who may do something to a target by himself is one who could.
    shown = {
        (name, link["to"].removeprefix("%"))
        for name, link in links
        if link["mechanism"] == "permission" and link["from"] == name and link["strength"] != "conditional"
    }
    taken = {(names[person], target.partition(",")[0].removeprefix("CN=")) for person, targets in able.items() for target in targets}
    assert {one for one in shown if one[0] in names.values() and one[1].startswith(("tp", "tg"))} <= taken
    assert sum(map(bool, able.values())) >= 2
