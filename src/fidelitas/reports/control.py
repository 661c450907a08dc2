"""How many have full control of subjects, and can obtain it, in words."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cache
from math import inf

from fidelitas.people import MappedPerson, Owners
from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table
from fidelitas.rights import FullControl, Principal, SubjectRights

__all__ = ["administrators", "control_report", "controls_of", "escalations", "in_control"]


def administrators(control: FullControl) -> str:
    """Return how many were granted full control, in words."""
    return "any account" if control.anyone else str(len(control.granted))


def escalations(control: FullControl) -> str:
    """Return how many can obtain full control by a weakness, in words."""
    return "any account" if control.anyone is False else str(len(control.obtaining))


def controls_of(subjects: Iterable[SubjectRights]) -> dict[str, FullControl]:
    """Return who has full control of each of some subjects, by its name."""
    return {one.subject: one.full_control for one in subjects}


def _people_of(holders: Mapping[str, frozenset[Principal]], people: Sequence[MappedPerson]) -> frozenset[str]:
    if not people:  # thousands of hosts have the same accounts of a directory
        return frozenset(map(str, frozenset[Principal]().union(*holders.values())))
    owners = Owners(people)
    held = ((owners.of(subject, who), who) for subject, some in holders.items() for who in some)
    return frozenset(persons[0].name if persons else str(who) for persons, who in held)


def in_control(controls: Mapping[str, FullControl], people: Sequence[MappedPerson]) -> tuple[frozenset[str], frozenset[str]]:
    """Return the people, and accounts that are nobody's, who were granted full control of some subject; and others who can obtain it."""
    granted = _people_of({subject: control.granted for subject, control in controls.items()}, people)
    obtaining = _people_of({subject: control.obtaining for subject, control in controls.items()}, people)
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


def _control_answer(controls: Mapping[str, FullControl]) -> str:
    granted, obtaining = in_control(controls, ())
    some = f"{counted(len(controls), 'subject')}: {counted(len(granted), 'account')} with full control of some"
    return f"{some}, {len(obtaining)} more can obtain it by a weakness"


def _control_table(controls: Mapping[str, FullControl]) -> Table:
    alike: dict[tuple[str, str], list[str]] = {}
    for name, control in controls.items():
        alike.setdefault((administrators(control), escalations(control)), []).append(name)
    most = sorted(alike.items(), key=lambda one: [-float(count) if count.isdigit() else -inf for count in one[0]])
    rows = [(listed(sorted(names), 3, "subject"), *counts) for counts, names in most]
    return Table(columns=("subject", "full control", "can obtain it"), rows=tuple(rows), may_fold=frozenset({"subject"}))
