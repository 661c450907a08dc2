"""A thing that is wrong, or a demand that was tested, as tools beside this one take it: with its rule, places and key."""

from enum import Enum

from msgspec import Struct

from fidelitas.findings import Severity
from fidelitas.text import Place

__all__ = ["Issue", "Rule", "Verdict"]


class Verdict(Enum):
    """What became of what was tested."""

    FAILED = "failed"
    PASSED = "passed"
    UNKNOWN = "unknown"
    ACCEPTED = "accepted"


class Rule(Struct, frozen=True):
    """What was tested: a check, a demand, a sort of change; in a sentence, with the reason and what to do."""

    name: str
    title: str
    why: str = ""
    advice: str = ""


class Issue(Struct, frozen=True, kw_only=True):
    """One thing that a rule says of a subject; `key` stays the same from survey to survey, `accepted` is the reason why it is accepted."""

    rule: Rule
    verdict: Verdict
    severity: Severity
    subject: str
    message: str
    key: str
    places: tuple[Place, ...] = ()
    quote: str | None = None
    accepted: str = ""
