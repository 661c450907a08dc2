"""Who has full control of a subject, and who can obtain it: counted in one place for every table and sentence that says how many."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache
from math import inf

from msgspec import Struct

from fidelitas.people import MappedPerson
from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table
from fidelitas.rights import Principal, PrincipalKind, Strength, SubjectRights

__all__ = ["COUNTED", "Control", "control_of", "control_report", "controls_of", "in_control", "person_of"]

# Who is counted: not keys, groups and passwords, by which accounts are meant that are counted already.
COUNTED = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE})


class Control(Struct, frozen=True, kw_only=True):
    """The holders of full control of a subject: those who were granted it, and others; `anyone` says whether that is any account's, too:

    granted (true), to be obtained (false), or not (``None``).
    """

    granted: frozenset[Principal]
    obtaining: frozenset[Principal]
    anyone: bool | None

    @property
    def administrators(self) -> str:
        """How many were granted full control, in words."""
        return "any account" if self.anyone else str(len(self.granted))

    @property
    def escalations(self) -> str:
        """How many can obtain full control by a weakness, in words."""
        return "any account" if self.anyone is False else str(len(self.obtaining))


def control_of(subject: SubjectRights) -> Control:
    """Return who has full control of a subject; what any account can obtain only under a condition does not count."""
    full = subject.own_holdings_with(lambda right: right.kind.full)
    held = [holding for holding in full if holding.principal.kind in COUNTED]
    granted = frozenset(holding.principal for holding in held if holding.granted)
    by_anyone = [one for one in full if one.principal.kind is PrincipalKind.ANY_ACCOUNT and one.strength is not Strength.CONDITIONAL]
    return Control(
        granted=granted,
        obtaining=frozenset(holding.principal for holding in held) - granted,
        anyone=any(one.granted for one in by_anyone) if by_anyone else None,
    )


def controls_of(subjects: Iterable[SubjectRights]) -> dict[str, Control]:
    """Return who has full control of each of some subjects, by its name; of those that state the same it is worked out once."""
    known: dict[int, tuple[SubjectRights, Control]] = {}  # by identity; the subject is held, so that its identity stays its own

    def of(subject: SubjectRights) -> Control:
        like = subject.like
        if like is subject or subject.from_elsewhere or like.from_elsewhere:
            return control_of(subject)
        if id(like) not in known:
            known[id(like)] = like, control_of(like)
        found = known[id(like)][1]
        granted, obtaining = (frozenset(subject.here(tuple(some))) for some in (found.granted, found.obtaining))
        return Control(granted=granted, obtaining=obtaining, anyone=found.anyone)

    return {one.subject: of(one) for one in subjects}


def person_of(subject: str, account: str, people: Sequence[MappedPerson]) -> str:
    """Return the person that an account is of by the identity map; the account where it is nobody's."""
    return next((person.name for person in people if person.owns(subject, account)), account)


def in_control(controls: Mapping[str, Control], people: Sequence[MappedPerson]) -> tuple[frozenset[str], frozenset[str]]:
    """Return the people, and accounts that are nobody's, who were granted full control of some subject; and others who can obtain it."""
    granted = frozenset(person_of(subject, str(who), people) for subject, control in controls.items() for who in control.granted)
    obtaining = frozenset(person_of(subject, str(who), people) for subject, control in controls.items() for who in control.obtaining)
    return granted, obtaining - granted


def control_report(subjects: Sequence[SubjectRights], whole: Callable[[], Report]) -> Report:
    """Return of many subjects how many accounts have full control of each, for a reader; programs get the `whole`.

    Subjects of which as many have it are in one row.
    """
    controls = cache(lambda: controls_of(subjects))
    return Report(
        answer=lambda: [_control_answer(controls())],
        onward=lambda: [
            "fidelitas holders --account NAME, --on SUBJECT, --tag TAG or --right root; every holding: fidelitas export FOLDER"
        ],
        parts=lambda: [_control_table(controls())],
        rows=lambda: rows() if (rows := whole().rows) is not None else (),
        document=lambda: whole().document(),
    )


def _control_answer(controls: Mapping[str, Control]) -> str:
    granted, obtaining = in_control(controls, ())
    some = f"{counted(len(controls), 'subject')}: {counted(len(granted), 'account')} with full control of some"
    return f"{some}, {len(obtaining)} more can obtain it by a weakness"


def _control_table(controls: Mapping[str, Control]) -> Table:
    alike: dict[tuple[str, str], list[str]] = {}
    for name, control in controls.items():
        alike.setdefault((control.administrators, control.escalations), []).append(name)
    most = sorted(alike.items(), key=lambda one: [-float(count) if count.isdigit() else -inf for count in one[0]])
    rows = [(listed(sorted(names), 3, "subject"), *counts) for counts, names in most]
    return Table(columns=("subject", "full control", "can obtain it"), rows=tuple(rows), may_fold=frozenset({"subject"}))
