"""Messages that begin in a way that concerns no privilege: their lines say no more than that the log was written."""

from collections.abc import Iterable

from fidelitas.languages.logs.entries import NAME_FIRST

__all__ = ["Idle"]

_NAME_FIRST = frozenset(name.encode() for name in NAME_FIRST)
_PAM = (b"pam_", b" pam_")
_HEAD = 5  # bytes by which the beginnings of messages are distinguished at first; each is at least as long


class Idle:
    """Knows such messages by how they begin."""

    def __init__(self, beginnings: Iterable[bytes]) -> None:
        self._heads: dict[bytes, tuple[bytes, ...]] = {}  # beginnings by their first bytes
        for beginning in beginnings:
            self._heads[beginning[:_HEAD]] = (*self._heads.get(beginning[:_HEAD], ()), beginning)

    def is_one(self, program: bytes, message: bytes) -> bool:
        """Return whether a message of a program is one; some messages begin with an account's name."""
        some = self._heads.get(message[:_HEAD])
        return some is not None and message.startswith(some) and (program not in _NAME_FIRST or message.startswith(_PAM))
