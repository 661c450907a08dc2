"""Accepted findings: what someone has decided to live with for a time is counted and not listed; once the time is over it is louder."""

from collections.abc import Iterable, Sequence
from datetime import date

from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.charter.entries import AcceptedFinding
from fidelitas.charter.scope import Scope
from fidelitas.findings import Finding, Severity

__all__ = ["Reviewed", "review"]


class Reviewed(Struct, frozen=True):
    """Findings that count, those that are excepted, and the exceptions that nothing was found for."""

    findings: list[Finding] = field(default_factory=list)
    excepted: list[tuple[Finding, AcceptedFinding]] = field(default_factory=list)
    unused: list[AcceptedFinding] = field(default_factory=list)


def review(findings: Iterable[Finding], exceptions: Sequence[AcceptedFinding], scope: Scope, day: date) -> Reviewed:
    """Return findings without those that are excepted on a day; of an exception that has expired a severity worse, and why."""
    found = Reviewed()
    used: set[int] = set()
    for finding in findings:
        mine = [one for one in exceptions if _accepts(one, finding, scope)]
        used.update(one.number for one in mine)
        accepting = next((one for one in mine if not one.has_expired(day)), None)
        if accepting is not None:
            found.excepted.append((finding, accepting))
        else:
            found.findings.append(_louder(finding, mine[0]) if mine else finding)
    found.unused.extend(one for one in exceptions if one.number not in used)
    return found


def _accepts(one: AcceptedFinding, finding: Finding, scope: Scope) -> bool:
    if one.key is not None:
        return one.key == finding.key
    here = not one.on or scope.is_on(one.on, finding.subject)
    return one.check == finding.check and here and (one.about is None or one.about in finding.message)


def _louder(finding: Finding, expired: AcceptedFinding) -> Finding:
    by = f" of {expired.owner}" if expired.owner else ""
    return replace(
        finding,
        severity=Severity(max(Severity.CRITICAL, finding.severity - 1)),
        message=f"{finding.message}; the exception{by} expired on {expired.until}",
    )
