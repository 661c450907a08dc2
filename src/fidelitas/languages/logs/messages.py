"""What other programs say of privilege: PAM, su, sshd, the tools that change accounts, pkexec, doas, cron.

Texts differ between versions: they are recognised by what stays, the names and the order of the parts (`messages.toml`).  A message of
another form is nobody's business here; the caller counts it.
"""

import re
import tomllib
from functools import cache
from importlib import resources
from typing import NamedTuple

from fidelitas.facts import NOWHERE, Change, Event, EventKind
from fidelitas.masking import masked

__all__ = ["idle_beginnings", "is_idle", "is_part", "read_message"]


class _Row(NamedTuple):
    pattern: re.Pattern[str]
    kind: EventKind
    reason: str
    change: Change | None


# Programs whose messages are another's.
_SAME = {
    "sshd-session": "sshd", "sshd-auth": "sshd", "CRON": "cron", "crond": "cron", "CROND": "cron", "crontab": "cron", "su-rs": "su",
}  # fmt: skip
_NO_TERMINAL = frozenset({"none", "?", "unknown", "notty", "ssh"})


def _text() -> str:
    return resources.files(__package__).joinpath("messages.toml").read_text(encoding="utf-8")


@cache
def _table() -> dict[str, tuple[_Row, ...]]:
    rows = tomllib.loads(_text())
    return {
        name: tuple(
            _Row(re.compile(pattern, re.DOTALL), EventKind[kind], reason, Change[change[0]] if change else None)
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


def read_message(program: str, message: str) -> Event | None:
    """Return the event of a message, without time, host and place (`Event.stamped`), or ``None`` for one of another form."""
    table = _table()
    rows = table["pam"] if message.startswith("pam_") else table.get(_SAME.get(program, program), table["accounts"])
    for row in rows:
        found = row.pattern.fullmatch(message)
        if found is not None:
            return _event(row, found, program)
    return None


def _event(row: _Row, found: re.Match[str], program: str) -> Event:
    parts = found.groupdict("")
    part = parts.get
    terminal = part("terminal", "").removeprefix("/dev/")
    command, times, reason = part("command", ""), part("times", ""), part("reason", "")
    if not reason:
        reason = row.reason.format(**parts) if "{" in row.reason else row.reason
    return Event(
        None,
        NOWHERE,
        None,
        row.kind,
        part("program") or program,
        account=part("ruser") or part("account", ""),
        target="root" if found.string.startswith("ROOT LOGIN") else part("target", ""),
        group=part("group", ""),
        terminal="" if terminal in _NO_TERMINAL else terminal,
        folder=part("folder", ""),
        command=masked(command) if command else "",
        reason=" ".join(filter(None, (reason, part("key", "")))),
        times=int(times[:6]) if times else 1,
        address=part("address", ""),
        typed=bool(part("typed")),
        change=row.change,
        sums_up=bool(part("whole")),
    )
