"""What other programs say of privilege: PAM, su, sshd, the tools that change accounts, pkexec, doas, cron.

Texts differ between versions: they are recognised by what stays, the names and the order of the parts (`messages.toml`).  A message of
another form is nobody's business here; the caller counts it.
"""

import re
import tomllib
from collections.abc import Callable
from functools import cache
from importlib import resources

from fidelitas.facts import Change, Event, EventKind
from fidelitas.masking import masked

__all__ = ["idle_beginnings", "is_idle", "is_part", "read_message"]

_Pattern = tuple[re.Pattern[str], EventKind, str, Change | None]
# Programs whose messages are another's.
_SAME = {
    "sshd-session": "sshd", "sshd-auth": "sshd", "CRON": "cron", "crond": "cron", "CROND": "cron", "crontab": "cron", "su-rs": "su",
}  # fmt: skip
_NO_TERMINAL = frozenset({"none", "?", "unknown", "notty", "ssh"})


def _text() -> str:
    return resources.files(__package__).joinpath("messages.toml").read_text(encoding="utf-8")


@cache
def _table() -> dict[str, tuple[_Pattern, ...]]:
    rows = tomllib.loads(_text())
    return {
        name: tuple(
            (re.compile(pattern, re.DOTALL), EventKind[kind], reason, Change[change[0]] if change else None)
            for pattern, kind, reason, *change in rows[name]
        )
        for name in rows
        if name not in ("idle", "parts", "silent")
    }


@cache
def _beginnings(name: str) -> tuple[str, ...]:
    return tuple(tomllib.loads(_text())[name])


def is_idle(message: str) -> bool:
    """Return whether a message is known to tell of no privilege: a connection that ends, a module that complains, a job of cron."""
    return message.startswith(_beginnings("idle"))


@cache
def idle_beginnings() -> tuple[bytes, ...]:
    """Return how such messages begin in a log, also where a blank stands before them."""
    return tuple(prefix + text.encode() for text in _beginnings("idle") for prefix in (b"", b" "))


def is_part(message: str) -> bool:
    """Return whether a message that no row fits is known to tell of no privilege, or to be a part of what another message tells."""
    return message.startswith(_beginnings("parts")) or any(silent.match(message) for silent in _silent())


@cache
def _silent() -> tuple[re.Pattern[str], ...]:
    return tuple(map(re.compile, _beginnings("silent")))


def read_message(program: str, message: str, make: Callable[..., Event]) -> Event | None:
    """Return the event of a message, or ``None`` for one of another form; `make` adds time, host and place."""
    table = _table()
    patterns = table["pam"] if message.startswith("pam_") else table.get(_SAME.get(program, program), table["accounts"])
    for pattern, kind, reason, change in patterns:
        found = pattern.fullmatch(message)
        if found is not None:
            event = _event(found, kind, reason, program, make)
            return event if change is None else event._replace(change=change)
    return None


def _event(found: re.Match[str], kind: EventKind, reason: str, program: str, make: Callable[..., Event]) -> Event:
    parts = {name: value or "" for name, value in found.groupdict().items()}
    terminal = parts.get("terminal", "").removeprefix("/dev/")
    return make(
        kind=kind,
        program=parts.get("program") or program,
        account=parts.get("ruser") or parts.get("account", ""),
        target="root" if found.string.startswith("ROOT LOGIN") else parts.get("target", ""),
        group=parts.get("group", ""),
        terminal="" if terminal in _NO_TERMINAL else terminal,
        folder=parts.get("folder", ""),
        command=masked(parts.get("command", "")),
        reason=" ".join(filter(None, (parts.get("reason") or reason.format(**parts), parts.get("key", "")))),
        address=parts.get("address", ""),
        typed=bool(parts.get("typed")),
        times=int(parts.get("times", "")[:6] or 1),
        sums_up=bool(parts.get("whole")),
    )
