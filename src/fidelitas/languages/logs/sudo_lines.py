"""What sudo logs: its text lines, and its events in JSON (sudoers(5), LOG FORMAT and EVENT LOGGING).

A line is ``account : [reason ; ] field ; field ; … COMMAND=…``.  Folder, command and environment are written by the one whom the line is
about, and can imitate the fields that come after them: such a line is read as its order says, and doubted.  TSID names the record of a
session (log_input, log_output); with ``@`` and a time it is a sub-command within that session (log_subcmds).
"""

import json
import re
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from fidelitas.facts import NOWHERE, Event, EventKind
from fidelitas.masking import masked

__all__ = ["logged_words", "read_sudo_event", "read_sudo_line"]

_FIELDS = "HOST|TTY|CHROOT|PWD|USER|GROUP|TSID|ENV|COMMAND"
_LINE = re.compile(rf"\s*+(?P<account>[^:]*?) : (?:(?P<reason>(?!(?:{_FIELDS})=).*?) ; )?(?P<fields>(?:{_FIELDS})=.*)\Z", re.DOTALL)
_FIELD = re.compile(rf"(?:\A| ; )({_FIELDS})=")
# The usual fields, with nothing in them that could be taken for another: such lines need no second look.
_USUAL = re.compile(r"TTY=(?P<TTY>[^ ;]+) ; PWD=(?P<PWD>[^;]*) ; USER=(?P<USER>[^ ;]+) ; COMMAND=(?P<COMMAND>[^;]*)\Z")
# A whole line of that kind, of the most frequent form.
_PLAIN = re.compile(r"\s*([^\s;:]+) : TTY=([^ ;]+) ; PWD=([^;]*) ; USER=([^ ;]+) ; COMMAND=([^;]*)\Z")
_END = re.compile(r"(?: ; SIGNAL=\w+ ; EXIT=\d+| ; SIGNAL=\w+| ; EXIT=\d+)\Z")
_ATTEMPTS = re.compile(r"(\d+) incorrect password attempts?\Z")
_CONTINUED = re.compile(r"\s*+(?P<account>[^:]*?) : \(command continued\) (?P<rest>.*)\Z", re.DOTALL)
_ORDER = _FIELDS.split("|")
_PREFIX = "@cee:"
# What goes wrong without an end of the command.
_WARNINGS = ("unable to resolve host", "problem with defaults entries", "unable to send")
# With -n sudo asks for none: nothing was mistyped.
_NOBODY_ASKED = "a password is required"


def read_sudo_line(message: str) -> Event | None:
    """Return the event of one line, or ``None`` for a line of another form (such as what PAM says for sudo).

    It has no place, and time and host only where the message names them (`Event.stamped`).
    """
    if message.lstrip().startswith((_PREFIX, '{"sudo"')):
        return _of_json(message.lstrip().removeprefix(_PREFIX))
    if " : " not in message:
        return None
    plain = _PLAIN.match(message)
    if plain is not None:
        account, terminal, folder, target, command = plain.groups()
        told = {"account": account, "target": target, "terminal": _terminal(terminal), "folder": folder, "command": masked(command)}
        return Event(None, NOWHERE, None, EventKind.USED, "sudo", **told)  # type: ignore[arg-type]
    found = _LINE.match(message)
    if found is None:
        part = _CONTINUED.match(message)
        return None if part is None else _part(part)
    usual = _USUAL.match(found["fields"])
    fields, doubt = (usual.groupdict(), "") if usual is not None else _split(found["fields"])
    reason = found["reason"] or ""
    if "COMMAND" not in fields or reason.startswith(_WARNINGS):
        return None
    command, end = _ended(fields["COMMAND"]) if not reason else (fields["COMMAND"], "")
    return Event(
        None,
        NOWHERE,
        None,
        _kind(reason),
        "sudo",
        host=fields.get("HOST", ""),
        account=found["account"],
        target=fields.get("USER", ""),
        group=fields.get("GROUP", ""),
        terminal=_terminal(fields.get("TTY", "")),
        folder=fields.get("PWD", ""),
        command=masked(command),
        reason=reason,
        times=_tries(reason),
        doubt=doubt,
        end=end,
        recording=fields.get("TSID", "").partition("@")[0],
        within="@" in fields.get("TSID", "") and not doubt,
    )


