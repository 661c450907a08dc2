"""Lines that speak of privilege in a form that is not known: they are counted, so that nobody takes silence for their absence."""

import re

from fidelitas.facts import Gap, Place

__all__ = ["Unread"]

# What programs write of privilege alone, in whatever form: PAM's beginning of a message, sudo's field, the name of a record.
_SPEAKS = re.compile(rb'COMMAND=|pam_[a-z0-9]+\(|\btype=USER_CMD|"SYSLOG_IDENTIFIER"|\b(?:sudo|su|doas|pkexec)(?:\[\d+\])?:')


class Unread:
    """Counts such lines of one log, and knows the first."""

    def __init__(self) -> None:
        self.count = self._first = 0

    @property
    def lasting(self) -> tuple[int, int]:
        """What is known so far, for another reader to go on with."""
        return self.count, self._first

    @lasting.setter
    def lasting(self, known: tuple[int, int]) -> None:
        self.count, self._first = known

    def see(self, number: int, line: bytes) -> None:
        """Count a line, where it speaks of privilege."""
        if _SPEAKS.search(line) is not None:
            self.count += 1
            self._first = self._first or number

    def gaps(self, origin: Place) -> list[Gap]:
        """Return what to report of a log, for the first of them."""
        if not self.count:
            return []
        lines = "this line speaks" if self.count == 1 else f"this line and {self.count - 1:,} more speak"
        why = f"{lines} of privilege in a form that is not known, or not that of this log: not read"
        return [Gap(what="log lines", why=why, weakens="the use of privilege that they record", place=origin.at(self._first))]
