"""sudo's records of sessions (sudo_plugin I/O logs; sudoreplay(8), I/O LOG FILES): who ran what in each, never what was typed or shown.

Of every record one object of JSON is made, as sudo's own log in JSON has it for the command that began the session.
"""

import json
from collections.abc import Iterator
from itertools import islice
from pathlib import Path
from typing import Any

from fidelitas.errors import ReadError

__all__ = ["is_record_folder", "session_records"]

_MOST, _LONGEST = 1_000_000, 4 << 20
_FIELDS = ("submituser", "command", "runuser", "rungroup", "ttyname", "submithost", "submitcwd", "runargv")


def is_record_folder(folder: Path) -> bool:
    """Return whether a folder holds records of sessions: sudo counts them in a file `seq`, or a record is in it."""
    return folder.is_dir() and ((folder / "seq").is_file() or (folder / "timing").is_file()) and next(_records(folder), None) is not None


def session_records(folder: Path) -> Iterator[bytes]:
    """Yield a line of JSON for each record below a folder, by its path; raises `ReadError` at the end where some could not be read."""
    lost: list[str] = []
    for record in sorted(islice(_records(folder), _MOST)):
        try:
            stated = _stated(record)
        except (OSError, ValueError, IndexError, RecursionError) as error:
            lost.append(f'"{record}": {error}')
            continue
        event = {name: stated[name] for name in _FIELDS if name in stated}
        event |= {"server_time": stated.get("timestamp"), "iolog_path": str(record)}
        yield json.dumps({"accept": event}).encode() + b"\n"
    if lost:
        more = f" and {len(lost) - 1} more" if len(lost) > 1 else ""
        raise ReadError(f"could not read the record of a session {lost[0]}{more}", hint="All others were read.")


def _records(folder: Path) -> Iterator[Path]:
    # A link is not followed: it could lead anywhere.
    for path in folder.rglob("timing*"):
        if path.name in ("timing", "timing.gz") and not path.is_symlink() and (path.parent / "log").is_file():
            yield path.parent


def _stated(record: Path) -> dict[str, Any]:
    """Return what a record says of its session: in JSON since sudo 1.9.4, in three lines before that."""
    if (record / "log.json").is_file():
        stated = json.loads(_beginning(record / "log.json"))
        if not isinstance(stated, dict):
            raise ValueError("log.json is not an object")
        return stated
    first, folder, command, *_ = [*_beginning(record / "log").decode("utf-8", "surrogateescape").split("\n"), "", ""]
    seconds, user, target, group, terminal = first.split(":")[:5]
    path, *arguments = command.split(" ")
    return {
        "timestamp": {"seconds": int(seconds), "nanoseconds": 0},
        "submituser": user,
        "runuser": target,
        "rungroup": group,
        "ttyname": terminal,
        "submitcwd": folder,
        "command": path,
        "runargv": [path, *([" ".join(arguments)] if arguments else [])],
    }


def _beginning(path: Path) -> bytes:
    with path.open("rb") as stream:
        content = stream.read(_LONGEST + 1)
    if len(content) > _LONGEST:
        raise ValueError("it is longer than any that sudo writes")
    return content
