"""What a ledger holds, as a table and as the JSON document `ledger`; what is damaged in it, in words."""

from fidelitas.ledger import Damage, Extent
from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table

__all__ = ["damage_line", "extent_report"]

_MOST_NAMES = 5


def extent_report(found: Extent) -> Report:
    """Return a row for each survey, the oldest first."""
    rows = tuple((survey.name, str(len(survey.subjects)), listed(list(survey.subjects), _MOST_NAMES, "more")) for survey in found.surveys)
    table = Table(columns=("survey", "subjects", "which"), rows=rows, may_fold=frozenset({"which"}))
    return Report(
        answer=lambda: [_answer(found)],
        parts=lambda: [table],
        document=lambda: {
            "schema": "fidelitas/ledger/1",
            "surveys": [{"name": survey.name, "subjects": sorted(survey.subjects)} for survey in found.surveys],
            "subject_count": found.subjects,
            "evidence_count": found.pieces,
            "evidence_bytes": found.size,
            "unfinished_surveys": found.unfinished,
        },
    )


def _answer(found: Extent) -> str:
    unfinished = f"; {counted(found.unfinished, 'unfinished survey')}" if found.unfinished else ""
    return (
        f"{counted(len(found.surveys), 'survey')} of {counted(found.subjects, 'subject')}, {counted(found.pieces, 'piece')} of evidence, "
        f"{found.size / 1e6:.1f} MB{unfinished}"
    )


def damage_line(damage: Damage) -> str:
    """Return in words what is damaged, and which answers it costs."""
    subjects = listed(list(damage.subjects), _MOST_NAMES, "more")
    surveys = listed(list(damage.surveys), _MOST_NAMES, "more")
    newest = "the newest" if damage.is_newest else "earlier evidence; the newest is not affected"
    return f'evidence of {subjects} in survey {surveys} ({newest}): {damage.why}: "{damage.path}"'
