"""What is of the plainest sort, of which most logs are made: commands that give no shell and have no sensitive target, of named accounts.

So are the sessions that PAM opens and closes for them.  What follows by a message alone is worked out once, however many lines say the
same; no event need be made of any of them.  What depends on the other lines is asked of each: where they say that a use may be another's,
it is an event like all others.
"""

from typing import NamedTuple

from fidelitas.facts import Event, EventKind
from fidelitas.usage.meanings import SWITCHES, Meaning, meaning_of, stem

__all__ = ["CRON", "ELEVATED_LOGONS", "OF_SESSION", "Marks", "PlainSession", "PlainUse", "marks_of", "plain"]

CRON = frozenset({"cron", "CRON", "crond", "atd"})
# A log-on of Windows with an administrator's privileges is a session by itself.
ELEVATED_LOGONS = frozenset({"logon"})
# What Windows counts by the number of its session.
OF_SESSION = frozenset({"elevation", "runas", "accounts", "policy", "system"})
_TELL_MORE = CRON | ELEVATED_LOGONS | OF_SESSION


class Marks(NamedTuple):
    """What a use and the session that PAM opens for it have in common: program and target, by an account where one is named, or not."""

    program: str
    by_account: tuple[str, str, str] | None
    by_any: tuple[str, str, None]


def marks_of(said: Event) -> Marks:
    """Return by what an event is tied to what PAM says of it."""
    program, target = stem(said.program), said.target or "root"
    return Marks(program, (program, target, said.account) if said.account else None, (program, target, None))


class PlainUse(NamedTuple):
    """A plain use as a message tells it: by whom, as whom, and on which terminal, where a session of another could be."""

    said: Event
    persons: tuple[str]
    target: str
    on: tuple[str, str]
    meaning: Meaning
    marks: Marks


class PlainSession(NamedTuple):
    """The begin of a session of a named account, or the end of one, as PAM tells it of a program that switches accounts."""

    said: Event
    opened: bool
    marks: Marks
    whose: tuple[str, str]


def plain(said: Event) -> PlainUse | PlainSession | None:
    """Return what a message tells as a plain use, or as a plain session; ``None`` where it is neither."""
    if said.kind is EventKind.USED:
        return _plain_use(said)
    opened = said.kind is EventKind.OPENED
    if (
        not (opened or said.kind is EventKind.CLOSED)
        or said.program not in SWITCHES
        or (opened and said.account in ("", "root"))
        or said.login or said.doubt or said.terminal or said.command
    ):  # fmt: skip
        return None
    marks = marks_of(said)
    return PlainSession(said, opened, marks, marks.by_any[:2])


def _plain_use(said: Event) -> PlainUse | None:
    account = said.account
    if (
        account in ("", "root")
        or said.program in _TELL_MORE
        or said.login or said.doubt or said.end or said.part or said.recording or said.within or said.last_only
    ):  # fmt: skip
        return None
    meaning = meaning_of(said)
    if meaning.shell or meaning.targets:
        return None
    return PlainUse(said, (account,), said.target or "root", (account, said.terminal), meaning, marks_of(said))
