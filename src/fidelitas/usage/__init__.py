"""Use of privilege: events tied to the persons behind them, what they amount to, and what of it is out of order."""

from fidelitas.usage.host_use import First, HostUse, LogState
from fidelitas.usage.persons import Attribution, Deed, Ground
from fidelitas.usage.provenance import Grants
from fidelitas.usage.sessions import Session, is_shell
from fidelitas.usage.summary import People, PersonUse
from fidelitas.usage.touches import Touch, touches

__all__ = [
    "Attribution",
    "Deed",
    "First",
    "Grants",
    "Ground",
    "HostUse",
    "LogState",
    "People",
    "PersonUse",
    "Session",
    "Touch",
    "is_shell",
    "touches",
]
