"""Accounts of all subjects joined by the map: what each person holds altogether, who has left and still holds, and what is nobody's."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date

from fidelitas.people.map import MappedPerson
from fidelitas.rights import AccountKind, Holding, HostRights, PrincipalKind, SubjectRights

__all__ = ["Joined", "Owned", "Suggestion", "join"]

_HELD_BY = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE})


@dataclass(frozen=True, slots=True)
class Owned:
    """An account of a subject with what it holds there."""

    subject: str
    account: str
    holdings: tuple[Holding, ...]

    def __str__(self) -> str:
        return f"{self.subject}:{self.account}"


@dataclass(frozen=True, slots=True)
class Suggestion:
    """An account that is in nobody's entry, whose it may be, and why."""

    owned: Owned
    person: str
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Joined:
    """`people` with their accounts, in the order of the map; `unmapped` accounts that hold rights, `shared` ones of several people."""

    people: tuple[tuple[MappedPerson, tuple[Owned, ...]], ...]
    unmapped: tuple[Suggestion, ...]
    shared: tuple[tuple[Owned, tuple[str, ...]], ...]
    missing: tuple[tuple[MappedPerson, str], ...]  # accounts of the map that no subject has

    def leavers(self, today: date) -> list[tuple[MappedPerson, tuple[Owned, ...]]]:
        """Return who has left and still holds rights, with the accounts that do."""
        gone = ((person, tuple(one for one in owned if one.holdings)) for person, owned in self.people if person.has_left(today))
        return [(person, owned) for person, owned in gone if owned]


def join(people: Sequence[MappedPerson], subjects: Iterable[SubjectRights]) -> Joined:
    """Return the accounts of the subjects by person."""
    every = [(one, comment) for subject in subjects for one, comment in _accounts(subject, people)]
    owners = {one: [person for person in people if person.owns(one.subject, one.account)] for one, _ in every}
    known = {str(one) for one, _ in every} | {one.account for one, _ in every}
    return Joined(
        people=tuple((person, tuple(one for one, mine in owners.items() if person in mine)) for person in people),
        unmapped=tuple(_suggestion(one, comment, people) for one, comment in every if not owners[one] and one.holdings),
        shared=tuple((one, tuple(person.name for person in mine)) for one, mine in owners.items() if len(mine) > 1),
        missing=tuple((person, account) for person in people for account in person.accounts if account not in known),
    )


def _accounts(subject: SubjectRights, people: Sequence[MappedPerson]) -> Iterator[tuple[Owned, str]]:
    """Yield the accounts of people, those that the map names and, on servers, all that hold anything; each with its comment."""
    held: dict[str, list[Holding]] = {}
    for holding in subject.own_holdings:
        if holding.principal.kind in _HELD_BY:
            held.setdefault(holding.principal.name, []).append(holding)
    if isinstance(subject, HostRights):
        for who in subject.population.effective:
            if who.kind is AccountKind.PERSON or any(person.owns(subject.subject, who.name) for person in people):
                yield Owned(subject.subject, who.name, tuple(held.get(who.name, ()))), who.account.comment if who.account else ""
        return
    for name, holdings in held.items():
        yield Owned(subject.subject, name, tuple(holdings)), ""


def _suggestion(one: Owned, comment: str, people: Sequence[MappedPerson]) -> Suggestion:
    user = one.account.rpartition("@")[0] or one.account
    for person in people:
        names = {account.rpartition(":")[2] for account in person.accounts}
        if user in names or one.account in names:
            return Suggestion(one, person.name, "the same name is theirs elsewhere")
        words = [word.lower() for word in person.name.split()]
        if person.name and person.name.lower() in comment.lower():
            return Suggestion(one, person.name, f'its comment is "{comment}"')
        if len(words) > 1 and user.lower() in (words[0], words[0][0] + words[-1], f"{words[0]}.{words[-1]}", words[-1]):
            return Suggestion(one, person.name, "its name is made of theirs")
    return Suggestion(one, "", "")
