"""What a message of syslog records, and what follows of it for every line that says it: worked out once."""

from collections.abc import Callable

from fidelitas.facts import LOGIN_SERVICES, Event, EventKind, is_ordinary_login
from fidelitas.languages.logs.journal_fields import pairs_of
from fidelitas.languages.logs.repetition import REPEATED, once
from fidelitas.languages.logs.sudo_stream import OF_SUDO, key_of
from fidelitas.text import decode

__all__ = ["Said"]

_FAILURES = frozenset({EventKind.FAILED, EventKind.LOGIN_FAILED})


class Said:
    """What a message records, and what follows of it.

    `passes` says that nothing which comes later changes it, `by_key` of sudo under what it begins.  `names` are the accounts that it names,
    and `learns` says that these exist, which a failure does not show; `pairs` are those that it names with their user IDs.  `opener` is its
    text where that has the number alone of who opens a session, and `repetition` where it says how often another was repeated.  `plain` is
    what the taker of plain events has made of it.
    """

    __slots__ = ("by_key", "event", "is_login", "learns", "names", "of_sudo", "opener", "pairs", "passes", "plain", "repetition")

    def __init__(self, message: bytes, event: Event, plain: Callable[[Event], object | None]) -> None:
        kind, opened = event.kind, event.kind is EventKind.OPENED
        self.event, self.names = event, (event.account, event.target)
        text = once(decode(message).strip(" \r")) if opened else ""
        self.pairs = pairs_of(text) if opened else ()
        is_named = not opened or bool(event.account) or (event.program in LOGIN_SERVICES and message.endswith(b" by (uid=0)"))
        self.opener = "" if is_named else text
        self.repetition = decode(message) if message.startswith(REPEATED) else ""
        is_whole = is_named and event.at is None and not event.host and not (self.repetition or event.audited) and event.account[:1] != "#"
        self.is_login = is_whole and is_ordinary_login(event)
        self.passes = is_whole and kind is not EventKind.CHANGED and not (event.end or event.part or event.module or event.last_only)
        self.learns = kind not in _FAILURES
        self.of_sudo = event.program in OF_SUDO
        self.by_key = key_of(event) if self.of_sudo and kind is not EventKind.OPENED and kind is not EventKind.CLOSED else b""
        self.plain = plain(event) if self.passes else None
