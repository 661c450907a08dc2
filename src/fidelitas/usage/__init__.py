"""Use of privilege: events tied to the persons behind them, what they amount to, and what of it is out of order."""

from fidelitas.usage.causes import Cause, Causes
from fidelitas.usage.host_use import HostUse, Notable
from fidelitas.usage.latest import Latest, LatestSoFar
from fidelitas.usage.novelties import New
from fidelitas.usage.packed import Packed
from fidelitas.usage.persons import AttributedEvent, Attribution, AttributionBasis
from fidelitas.usage.plain import PlainSession, PlainUse, plain
from fidelitas.usage.provenance import Grants
from fidelitas.usage.sensitive_targets import SensitiveTarget, sensitive_targets
from fidelitas.usage.sessions import Session, is_shell
from fidelitas.usage.silences import LogState, Silence, log_silences, may_tell_silences
from fidelitas.usage.summary import People, PersonUse
from fidelitas.usage.unusual import Unusual

__all__ = [
    "AttributedEvent",
    "Attribution",
    "AttributionBasis",
    "Cause",
    "Causes",
    "Grants",
    "HostUse",
    "Latest",
    "LatestSoFar",
    "LogState",
    "New",
    "Notable",
    "Packed",
    "People",
    "PersonUse",
    "PlainSession",
    "PlainUse",
    "SensitiveTarget",
    "Session",
    "Silence",
    "Unusual",
    "is_shell",
    "log_silences",
    "may_tell_silences",
    "plain",
    "sensitive_targets",
]
