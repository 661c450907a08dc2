"""Logs where they lie: which files belong to them, in which order, and their content in blocks of whole lines, unpacked.

Rotated files come before what they were rotated from; a packed copy of one that is there unpacked is left out.
"""

import hashlib
import os
import re
import subprocess
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from functools import partial
from io import BufferedIOBase
from itertools import chain, pairwise
from pathlib import Path
from typing import cast

from msgspec.structs import replace

from fidelitas.errors import ReadError
from fidelitas.evidence import BROKEN, LogCopy, age_of, bounded, cuts_of, has_records, in_blocks, tail_of, whole_lines
from fidelitas.extras import installed_extra
from fidelitas.sources.piped import STANDARD_INPUT, lasting_path
from fidelitas.sources.session_records import is_record_folder, session_records
from fidelitas.text import decode, short_host_name

__all__ = ["logs_at"]

_NAMES = re.compile(
    r"(?P<base>(?:auth|secure|messages|syslog|sudo|user|sulog|journal|audit|wtmp|btmp|lastlog)[A-Za-z0-9_-]*?(?:\.log)?)"
    r"(?P<turn>(?:[.-]\d+)?)(?P<pack>\.(?:gz|xz|zst|bz2))?\Z|(?P<other>postgresql.*\.(?:log|csv)|.+\.(?:json|export|jsonl|journal|evtx|xml))\Z"
)


# A log that is shorter is read by one before several have begun.
_LONG, _BLOCK = 32 << 20, 1 << 20
_SAME_BEGIN, _SAMPLE = 4096, 1 << 16
_OWN_LOGS = (Path("/var/log"), Path("/run/log"))
_MACHINE = re.compile(r"[0-9a-f]{32}(?:\.\w+)?")


def logs_at(
    paths: Iterable[Path], subject: str | None, hosts_named_in: Callable[[bytes], Iterable[bytes]] = lambda _: ()
) -> list[list[LogCopy]]:
    """Return the logs at some paths, those of each host together, the older first.

    Of a folder those with names that logs of privilege have; a folder of such folders is one of hosts, each named as its folder.  What
    lies nowhere else is of `subject`; where that is not given, of the one host that these logs name (`hosts_named_in` a part of them), else
    of this machine.
    """
    groups: dict[str | None, list[Path]] = {}
    for path in paths:
        for name, files in _hosts(path, subject):
            groups.setdefault(name, []).extend(files)
    found = []
    for name, files in groups.items():
        logs = _once([_log(file, name or os.uname().nodename) for file in sorted(files, key=_age)])
        found.append(logs if name is not None else _of_one_host(logs, files, hosts_named_in))
    return found


def _once(logs: Sequence[LogCopy]) -> list[LogCopy]:
    """Return the logs without the packed copies of those that are there unpacked."""
    first_lines: dict[bytes, LogCopy] = {}
    for log in logs:
        first_lines.setdefault(hashlib.sha256(_beginning(log)[:_SAME_BEGIN]).digest(), log)
    return list(first_lines.values())


def _beginning(log: LogCopy) -> bytes:
    try:
        return next(log.blocks(), b"")[:_SAMPLE] or log.path.encode("utf-8", "surrogateescape")
    except ReadError:  # damaged from the start: told when it is read
        return log.path.encode("utf-8", "surrogateescape")


def _of_one_host(logs: Sequence[LogCopy], files: Iterable[Path], hosts_named_in: Callable[[bytes], Iterable[bytes]]) -> list[LogCopy]:
    """Return logs as those of the one host that they name, by how they begin and end; this machine's own stay its."""
    if any(file.absolute().is_relative_to(own) for file in files for own in _OWN_LOGS):
        return list(logs)
    named = {short_host_name(decode(host)) for log in logs for part in (_beginning(log), _end(log)) for host in hosts_named_in(part)}
    return [replace(log, subject=next(iter(named))) for log in logs] if len(named) == 1 else list(logs)


def _end(log: LogCopy) -> bytes:
    try:
        return b"" if log.records else log.tail()[-_SAMPLE:].partition(b"\n")[2]
    except ReadError:
        return b""


