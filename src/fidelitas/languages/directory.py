"""The accounts and groups of a directory, from its objects in LDIF: posixAccount and its kin (RFC 2307), and those of Windows domains.

Knows attributes and their syntaxes; not what a membership amounts to.  Names are the directory's own, groups are told by their SID where
they have one: names are translated, numbers are not ([MS-ADTS] 3.1.1, [MS-DTYP] 2.4.2).
"""

import struct
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta

from fidelitas.facts import (
    Account,
    DirectoryAccount,
    DirectoryDomain,
    DirectoryFacts,
    DirectoryKind,
    Gap,
    Netgroup,
    Password,
    PasswordState,
    Place,
    StatedGroup,
)
from fidelitas.languages.directory_control import ControlObjects, descriptor_of
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.ldap.ipa_rules import IPA_CLASSES, IpaRules
from fidelitas.languages.ldap.ldif import Entry, entries
from fidelitas.languages.ldap.server_configuration import read_server_configuration
from fidelitas.languages.ldap.sudo_role import read_sudo_ldif
from fidelitas.languages.netgroups import netgroup_triples
from fidelitas.masking.server_configuration import ACCESS_LISTING
from fidelitas.text import decode

__all__ = ["read_directory", "sid_of"]

# What stands behind an object, by its classes; the first that fits.
_KINDS = (
    ("msds-groupmanagedserviceaccount", DirectoryKind.SERVICE),
    ("msds-managedserviceaccount", DirectoryKind.SERVICE),
    ("computer", DirectoryKind.COMPUTER),
    ("foreignsecurityprincipal", DirectoryKind.FOREIGN),
    ("contact", DirectoryKind.CONTACT),
    ("posixaccount", DirectoryKind.PERSON),
    ("user", DirectoryKind.PERSON),
    ("inetorgperson", DirectoryKind.PERSON),
    ("person", DirectoryKind.PERSON),
    ("account", DirectoryKind.PERSON),
    ("simplesecurityobject", DirectoryKind.ROLE),
    ("organizationalrole", DirectoryKind.ROLE),
    ("applicationprocess", DirectoryKind.ROLE),
    ("device", DirectoryKind.COMPUTER),
)
# The bit of groupType that a group has which counts for access ([MS-ADTS] 2.2.12).
_SECURITY = 0x80000000
_GROUPS = frozenset({"posixgroup", "group", "groupofnames", "groupofuniquenames", "groupofmembers"})
# Objects that rules refer to by DN.
_NAMED_BY_RULES = frozenset({"posixaccount", "posixgroup", "groupofnames"})
# Bits of userAccountControl.
_DISABLED, _NEVER_EXPIRES, _DELEGATION, _NO_PREAUTHENTICATION, _CONTROLLER = 0x2, 0x10000, 0x80000, 0x400000, 0x2000
_NO_PASSWORD, _ANY_PROTOCOL = 0x20, 0x1000000
# Times of Windows count tenths of microseconds since 1601; these two mean never.
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
_NEVER = (0, 0x7FFFFFFFFFFFFFFF)


