"""Why something was refused that somebody wanted to do: by the policy of the time, and by what the logs tell of its changes.

A refusal that the policy allows has a cause in time: the rule was written later, the membership was given later, or was given and not yet
in force in the session that was open.  One that the policy refuses is explained by what came nearest.
"""

from collections.abc import Iterator

from fidelitas.facts import Event
from fidelitas.inquiry import Inquiry
from fidelitas.rights.linux.sudo import Decision, Near, Verdict
from fidelitas.usage import AttributedEvent, HostUse

__all__ = ["explained"]


def explained(
    latest: Inquiry, event: Event, decision: Decision, later: Decision, near: tuple[Near, ...], use: HostUse | None
) -> tuple[str, ...]:
    """Return in words why an attempt was refused: by the policy of its time, and by that of the `latest` evidence where it differs."""
    told = [] if decision.verdict is Verdict.ALLOWED else [_refused(event, decision, near)]
    if later.verdict is Verdict.ALLOWED:
        told += _since(latest, event, later, use)
    return tuple(told)


def _refused(event: Event, decision: Decision, near: tuple[Near, ...]) -> str:
    if near:
        first = near[0]
        return f"nearest is {first.rule.place.in_file()} ({first.rule.statement}): {first.differs}"
    return decision.reason or f"no rule is about {event.account}"


def _since(inquiry: Inquiry, event: Event, decision: Decision, use: HostUse | None) -> Iterator[str]:
    """Yield what has changed between a refusal and the policy that allows it."""
    rule, told = decision.rule, False
    if rule is not None and use is not None:
        group = inquiry.group_of(rule, event.account)
        given = use.grants.of_membership(group, event.account) if group else None
        if given is not None and given.event.at is not None and event.at is not None:
            told = True
            early = given.event.at <= event.at
            yield f"{_by(given)} put {event.account} into {group}: " + (
                "not yet in force, the session had begun before" if early else "the membership came later"
            )
        edited = use.grants.of_file(rule.place.path)
        if edited is not None and edited.event.at is not None and event.at is not None and edited.event.at > event.at:
            told = True
            yield f"{_by(edited)} edited {rule.place.path}: the rule may have come later"
    if rule is not None and not told:
        yield f"allowed by {rule.place.in_file()} ({rule.statement}) as it was surveyed: the rule or the membership came later"


def _by(attributed: AttributedEvent) -> str:
    who = " or ".join(attributed.persons) or "somebody"
    at = attributed.event.at
    return f"{who}, {at:%Y-%m-%d %H:%M %Z}," if at is not None else who
