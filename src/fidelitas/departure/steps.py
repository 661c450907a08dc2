"""A step that takes something from a person who leaves."""

from enum import IntEnum

from msgspec import Struct

from fidelitas.text import Place

__all__ = ["Phase", "Step"]


class Phase(IntEnum):
    """In which order steps are taken: no new logins first, then what is open, then what would open again."""

    LOCK = 1  # the account cannot log in any more
    SESSIONS = 2  # what is open is ended
    KEYS = 3  # keys of the person that open other accounts
    RIGHTS = 4  # memberships, rules, roles
    LEFT_BEHIND = 5  # jobs and files that act for the account


class Step(Struct, frozen=True, kw_only=True):
    """One step: on which subject, what it does, by which command or edit, and where what it removes is stated."""

    phase: Phase
    subject: str
    what: str
    command: str
    place: Place | None = None
