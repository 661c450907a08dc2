"""Tables reached through views and rules, with the rights of their owner (PostgreSQL manual, 41.5 Rules and Privileges).

Who may use a view needs no privilege on what it shows; the owner of the view does.  Views on views are followed.
"""

from collections.abc import Iterator
from typing import NamedTuple

from fidelitas.facts import Rewrite
from fidelitas.rights.postgresql.names import quoted
from fidelitas.rights.postgresql.privileges import Key, Privileges

__all__ = ["Opening", "openings"]

# The bit of a view's `updatable`, and the digit of a rule's event.
_BITS = {"UPDATE": 4, "INSERT": 8, "DELETE": 16}
_EVENTS = {"2": "UPDATE", "3": "INSERT", "4": "DELETE"}
_VIEW = "1"


class Opening(NamedTuple):
    """What a privilege on a view, or on a table with a rule, amounts to: as its owner, as far as the rewrites from there on go."""

    key: Key
    privilege: str
    rewrites: tuple[Rewrite, ...]

    def __str__(self) -> str:
        return " → ".join(f"{quoted(one.schema)}.{quoted(one.name)}" for one in self.rewrites)


def openings(privileges: Privileges, key: Key, privilege: str) -> Iterator[Opening]:
    """Yield what leads to a privilege on a table without being it, the nearest first."""
    if key[1] != "table" or privilege not in ("SELECT", *_BITS):
        return
    agenda = [Opening(key, privilege, ())]
    seen = {(key, privilege)}
    for at in agenda:
        for rewrite in privileges.rewrites_to(at.key):
            if not privileges.has_some(rewrite.owner, at.key, at.privilege):
                continue
            onward = (rewrite.database, "table", rewrite.schema, rewrite.name)
            for outer in _outer(rewrite, at.privilege):
                if (onward, outer) not in seen:
                    seen.add((onward, outer))
                    agenda.append(Opening(onward, outer, (rewrite, *at.rewrites)))
                    yield agenda[-1]


def _outer(rewrite: Rewrite, privilege: str) -> tuple[str, ...]:
    """Return by which privilege on a view or table its rewrite uses one on the other; what a rule does is not read, and may be all."""
    if rewrite.event != _VIEW:
        return (_EVENTS[rewrite.event],) if rewrite.event in _EVENTS else ()
    return (privilege,) if privilege == "SELECT" or rewrite.updatable & _BITS[privilege] else ()
