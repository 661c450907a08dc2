"""Accounts of all subjects joined by the map: what each person holds altogether, who has left and still holds, and what is nobody's."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date
from difflib import get_close_matches

from msgspec import Struct

from fidelitas.facts import AuthorizedKey, Place
from fidelitas.people.accounts import PersonalAccounts
from fidelitas.people.map import MappedPerson
from fidelitas.people.owners import Owners
from fidelitas.people.signs import signs_of
from fidelitas.people.suggestions import AccountSigns, Guesser
from fidelitas.rights import Holding, PrincipalKind, SubjectRights

__all__ = ["Joined", "OneKey", "Owned", "Suggestion", "join"]

_HELD_BY = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE})


class Owned(Struct, frozen=True):
    """An account of a subject with what it holds there."""

    subject: str
    account: str
    holdings: tuple[Holding, ...]

    def __str__(self) -> str:
        return f"{self.subject}:{self.account}"


class Suggestion(Struct, frozen=True):
    """An account that is in nobody's entry, whose it may be, why, and how likely from 0 to 1."""

    owned: Owned
    person: str
    why: str
    score: float = 0


class OneKey(Struct, frozen=True):
    """An account of nobody, or of several, that the keys of one person alone open; `why` says how the keys are known as theirs."""

    subject: str
    account: str
    person: str
    why: str
    place: Place


class Joined(Struct, frozen=True, kw_only=True):
    """`people` with their accounts, in the order of the map; `unmapped` accounts that hold rights, `shared` ones of several people."""

    people: tuple[tuple[MappedPerson, tuple[Owned, ...]], ...]
    unmapped: tuple[Suggestion, ...]
    shared: tuple[tuple[Owned, tuple[str, ...]], ...]
    missing: tuple[tuple[MappedPerson, str, str], ...]  # accounts of the map that no subject has, each with the nearest that there is
    one_key: tuple[OneKey, ...]

    def leavers(self, today: date) -> list[tuple[MappedPerson, tuple[Owned, ...]]]:
        """Return who has left and still holds rights, with the accounts that do."""
        gone = ((person, tuple(one for one in owned if one.holdings)) for person, owned in self.people if person.has_left(today))
        return [(person, owned) for person, owned in gone if owned]


def join(people: Sequence[MappedPerson], subjects: Iterable[SubjectRights]) -> Joined:
    """Return the accounts of the subjects by person."""
    subjects = tuple(subjects)
    personal, known = PersonalAccounts(subjects), Owners(people)
    by_name = {one.subject: one for one in subjects}
    signs: dict[Owned, AccountSigns] = {}
    for subject in subjects:
        accounts = dict(_accounts(subject, known))
        shown = signs_of(subject, {one.account: comment for one, comment in accounts.items()})
        signs |= {one: shown[one.account] for one in accounts}
    mine = {(one.subject, name): person for person in people for one, name in personal.of(person)}  # by any form of a name
    owners = {one: known.of_account(by_name[one.subject], one.account) for one in signs}
    owners |= {one: [mine[one.subject, one.account]] for one in signs if not owners[one] and (one.subject, one.account) in mine}
    guesser = _guesser(known, subjects, {one: shown for one, shown in signs.items() if owners[one]}, owners)
    return Joined(
        people=tuple((person, tuple(_owned(person, personal))) for person in people),
        unmapped=tuple(_suggestion(one, shown, guesser) for one, shown in signs.items() if not owners[one] and one.holdings),
        shared=tuple((one, tuple(person.name for person in mine)) for one, mine in owners.items() if len(mine) > 1),
        missing=tuple(_missing(people, subjects, {one.account for one in signs})),
        one_key=tuple(_one_key(known, by_name)),
    )


def _owned(person: MappedPerson, personal: PersonalAccounts) -> Iterator[Owned]:
    """Yield a person's accounts with what they hold, also as accounts of another host."""
    accounts = personal.of(person)
    for one, name in accounts:
        yield Owned(one.subject, name, personal.held(one, name))
    elsewhere: dict[tuple[str, str], list[Holding]] = {}
    for one, holding in personal.held_elsewhere(accounts):
        elsewhere.setdefault((one.subject, str(holding.principal)), []).append(holding)
    for (subject, name), holdings in elsewhere.items():
        yield Owned(subject, name, tuple(holdings))


