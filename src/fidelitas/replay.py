"""Logged uses of sudo put to a policy: which rule allows each, which would be refused, and which rules nothing needed.

Pure: events, and the hosts to ask, are given.  A log holds the command as one text; it is parted into words as sudo quotes them.
"""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime

from msgspec import Struct

from fidelitas.errors import RequestError
from fidelitas.facts import Event, EventKind, SudoRule
from fidelitas.inquiry import Inquiry
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.logs.sudo_lines import logged_words
from fidelitas.masking import is_masked
from fidelitas.refusal import Cause, explained
from fidelitas.rights import Takings
from fidelitas.rights.linux.sudo import Decision, Question, Verdict
from fidelitas.text import short_host_name
from fidelitas.usage import HostUse

__all__ = ["NO_COMMANDS", "PolicyHistory", "Replay", "Replayed", "replay"]

# Questions of sudo itself that are not commands.
NO_COMMANDS = frozenset({"list", "validate", ""})


class Replayed(Struct, frozen=True, kw_only=True):
    """Uses that are the same but for their time, `last` the latest, with what the policy says of them."""

    last: Event
    count: int
    decision: Decision
    masked: bool  # a password in the command is not known, so that rules on arguments may not fit
    why: tuple[Cause, ...] = ()  # a refusal in words

    @property
    def allowed(self) -> bool:
        """Whether the policy allows it."""
        return self.decision.verdict is Verdict.ALLOWED


class Replay(Struct, frozen=True, kw_only=True):
    """What the policy of one host says of the logged uses: those that were allowed then, those that were refused then, and unused rules."""

    subject: str
    used: tuple[Replayed, ...]
    refused: tuple[Replayed, ...]
    unused: tuple[SudoRule, ...]

    @property
    def lost(self) -> tuple[Replayed, ...]:
        """The uses that the policy would refuse."""
        return tuple(one for one in self.used if not one.allowed)


class PolicyHistory:
    """What uses of one host are held against: its evidence, the oldest first, and what the logs tell of changes."""

    def __init__(self, evidence: Sequence[HostEvidence], use: HostUse | None = None, takings: Takings | None = None) -> None:
        self._inquiries = [Inquiry(one, takings=takings) for one in sorted(evidence, key=lambda one: one.taken)]
        self.use = use

    @property
    def latest(self) -> Inquiry:
        """The policy of the newest evidence."""
        return self._inquiries[-1]

    def at(self, time: datetime | None) -> Inquiry:
        """Return the policy in force at a time: the newest that was surveyed by then, the oldest for what was before all."""
        before = [one for one in self._inquiries if time is None or one.taken <= time]
        return before[-1] if before else self._inquiries[0]


def replay(events: Iterable[Event], held: Mapping[str, PolicyHistory]) -> list[Replay]:
    """Return a replay for each host that is both in the logs and among those held against, by its name up to the first dot."""
    by_host: dict[str, list[Event]] = {}
    for event in events:
        if event.program == "sudo" and not event.doubt and event.command not in NO_COMMANDS:
            by_host.setdefault(short_host_name(event.host), []).append(event)
    return [
        _replayed(subject, one, by_host[short_host_name(subject)]) for subject, one in held.items() if short_host_name(subject) in by_host
    ]


def _replayed(subject: str, held: PolicyHistory, events: Sequence[Event]) -> Replay:
    used = _decided(held, [event for event in events if event.kind is EventKind.USED])
    refused = _decided(held, [event for event in events if event.kind is EventKind.REFUSED], explain=True)
    needed = {one.decision.rule.place for one in used if one.decision.rule is not None}
    rules = held.latest.policy.facts.rules
    whole = {rule.place: rule for rule in rules}  # a statement of several commands is one rule to its reader
    unused = tuple(rule for place, rule in whole.items() if place not in needed)
    return Replay(subject=subject, used=used, refused=refused, unused=unused)


def _decided(held: PolicyHistory, events: Iterable[Event], *, explain: bool = False) -> tuple[Replayed, ...]:
    alike: dict[tuple[object, ...], list[Event]] = {}
    for event in events:
        alike.setdefault((id(held.at(event.at)), event.account, event.target, event.group, event.command), []).append(event)
    return tuple(_one(held, same, explain=explain) for same in alike.values())


def _one(held: PolicyHistory, same: Sequence[Event], *, explain: bool) -> Replayed:
    last = same[-1]
    inquiry = held.at(last.at)
    question = Question(
        account=last.account,
        command=logged_words(last.command),
        run_as=last.target or None,
        run_as_group=last.group or None,
        at=last.at or inquiry.taken,
    )
    why: tuple[Cause, ...] = ()
    try:
        answer = inquiry.ask(question, whole=explain)
        decision = answer.decision
        if explain:
            later = held.latest.ask(question).decision if held.latest is not inquiry else decision
            why = explained(held.latest, last, decision, later, held.use)
    except RequestError as error:  # an account or group that is not there any more
        decision = Decision(verdict=Verdict.NO_RULE, reason=str(error))
    return Replayed(last=last, count=len(same), decision=decision, masked=is_masked(last.command), why=why)
