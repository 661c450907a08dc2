"""What a charter holds: demands, warrants, segregations of duties, exceptions; each with the number that it has in the file."""

import shlex
from datetime import date
from enum import Enum, StrEnum

from msgspec import Struct

__all__ = ["AcceptedFinding", "Charter", "Clause", "Condition", "Kind", "Segregation", "Warrant", "Within"]


class Kind(Enum):
    """What a clause demands."""

    MUST = "must"
    NEVER = "never"


class Clause(Struct, frozen=True, kw_only=True):
    """One demand, for one account on one subject: a command, or a `right`; `number` counts the entries of its kind in the file, from 1."""

    kind: Kind
    number: int
    account: str
    subject: str
    run_as: str | None
    command: tuple[str, ...]
    why: str
    right: str | None = None

    def __str__(self) -> str:
        if self.right is not None:
            return f"{self.account} {self.kind.value} hold {self.right}"
        return f"{self.account} {self.kind.value} run {shlex.join(self.command)} as {self.run_as or 'root'}"


class Condition(StrEnum):
    """Under which condition a warrant sanctions a right."""

    PASSWORD = "with password"  # noqa: S105
    NO_KEY = "not by key"
    COMMANDS = "only these commands"  # said for a reader: a further right is never sanctioned by a narrower one


class Warrant(Struct, frozen=True, kw_only=True):
    """One sanctioned holding: who may hold which right where, why, by whose decision, and from when to when."""

    number: int
    who: tuple[str, ...]
    rights: tuple[str, ...]
    on: tuple[str, ...]
    why: str = ""
    owner: str = ""
    ticket: str = ""
    begins: date | None = None
    until: date | None = None
    review_by: date | None = None
    conditions: tuple[Condition, ...] = ()

    def is_active(self, day: date) -> bool:
        """Return whether it sanctions anything on a day."""
        return (self.begins is None or self.begins <= day) and not self.has_lapsed(day)

    def has_lapsed(self, day: date) -> bool:
        """Return whether its last day is past."""
        return self.until is not None and self.until < day

    def __str__(self) -> str:
        return f"{', '.join(self.who)}: {', '.join(self.rights)} on {', '.join(self.on)}"


class Within(StrEnum):
    """Where two rights must not come together in one hand."""

    SUBJECT = "subject"
    ESTATE = "estate"


class Segregation(Struct, frozen=True, kw_only=True):
    """Rights that nobody may hold together, on one subject or anywhere."""

    number: int
    rights: tuple[str, ...]
    on: tuple[str, ...]
    within: Within
    why: str = ""


class AcceptedFinding(Struct, frozen=True, kw_only=True):
    """An exception: findings that someone has decided to live with, by key, or by check, subjects and what they are about."""

    number: int
    reason: str
    key: str | None = None
    check: str | None = None
    on: tuple[str, ...] = ()
    about: str | None = None
    owner: str = ""
    until: date | None = None

    def has_expired(self, day: date) -> bool:
        """Return whether its last day is past."""
        return self.until is not None and self.until < day

    def __str__(self) -> str:
        return self.key or f"{self.check} on {', '.join(self.on) or 'any subject'}" + (f" about {self.about}" if self.about else "")


class Charter(Struct, frozen=True, kw_only=True):
    """A charter as its file states it."""

    origin: str
    clauses: tuple[Clause, ...] = ()
    warrants: tuple[Warrant, ...] = ()
    segregations: tuple[Segregation, ...] = ()
    exceptions: tuple[AcceptedFinding, ...] = ()