def _missing(
    people: Sequence[MappedPerson], subjects: Sequence[SubjectRights], names: Iterable[str]
) -> Iterator[tuple[MappedPerson, str, str]]:
    """Yield the accounts of the map that no subject has, or not the one that is named, each with the nearest name that there is."""
    by_name = {one.subject: one for one in subjects}
    known = sorted(names)
    for person in people:
        for account in person.accounts:
            at, _, name = account.rpartition(":")
            if at in by_name and by_name[at].knows(name):
                continue
            if not any(one.knows(account) for one in subjects):
                near = get_close_matches(at, by_name, n=1) if at and at not in by_name else get_close_matches(name, known, n=1)
                yield person, account, next(iter(near), "")


def _one_key(people: Owners, subjects: Mapping[str, SubjectRights]) -> Iterator[OneKey]:
    """Yield the accounts of no one person that the keys of one person alone open.

    A key is theirs that opens an account of theirs and of nobody else, or whose comment names one.
    """
    opened: dict[tuple[str, str], list[AuthorizedKey]] = {}
    for one in subjects.values():
        for account, key in one.opening_keys:
            opened.setdefault((one.subject, account), []).append(key)
    owners = {(at, name): [person.name for person in people.of_account(subjects[at], name)] for at, name in opened}
    by_key: dict[str, set[str]] = {}
    for at, keys in opened.items():
        for key in keys if len(owners[at]) == 1 else ():
            by_key.setdefault(key.fingerprint, set()).update(owners[at])
    for (subject, account), keys in sorted(opened.items()):
        found = [by_key.get(key.fingerprint) or _commented(key, people.people) for key in keys]
        names = set().union(*found)
        if len(owners[subject, account]) != 1 and len(names) == 1 and all(found):
            known = all(key.fingerprint in by_key for key in keys)
            why = "it opens an account of theirs, too" if known else f'its comment is "{keys[0].comment}"'
            yield OneKey(subject, account, min(names), why, keys[0].place)


def _commented(key: AuthorizedKey, people: Sequence[MappedPerson]) -> set[str]:
    user = (key.comment or "").partition("@")[0].strip()
    return {person.name for person in people if user and user in {account.rpartition(":")[2] for account in person.accounts}}


def _accounts(subject: SubjectRights, people: Owners) -> Iterator[tuple[Owned, str]]:
    """Yield the accounts of people, those that the map names and, on servers, all that hold anything; each with its comment."""
    held: dict[str, list[Holding]] = {}
    for holding in subject.own_holdings:
        if holding.principal.kind in _HELD_BY:
            held.setdefault(holding.principal.name, []).append(holding)
    persons = dict(subject.person_accounts())
    named = {name: comment for name, comment in subject.comments() if people.of_account(subject, name)}
    for name, comment in (persons | named).items():
        yield Owned(subject.subject, name, tuple(held.get(name, ()))), comment


def _guesser(
    people: Owners,
    subjects: Iterable[SubjectRights],
    signs: Mapping[Owned, AccountSigns],
    owners: Mapping[Owned, Sequence[MappedPerson]],
) -> Guesser:
    """Return who suggests owners, with what accounts that are mapped show of their owners, whether they hold anything or not."""
    mapped = [(person, shown) for one, shown in signs.items() for person in owners[one]]
    for subject in subjects:
        named = {name: comment for name, comment in subject.comments() if people.of_account(subject, name)}
        found = signs_of(subject, named)
        mapped += [(person, one) for name, one in found.items() for person in people.of_account(subject, name)]
    return Guesser(people.people, mapped)


def _suggestion(one: Owned, signs: AccountSigns, guesser: Guesser) -> Suggestion:
    guess = guesser.guess(signs)
    return Suggestion(one, "", "") if guess is None else Suggestion(one, guess.person, guess.why, round(guess.score, 2))
