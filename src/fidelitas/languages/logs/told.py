"""What messages tell, each worked out once: what programs say repeats itself.

Knows no times and no hosts: a message that many hosts write is one.  So are those of sshd that differ in the port that someone came from
alone, of which no event tells (`without_port`).
"""

from collections.abc import Callable
from typing import Generic, TypeVar

from fidelitas.facts import Event
from fidelitas.languages.logs.audit_records import read_record_within
from fidelitas.languages.logs.entries import NAME_FIRST, SUDO
from fidelitas.languages.logs.messages import is_idle, is_part, read_message
from fidelitas.languages.logs.repetition import once
from fidelitas.languages.logs.sudo_lines import read_sudo_line
from fidelitas.recorded import OF_AUDIT, ONLY_PAM
from fidelitas.text import decode

__all__ = ["LONGEST_KEPT", "OF_SSHD", "Told", "without_port"]

A = TypeVar("A", str, bytes)
T = TypeVar("T")
# This many messages are remembered, and as many that were met before them, of at most this many characters each; a log made of ever new
# ones costs time, not memory.
_MOST, LONGEST_KEPT = 10_000, 500


OF_SSHD = frozenset({"sshd", "sshd-session", "sshd-auth"})
# Messages that end with the port behind an address, and what may stand behind that; of a key two words more.
_OF_PORTS = ("Accepted ", "Failed ", "Invalid user ")
_BEHIND = frozenset({"", "ssh2"})
_OF_PORTS_BYTES, _BEHIND_BYTES = tuple(text.encode() for text in _OF_PORTS), frozenset(text.encode() for text in _BEHIND)
_BLANKS_OF_KEY, _DIGITS = 2, 5


def without_port(message: A) -> A:
    """Return a message of sshd as if someone had come from port 0: a log has thousands that differ in it alone.

    What the one who came can have written stands before the port, or makes what stands behind it another.
    """
    if isinstance(message, str):
        begin, port, end = message.rpartition(" port ")
        number, blank, rest = end.partition(" ")
        is_port = len(number) <= _DIGITS and number.isdecimal() and message.startswith(_OF_PORTS)
        is_all = rest in _BEHIND or (rest.startswith("ssh2: ") and rest.count(" ") == _BLANKS_OF_KEY)
        return f"{begin}{port}0{blank}{rest}" if is_port and is_all else message
    head, sign, tail = message.rpartition(b" port ")
    digits, gap, left = tail.partition(b" ")
    is_port = len(digits) <= _DIGITS and digits.isdigit() and message.startswith(_OF_PORTS_BYTES)
    is_all = left in _BEHIND_BYTES or (left.startswith(b"ssh2: ") and left.count(b" ") == _BLANKS_OF_KEY)
    return b"".join((head, sign, b"0", gap, left)) if is_port and is_all else message


class Told(Generic[A, T]):
    """Messages, as text or as they are written, and what they tell, by the program that says them; those of `known` are worked out."""

    def __init__(self, made: Callable[[A, Event], T]) -> None:
        """`made` is what is kept of a message and its event, which has no time, host and place."""
        self._made: Callable[[A, Event], T] = made
        self.known: dict[tuple[A, A], T | bool] = {}
        self._before: dict[tuple[A, A], T | bool] = {}

    def of(self, program: A, message: A) -> T | bool:
        """Return what is kept of a message, or where it tells of no event, whether its form is known.

        Of a message that says how often another was repeated the event is that of the other.
        """
        found = self.known.get((program, message))
        if found is None:
            found = self._before.get((program, message))
            found = self.once(program, message) if found is None else found
            if len(message) <= LONGEST_KEPT:
                if len(self.known) >= _MOST:
                    self.known, self._before = {}, self.known
                self.known[program, message] = found
        return found

    def once(self, program: A, message: A) -> T | bool:
        """Return the same, and remember nothing."""
        event = _read(_text(program), once(_text(message)))
        return self._made(message, event) if isinstance(event, Event) else event


def _text(written: str | bytes) -> str:
    """Return a text without what stands round it in a line."""
    return decode(written).rstrip("\r").lstrip(" ") if isinstance(written, bytes) else written


def _read(program: str, message: str) -> Event | bool:
    if program in OF_AUDIT:
        return read_record_within(message)
    of_pam = message.startswith("pam_")
    if (is_idle(message) and (of_pam or program not in NAME_FIRST)) or (program in ONLY_PAM and not of_pam):
        return True
    event = read_sudo_line(message) if program in SUDO else None
    if event is None:
        event = read_message(program, message)
    return event or is_part(message)
