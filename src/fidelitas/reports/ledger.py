"""What a ledger holds, as a table and as the JSON document `ledger`; what is damaged in it, in words."""

from fidelitas.ledger.prune import Pruned
from fidelitas.ledger.verify import Damage, Extent
from fidelitas.reports.numbers import counted, listed
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table

__all__ = ["damage_line", "extent_report", "prune_line"]

_MOST_NAMES = 5
_MEGABYTE = 1_000_000


def extent_report(found: Extent) -> Report:
    """Return a row for each survey, the oldest first."""
    rows = tuple(
        (name, str(len(subjects)), listed(list(subjects), _MOST_NAMES, "more"), "yes" if name in found.kept else "")
        for name, subjects in found.surveys
    )
    table = Table(columns=("survey", "subjects", "which", "kept"), rows=rows, may_fold=frozenset({"which"}))
    return Report(
        answer=lambda: [_answer(found)],
        parts=lambda: [table],
        document=lambda: {
            "schema": "fidelitas/ledger/1",
            "surveys": [{"name": name, "subjects": list(subjects), "kept": name in found.kept} for name, subjects in found.surveys],
            "subject_count": found.subjects,
            "piece_count": found.pieces,
            "evidence_bytes": found.size,
            "unpacked_bytes": found.unpacked,
            "change_bytes": found.changes,
            "answer_bytes": found.answers,
            "unfinished_surveys": found.unfinished,
        },
    )


def _answer(found: Extent) -> str:
    unfinished = f"; {counted(found.unfinished, 'unfinished survey')}" if found.unfinished else ""
    return (
        f"{counted(len(found.surveys), 'survey')} of {counted(found.subjects, 'subject')}, {counted(found.pieces, 'piece')} of evidence, "
        f"{_megabytes(found.size)} packed, of which {_megabytes(found.changes)} are changes since earlier surveys; "
        f"stored answers {_megabytes(found.answers)}{unfinished}"
    )


def _megabytes(size: int) -> str:
    return f"{size / 1e6:.1f} MB" if size >= _MEGABYTE else f"{size / 1e3:.0f} kB"


def damage_line(damage: Damage) -> str:
    """Return in words what is damaged, and which answers it costs."""
    subjects = listed(list(damage.subjects), _MOST_NAMES, "more")
    surveys = listed(list(damage.surveys), _MOST_NAMES, "more")
    newest = "the newest" if damage.is_newest else "earlier evidence; the newest is not affected"
    where = f"evidence of {subjects} in survey {surveys}" if damage.subjects else f"survey {surveys}"
    return f"{where} ({newest}): {damage.what} {damage.why}"


def prune_line(done: Pruned, given_back: int) -> str:
    """Return in words what pruning removed, and what it left."""
    removed = f"removed {counted(len(done.surveys), 'survey')} and {counted(done.pieces, 'piece')} of evidence, {_megabytes(given_back)}"
    left = f"; kept the newest evidence of {listed(list(done.still), _MOST_NAMES, 'more')}" if done.still else ""
    return removed + left
