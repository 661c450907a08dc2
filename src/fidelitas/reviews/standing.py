"""A review with its decisions, and what became of its revocations."""

from collections.abc import Mapping, Sequence

from msgspec import Struct

from fidelitas.reviews.actions import Outcome, Revocation
from fidelitas.reviews.decisions import Decision, DecisionKind, counting, undecided
from fidelitas.reviews.items import Item, Review

__all__ = ["Standing"]


class Standing(Struct, frozen=True):
    """A review as it stands: every decision, the oldest first; when it was closed (ISO 8601, UTC); its revocations, where looked at."""

    review: Review
    decisions: Sequence[Decision] = ()
    closed: str | None = None
    revocations: Sequence[Revocation] = ()

    @property
    def counting(self) -> Mapping[int, Decision]:
        """The decision that counts for each item, by the item's number."""
        return counting(self.review, self.decisions)

    @property
    def undecided(self) -> list[Item]:
        """The items that have to be decided still."""
        return undecided(self.review, self.decisions)

    @property
    def revoked(self) -> list[Item]:
        """The items that are to be revoked."""
        known = self.counting
        return [item for item in self.review.items if item.number in known and known[item.number].decision is DecisionKind.REVOKE]

    @property
    def left(self) -> list[Revocation]:
        """The revocations that are not done, according to the newest evidence."""
        return [one for one in self.revocations if one.outcome is not Outcome.DONE]

    def number_of(self, kind: DecisionKind, items: Sequence[Item]) -> int:
        """Return how many of some items were decided so."""
        known = self.counting
        return sum(item.number in known and known[item.number].decision is kind for item in items)