def _hosts(path: Path, subject: str | None) -> list[tuple[str | None, list[Path]]]:
    """Return the files at a path by the host that they are of."""
    try:
        if not path.is_dir():  # ``-``, too
            return [(subject, [path])]
        files = _logs_in(path)
        if files:
            return [(subject, files)]
        return [(folder.name, _logs_in(folder)) for folder in sorted(path.iterdir()) if folder.is_dir()]
    except OSError as error:
        raise ReadError(f'could not read "{path}": {error.strerror or error}', hint=_hint(error)) from error


def _logs_in(folder: Path) -> list[Path]:
    """Return the logs of one host in a folder such as /var/log: files, those of the audit system, and the journal as a whole."""
    journals = [one for one in (folder, folder / "journal") if _is_journal(one)]
    if journals and journals[0] == folder:
        return journals
    if is_record_folder(folder):
        return [folder]
    records = [one for one in (folder / "sudo-io",) if is_record_folder(one)]
    return [*_files(folder), *_files(folder / "audit"), *journals[:1], *records]


def _is_journal(folder: Path) -> bool:
    """Return whether a folder holds the files of a journal, which are in a folder of the machine (systemd-journald.service(8))."""
    return any(_MACHINE.fullmatch(one.name) and any(one.glob("*.journal")) for one in folder.iterdir()) if folder.is_dir() else False


def _files(folder: Path) -> list[Path]:
    """Return the files of a folder that have names of logs."""
    return [one for one in sorted(folder.iterdir()) if one.is_file() and _NAMES.match(one.name)] if folder.is_dir() else []


def _age(path: Path) -> tuple[str, int, str]:
    """Return by what logs are ordered: by name, then by the number or date of rotation, the oldest first, the one in use last."""
    found = _NAMES.match(path.name)
    if found is None or found["base"] is None:
        return str(path), 0, ""
    return str(path.parent / found["base"]), age_of(path.name), found["pack"] or ""


def _log(path: Path, subject: str) -> LogCopy:
    """Return a log; ``-`` is standard input."""
    name = STANDARD_INPUT if str(path) == "-" else path
    shown = str(name)
    try:
        if is_record_folder(name):
            return LogCopy(shown, subject, shown, _written(name), partial(session_records, name), records=False, tail=lambda: b"")
        if name.is_dir():
            return LogCopy(
                shown, subject, shown, _written(name), partial(_journal, name, shown, "--directory"), records=False, tail=lambda: b""
            )
        file = lasting_path(name)
        by = _written(file)
        with file.open("rb") as stream:
            begin = stream.read(_BEGIN)
    except OSError as error:
        raise ReadError(f'could not read log "{shown}": {error.strerror or error}', hint=_hint(error)) from error
    records, reader = has_records(name.name), _reader(name, begin)
    found = LogCopy(shown, subject, _age(name)[0], by, partial(reader, file, shown), records=records, tail=partial(_tail, file, shown))
    return replace(found, parts=partial(_parts, file, shown)) if reader is _blocks and not records else found


def _written(path: Path) -> datetime:
    return datetime.fromtimestamp(path.stat().st_mtime, UTC)


def _reader(path: Path, begin: bytes) -> Callable[[Path, str], Iterator[bytes]]:
    """Return what reads a file: by how it begins, else by the end of its name."""
    known = next((reader for magic, reader in _MAGIC if begin.startswith(magic)), None)
    return known or _READERS.get(path.suffix.lower(), _blocks)


def _hint(error: OSError) -> str:
    return "Run as an account that may read logs." if isinstance(error, PermissionError) else "Name a log, or a folder of logs."


def _blocks(path: Path, shown: str) -> Iterator[bytes]:
    """Yield a log's content in blocks that end with a line; raises `ReadError` where it cannot be read or unpacked, or is no log."""
    try:
        with path.open("rb") as stream:
            blocks = bounded(in_blocks(stream, shown), path.stat().st_size, shown)
            first = next(blocks, b"")
            _refuse_others(first, shown)
            yield from chain([first] if first else [], blocks)
    except BROKEN as error:
        raise ReadError(f'could not read log "{shown}" to its end: {error}', hint="What was read before counts.") from error