def _ended(command: str) -> tuple[str, str]:
    """Return a command without what may be the end of one, and that."""
    found = _END.search(command) if "=" in command else None
    return (command, "") if found is None else (command[: found.start()], found[0])


def _part(found: re.Match[str]) -> Event:
    """Return the event of a line that goes on with the command of the one before: sudo cuts long ones."""
    command, end = _ended(found["rest"])
    return Event(None, NOWHERE, None, EventKind.USED, "sudo", account=found["account"], command=command, end=end, part=True)


def _split(text: str) -> tuple[dict[str, str], str]:
    """Return the fields, the first of each name in sudo's own order, and a doubt where the text holds further ones."""
    marks = list(_FIELD.finditer(text))
    fields: dict[str, str] = {}
    doubt, last = "", -1
    for number, mark in enumerate(marks):
        name = mark[1]
        if name in fields or _ORDER.index(name) < last:
            doubt = "a folder or command in it imitates the fields of sudo's own lines"
            continue
        last = _ORDER.index(name)
        end = len(text) if name == "COMMAND" else marks[number + 1].start() if number + 1 < len(marks) else len(text)
        fields[name] = text[mark.end() : end]
        if name == "COMMAND":
            if _is_one_bare(fields[name], [one.start() - mark.end() for one in marks[number + 1 :]]):
                doubt = "a folder or command in it imitates the fields of sudo's own lines"
            break
    return fields, doubt


def _is_one_bare(text: str, places: Sequence[int]) -> bool:
    """Return whether one of some places in a command stands outside the quotes that sudo puts round arguments with blanks."""
    before, quotes = 0, 0
    for at in places:
        quotes += text.count("'", before, at)
        if quotes % 2 == 0:
            return True
        before = at
    return False


def _kind(reason: str) -> EventKind:
    if not reason:
        return EventKind.USED
    failed = "password" in reason or "authentication" in reason or "conversation" in reason
    return EventKind.FAILED if failed else EventKind.REFUSED


def _tries(reason: str) -> int:
    """Return how many passwords were wrong, where a reason tells of passwords; else one event is one."""
    attempts = _ATTEMPTS.match(reason)
    return int(attempts[1][:6]) if attempts else int(reason != _NOBODY_ASKED)


def _terminal(text: str) -> str:
    name = text.removeprefix("/dev/")
    return "" if name in ("unknown", "none", "?") else name


# -- events in JSON ----------------------------------------------------------------------------------------------------------------


def _loaded(text: str) -> Any:
    """Return what a text of JSON holds; of one that a daemon cut off, what came before the last value that is whole."""
    try:
        return json.loads(text)
    except ValueError:
        whole, closing = _whole_part(text)
        return json.loads(whole + closing)


# A string that is whole, what opens and closes, and what parts values.
_TOKENS = re.compile(r'"(?:[^"\\]|\\.)*"|[\[\]{},]')


def _whole_part(text: str) -> tuple[str, str]:
    """Return a text up to its last comma, with what closes what is open there."""
    closers: list[str] = []
    whole, closing = "", ""
    for found in _TOKENS.finditer(text):
        mark = found[0]
        if mark in "[{":
            closers.append("]" if mark == "[" else "}")
        elif mark in "]}" and closers:
            closers.pop()
        elif mark == "," and closers:
            whole, closing = text[: found.start()], "".join(reversed(closers))
    return whole, closing


