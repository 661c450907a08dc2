"""What a command touches that an auditor wants to know of: secrets, policy, logs, and what writes them (`sensitive_targets.toml`)."""

import re
import tomllib
from collections.abc import Sequence
from enum import Enum
from functools import cache, lru_cache
from importlib import resources

__all__ = ["SensitiveTarget", "edited_paths", "first_program", "sensitive_targets"]


class SensitiveTarget(Enum):
    """What a command touches."""

    SECRET = "secret"  # noqa: S105
    POLICY = "policy"
    LOG = "log"
    AUDIT = "audit"


_WORD = re.compile(r"[^\s'\";|&<>()`]+")
_SHELLS = re.compile(r"(?:.*/)?(?:ba|da|z|k)?sh\Z")
# Programs that only start another.
_WRAPPERS = re.compile(r"(?:.*/)?(?:env|nice|nohup|timeout|xargs|setsid|ionice|stdbuf)\Z|[A-Za-z_]\w*=.*|-.*|\d+[smh]?\Z")
# What stops services, and the services that write logs.
_CONTROLS = frozenset({"systemctl", "service", "kill", "killall", "pkill", "rc-service", "update-rc.d"})
_STOPS = frozenset({"stop", "disable", "mask", "kill", "remove"})
_WRITERS_OF_LOGS = re.compile(r"(?:auditd|rsyslogd?|syslog(?:-ng|d)?|systemd-journald)(?:\.service|\.socket)?\Z")
_NO_RULES = re.compile(r"-(?:D|d|W|e0?)\Z")


@cache
def _table() -> dict[SensitiveTarget, tuple[re.Pattern[str], re.Pattern[str], re.Pattern[str]]]:
    rows = tomllib.loads(resources.files(__package__).joinpath("sensitive_targets.toml").read_text(encoding="utf-8"))
    return {
        sensitive_target: tuple(
            re.compile(f"{rows[sensitive_target.value].get(part, '(?!)')}\\Z") for part in ("programs", "paths", "words")
        )  # type: ignore[misc]
        for sensitive_target in SensitiveTarget
    }


@lru_cache(maxsize=10_000)
def sensitive_targets(command: str) -> frozenset[SensitiveTarget]:
    """Return what a command line touches, as far as its words tell."""
    words = _WORD.findall(command[:4096])
    if not words:
        return frozenset()
    programs = _programs(words)
    found = {sensitive_target for sensitive_target in SensitiveTarget if _fits(sensitive_target, programs, words)}
    if _log_silences(programs[0].rpartition("/")[2], words[words.index(programs[0]) + 1 :]):
        found.add(SensitiveTarget.AUDIT)
    return frozenset(found)


def edited_paths(command: str) -> list[str]:
    """Return the policy files that an editing command names; visudo without a file edits the main policy."""
    words = _WORD.findall(command[:4096])
    _, path, _ = _table()[SensitiveTarget.POLICY]
    found = [_normal(word) for word in words[1:] if path.match(_normal(word))]
    return found or (["/etc/sudoers"] if any(word.rpartition("/")[2] == "visudo" for word in words) else [])


def _log_silences(name: str, words: list[str]) -> bool:
    """Return whether a command stops what writes logs, or takes rules from the audit system."""
    if name == "auditctl":
        return any(_NO_RULES.match(word) for word in words)
    stops = name in ("kill", "killall", "pkill") or bool(_STOPS & set(words))
    return stops and name in _CONTROLS and any(_WRITERS_OF_LOGS.match(word) for word in words)


def first_program(words: Sequence[str]) -> int:
    """Return which of the words of a command names its program: the first that is none that only starts another."""
    return next((number for number, word in enumerate(words) if not _WRAPPERS.match(word)), 0)


def _programs(words: list[str]) -> list[str]:
    """Return the words that can name the program: the first that is none that starts another; of what a shell is given, all."""
    at = first_program(words)
    return words[at:] if _SHELLS.match(words[at]) and "-c" in words else [words[at]]


def _fits(sensitive_target: SensitiveTarget, programs: list[str], words: list[str]) -> bool:
    program, path, word = _table()[sensitive_target]
    if any(word.match(one.rpartition("/")[2]) for one in words) and "-c" not in words[1:2] and "--check" not in words:
        return True
    return any(path.match(_normal(one)) for one in words[1:]) and any(program.match(one.rpartition("/")[2]) for one in programs)


def _normal(word: str) -> str:
    """Return the path of a word such as ``--file=/etc/shadow`` or ``of=/var/log/wtmp``."""
    at = word.find("/")
    return word[at:] if at > 0 and word[at - 1] in "=:@" else word
