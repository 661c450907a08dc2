"""Times as a ledger writes them: surveys are named by them, in the order of time."""

from datetime import UTC, datetime

__all__ = ["stamp"]


def stamp(at: datetime) -> str:
    """Return the name of a survey of a time."""
    return at.astimezone(UTC).strftime("%Y-%m-%dT%H%M%SZ")
