"""Whose an account may be that the identity map does not name: by names, full names, addresses, numbers and keys, scored and explained.

Each sign has a weight from 0 to 1; those of one person are put together as if they were independent.  A person is suggested where it is
likely, and clearly more so than anyone else: a wrong suggestion costs more than none.
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec import Struct, field

from fidelitas.people.map import MappedPerson
from fidelitas.people.spellings import account_names, bare_account, fold, is_near, words_of

__all__ = ["AccountSigns", "Guess", "Guesser"]

_LIKELY, _CLEARLY = 0.75, 0.15
_COMMENT, _OTHER_NAME = "its comment is", 0.3
_TELLING = 0.9  # of names that are made of a person's: those that hold both names in full
_SHORTEST_TYPO = 7  # of shorter names others are one letter away


class AccountSigns(Struct, frozen=True, kw_only=True):
    """What tells whose an account is: its name, what is noted of it, and numbers and keys that it shares with other accounts."""

    subject: str
    account: str
    comment: str = ""
    mail: str = ""
    employee: str = ""
    uid: int | None = None
    key_comments: tuple[str, ...] = ()
    keys: frozenset[str] = frozenset()


class Guess(Struct, frozen=True):
    """Whose an account may be, how likely from 0 to 1, and why in words."""

    person: str
    score: float
    why: str


class _Known(Struct):
    """What is known of a person: account names that their name makes, and what their accounts say."""

    person: MappedPerson
    made: Mapping[str, float]
    words: frozenset[str]
    accounts: set[str] = field(default_factory=set)
    full_names: set[frozenset[str]] = field(default_factory=set)
    mails: set[str] = field(default_factory=set)
    employees: set[str] = field(default_factory=set)
    uids: set[int] = field(default_factory=set)
    keys: set[str] = field(default_factory=set)


class Guesser:
    """Suggests owners of accounts, from the map and from the accounts whose owners it names."""

    def __init__(self, people: Sequence[MappedPerson], owned: Iterable[tuple[MappedPerson, AccountSigns]]) -> None:
        self._known = {
            person.name: _Known(
                person, account_names(person.name), frozenset(words_of(person.name)), {_plain(_bare(one)) for one in person.accounts}
            )
            for person in people
        }
        for person, signs in owned:
            self._learn(self._known[person.name], signs)
        self._by_made: dict[str, list[_Known]] = {}
        self._by_sign: dict[tuple[str, object], list[_Known]] = {}
        for known in self._known.values():
            for made in known.made:
                self._by_made.setdefault(made, []).append(known)
            for sign in self._signs_of(known):
                self._by_sign.setdefault(sign, []).append(known)

    def _learn(self, known: _Known, signs: AccountSigns) -> None:
        known.accounts.add(_plain(_bare(signs.account)))
        known.full_names |= {frozenset(words)} if len(words := words_of(signs.comment)) > 1 else set()
        known.mails |= {signs.mail.casefold()} if signs.mail else set()
        known.employees |= {signs.employee} if signs.employee else set()
        known.uids |= {signs.uid} if signs.uid else set()
        known.keys |= signs.keys

    def _signs_of(self, known: _Known) -> Iterator[tuple[str, object]]:
        """Yield by what an account can point to a person: only people to whom it does are looked at."""
        yield from (("account", name) for name in known.accounts)
        yield from (("near", short) for made, weight in known.made.items() if weight > _TELLING for short in _one_less(made))
        yield from (("word", word) for words in (known.words, *known.full_names) for word in words if len(word) > 1)
        yield from (("mail", mail) for mail in known.mails)
        yield from (("employee", number) for number in known.employees)
        yield from (("uid", uid) for uid in known.uids)
        yield from (("key", key) for key in known.keys)

    def _candidates(self, signs: AccountSigns, bare: str, comment: frozenset[str]) -> list[_Known]:
        """Return the people to whom anything of an account points."""
        names = {bare, fold(_bare(signs.account)), fold(signs.mail.partition("@")[0])}
        names |= {bare_account(text)[0] for text in signs.key_comments}
        pointers: list[tuple[str, object]] = [("account", _plain(name)) for name in names]
        pointers += [("near", short) for short in _one_less(bare)] if len(bare) >= _SHORTEST_TYPO else []
        pointers += [("word", word) for word in comment]
        pointers += [("mail", signs.mail.casefold()), ("employee", signs.employee), ("uid", signs.uid)]
        pointers += [("key", key) for key in signs.keys]
        found = {id(one): one for name in names for one in self._by_made.get(name, ())}
        found |= {id(one): one for pointer in pointers for one in self._by_sign.get(pointer, ())}
        return list(found.values())

    def guess(self, signs: AccountSigns) -> Guess | None:
        """Return whose an account may be; nothing where nobody is likely, or two are."""
        scored = sorted(self._scores(signs), key=lambda guess: -guess.score)
        if not scored or scored[0].score < _LIKELY:
            return None
        if len(scored) > 1 and scored[0].score - scored[1].score < _CLEARLY * (1 - scored[1].score):
            return None
        return scored[0]

    def _scores(self, signs: AccountSigns) -> Iterator[Guess]:
        bare, second = bare_account(signs.account)
        comment = frozenset(words_of(signs.comment))
        for known in self._candidates(signs, bare, comment):
            found = list(self._signs(known, signs, bare, comment))
            if found:
                doubt = 1.0
                for weight, _ in found:
                    doubt *= 1 - weight
                best = max(found)[1]
                # A full name with a part of theirs, and not theirs, is that of someone else.
                other = len(comment) > 1 and bool(comment & known.words) and not any(why.startswith(_COMMENT) for _, why in found)
                yield Guess(
                    known.person.name, (1 - doubt) * (_OTHER_NAME if other else 1), f"{best}{', as a second account' if second else ''}"
                )

    def _signs(self, known: _Known, signs: AccountSigns, bare: str, comment: frozenset[str]) -> Iterator[tuple[float, str]]:
        """Yield the signs that an account is a person's, each with its weight."""
        named = list(self._of_comment(known, signs, comment)) if len(comment) > 1 else []
        yield from named
        exact = any(weight > _TELLING - 0.1 for weight, _ in named)
        if _plain(_bare(signs.account)) in known.accounts or _plain(bare) in known.accounts:
            yield 0.93, "the same name is theirs elsewhere"
        elif bare in known.made:
            yield self._of_name(bare, known), "its name is made of theirs"
        elif (
            (exact or not named)
            and len(bare) >= _SHORTEST_TYPO
            and any(weight > _TELLING and is_near(bare, made) for made, weight in known.made.items())
        ):
            yield 0.8, "its name is made of theirs, but for one letter"
        local = signs.mail.partition("@")[0]
        if signs.mail and (signs.mail.casefold() in known.mails or known.made.get(fold(local), 0) > _TELLING):
            yield 0.93, f"its address is {signs.mail}"
        if signs.employee and signs.employee in known.employees:
            yield 0.95, f"its employee number is {signs.employee}"
        if signs.uid is not None and signs.uid >= 1000 and signs.uid in known.uids:
            yield 0.6, f"user ID {signs.uid} is theirs elsewhere"
        if signs.keys & known.keys:
            yield 0.9, "a key of theirs opens it"
        for text in signs.key_comments:
            name = bare_account(text)[0]
            if _plain(name) in known.accounts or known.made.get(name, 0) > _TELLING:
                yield 0.7, f'the comment of its key is "{text}"'

    def _of_name(self, bare: str, known: _Known) -> float:
        """Return how telling a name is: less where it could be made of other people's names as well."""
        others = max((one.made[bare] for one in self._by_made[bare] if one is not known), default=0.0)
        weight = known.made[bare]
        return weight if weight > others + 0.05 else weight * 0.6

    def _of_comment(self, known: _Known, signs: AccountSigns, comment: frozenset[str]) -> Iterator[tuple[float, str]]:
        why = f'{_COMMENT} "{signs.comment}"'
        if comment in known.full_names or comment == known.words:
            yield 0.95, why
        elif len(known.words) > 1 and (known.words <= comment or (len(comment) > 1 and comment <= known.words)):
            yield 0.9, why
        elif len(comment) == len(known.words) > 1 and _one_typo(comment, known.words):
            yield 0.7, why


def _one_less(text: str) -> Iterator[str]:
    """Yield a text, and it without each of its letters: two that differ by one mistake have one of these in common."""
    yield text
    yield from (text[:at] + text[at + 1 :] for at in range(len(text)))


def _one_typo(one: frozenset[str], other: frozenset[str]) -> bool:
    left, right = one - other, other - one
    return len(left) == len(right) == 1 and len(min(left)) > 3 and is_near(min(left), min(right))


def _plain(name: str) -> str:
    """Return the name of an account folded, without the signs that some put between its parts."""
    return re.sub(r"[._-]", "", fold(name))


def _bare(account: str) -> str:
    """Return the name of an account without subject or domain."""
    return account.rpartition(":")[2].rpartition("\\")[2].partition("@")[0]