def read_directory(evidence: HostEvidence) -> DirectoryFacts:
    """Return what the objects of a directory state."""
    origin = Place(evidence.subject, "entries")
    gaps = [
        Gap(what=gap.path, why=gap.reason, weakens="its content is not known", place=Place(evidence.subject, gap.path))
        for gap in evidence.gaps
    ]
    accounts: list[DirectoryAccount] = []
    groups: list[StatedGroup] = []
    domains: list[DirectoryDomain] = []
    netgroups: list[Netgroup] = []
    text, has_rules = decode(evidence.listings.get("entries", b"")), False
    ipa, control = IpaRules(origin), ControlObjects(origin)
    for entry in entries(text, origin, gaps, "directory object"):
        kinds = {value.lower() for value, _ in entry.texts("objectClass")}
        has_rules = has_rules or bool({"sudorole", "ipasudorule"} & kinds)
        if kinds & (IPA_CLASSES | _NAMED_BY_RULES):
            ipa.add(entry, kinds)
        if kinds & IPA_CLASSES:
            continue
        if kinds & _GROUPS:
            gaps += _cut_short(entry, origin)
            groups.append(_group(entry, origin))
        elif (kind := _kind(kinds)) is not None:
            accounts.append(_account(entry, origin, kind))
        elif control.add(entry, kinds):
            continue
        elif "nisnetgroup" in kinds:
            netgroups.append(_netgroup(entry, origin))
        elif "crossref" in kinds and (entry.first("nETBIOSName") or "") and (entry.first("dnsRoot") or ""):
            domains.append(DirectoryDomain(realm=(entry.first("dnsRoot") or "").lower(), short=entry.first("nETBIOSName") or ""))
    stated = evidence.listings.get(ACCESS_LISTING)
    if stated is not None:
        servers, lacking = read_server_configuration(decode(stated), Place(evidence.subject, ACCESS_LISTING))
        control.add_servers(servers)
        gaps += lacking
    return DirectoryFacts(
        subject=evidence.subject,
        taken=evidence.taken,
        accounts=tuple(accounts),
        groups=tuple(groups),
        gaps=tuple(gaps),
        policy=read_sudo_ldif(text, origin, ipa) if has_rules else None,
        access_rules=ipa.access_rules(),
        control=control.found(),
        netgroups=tuple(netgroups),
        domains=tuple(domains),
    )


def _netgroup(entry: Entry, origin: Place) -> Netgroup:
    """Return a netgroup of RFC 2307: its triples as netgroup(5) writes them, and the names of others."""
    return Netgroup(
        name=entry.first("cn") or "",
        triples=tuple(triple for value, _ in entry.texts("nisNetgroupTriple") for triple in netgroup_triples(value)),
        inner=tuple(value for value, _ in entry.texts("memberNisNetgroup")),
        place=origin.at(entry.line),
    )


def _cut_short(entry: Entry, origin: Place) -> Iterator[Gap]:
    """Yield a gap where the members of a group came in ranges of which the last is missing."""
    upto, line = entry.told.get("member", ("*", 0))
    if upto != "*":
        why = f"its members are listed up to number {upto} and go on"
        yield Gap(what=f"members of {_name(entry)}", why=why, weakens="who else is in the group", place=origin.at(line))


def sid_of(value: str) -> str | None:
    """Return a SID in words, S-1-5-…, from its bytes or as it stands, or ``None`` for what is none."""
    if value.startswith("S-1-"):
        return value
    raw = value.encode("utf-8", "surrogateescape")
    if len(raw) < 8 or len(raw) != 8 + 4 * raw[1]:
        return None
    return "-".join(map(str, ("S", raw[0], int.from_bytes(raw[2:8], "big"), *struct.unpack(f"<{raw[1]}I", raw[8:]))))


def _number(entry: Entry, name: str) -> int | None:
    text = entry.first(name) or ""
    return int(text) if text.lstrip("-").isdecimal() and len(text) < 20 else None


