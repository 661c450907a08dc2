"""What other tools take of findings, of a charter and of changes.

Forms for build servers and code hosts are made of these (`forms.sarif`, `forms.junit`).
"""

from collections.abc import Iterable, Iterator, Sequence

from fidelitas.changes import EstateChanges, RightChange
from fidelitas.charter import AcceptedFinding, CharterState, Conflict, Outcome, Result, Sanction, widest
from fidelitas.findings import Finding, Severity
from fidelitas.reports.issue import Issue, Rule, Verdict
from fidelitas.reports.sentences import brief, holder

__all__ = ["issues_of_changes", "issues_of_charter", "issues_of_findings"]


def issues_of_findings(findings: Iterable[Finding], excepted: Iterable[tuple[Finding, AcceptedFinding]]) -> Iterator[Issue]:
    """Yield findings, and those that a charter accepts."""
    yield from (_finding(one, Verdict.FAILED, "") for one in findings)
    yield from (_finding(one, Verdict.ACCEPTED, entry.reason) for one, entry in excepted)


def _finding(one: Finding, verdict: Verdict, accepted: str) -> Issue:
    return Issue(
        rule=Rule(one.check, one.why.partition(". ")[0], one.why, one.advice),
        verdict=verdict,
        severity=one.severity,
        subject=one.subject,
        message=one.message,
        key=one.key,
        places=one.places,
        quote=one.quote,
        accepted=accepted,
    )


_DEMAND = Rule(
    "charter.demand",
    "A demand of the charter",
    "The charter says what must be possible and never be.",
    "Change the policy, or the charter.",
)
_UNSANCTIONED = Rule(
    "charter.unsanctioned",
    "A right that no warrant sanctions",
    "The charter names every right that may be held.",
    "Revoke the right, or add a warrant.",
)
_CONFLICT = Rule(
    "charter.conflict", "Duties that are to be kept apart", "One holder has what the charter keeps apart.", "Take one of them away."
)
_VERDICTS = {Outcome.BROKEN: Verdict.FAILED, Outcome.KEPT: Verdict.PASSED, Outcome.UNLESS: Verdict.PASSED, Outcome.UNKNOWN: Verdict.UNKNOWN}


def issues_of_charter(results: Sequence[Result], state: CharterState) -> Iterator[Issue]:
    """Yield each demand with what became of it, conflicts of duties, and what is not sanctioned."""
    for one in results:
        clause, rule = one.clause, one.decision.rule if one.decision is not None else None
        place = one.place or (rule.place if rule is not None else None)
        reason = one.reason or (one.decision.reason if one.decision is not None else "")
        yield Issue(
            rule=_DEMAND,
            verdict=_VERDICTS[one.outcome],
            severity=Severity.HIGH,
            subject=clause.subject,
            message=f"{clause}: {one.outcome.value}{f' ({reason})' if reason else ''}",
            key=f"{clause.kind.value}-{clause.number}-{clause.account}-{clause.subject}",
            places=(place,) if place is not None else (),
        )
    yield from map(_conflict, state.conflicts)
    for sanction in (Sanction.NO, Sanction.BROADER):
        for judged in widest(state.of(sanction)):
            held = judged.holding
            yield Issue(
                rule=_UNSANCTIONED,
                verdict=Verdict.FAILED,
                severity=Severity.MEDIUM,
                subject=held.right.subject,
                message=f"{holder(held.principal)} holds {held.right} on {held.right.subject} ({brief(held.routes[0])}): {sanction.value}",
                key=f"{held.principal}-{held.right}-{held.right.subject}",
                places=(held.routes[0].links[-1].place,),
            )


def _conflict(one: Conflict) -> Issue:
    held = ", ".join(f"{held.right} on {held.right.subject}" for held in one.holdings)
    return Issue(
        rule=_CONFLICT,
        verdict=Verdict.FAILED,
        severity=Severity.HIGH,
        subject=one.holdings[0].right.subject,
        message=f"{one.holder} holds together {held}: {one.segregation.why}",
        key=f"conflict-{one.holder}-{held}",
        places=tuple(held.routes[0].links[-1].place for held in one.holdings),
    )


_GAINED = Rule(
    "change.gained",
    "A right was gained",
    "Someone can do what was not possible at the last survey.",
    "Ask who decided it; revoke it if nobody did.",
)
_EASED = Rule("change.eased", "A right is held on easier terms", "What asked for more before asks for less now.", "Ask who decided it.")


def issues_of_changes(found: EstateChanges) -> Iterator[Issue]:
    """Yield what was gained, and findings that are new."""
    yield from (_gain(change) for change in found.rights if change.is_gain)
    yield from (_finding(one, Verdict.FAILED, "") for one in found.new_findings)


def _gain(change: RightChange) -> Issue:
    held = change.holding
    verb = "gained" if change.before is None else "holds on easier terms"
    return Issue(
        rule=_GAINED if change.before is None else _EASED,
        verdict=Verdict.FAILED,
        severity=Severity.HIGH if held.right.kind.full else Severity.MEDIUM,
        subject=change.subject,
        message=f"{holder(held.principal)} {verb} {held.right} on {change.subject} ({brief(held.routes[0])})",
        key=f"{held.principal}-{held.right}-{change.subject}",
        places=(held.routes[0].links[-1].place,),
    )
