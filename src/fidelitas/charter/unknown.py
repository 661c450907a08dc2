"""Names in a charter that nothing in the estate has: an entry about one would say nothing, and a demand about it would look kept."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Protocol

from msgspec import Struct

from fidelitas.charter.entries import Charter, Clause
from fidelitas.charter.scope import Scope, right_words
from fidelitas.rights import known_names

__all__ = ["UnknownName", "unknown_in_clauses", "unknown_in_entries"]


class _Subject(Protocol):
    @property
    def subject(self) -> str: ...
    def knows(self, name: str, /) -> bool: ...
    @property
    def conclusion_mark(self) -> object: ...
    def names(self) -> Iterable[str]: ...


class UnknownName(Struct, frozen=True, kw_only=True):
    """Where a charter has a name that is not known, and what is; with a `hint` it may be known, once that is followed."""

    problem: str
    name: str
    known: frozenset[str] = frozenset()
    hint: str = ""


def unknown_in_entries(charter: Charter, scope: Scope, subjects: Sequence[_Subject] | None, *, has_map: bool) -> UnknownName | None:
    """Return the first subject, holder or right that nothing in evidence has; without `subjects` holders are not looked for."""
    found = (*_unknown_places(charter, scope), *_unknown_holders(charter, scope, subjects, has_map=has_map), *_unknown_rights(charter))
    return next(iter(found), None)


def unknown_in_clauses(clauses: Iterable[Clause], subjects: Sequence[_Subject]) -> UnknownName | None:
    """Return the first subject, account or group of a demand that nothing in evidence has."""
    called = frozenset(one.subject for one in subjects)
    names = frozenset(known_names(subjects))
    return next((found for clause in clauses for found in _unknown_in(clause, subjects, called, names)), None)


def _unknown_in(clause: Clause, subjects: Sequence[_Subject], called: frozenset[str], names: frozenset[str]) -> Iterator[UnknownName]:
    where = f"[[{clause.kind.value}]] number {clause.number} of the charter"
    if clause.subject not in called:
        yield UnknownName(problem=f"{where}: no subject in the ledger is called", name=clause.subject, known=called)
    if not any(one.knows(clause.account) for one in subjects):
        yield UnknownName(problem=f"{where}: no subject in evidence has an account", name=clause.account, known=names)
    user, _, group = (clause.run_as or "").partition(":")
    if user and user not in names and not user.startswith("#"):
        yield UnknownName(problem=f"{where}: no subject in evidence has an account to run as", name=user, known=names)
    if group and f"%{group}" not in names and not group.startswith("#"):
        known = frozenset(name[1:] for name in names if name[0] == "%")
        yield UnknownName(problem=f"{where}: no subject in evidence has a group to run as", name=group, known=known)


def _unknown_places(charter: Charter, scope: Scope) -> Iterator[UnknownName]:
    known = frozenset((*scope.tags, *(tag for tags in scope.tags.values() for tag in tags)))
    for kind, entries in (("warrant", charter.warrants), ("segregation", charter.segregations), ("exception", charter.exceptions)):
        for entry in entries:
            where = f"[[{kind}]] number {entry.number} of the charter"
            for name in entry.on:
                if not scope.subjects([name]):
                    problem = f"{where}: no subject in the ledger is called or tagged"
                    yield UnknownName(problem=problem, name=name.removeprefix("tag:"), known=known)


def _unknown_holders(charter: Charter, scope: Scope, subjects: Sequence[_Subject] | None, *, has_map: bool) -> Iterator[UnknownName]:
    for warrant in charter.warrants:
        where = f"[[warrant]] number {warrant.number} of the charter"
        here = None if subjects is None else [one for one in subjects if scope.is_on(warrant.on, one.subject)]
        for name in warrant.who:
            kind, colon, called = name.partition(":")
            if colon and kind in ("person", "team"):
                if scope.unknown(name) is not None:
                    yield _unmapped(where, kind, called, scope, has_map=has_map)
            elif here is not None and not any(one.knows(name) or name in one.names() for one in here):
                names = frozenset(known_names(here))
                yield UnknownName(problem=f"{where}: no subject that it is about has", name=name, known=names)


def _unmapped(where: str, kind: str, called: str, scope: Scope, *, has_map: bool) -> UnknownName:
    if not has_map:
        return UnknownName(problem=f'{where} names the {kind} "{called}"', name=called, hint="Name the identity map with --people.")
    known = frozenset(person.name if kind == "person" else person.team or "" for person in scope.people)
    return UnknownName(problem=f"{where}: the identity map has no {kind}", name=called, known=known)


def _unknown_rights(charter: Charter) -> Iterator[UnknownName]:
    stated = [("warrant", one.number, right) for one in charter.warrants for right in one.rights]
    stated += [("segregation", one.number, right) for one in charter.segregations for right in one.rights]
    stated += [(one.kind.value, one.number, one.right) for one in charter.clauses if one.right is not None]
    for kind, number, right in stated:
        if right not in right_words() and ":" not in right and " " not in right:
            problem = f"[[{kind}]] number {number} of the charter: there is no right"
            yield UnknownName(problem=problem, name=right, known=frozenset(right_words()))
