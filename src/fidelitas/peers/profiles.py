"""What each holder has, as a set that can be compared: rights where they are held, and memberships."""

from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct, field

from fidelitas.people import MappedPerson, Owners
from fidelitas.rights import DatabaseServer, DirectoryRights, Holding, HostRights, PrincipalKind, SubjectRights

__all__ = ["Having", "Profile", "host_profiles", "profiles"]


class Having(Struct, frozen=True, order=True):
    """A right, or a membership (``%group``), and where: a subject, or the role that several subjects have."""

    what: str
    where: str

    @property
    def is_membership(self) -> bool:
        """Whether it is a place in a group, which alone is no elevated right."""
        return self.what.startswith("%")


class Profile(Struct):
    """A holder, a person where the identity map knows one, with what it has; `evidence` is a holding behind each right."""

    name: str
    accounts: set[str] = field(default_factory=set)
    has: set[Having] = field(default_factory=set)
    evidence: dict[Having, Holding] = field(default_factory=dict)
    places: dict[Having, set[str]] = field(default_factory=dict)  # the subjects, of what is by role
    department: str = ""  # as a directory states them
    title: str = ""

    @property
    def rights(self) -> set[Having]:
        """What it has without memberships."""
        return {one for one in self.has if not one.is_membership}

    @property
    def memberships(self) -> set[Having]:
        """The groups that it is in."""
        return {one for one in self.has if one.is_membership}


def profiles(subjects: Iterable[SubjectRights], people: Sequence[MappedPerson], roles: Mapping[str, str]) -> list[Profile]:
    """Return the accounts of people that hold anything, or are in any group; `roles` says what subjects of one role are called together.

    Accounts of one name on several subjects are one holder, unless the identity map says otherwise.
    """
    found: dict[str, Profile] = {}
    every, owners = list(subjects), Owners(people)
    stated = {account.name: account for one in every if isinstance(one, DirectoryRights) for account in one.facts.accounts}
    for one in every:
        where = roles.get(one.subject, one.subject)
        whose = {name: owners.name_of(one, name) for name, _ in one.person_accounts() if name != "root"}
        for name, person in whose.items():
            profile = found.setdefault(person, Profile(person))
            profile.accounts.add(name)
            account = stated.get(name)
            if account is not None:
                profile.department, profile.title = profile.department or account.department, profile.title or account.title
            # A server's roles are groups without being written so.
            is_server = isinstance(one, DatabaseServer)
            groups = (f"%{group}" if is_server else group for group in one.belongs_to(name))
            taken = _taken(one, name)
            profile.has.update(Having(group, taken.get(group, where)) for group in groups if group.startswith("%"))
        for holding in one.own_holdings:
            if holding.principal.kind in (PrincipalKind.ACCOUNT, PrincipalKind.ROLE) and holding.principal.name in whose:
                having = Having(str(holding.right), where)
                profile = found[whose[holding.principal.name]]
                profile.has.add(having)
                profile.evidence.setdefault(having, holding)
                profile.places.setdefault(having, set()).add(one.subject)
    return sorted(found.values(), key=lambda profile: profile.name)


def _taken(one: SubjectRights, account: str) -> dict[str, str]:
    """Return the directory of each membership that a host takes of one: on all hosts that do so it is one and the same."""
    who = one.account(account) if isinstance(one, HostRights) else None
    return {} if who is None else {f"%{one.group.name}": one.place.subject for one in who.memberships if one.nested}


def host_profiles(subjects: Iterable[SubjectRights]) -> list[Profile]:
    """Return subjects as holders of who holds what on them: for comparing those of one role."""
    found = []
    for one in subjects:
        profile = Profile(one.subject)
        for holding in one.own_holdings:
            if holding.principal.kind is not PrincipalKind.ELSEWHERE:
                having = Having(str(holding.right), str(holding.principal))
                profile.has.add(having)
                profile.evidence.setdefault(having, holding)
        found.append(profile)
    return found
