"""What changed from one state of the estate to another: rights with their cause, findings, accounts, subjects.  Pure.

`held` compares what is held, `causes` says which link made the difference, `estate` puts a whole estate together.
"""

from fidelitas.changes.causes import Cause, CauseKind
from fidelitas.changes.estate import EstateChanges, SubjectChange, SubjectTurn, changes_between, differences
from fidelitas.changes.held import HeldChange, Turn, held_changes
from fidelitas.changes.parts import AccountChange, AccountTurn
from fidelitas.changes.subject import RightChange

__all__ = [
    "AccountChange",
    "AccountTurn",
    "Cause",
    "CauseKind",
    "EstateChanges",
    "HeldChange",
    "RightChange",
    "SubjectChange",
    "SubjectTurn",
    "Turn",
    "changes_between",
    "differences",
    "held_changes",
]
