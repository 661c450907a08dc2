"""Logged uses of sudo put to a policy: which rule allows each, which would be refused, and which rules nothing needed.

Pure: events, and the hosts to ask, are given.  A log holds the command as one text; it is parted into words as a shell would, which sudo's
matching of arguments does not mind, since it joins them again.
"""

import shlex
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from fidelitas.errors import RequestError
from fidelitas.facts import Event, EventKind, SudoRule
from fidelitas.inquiry import Inquiry
from fidelitas.rights.sudo import Decision, Question, Verdict

__all__ = ["Replay", "Replayed", "replay"]

# Questions of sudo itself that are no command, and the account that sudo never refuses.
_NO_COMMANDS = frozenset({"list", "validate", ""})
_MASKED = "[masked]"


@dataclass(frozen=True, slots=True, kw_only=True)
class Replayed:
    """Uses that are the same but for their time, `last` the latest, with what the policy says of them."""

    last: Event
    count: int
    decision: Decision
    masked: bool  # a password in the command is not known, so that rules on arguments may not fit

    @property
    def allowed(self) -> bool:
        """Whether the policy allows it."""
        return self.decision.verdict is Verdict.ALLOWED


@dataclass(frozen=True, slots=True, kw_only=True)
class Replay:
    """What the policy of one host says of the logged uses: those that were allowed then, those that were refused then, and unused rules."""

    subject: str
    used: tuple[Replayed, ...]
    refused: tuple[Replayed, ...]
    unused: tuple[SudoRule, ...]

    @property
    def lost(self) -> tuple[Replayed, ...]:
        """The uses that the policy would refuse."""
        return tuple(one for one in self.used if not one.allowed)


def replay(events: Iterable[Event], inquiries: Mapping[str, Inquiry]) -> list[Replay]:
    """Return a replay for each host that is both in the logs and among the inquiries, by its name up to the first dot."""
    by_host: dict[str, list[Event]] = {}
    for event in events:
        if event.program == "sudo" and not event.doubt and event.command not in _NO_COMMANDS:
            by_host.setdefault(_short(event.host), []).append(event)
    return [_replayed(subject, inquiry, by_host[_short(subject)]) for subject, inquiry in inquiries.items() if _short(subject) in by_host]


def _short(host: str) -> str:
    return host.partition(".")[0].lower()


def _replayed(subject: str, inquiry: Inquiry, events: Sequence[Event]) -> Replay:
    used = _decided(inquiry, [event for event in events if event.kind is EventKind.USED])
    refused = _decided(inquiry, [event for event in events if event.kind is EventKind.REFUSED])
    needed = {one.decision.rule.place for one in used if one.decision.rule is not None}
    rules = inquiry.policy.facts.rules
    whole = {rule.place: rule for rule in rules}  # a statement of several commands is one rule to its reader
    unused = tuple(rule for place, rule in whole.items() if place not in needed)
    return Replay(subject=subject, used=used, refused=refused, unused=unused)


def _decided(inquiry: Inquiry, events: Iterable[Event]) -> tuple[Replayed, ...]:
    alike: dict[tuple[str, ...], list[Event]] = {}
    for event in events:
        alike.setdefault((event.account, event.target, event.group, event.command), []).append(event)
    return tuple(
        Replayed(last=same[-1], count=len(same), decision=_decision(inquiry, same[-1]), masked=_MASKED in same[-1].command)
        for same in alike.values()
    )


def _decision(inquiry: Inquiry, event: Event) -> Decision:
    question = Question(
        account=event.account,
        command=_words(event.command),
        run_as=event.target or None,
        run_as_group=event.group or None,
        at=event.at or inquiry.taken,
    )
    try:
        return inquiry.ask(question).decision
    except RequestError as error:  # an account or group that is not there any more
        return Decision(verdict=Verdict.NO_RULE, reason=str(error))


def _words(command: str) -> tuple[str, ...]:
    try:
        return tuple(shlex.split(command)) or (command,)
    except ValueError:
        return tuple(command.split(" "))
