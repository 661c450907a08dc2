"""Two states of an estate in a ledger: the newest evidence that every subject had when each of two surveys was finished."""

from msgspec import Struct

from fidelitas.errors import RequestError
from fidelitas.evidence import Sameness, sameness
from fidelitas.ledger import Ledger, StoredEvidence

__all__ = ["States", "states_of"]


class States(Struct, frozen=True, kw_only=True):
    """The surveys by name, what evidence there was with each, and what is not the same: `silent` subjects, `other` machines."""

    before: str
    after: str
    old: StoredEvidence
    new: StoredEvidence
    silent: frozenset[str]
    other: frozenset[str]


def states_of(ledger: Ledger, since: str | None = None, until: str | None = None) -> States:
    """Return the states of two surveys: by default of the last one and of the one before it; raises `RequestError` where there is none.

    ``last`` is the last one before `until`, so that since the last survey means what one would think.
    """
    after = ledger.named(until or "last")
    before = _before(ledger, since, after)
    old, new = ledger.as_of(before), ledger.as_of(after)
    marks, now = old.heads(), new.heads()
    return States(
        before=before,
        after=after,
        old=old,
        new=new,
        silent=frozenset(new.names) - ledger.subjects_of(after),
        other=frozenset(name for name in marks.keys() & now.keys() if sameness(marks[name].identity, now[name].identity) is Sameness.OTHER),
    )


def _before(ledger: Ledger, since: str | None, after: str) -> str:
    earlier = [name for name in ledger.names() if name < after]
    named = after if since is None else ledger.named(since)
    if named > after:
        raise RequestError(f"survey {named} is not older than survey {after}", hint="Name the older one with --since.")
    if named < after:
        return named
    if not earlier:
        raise RequestError(f'ledger "{ledger}" holds no survey before {after}', hint="Survey again; then changes can be shown.")
    return earlier[-1]
