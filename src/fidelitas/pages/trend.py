"""How many had full control, and how many grave findings there were, survey by survey."""

from collections.abc import Sequence

from fidelitas.audit import Audit
from fidelitas.findings import Severity
from fidelitas.pages.pictures import TrendPoint
from fidelitas.people import MappedPerson
from fidelitas.reports.control import controls_of, in_control

__all__ = ["point_of"]


def point_of(survey: str, found: Audit, people: Sequence[MappedPerson]) -> TrendPoint:
    """Return the point of a survey: its day, those who have full control of something, critical and high findings."""
    granted, _ = in_control(controls_of(found.subjects), people)
    return TrendPoint(day=survey[:10], holders=len(granted), findings=sum(one.severity <= Severity.HIGH for one in found.findings))
