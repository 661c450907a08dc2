"""Uses of the plainest sort, of which most logs are made: commands of named accounts that give no shell and have no sensitive target.

What follows of such a use by its message alone is worked out once, however many lines say the same; no event need be made of any of them.
What depends on the other lines is asked of each: where they say that it may be another's, it is an event like all others.
"""

from typing import NamedTuple

from fidelitas.facts import Event, EventKind
from fidelitas.usage.meanings import Meaning, meaning_of

__all__ = ["CRON", "ELEVATED_LOGONS", "OF_SESSION", "PlainUse", "plain_use"]

CRON = frozenset({"cron", "CRON", "crond", "atd"})
# A log-on of Windows with an administrator's privileges is a session by itself.
ELEVATED_LOGONS = frozenset({"logon"})
# What Windows counts by the number of its session.
OF_SESSION = frozenset({"elevation", "runas", "accounts", "policy", "system"})
_TELL_MORE = CRON | ELEVATED_LOGONS | OF_SESSION


class PlainUse(NamedTuple):
    """A plain use as a message tells it: by whom, as whom, and on which terminal, where a session of another could be."""

    said: Event
    persons: tuple[str]
    target: str
    on: tuple[str, str]
    meaning: Meaning


def plain_use(said: Event) -> PlainUse | None:
    """Return what a message tells as a plain use, ``None`` where it is not one."""
    account = said.account
    if (
        said.kind is not EventKind.USED
        or account in ("", "root")
        or said.program in _TELL_MORE
        or said.login or said.doubt or said.end or said.part or said.recording or said.within or said.last_only
    ):  # fmt: skip
        return None
    meaning = meaning_of(said)
    if meaning.shell or meaning.targets:
        return None
    return PlainUse(said, (account,), said.target or "root", (account, said.terminal), meaning)