def _time(entry: Entry, name: str) -> datetime | None:
    ticks = _number(entry, name)
    if ticks is None or ticks in _NEVER or ticks < 0:
        return None
    try:
        return _EPOCH + timedelta(microseconds=ticks // 10)
    except OverflowError:
        return None


def _name(entry: Entry) -> str:
    return entry.first("sAMAccountName") or entry.first("uid") or entry.first("cn") or entry.first("dn") or ""


def _kind(classes: set[str]) -> DirectoryKind | None:
    return next((kind for name, kind in _KINDS if name in classes), None)


def _places(entry: Entry, name: str, origin: Place) -> tuple[tuple[str, Place], ...]:
    return tuple((value, origin.at(line)) for value, line in entry.texts(name))


def _full_name(entry: Entry) -> str:
    given, family = entry.first("givenName") or "", entry.first("sn") or ""
    return entry.first("displayName") or f"{given} {family}".strip() or entry.first("cn") or ""


def _account(entry: Entry, origin: Place, kind: DirectoryKind) -> DirectoryAccount:
    place, name = origin.at(entry.line), _name(entry)
    control = _number(entry, "userAccountControl")
    return DirectoryAccount(
        name=name,
        dn=entry.first("dn") or "",
        kind=kind,
        full_name=_full_name(entry),
        mail=entry.first("mail") or "",
        employee=entry.first("employeeNumber") or entry.first("employeeID") or "",
        principal_name=entry.first("userPrincipalName") or "",
        member_of=_places(entry, "memberOf", origin),
        sid=sid_of(entry.first("objectSid") or ""),
        primary_rid=_number(entry, "primaryGroupID"),
        disabled=True if (entry.first("nsAccountLock") or "").lower() == "true" else _bit(control, _DISABLED),
        password_never_expires=_bit(control, _NEVER_EXPIRES),
        no_preauthentication=_bit(control, _NO_PREAUTHENTICATION),
        trusted_for_delegation=_bit(control, _DELEGATION),
        controller=bool(_bit(control, _CONTROLLER)) or (kind is DirectoryKind.COMPUTER and _number(entry, "primaryGroupID") in (516, 521)),
        expires=_time(entry, "accountExpires"),
        once_administrator=entry.first("adminCount") == "1",
        service_names=tuple(value for value, _ in entry.texts("servicePrincipalName")),
        last_logon=_time(entry, "lastLogonTimestamp"),
        department=(entry.first("department") or entry.first("departmentNumber") or "").strip(),
        title=(entry.first("title") or "").strip(),
        password_not_required=_bit(control, _NO_PASSWORD),
        any_protocol=bool(_bit(control, _ANY_PROTOCOL)),
        delegates_to=tuple(value for value, _ in entry.texts("msDS-AllowedToDelegateTo")),
        acted_for_by=descriptor_of(entry, "msDS-AllowedToActOnBehalfOfOtherIdentity"),
        password_read_by=descriptor_of(entry, "msDS-GroupMSAMembership"),
        sid_history=tuple(sid for value, _ in entry.texts("sIDHistory") if (sid := sid_of(value)) is not None),
        descriptor=descriptor_of(entry),
        permissions_at=_permissions_at(entry, origin),
        posix=_posix(entry, name, place),
        place=place,
    )


def _permissions_at(entry: Entry, origin: Place) -> Place | None:
    stated = entry.texts("nTSecurityDescriptor")
    return origin.at(stated[0][1]) if stated else None


def _bit(control: int | None, bit: int) -> bool | None:
    return None if control is None else bool(control & bit)


def _posix(entry: Entry, name: str, place: Place) -> Account | None:
    uid, gid = _number(entry, "uidNumber"), _number(entry, "gidNumber")
    if uid is None or gid is None:
        return None
    return Account(
        name=entry.first("uid") or name,
        password=Password(state=PasswordState.SHADOWED),
        uid=uid,
        gid=gid,
        comment=entry.first("gecos") or "",
        home=entry.first("homeDirectory") or entry.first("unixHomeDirectory") or "/",
        shell=entry.first("loginShell") or "",
        place=place,
    )


def _group(entry: Entry, origin: Place) -> StatedGroup:
    members = [*entry.texts("member"), *entry.texts("uniqueMember")]
    classes = {value.lower() for value, _ in entry.texts("objectClass")}
    return StatedGroup(
        name=_name(entry),
        dn=entry.first("dn") or "",
        sid=sid_of(entry.first("objectSid") or ""),
        gid=_number(entry, "gidNumber"),
        security=_bit(_number(entry, "groupType"), _SECURITY),
        member_of=_places(entry, "memberOf", origin),
        members=tuple((value, origin.at(line)) for value, line in members),
        member_names=_places(entry, "memberUid", origin),
        member_attribute="uniqueMember" if "groupofuniquenames" in classes else "member",
        once_administrative=entry.first("adminCount") == "1",
        descriptor=descriptor_of(entry),
        permissions_at=_permissions_at(entry, origin),
        place=origin.at(entry.line),
    )
