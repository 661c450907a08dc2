"""The fields of a record of the audit log: hexadecimal where a value holds odd bytes, names after the record where the daemon adds them.

What comes before the message of a program, such as the user IDs, is the kernel's: nothing within the message takes its place.
"""

import re
from collections.abc import Mapping
from functools import lru_cache

from fidelitas.languages.logs.journal_fields import Names
from fidelitas.text import decode

__all__ = ["AuditNames", "fields_of", "number_or_name", "program_of", "terminal_of"]

_FIELD = re.compile(r"(?:\A|[ \x1d',(])([A-Za-z][\w-]*)=(\"[^\"]*\"|\([^)]*\)|[^ \x1d',]*)")
_OPERATION = re.compile(r"\bop=((?:(?! [\w-]+=)[^'\x1d])*)")
_HEXADECIMAL = re.compile(r"(?:[0-9A-F]{2})+\Z")
_MESSAGE = b" msg='"
# Fields whose values are written in hexadecimal where they hold blanks or odd bytes.
_ENCODED = frozenset({"cmd", "cwd", "exe", "acct", "grp", "comm", "name", "proctitle"})
# Files under which programs are elsewhere, or in parts.
_SAME = {"sshd-session": "sshd", "sshd-auth": "sshd", "sudo.ws": "sudo", "sudo-rs": "sudo", "sudoedit": "sudo", "su-rs": "su"}
_UNSET = ("4294967295", "-1", "unset", "?", "")
_UNNAMED = ("unknown(", "unset")
_LONGEST_KEPT = 500  # bytes
_DIGITS = 10


def fields_of(record: bytes) -> dict[str, str]:
    """Return the fields of what a record says, those within its message too: ``op`` runs on to the next field."""
    head, begin, message = record.partition(_MESSAGE)
    if not begin:
        return _fields(head)
    return {**(_kept if len(message) <= _LONGEST_KEPT else _fields)(message), **_fields(head)}


def _fields(part: bytes) -> dict[str, str]:
    text, fields = decode(part), {}
    for name, value in _FIELD.findall(text):
        if value[:1] == '"':
            fields[name] = value.strip('"()')
        elif name in _ENCODED or (name[0] == "a" and name[1:].isdecimal()):
            fields[name] = _decoded(value.strip('"()'))
        else:
            fields[name] = value.strip('"()')
    operation = _OPERATION.search(text) if "op=" in text else None
    if operation is not None:
        fields["op"] = operation[1].strip('" ')
    return fields


_kept = lru_cache(maxsize=10_000)(_fields)


def _decoded(value: str) -> str:
    return decode(bytes.fromhex(value)) if _HEXADECIMAL.match(value) else value


def program_of(fields: Mapping[str, str]) -> str:
    """Return the program that a record is about, by its file."""
    program = fields.get("exe", "").rpartition("/")[2]
    return _SAME.get(program, program)


def terminal_of(fields: Mapping[str, str], call: Mapping[str, str]) -> str:
    """Return the terminal that a record names, or the system call that it belongs to; empty where there was none."""
    name = (fields.get("terminal", "") or call.get("tty", "")).removeprefix("/dev/")
    return "" if name in ("?", "ssh", "none") else name


def number_or_name(fields: Mapping[str, str], field: str) -> str:
    """Return the account whose number a field holds as the record itself names it, ``#1001`` where it does not."""
    number = fields.get(field, "")
    if number in _UNSET:
        return ""
    return _own_name(fields, field) or ("root" if number == "0" else f"#{number}")


def _own_name(fields: Mapping[str, str], field: str) -> str:
    """Return the account by what the daemon adds to a record: the name of a field in capitals."""
    name = fields.get(field.upper(), "")
    return "" if name.startswith(_UNNAMED) or fields.get(field, "") in _UNSET else name


class AuditNames:
    """Accounts by user ID, host by host: as a record itself names them, else as the host's evidence or earlier records do."""

    def __init__(self, names: Names) -> None:
        self._names = names

    @property
    def lasting(self) -> tuple[object, ...]:
        """What was learned, for others of the same log."""
        return self._names.lasting

    @lasting.setter
    def lasting(self, learned: tuple[object, ...]) -> None:
        self._names.lasting = learned

    def of(self, host: str, fields: Mapping[str, str], field: str) -> str:
        """Return the account whose number a field holds, ``#1001`` where no name is known, nothing where it is not set."""
        return self._names.account(host, number_or_name(fields, field))

    def learn(self, host: str, fields: Mapping[str, str]) -> None:
        """Remember the accounts that a record names; at a log-in the account is the log-in user."""
        for field in ("auid", "uid"):
            name = _own_name(fields, field)
            if name:
                self._learn(host, name, fields[field])
        opened = program_of(fields) in ("sshd", "login") and "session_open" in fields.get("op", "")
        if opened and fields.get("acct") and fields.get("auid", "") not in _UNSET:
            self._learn(host, fields["acct"], fields["auid"])

    def _learn(self, host: str, name: str, number: str) -> None:
        if number.isdecimal() and len(number) < _DIGITS:
            self._names.learn(host, [(name, int(number))])
