"""What a command touches that an auditor wants to know of: secrets, policy, logs, and what writes them (`sensitive_targets.toml`)."""

import fnmatch
import re
import tomllib
from collections.abc import Sequence
from enum import Enum
from functools import cache
from importlib import resources
from typing import NamedTuple

from fidelitas.usage.command_lines import Simple, simple_commands

__all__ = ["SensitiveTarget", "edited_paths", "sensitive_targets"]


class SensitiveTarget(Enum):
    """What a command touches."""

    SECRET = "secret"  # noqa: S105
    POLICY = "policy"
    LOG = "log"
    AUDIT = "audit"

    __hash__ = object.__hash__


class _Row(NamedTuple):
    harmless: re.Pattern[str]
    paths: re.Pattern[str]
    words: re.Pattern[str]
    samples: tuple[str, ...]
    raw: re.Pattern[str]  # paths that matter where one of some programs reads them
    raw_readers: re.Pattern[str]


_NOTHING: frozenset[SensitiveTarget] = frozenset()
# What stops services, and the services that write logs.
_CONTROLS = frozenset({"systemctl", "service", "kill", "killall", "pkill", "rc-service", "update-rc.d"})
_STOPS = frozenset({"stop", "disable", "mask", "kill", "remove"})
_WRITERS_OF_LOGS = re.compile(r"(?:auditd|rsyslogd?|syslog(?:-ng|d)?|systemd-journald)(?:\.service|\.socket)?\Z")
# What more is asked of by its words.
_BY_WORDS = frozenset({"auditctl", "chmod", "setcap", "install", "getent"})
_SET_USER_ID = re.compile(r"0?[4-7][0-7]{3}|(?:[go]{0,4}[ua][ugoa]{0,4})?[+=][rwxXt]{0,6}s[rwxXst]{0,6}")
_NO_RULES = re.compile(r"-(?:D|d|W|e0?)\Z")
# What takes a folder with all that is in it, some of them only if they are told so.
_WHOLE_FOLDERS = frozenset({"tar", "bsdtar", "rsync", "zip", "7z", "7za", "borg", "restic", "duplicity", "dar", "mv", "srm"})
_IF_RECURSIVE = frozenset({"cp", "scp", "rm", "chmod", "chown", "chgrp", "setfacl", "grep", "egrep", "chattr"})
_RECURSIVE = re.compile(r"-(?=[A-Za-z]*[rRa])[A-Za-z]+|--recursive|--archive")


@cache
def _table() -> dict[SensitiveTarget, _Row]:
    rows = tomllib.loads(resources.files(__package__).joinpath("sensitive_targets.toml").read_text(encoding="utf-8"))

    def row(stated: dict[str, object]) -> _Row:
        harmless, paths, words, raw, raw_readers = (
            re.compile(f"(?:{stated.get(part, '(?!)')})\\Z") for part in ("harmless", "paths", "words", "raw", "raw_readers")
        )
        samples = tuple(str(one) for one in stated.get("samples", ()))  # type: ignore[attr-defined]
        return _Row(harmless, paths, words, samples, raw, raw_readers)

    return {target: row(rows[target.value]) for target in SensitiveTarget}


def sensitive_targets(command: str, folder: str = "") -> frozenset[SensitiveTarget]:
    """Return what a command line touches, as far as its words tell; relative paths are of `folder`."""
    commands = [one for one in simple_commands(command, folder) if _may_touch(one)]
    if not commands:
        return _NOTHING
    found = {target for target in SensitiveTarget for one in commands if _fits(target, one)}
    if any(_log_silences(one.program, one.words) for one in commands):
        found.add(SensitiveTarget.AUDIT)
    if any(_gives_rights(one.program, one.words) for one in commands):
        found.add(SensitiveTarget.POLICY)
    if any(_shows_hashes(one.program, one.words) for one in commands):
        found.add(SensitiveTarget.SECRET)
    return frozenset(found)


@cache
def _of_any() -> tuple[re.Pattern[str], re.Pattern[str]]:
    """Return the words, and the paths, of all rows."""
    words, paths = (
        re.compile("|".join(f"(?:{getattr(row, part).pattern})" for row in _table().values()) + more)
        for part, more in (("words", ""), ("paths", rf"|.*[*?\[]|{_table()[SensitiveTarget.SECRET].raw.pattern}"))
    )
    return words, paths


def _may_touch(one: Simple) -> bool:
    """Return whether anything of a command can be of a row, before it is asked of which."""
    words, paths = _of_any()
    if one.program in _CONTROLS or one.program in _BY_WORDS or words.match(one.program) or _takes_folders(one):
        return True
    return any(map(words.match, one.words)) or any(map(paths.match, one.reads)) or any(map(paths.match, one.writes))


def edited_paths(command: str, folder: str = "") -> list[str]:
    """Return the policy files that an editing command names; visudo without a file edits the main policy."""
    commands, path = simple_commands(command, folder), _table()[SensitiveTarget.POLICY].paths
    named = [(*one.writes, *(one.reads if one.program == "visudo" else ())) for one in commands]
    found = list(dict.fromkeys(word for words in named for word in words if path.match(word)))
    return found or (["/etc/sudoers"] if any(one.program == "visudo" for one in commands) else [])


def _log_silences(name: str, words: Sequence[str]) -> bool:
    """Return whether a command stops what writes logs, or takes rules from the audit system."""
    if name == "auditctl":
        return any(_NO_RULES.match(word) for word in words)
    stops = name in ("kill", "killall", "pkill") or bool(_STOPS & set(words))
    return stops and name in _CONTROLS and any(_WRITERS_OF_LOGS.match(word) for word in words)


def _gives_rights(name: str, words: Sequence[str]) -> bool:
    """Return whether a command has a program run as its owner, or with capabilities (chmod(1), install(1), setcap(8))."""
    if name == "setcap":
        return any(sign in word for word in words for sign in "=+") and "-v" not in words
    if name == "install":
        return any(_SET_USER_ID.fullmatch(word.removeprefix("--mode=").removeprefix("-m")) for word in words)
    return name == "chmod" and any(_SET_USER_ID.fullmatch(part) for word in words[:5] for part in word.split(","))


def _shows_hashes(name: str, words: Sequence[str]) -> bool:
    """Return whether a command shows the hashes of passwords, from wherever they come (getent(1))."""
    return name == "getent" and bool({"shadow", "gshadow"} & set(words))


def _fits(target: SensitiveTarget, one: Simple) -> bool:
    row = _table()[target]
    if row.words.match(one.program) or any(row.words.match(word) for word in one.words):
        return "-c" not in one.words[:1] and "--check" not in one.words
    if target is SensitiveTarget.SECRET:
        if row.raw_readers.match(one.program) and any(map(row.raw.match, one.reads)):
            return True
        return not row.harmless.match(one.program) and any(_touches(row, path, one) for path in one.reads)
    return any(_touches(row, path, one) for path in one.writes)


def _touches(row: _Row, path: str, one: Simple) -> bool:
    """Return whether a path is one of a row, a pattern of a shell that takes one, or a folder that is taken with all in it."""
    if row.paths.match(path):
        return True
    if any(sign in path for sign in "*?["):
        return any(fnmatch.fnmatchcase(sample, path) for sample in row.samples)
    return _takes_folders(one) and any(sample.startswith(f"{path.rstrip('/')}/") for sample in row.samples)


def _takes_folders(one: Simple) -> bool:
    return one.program in _WHOLE_FOLDERS or (one.program in _IF_RECURSIVE and any(_RECURSIVE.fullmatch(word) for word in one.words))
