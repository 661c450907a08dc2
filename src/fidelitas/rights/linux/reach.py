"""Who can reach a path at all: search permission on every folder above it (path_resolution(7)), by mode and access control list.

Knows permissions of folders; not what is at the path.  A folder whose state is not known bars nobody.
"""

from collections.abc import Mapping

from fidelitas.facts import AccessTag, FileKind, FileState
from fidelitas.rights.linux.files import above
from fidelitas.rights.linux.population import Population

__all__ = ["reachers"]

_SEARCH = 1


def reachers(path: str, states: Mapping[str, FileState], population: Population) -> frozenset[int] | None:
    """Return the user IDs besides root's that can reach a path; ``None`` where every account can."""
    barred = [state for at in above(path) if at != path and (state := states.get(at)) is not None and _bars(state)]
    allowed = [_searchers(state, population) for state in barred]
    return frozenset.intersection(*allowed) if allowed else None


def _bars(state: FileState) -> bool:
    return state.kind is FileKind.FOLDER and state.mode is not None and not state.mode & 0o001


def _searchers(folder: FileState, population: Population) -> frozenset[int]:
    """Return the accounts that can go through a folder which does not let everyone through."""
    mode = folder.mode or 0
    uids = {folder.uid} if mode & 0o100 else set()
    gids = {folder.gid} if mode & 0o010 and not folder.access else set()
    mask = next((entry.permissions for entry in folder.access if entry.tag is AccessTag.MASK), 7)
    for entry in folder.access:
        if (
            entry.permissions & mask & _SEARCH
            and entry.tag in (AccessTag.USER, AccessTag.GROUP)
            and (entry.id is not None or entry.tag is AccessTag.GROUP)
        ):
            (uids if entry.tag is AccessTag.USER else gids).add(folder.gid if entry.id is None else entry.id)
    members = {who.uid for who in population.identities if who.gids & {gid for gid in gids if gid is not None}}
    return frozenset(uid for uid in uids | members if uid)