def _of_json(text: str) -> Event | None:
    try:
        stated = _loaded(text)
    except (ValueError, RecursionError):
        return None
    inner = stated.get("sudo") if isinstance(stated, dict) else None
    return read_sudo_event(inner) if isinstance(inner, dict) else None


_KINDS = {"accept": EventKind.USED, "reject": EventKind.REFUSED, "exit": EventKind.CLOSED, "alert": EventKind.REFUSED}


def read_sudo_event(stated: Mapping[str, Any]) -> Event | None:
    """Return the event of an object as sudo's JSON log has it: ``accept``, ``reject``, ``alert`` or ``exit`` and its properties.

    It has no place, and time and host as far as they are there (`Event.stamped`).
    """
    name = next((one for one in _KINDS if isinstance(stated.get(one), dict)), None)
    if name is None:
        return None
    told = stated[name]
    reason = _text(told.get("reason")) or _text(told.get("alert"))
    kind = _KINDS[name] if name in ("accept", "exit") else _kind(reason or "refused")
    command = _command_of(told)
    return Event(
        _time(told),
        NOWHERE,
        None,
        kind,
        "sudo",
        host=_text(told.get("submithost")),
        account=_text(told.get("submituser")),
        target=_text(told.get("runuser")),
        group=_text(told.get("rungroup")),
        terminal=_terminal(_text(told.get("ttyname"))),
        folder=_text(told.get("submitcwd")),
        command=masked(command),
        reason=reason if name != "exit" else f"exit {told.get('exit_value')}",
        times=_tries(reason),
        recording=_text(told.get("iolog_path")),
        within=name == "accept" and "iolog_offset" in told,
    )


def _command_of(told: Mapping[str, Any]) -> str:
    """Return a command with its arguments as sudo's text has them: the whole path, words with blanks in quotation marks."""
    words = told.get("runargv")
    arguments = [_text(word) for word in words] if isinstance(words, list) else []
    path = _text(told.get("command")) or (arguments[0] if arguments else "")
    return " ".join([path, *map(_quoted_word, arguments[1:])])


def _quoted_word(word: str) -> str:
    """Return a word as sudo 1.9 writes it in a line: quotes and backslashes behind one, others than letters in octal, blanks in quotes."""
    plain = re.sub(r"[\0-\x1f\x7f]", lambda found: f"#{ord(found[0]):03o}", re.sub(r"['\\]", r"\\\g<0>", word))
    return f"'{plain}'" if " " in plain else plain


_LOGGED_WORD = re.compile(r"(?:'(?:[^'\\]|\\.)*'|(?:[^ \\]|\\.)*)(?= |\Z)", re.DOTALL)


def logged_words(command: str) -> tuple[str, ...]:
    """Return a command as sudo writes it in a line as its words: the opposite of what `_quoted_word` does, but for what is octal.

    Sudo before 1.9 quotes nothing, so that blanks within a word cannot be told from those between words; an empty word is one between two
    blanks, or behind the last.  What is not quoted as sudo does it is parted at blanks.
    """
    found, at = [], 0
    while at <= len(command):
        word = _LOGGED_WORD.match(command, at)
        if word is None:
            return tuple(command.split(" "))
        text = word[0]
        inner = text[1:-1] if len(text) > 1 and text[0] == text[-1] == "'" else text
        found.append(re.sub(r"\\(['\\])", r"\1", inner))
        at = word.end() + 1
    return tuple(found)


def _text(value: Any) -> str:
    return value if isinstance(value, str) else ""


def _time(told: Mapping[str, Any]) -> datetime | None:
    server = told.get("server_time")
    seconds, fraction = (server.get("seconds"), server.get("nanoseconds")) if isinstance(server, dict) else (None, None)
    if not isinstance(seconds, int) or not 0 <= seconds < 1 << 35:
        return None
    within = fraction // 1000 if isinstance(fraction, int) and 0 <= fraction < 10**9 else 0
    return datetime.fromtimestamp(seconds, UTC) + timedelta(microseconds=within)
