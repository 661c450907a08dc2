"""Who can change a file: by owner, mode bits and access control list (acl(5)).

Knows permissions; not what the file is for.  A file's owner counts as able to write whatever the mode, since the owner can change it.
"""

from collections.abc import Iterator, Mapping
from posixpath import dirname

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.facts import AccessTag, FileKind, FileState
from fidelitas.rights.linux.population import Identity, Population

__all__ = ["Writers", "above", "is_link", "readers", "readers_told", "runners", "writers", "writers_told"]

_RUN, _WRITE, _READ = 1, 2, 4


class Writers(Struct, frozen=True):
    """Who besides root can change a file: user IDs, group IDs, or everyone."""

    uids: frozenset[int] = frozenset()
    gids: frozenset[int] = frozenset()
    everyone: bool = False

    def __bool__(self) -> bool:
        return bool(self.uids or self.gids or self.everyone)

    def include(self, who: Identity) -> bool:
        """Return whether an account is among them."""
        return self.everyone or who.uid in self.uids or bool(self.gids & who.gids)


NOBODY = Writers()


def writers(state: FileState | None) -> Writers:
    """Return who besides root can change what stands at a path.

    In a folder with the sticky bit nobody can replace what root owns, so that the right to write does no harm there (unlink(2)).
    """
    if state is None or state.mode is None or state.kind is FileKind.ABSENT:
        return NOBODY
    owner = frozenset({state.uid} - {0, None})
    if state.kind is FileKind.FOLDER and state.mode & 0o1000:
        return Writers(uids=frozenset(uid for uid in owner if uid is not None))
    uids, gids = _by_list(state, _WRITE) if state.access else (frozenset(), _group(state, 0o020))
    return Writers(
        uids=frozenset(uid for uid in owner | uids if uid),
        gids=frozenset(gid for gid in gids if gid),
        everyone=bool(state.mode & 0o002),
    )


def readers(path: str, states: Mapping[str, FileState]) -> Writers:
    """Return who besides root can read a file, through all folders above it whose state is known."""
    state = states.get(path)
    if state is None or state.mode is None or state.kind is FileKind.ABSENT:
        return NOBODY
    uids, gids = _by_list(state, _READ) if state.access else (frozenset(), _group(state, 0o040))
    folders = [states[one] for one in above(state.real or path) if one in states and one != path and states[one].kind is FileKind.FOLDER]
    known = [folder for folder in folders if folder.mode is not None]
    owner = frozenset({state.uid} - {0, None})
    return Writers(
        uids=frozenset(uid for uid in owner | uids if uid and (uid in owner or all(_passes(one, uid, None) for one in known))),
        gids=frozenset(gid for gid in gids if gid and all(_passes(one, None, gid) for one in known)),
        everyone=bool(state.mode & 0o004) and all(_passes(one, None, None) for one in known),
    )


def runners(state: FileState) -> Writers:
    """Return who besides root can run a program, by its own permissions; its owner can whatever the mode says, and so may root's group."""
    uids, gids = _by_list(state, _RUN) if state.access else (frozenset(), _group(state, 0o010))
    return Writers(
        uids=frozenset(uid for uid in uids | {state.uid} if uid),
        gids=gids,
        everyone=bool((state.mode or 0) & 0o001),
    )


def _passes(folder: FileState, uid: int | None, gid: int | None) -> bool:
    """Return whether an account, a group or, with neither, everyone can go through a folder; a list of its own counts as a yes."""
    mode = folder.mode or 0
    own = (uid is not None and folder.uid == uid and mode & 0o100) or (gid is not None and folder.gid == gid and mode & 0o010)
    return bool(mode & 0o001 or own or ((uid is not None or gid is not None) and folder.access))


def _group(state: FileState, bit: int) -> frozenset[int]:
    return frozenset({state.gid}) if state.gid is not None and state.mode is not None and state.mode & bit else frozenset()


def _by_list(state: FileState, bit: int) -> tuple[frozenset[int], frozenset[int]]:
    """Return the user and group IDs that the list lets read, write or run; its mask limits all but the owner and others."""
    mask = next((entry.permissions for entry in state.access if entry.tag is AccessTag.MASK), 7)
    able = [entry for entry in state.access if entry.permissions & mask & bit]
    groups = {state.gid if entry.id is None else entry.id for entry in able if entry.tag is AccessTag.GROUP}
    users = {entry.id for entry in able if entry.tag is AccessTag.USER and entry.id is not None}
    return frozenset(users), frozenset(gid for gid in groups if gid is not None)


def writers_told(state: FileState | None, population: Population) -> str:
    """Return who besides root can change a file, as a clause; nothing where nobody can."""
    found = writers(state)
    if state is None or state.mode is None or not found:
        return ""
    mode = f"(mode {state.mode:04o})"
    if state.uid:
        return f"belongs to {_account(state.uid, population)} {mode}"
    if found.everyone:
        return f"is writable by everyone {mode}"
    by = " by its access control list" if state.access else f" {mode}"
    return f"is writable by {_named(found, population)}{by}"


def readers_told(path: str, states: Mapping[str, FileState], population: Population) -> str:
    """Return who besides root and its owner can read a file, by name; nothing where nobody can."""
    state, found = states.get(path), readers(path, states)
    owner = state.uid if state is not None else None
    return _named(replace(found, uids=found.uids - {owner}), population)


def _named(who: Writers, population: Population) -> str:
    if who.everyone:
        return "everyone"
    listed = [_account(uid, population) for uid in sorted(who.uids)]
    for gid in sorted(who.gids):
        name = population.group_names.get(gid)
        listed.append(f"group {name}" if name else f"the group with gid {gid}")
    return ", ".join(listed)


def _account(uid: int, population: Population) -> str:
    who = population.by_uid(uid)
    return who.name if who is not None else f"uid {uid}"


def above(path: str) -> Iterator[str]:
    """Yield a path and every folder above it."""
    while True:
        yield path
        folder = dirname(path)
        if folder == path:  # "/", and also "//", which dirname(3) leaves alone as POSIX lets it, and a path without any
            return
        path = folder


def is_link(path: str, states: Mapping[str, FileState]) -> str:
    """Return where a path leads that is itself a symbolic link, and is not merely in a folder that is one; else nothing."""
    state, folder = states.get(path), states.get(dirname(path))
    if state is None or state.real is None or folder is None:
        return ""
    plain = f"{(folder.real or folder.path).rstrip('/')}/{path.rpartition('/')[2]}"
    return state.real if state.real != plain else ""