def _refuse_others(begin: bytes, shown: str) -> None:
    """Refuse what is no log, of which lines by chance are those of one."""
    for at, magic, what, hint in _NO_LOGS:
        if begin.startswith(magic, at):
            raise ReadError(f'could not read log "{shown}": it is {what}', hint=hint)


def _parts(path: Path, shown: str, count: int) -> list[Callable[[], Iterator[bytes]]]:
    """Return what reads the parts of a long log, each of whole lines; none of a short one, or where they cannot be had."""
    try:
        with path.open("rb") as stream:
            ends = cuts_of(stream, count) if path.stat().st_size >= _LONG else []
    except OSError:  # told when it is read
        return []
    return [partial(_part, path, shown, begin, end) for begin, end in pairwise([0, *ends])]


def _part(path: Path, shown: str, begin: int, end: int) -> Iterator[bytes]:
    """Yield a part of a log in blocks of whole lines; what was written since to its end is not read."""
    try:
        with path.open("rb") as stream:
            stream.seek(begin)
            while begin < end and (block := stream.read(min(_BLOCK, end - begin))):
                block += stream.readline(_BLOCK) if begin + len(block) < end else b""
                begin += len(block)
                if begin < end and not block.endswith(b"\n"):
                    raise ReadError(f'log "{shown}" has a line of more than {_BLOCK} bytes')
                yield block
    except BROKEN as error:
        raise ReadError(f'could not read log "{shown}" to its end: {error}', hint="What was read before counts.") from error


def _tail(path: Path, shown: str) -> bytes:
    try:
        with path.open("rb") as stream:
            return tail_of(stream)
    except OSError as error:
        raise ReadError(f'could not read log "{shown}" to its end: {error}', hint="What was read before counts.") from error


def _journal(path: Path, shown: str, of: str = "--file") -> Iterator[bytes]:
    """Yield a file, or with `of` the folder, of a journal as journalctl(1) exports it."""
    arguments = ["journalctl", of, str(path), "--output", "json", "--all", "--no-pager", "--quiet"]
    try:
        with subprocess.Popen(arguments, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) as run:
            yield from whole_lines(cast(BufferedIOBase, run.stdout))
    except OSError as error:
        hint = "Export it on its host: journalctl -o json > journal.json"
        raise ReadError(f'could not read log "{shown}": journalctl: {error.strerror or error}', hint=hint) from error
    if run.returncode:
        raise ReadError(f'could not read log "{shown}": journalctl says that it is not a journal', hint="Export it on its host.")


def _event_log(path: Path, shown: str) -> Iterator[bytes]:
    """Yield an .evtx file as event XML, a record a line: a line's number is that of the record in the file."""
    with installed_extra():
        from evtx import PyEvtxParser  # noqa: PLC0415 installed for these files alone

    try:
        if not path.read_bytes():
            return
        for record in PyEvtxParser(str(path)).records():
            text = str(record["data"]) if record is not None else ""
            yield " ".join(text.partition("?>")[2].split("\n")).encode("utf-8", "surrogatepass") + b"\n"
    except (OSError, RuntimeError, ValueError) as error:
        why = " ".join(str(error).split())
        raise ReadError(f'could not read event log "{shown}" to its end: {why}', hint="What was read before counts.") from error


# What is no text is turned into text: by how it begins, or the end of its name.
_MAGIC = ((b"LPKSHHRH", _journal), (b"ElfFile\0", _event_log))
_READERS = {".journal": _journal, ".evtx": _event_log}
_BEGIN = max(len(magic) for magic, _ in _MAGIC)
_UNPACK, _TO_UTF_8 = "Unpack it, and name the folder.", "Turn it into UTF-8: iconv -f utf-16 -t utf-8"
# What is handed in for a log and is not one: from where on its bytes say so, and what to do.
_NO_LOGS = (
    (257, b"ustar", "an archive (tar)", _UNPACK),
    (0, b"PK\x03\x04", "an archive (zip)", _UNPACK),
    (0, b"\xff\xfe", "text in UTF-16", _TO_UTF_8),
    (0, b"\xfe\xff", "text in UTF-16", _TO_UTF_8),
    (0, b"SQLite format 3\0", "a database (SQLite)", "Name the logs themselves."),
)
