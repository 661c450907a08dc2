"""What a command asks of an engine."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Protocol

from fidelitas.audit import Each

if TYPE_CHECKING:
    from fidelitas.ledger import Ledger, StoredEvidence
    from fidelitas.logbook import EventFilter

__all__ = ["Engine"]


class Engine(Protocol):
    """Does work on many subjects; what it cannot do is left to the process that asked, which finds nothing kept of it."""

    def judging(self, stored: "StoredEvidence") -> Each:
        """Return how hosts of which nothing is kept are judged apart from each other."""

    def read_logs(self, ledger: "Ledger", logs: Mapping[str, tuple[int, ...]], wanted: "EventFilter") -> None:
        """Have the logs of hosts read and what they record kept; `logs` has the numbers of each host's evidence."""
