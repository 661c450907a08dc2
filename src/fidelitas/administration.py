"""Who administers a subject, by which line: groups with their members, accounts by themselves, and rules that are commented out."""

import re
from collections.abc import Iterator

from msgspec import Struct

from fidelitas.evidence import Bundle
from fidelitas.facts import Place
from fidelitas.languages.sudoers import commented_rules
from fidelitas.rights import Holding, HostRights, Principal, PrincipalKind, SubjectRights
from fidelitas.rights.linux.live import stale_groups
from fidelitas.text import decode

__all__ = ["AdminGroup", "AdminMember", "Administration", "InertRule", "administration_of", "members_of"]

_POLICY = re.compile(r"/sudoers(\.d/[^/]+)?$")


class AdminMember(Struct, frozen=True):
    """A member of a group that administers: `how` it is one, and what about it, such as that it is in force after the next login only."""

    name: str
    how: str
    note: str | None = None


class AdminGroup(Struct, frozen=True):
    """A group, or a role, that administers the subject, with its members."""

    holding: Holding
    members: tuple[AdminMember, ...]


class InertRule(Struct, frozen=True):
    """A rule of sudo that is commented out: it gives nothing."""

    place: Place
    text: str


class Administration(Struct, frozen=True, kw_only=True):
    """Who administers a subject: by a group, alone, and by what is not in force."""

    rights: SubjectRights
    groups: tuple[AdminGroup, ...]
    alone: tuple[Holding, ...]
    inert: tuple[InertRule, ...]


def administration_of(rights: SubjectRights, evidence: Bundle | None) -> Administration:
    """Return who was granted full control of a subject; what can be obtained by a weakness is no administration."""
    full = [one for one in rights.own_holdings_with(lambda right: right.kind.full) if one.granted]
    groups = [one for one in full if one.principal.kind is PrincipalKind.GROUP or _has_members(rights, one, full)]
    through = {one.principal for one in groups}
    alone = [one for one in full if one.principal not in through and not _by_group(one, through)]
    return Administration(
        rights=rights,
        groups=tuple(AdminGroup(one, tuple(members_of(rights, one.principal))) for one in groups),
        alone=tuple(alone),
        inert=tuple(_inert(rights, evidence)),
    )


def _has_members(rights: SubjectRights, one: Holding, full: list[Holding]) -> bool:
    """Return whether a role is one that others who administer are in."""
    is_role = one.principal.kind is PrincipalKind.ROLE
    return is_role and any(one.principal.name in rights.belongs_to(other.principal.name) for other in full if other is not one)


def _by_group(one: Holding, through: set[Principal]) -> bool:
    return any(link.target in through for route in one.routes for link in route.links)


def members_of(rights: SubjectRights, group: Principal) -> Iterator[AdminMember]:
    """Yield the members of a group, or of a role, each with how it is one; those that only running processes still have among them."""
    name = group.name
    if isinstance(rights, HostRights):
        stale = {(one.who.name, one.group): one.held for one in stale_groups(rights.facts, rights.population)}
        for who in rights.population.members(name):
            membership = next(one for one in who.memberships if one.group.name == name)
            how = "by primary group" if membership.primary else "by the directory" if membership.nested else "listed"
            late = "in force after the next login" if stale.get((who.name, name)) is False else None
            yield AdminMember(who.name, how, late or (None if who.login.possible is not False else f"login {who.login.value}"))
        for (account, named), held in stale.items():
            if held and named == name:
                yield AdminMember(account, "removed", "its running processes still have the group")
        return
    written = str(group)
    known = dict.fromkeys(str(other.principal) for other in rights.holdings if other.principal != group)
    known |= dict.fromkeys(sorted(getattr(rights, "accounts", ())))
    for one in known:
        groups = tuple(rights.belongs_to(one.removeprefix("%")))
        if written in groups or name in groups:
            yield AdminMember(one, "group" if one.startswith("%") else "listed")


def _inert(rights: SubjectRights, evidence: Bundle | None) -> Iterator[InertRule]:
    """Yield the rules of the sudo policy that are commented out."""
    if evidence is None or not isinstance(rights, HostRights):
        return
    for path, content in sorted(evidence.files.items()):
        if _POLICY.search(path):
            for number, text in commented_rules(decode(content)):
                yield InertRule(Place(rights.subject, path, number), text)
