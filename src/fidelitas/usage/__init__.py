"""Use of privilege: events tied to the persons behind them, what they amount to, and what of it is out of order."""

from fidelitas.usage.causes import Cause, Causes
from fidelitas.usage.host_use import MANY_ACCOUNTS, Failures, First, HostUse, LogState, New, Notable
from fidelitas.usage.persons import AttributedEvent, Attribution, AttributionBasis
from fidelitas.usage.provenance import Grants
from fidelitas.usage.sensitive_targets import SensitiveTarget, sensitive_targets
from fidelitas.usage.sessions import Session, is_shell
from fidelitas.usage.summary import People, PersonUse

__all__ = [
    "MANY_ACCOUNTS",
    "AttributedEvent",
    "Attribution",
    "AttributionBasis",
    "Cause",
    "Causes",
    "Failures",
    "First",
    "Grants",
    "HostUse",
    "LogState",
    "New",
    "Notable",
    "People",
    "PersonUse",
    "SensitiveTarget",
    "Session",
    "is_shell",
    "sensitive_targets",
]
