"""What other programs say of privilege: PAM, su, sshd, the tools that change accounts, pkexec, doas, cron.

Texts differ between versions: they are recognised by what stays, the names and the order of the parts (`messages.toml`).  A message of
another form is nobody's business here; the caller counts it.
"""

import re
import tomllib
from functools import cache
from importlib import resources
from typing import NamedTuple

from fidelitas.facts import LOGIN_SERVICES, NOWHERE, Change, Event, EventKind
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
    "atd": "cron", "sg": "newgrp", "sshd(pam_google_authenticator)": "google", "sudo(pam_google_authenticator)": "google",
    "su(pam_google_authenticator)": "google", "login(pam_google_authenticator)": "google",
}  # fmt: skip
# A certificate bears the name that its authority gave it, a ticket of Kerberos its principal (OpenSSH, auth.c: auth_log).
_NAMED_BY_KEY = re.compile(r".* ID (?P<id>[^\s@]+)(?:@\S+)? \(serial \d+\) CA .*|(?P<principal>[^\s@/]+)(?:/[^\s@]+)?@\S+")
# They ask for the password of an account that is there: nobody types a name.
_NO_NAME_TYPED = frozenset({"sudo", "sudo-i", "su", "su-l", "polkit-1", "passwd", "doas", "chsh", "chfn"})
# Of a failed login they have a line of their own beside that of PAM.
_TELL_THEMSELVES = frozenset({"sshd", "login", "remote"})
_NO_TERMINAL = frozenset({"none", "?", "unknown", "notty", "ssh"})


def _text() -> str:
    return resources.files(__package__).joinpath("messages.toml").read_text(encoding="utf-8")


@cache
def _table() -> dict[str, tuple[_Row, ...]]:
    stated = tomllib.loads(_text())
    begins = stated["begins"]
    return {
        name: tuple(
            _Row(re.compile(begins.get(name, "") + pattern, re.DOTALL), EventKind[kind], reason, Change[change[0]] if change else None)
            for pattern, kind, reason, *change in rows
        )
        for name, rows in stated["rows"].items()
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
    if rows is table["accounts"]:  # older versions open quotations as typewriters did
        message = message.replace("`", "'")
    for row in rows:
        found = row.pattern.fullmatch(message)
        if found is not None:
            return _event(row, found, program)
    return None


def _event(row: _Row, found: re.Match[str], program: str) -> Event:
    parts = found.groupdict("")
    part = parts.get
    terminal = part("terminal", "").removeprefix("/dev/")
    command, times, reason, key = part("command", ""), part("times", ""), part("reason", ""), part("key", "")
    by_key = _NAMED_BY_KEY.fullmatch(key) if key and part("target") == "root" else None
    if not reason:
        reason = row.reason.format(**parts) if "{" in row.reason else row.reason
    kind = row.kind
    if kind is EventKind.FAILED and part("program") in LOGIN_SERVICES - _TELL_THEMSELVES:
        kind = EventKind.LOGIN_FAILED
    return Event(
        None,
        NOWHERE,
        None,
        kind,
        of := part("program") or program.partition("(")[0],
        account=part("ruser") or part("account") or (f"#{number}" if (number := part("number")) else ""),
        target="root" if found.string.startswith("ROOT LOGIN") else part("target", ""),
        group=part("group", ""),
        terminal="" if terminal in _NO_TERMINAL else terminal,
        folder=part("folder", ""),
        command=masked(command) if command else "",
        reason=" ".join(filter(None, (reason, key))),
        times=0 if part("right") else int(times[:6]) if times else 1,
        address=part("address", ""),
        login=part("login") or (by_key["id"] or by_key["principal"] if by_key is not None else ""),
        typed=bool(part("typed")) and of not in _NO_NAME_TYPED,
        change=row.change,
        sums_up=bool(part("whole")),
        module=part("module", ""),
    )
