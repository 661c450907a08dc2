"""What every JSON document says of itself: by which version it was made, when, from which ledger, and how many gaps weaken it."""

from datetime import UTC, datetime
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from fidelitas import __version__
from fidelitas.reports.report import Report

__all__ = ["Making", "made_by"]


class Making(Struct, frozen=True):
    """What a document was made from; ``None`` where that is not said: no ledger, the newest evidence of each subject, gaps not counted."""

    ledger: str | None
    survey: str | None
    gaps: int | None


def made_by(report: Report, making: Making) -> Report:
    """Return a report whose document says how it was made, after its schema."""

    def document() -> dict[str, Any]:
        stated = report.document()
        made = {
            "tool": "fidelitas",
            "version": __version__,
            "at": datetime.now(UTC).isoformat(timespec="seconds"),
            "ledger": making.ledger,
            "survey": making.survey,
            "gaps": making.gaps,
        }
        return {"schema": stated["schema"], "made": made, **stated}

    return replace(report, document=document)
