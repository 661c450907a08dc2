"""Keeping what a survey reads: in the ledger, or where that cannot be written to in a folder that is gone afterwards."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import UTC, datetime
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Self

from fidelitas.errors import LedgerError, ReadError, RequestError
from fidelitas.ledger import Ledger, StoredEvidence, Survey
from fidelitas.sources.collected import Collected

if TYPE_CHECKING:
    from fidelitas.ledger.draft import Draft

__all__ = ["Keeping"]


class Keeping:
    """Where what is read goes, piece by piece: the ledger; from the first failure to write on, a folder that is gone afterwards.

    An answer that cannot be kept is still an answer.
    """

    def __init__(self, ledger: Ledger, tags: Mapping[str, Sequence[str]], notice: Callable[[str], None], *, resume: bool = False) -> None:
        self.ledger, self._tags, self._notice, self._resume = ledger, tags, notice, resume
        self._draft: Draft | None = None
        self._beside: TemporaryDirectory[str] | None = None

    def __enter__(self) -> Self:
        try:
            self._draft = self.ledger.unfinished() if self._resume else self.ledger.draft()
        except LedgerError as error:
            self._fall_back(error)
        if self._draft is None:
            raise RequestError(f'no survey in ledger "{self.ledger}" was interrupted', hint="Survey without --resume.")
        return self

    def __exit__(self, *_: object) -> None:
        if self._beside is not None:
            self._beside.cleanup()

    @property
    def stored(self) -> StoredEvidence:
        """What was stored so far, to be read back."""
        return self._open_draft.stored

    @property
    def arrived(self) -> Sequence[str]:
        """The subjects of which evidence was stored so far."""
        return self.stored.names

    def take(self, collected: Iterable[Collected]) -> None:
        """Store what is collected, one piece at a time."""
        for piece in collected:
            tags = self._tags.get(piece.subject, ())
            try:
                self._open_draft.add(piece.bundle, tags)
            except LedgerError as error:
                self._fall_back(error)
                self._open_draft.add(piece.bundle, tags)

    def finish(self) -> Survey | None:
        """Write down the survey, if all of it could be stored."""
        if self._beside is not None:
            return None
        try:
            return self._open_draft.finish(datetime.now(UTC))
        except LedgerError as error:
            self._notice(f"{error}. {error.hint} The survey is not kept.")
            return None

    def interrupted(self) -> ReadError:
        """Return what to say when someone interrupts: what has arrived is kept."""
        count = len(self.arrived)
        subjects = f"{count} subject{'' if count == 1 else 's'}"
        return ReadError(f"interrupted: {subjects} had arrived", hint="Complete the survey: the same command with --resume.")

    @property
    def _open_draft(self) -> "Draft":
        if self._draft is None:
            raise RuntimeError("nothing is kept before it is entered")
        return self._draft

    def _fall_back(self, error: LedgerError) -> None:
        """Go on in a folder of its own; what had been stored before is carried there."""
        if self._beside is not None:
            raise error
        self._notice(f"{error}. {error.hint} The survey is not kept.")
        self._beside = TemporaryDirectory(prefix="fidelitas-")
        draft = Ledger(self._beside.name).draft()
        if self._draft is not None:
            stored = self._draft.stored
            for name in stored.names:
                draft.add(stored.evidence(name), stored.tags()[name])
        self._draft = draft
