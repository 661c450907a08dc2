"""What membership in a group confers by itself: the table in ``data/groups.toml``, confirmed on the host where it can be.

Knows what groups are for and which paths that hangs on; not who is in them.
"""

import re
import tomllib
from collections.abc import Mapping, Sequence
from functools import cache
from importlib.resources import files

from msgspec import Struct

from fidelitas.facts import AccessTag, FileKind, FileState, Group

__all__ = ["Conferred", "conferred"]

_DISK = re.compile(r"/dev/(sd[a-z]|x?vd[a-z]|nvme[0-9]n[0-9]|mmcblk[0-9]|dm-[0-9])\Z")
_BITS = {"r": 4, "w": 2}


class _Entry(Struct, frozen=True, kw_only=True):
    right: str
    needs: tuple[str, ...]
    access: str
    reason: str


class Conferred(Struct, frozen=True, kw_only=True):
    """What a group confers on a host.

    `right` is root, read-secrets, read-evidence or write-evidence, or empty where it confers none; `path` the file or socket that
    confirms it, `condition` what is not known.  `reason` says what the group is for, also where that is harmless.
    """

    right: str
    reason: str
    path: str | None = None
    condition: str | None = None


@cache
def _table() -> Mapping[str, _Entry]:
    stated = tomllib.loads(files("fidelitas.rights.linux").joinpath("data/groups.toml").read_text("utf-8"))
    return {
        name: _Entry(
            right="" if entry["right"] == "none" else entry["right"],
            needs=tuple(entry.get("needs", ())),
            access=entry.get("access", ""),
            reason=entry["reason"],
        )
        for entry in stated["group"]
        for name in entry["name"]
    }


def conferred(group: Group, states: Mapping[str, FileState]) -> Conferred | None:
    """Return what a group confers, or nothing where the table does not know it."""
    entry = _table().get(group.name)
    if entry is None:
        return None
    if not entry.right:
        return Conferred(right="", reason=entry.reason)
    looked = [states[path] for path in _paths(entry, states) if path in states]
    if not looked:
        what = "the disks are" if entry.needs == ("block devices",) else f"{entry.needs[0]} is"
        return Conferred(
            right=entry.right,
            reason=entry.reason,
            condition=f"if {what} there and belong{'' if what.endswith('are') else 's'} to the group, which was not looked at",
        )
    for state in looked:
        if _accessible(state, group.gid, _BITS[entry.access]):
            return Conferred(right=entry.right, reason=entry.reason, path=state.path)
    return Conferred(right="", reason=f"{entry.reason}; not so here: {_refuted(looked)}")


def _paths(entry: _Entry, states: Mapping[str, FileState]) -> Sequence[str]:
    return [path for path in states if _DISK.match(path)] if entry.needs == ("block devices",) else entry.needs


def _accessible(state: FileState, gid: int, bit: int) -> bool:
    """Return whether a group may read or write what stands at a path, by its mode or its access control list."""
    if state.kind is FileKind.ABSENT or state.mode is None:
        return False
    if any(entry.tag is AccessTag.GROUP and entry.id == gid and entry.permissions & bit for entry in state.access):
        return True
    return state.gid == gid and bool(state.mode >> 3 & bit)


def _refuted(looked: Sequence[FileState]) -> str:
    there = [state for state in looked if state.kind is not FileKind.ABSENT]
    return f"{there[0].path} gives it nothing" if there else f"there is no {looked[0].path}"
