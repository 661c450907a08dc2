"""How many had full control, and how many grave findings there were, survey by survey."""

from fidelitas.audit import Audit
from fidelitas.findings import Severity
from fidelitas.pages.pictures import TrendPoint
from fidelitas.rights import PrincipalKind

__all__ = ["point_of"]

_COUNTED = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE})


def point_of(survey: str, found: Audit) -> TrendPoint:
    """Return the point of a survey: its day, those who have full control of something, critical and high findings."""
    every = (holding for one in found.subjects for holding in one.own_holdings if holding.right.kind.full and holding.granted)
    full = {holding.principal.name for holding in every if holding.principal.kind in _COUNTED}
    return TrendPoint(day=survey[:10], holders=len(full), findings=sum(one.severity <= Severity.HIGH for one in found.findings))
