"""Why something was refused that someone wanted to do: by the policy of the time, and by what the logs record of its changes.

A refusal that the policy allows has a cause in time: the rule was written later, the membership was given later, or was given and not yet
in force in the session that was open.  One that the policy refuses is explained by what came nearest.
"""

from collections.abc import Iterator
from enum import StrEnum

from msgspec import Struct

from fidelitas.facts import Event, SudoRule
from fidelitas.inquiry import Inquiry
from fidelitas.rights.linux.sudo import Decision, Near, Verdict
from fidelitas.usage import AttributedEvent, HostUse

__all__ = ["Cause", "CauseKind", "explained"]


class CauseKind(StrEnum):
    """Why an attempt was refused."""

    NEAREST = "no-match"  # a rule nearly matches
    DECIDED = "decided"  # the policy says why, or no rule is about the account
    NOT_IN_FORCE = "membership-not-in-force"  # it was given, and the session had begun before
    MEMBERSHIP_LATER = "membership-later"
    EDITED_LATER = "policy-edited-later"
    ALLOWED_LATER = "allowed-later"  # by the rule as it was surveyed, and nothing shows what changed


class Cause(Struct, frozen=True, kw_only=True):
    """One cause of a refusal, with the rule, the log event and the group that it is about."""

    kind: CauseKind
    account: str
    near: Near | None = None
    reason: str | None = None
    rule: SudoRule | None = None
    change: AttributedEvent | None = None
    group: str | None = None


def explained(latest: Inquiry, event: Event, decision: Decision, later: Decision, use: HostUse | None) -> tuple[Cause, ...]:
    """Return why an attempt was refused: by the policy of its time, and by that of the `latest` evidence where it differs."""
    causes = [] if decision.verdict is Verdict.ALLOWED else [_refused(event, decision)]
    if later.verdict is Verdict.ALLOWED:
        causes += _since(latest, event, later, use)
    return tuple(causes)


def _refused(event: Event, decision: Decision) -> Cause:
    if decision.near:
        return Cause(kind=CauseKind.NEAREST, account=event.account, near=decision.near[0])
    return Cause(kind=CauseKind.DECIDED, account=event.account, reason=decision.reason)


def _since(inquiry: Inquiry, event: Event, decision: Decision, use: HostUse | None) -> Iterator[Cause]:
    """Yield what has changed between a refusal and the policy that allows it."""
    rule, account = decision.rule, event.account
    found = list(_changes(inquiry, event, rule, use)) if rule is not None and use is not None and event.at is not None else []
    yield from found
    if rule is not None and not found:
        yield Cause(kind=CauseKind.ALLOWED_LATER, account=account, rule=rule)


def _changes(inquiry: Inquiry, event: Event, rule: SudoRule, use: HostUse) -> Iterator[Cause]:
    group = inquiry.group_of(rule, event.account)
    given = use.grants.of_membership(group, event.account) if group else None
    if given is not None and given.event.at is not None and event.at is not None:
        kind = CauseKind.NOT_IN_FORCE if given.event.at <= event.at else CauseKind.MEMBERSHIP_LATER
        yield Cause(kind=kind, account=event.account, change=given, group=group)
    edited = use.grants.of_file(rule.place.path)
    if edited is not None and edited.event.at is not None and event.at is not None and edited.event.at > event.at:
        yield Cause(kind=CauseKind.EDITED_LATER, account=event.account, change=edited, rule=rule)
