"""Whose a holder is, by the identity map: decided here for charters, reviews, reports and departures alike."""

import re
from collections.abc import Iterable, Iterator, Sequence

from fidelitas.people.map import MappedPerson
from fidelitas.rights import Principal, PrincipalKind, SubjectRights

__all__ = ["Owners"]

_OWN = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE})


class Owners:
    """Whose accounts are, by the identity map, whose people stand in an order: looked up, since there can be thousands of both."""

    def __init__(self, people: Iterable[MappedPerson]) -> None:
        self.people = tuple(people)
        self._by_account: dict[str, list[int]] = {}
        self._places: set[str] = set()  # that accounts of the map are said to be of
        for number, person in enumerate(self.people):
            for account in person.accounts:
                self._by_account.setdefault(account, []).append(number)
                self._places.update(account[: found.start()] for found in re.finditer(":", account))

    def of(self, subject: str, holder: Principal) -> list[MappedPerson]:
        """Return the people that a holder on a subject is an account of: by any of its names, there or in the directory that it comes from.

        One of another host is named with it, ``account@host``; a role that is for some hosts also without them.
        """
        if not self._by_account:
            return []
        numbers, known = set[int](), self._by_account
        for places, name in _names(subject, holder):
            numbers.update(known.get(name, ()))
            for at in places:
                if at in self._places:
                    numbers.update(known.get(f"{at}:{name}", ()))
        return [self.people[number] for number in sorted(numbers)]

    def mention(self, subject: str) -> bool:
        """Return whether the map names accounts of a subject as those of that alone."""
        return subject in self._places

    def of_account(self, one: SubjectRights, account: str) -> list[MappedPerson]:
        """Return the people that an account of a subject, by what it is called there, is one of."""
        return self.of(one.subject, one.holder(account)) if self._by_account else []

    def name_of(self, one: SubjectRights, account: str) -> str:
        """Return the name of the person that an account of a subject is of; the account where it has no owner."""
        found = self.of_account(one, account)
        return found[0].name if found else account


def _names(subject: str, holder: Principal) -> Iterator[tuple[Sequence[str], str]]:
    """Yield the names by which a map can mean a holder, each with the subjects that may stand before it."""
    if holder.kind is PrincipalKind.ELSEWHERE:
        account, _, host = holder.name.rpartition("@")
        places, names = [host], [account, *holder.aliases]
    elif holder.kind in _OWN:
        short = holder.name.rpartition("@")[0] if holder.kind is PrincipalKind.ROLE else ""
        places, names = [subject, holder.subject], [holder.name, short, *holder.aliases]
    else:
        return
    yield from ((places, name) for name in names if name)
