"""The errors that Fidelitas raises on purpose; any other exception is a defect.

::

    FidelitasError
    ├── ReadError        something could not be read from the world (exit status 4)
    ├── EvidenceError    a bundle is malformed, hostile or of a version that we do not know (4)
    ├── LedgerError      the ledger could not be read or written (4)
    └── RequestError     what was asked for does not exist or does not fit together (2)

A broken *policy* is none of these: it becomes a gap or a finding, and the audit goes on.
"""

from collections.abc import Sequence

__all__ = ["EvidenceError", "FidelitasError", "LedgerError", "ReadError", "RequestError"]


class FidelitasError(Exception):
    """What went wrong, in one line; `hint` is a sentence that says what to do about it, `more` what else is wrong, a line each."""

    exit_status = 4

    def __init__(self, message: str, *, hint: str = "", more: Sequence[str] = ()) -> None:
        super().__init__(message)
        self.hint, self.more = hint, tuple(more)


class ReadError(FidelitasError):
    """Something of the world could not be read."""


class EvidenceError(FidelitasError):
    """An evidence bundle is not what it must be."""


class LedgerError(FidelitasError):
    """The ledger could not be read or written."""


class RequestError(FidelitasError):
    """The question cannot be answered as it was put."""

    exit_status = 2
