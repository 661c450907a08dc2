"""Why something is not allowed, or was refused, in words and as parts of JSON documents."""

from typing import Any

from fidelitas.refusal import Cause, CauseKind
from fidelitas.rights.linux.sudo import Difference, Near
from fidelitas.usage import AttributedEvent

__all__ = ["cause_words", "difference", "near_document"]


def difference(near: Near) -> str:
    """Return by what a rule does not match, with what it allows and what was asked."""
    return {
        Difference.COMMAND: f"the command differs: the rule allows {near.allowed}",
        Difference.PATH: f"the path differs: the rule allows {near.allowed}, asked was {near.asked}",
        Difference.ARGUMENTS: f"arguments differ: the rule allows {_arguments(near.allowed, 'no arguments')}, "
        f"asked was {_arguments(near.asked, 'none')}",
        Difference.RUN_AS: f"whom to run as differs: the rule allows {near.allowed}, asked was {near.asked}",
        Difference.HOST: f"the host differs: the rule is for {near.allowed}, this is {near.asked}",
        Difference.TIME: "the rule is out of its time (NOTBEFORE, NOTAFTER)",
    }[near.difference]


def _arguments(text: str | None, none: str) -> str:
    return none if text is None else f'"{text}"'


def near_document(near: Near) -> dict[str, Any]:
    """Return the codes of a difference, with the words."""
    return {"difference": near.difference, "allowed": near.allowed, "asked": near.asked, "differs": difference(near)}


def cause_words(cause: Cause) -> str:
    """Return one cause of a refusal in a line."""
    near, rule, change = cause.near, cause.rule, cause.change
    if near is not None:
        return f"nearest is {near.rule.place.in_file()} ({near.rule.statement}): {difference(near)}"
    if change is not None and cause.kind is CauseKind.EDITED_LATER and rule is not None:
        return f"{_by(change)} edited {rule.place.path}: the rule may have come later"
    if change is not None:
        early = cause.kind is CauseKind.NOT_IN_FORCE
        when = "not yet in force, the session had begun before" if early else "the membership came later"
        return f"{_by(change)} put {cause.account} into {cause.group}: {when}"
    if rule is not None:
        return f"allowed by {rule.place.in_file()} ({rule.statement}) as it was surveyed: the rule or the membership came later"
    return cause.reason or f"no rule is about {cause.account}"


def _by(record: AttributedEvent) -> str:
    who = " or ".join(record.persons) or "someone"
    at = record.event.at
    return f"{who}, {at:%Y-%m-%d %H:%M %Z}," if at is not None else who
