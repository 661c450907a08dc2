"""Secrets that others than root can read, and logs that others can write: by the table in ``data/sensitive.toml``.

Knows the places; who can read or write them is the business of `files`.
"""

import re
import tomllib
from collections.abc import Iterator
from functools import cache
from importlib.resources import files

from msgspec import Struct

from fidelitas.facts import FileKind, FileState, HostFacts, Place
from fidelitas.rights.linux.files import Writers, above, readers, writers, writers_told
from fidelitas.rights.linux.population import Population

__all__ = ["Exposed", "exposed_logs", "exposed_secrets", "is_secret"]


class Exposed(Struct, frozen=True, kw_only=True):
    """A secret that `who` can read, or a log that `who` can write; `at` is the place that lets them, the same or above it."""

    path: str
    at: str
    who: Writers
    told: str
    why: str
    place: Place


class _Row(Struct, frozen=True):
    pattern: re.Pattern[str]
    besides: re.Pattern[str] | None
    owners: frozenset[str]
    why: str


@cache
def _rows(table: str) -> tuple[_Row, ...]:
    text = files("fidelitas.rights.linux").joinpath("data/sensitive.toml").read_text(encoding="utf-8")
    return tuple(
        _Row(
            _expression(row["files"]),
            _expression(row["not"]) if "not" in row else None,
            frozenset(row.get("owners", ())),
            row["why"],
        )
        for row in tomllib.loads(text)[table]
    )


def _expression(patterns: list[str]) -> re.Pattern[str]:
    """Return an expression for any of some patterns, in which a star does not match a slash."""
    parts = [re.escape(one).replace(r"\*", "[^/]*").replace(r"\?", "[^/]").replace(r"\[0\-9\]", "[0-9]") for one in patterns]
    return re.compile(f"(?:{'|'.join(parts)})\\Z")


def _row_of(path: str, table: str) -> _Row | None:
    return next((row for row in _rows(table) if row.pattern.match(path) and not (row.besides and row.besides.match(path))), None)


def is_secret(path: str) -> bool:
    """Return whether a path is one of the table's secrets."""
    return path.startswith("/") and _row_of(path, "secret") is not None


def exposed_secrets(facts: HostFacts, population: Population) -> Iterator[Exposed]:
    """Yield each secret that others than root, and than the server whose it is, can read."""
    states = facts.states
    hashes = {one.path for one in facts.logins.kept_passwords if one.file_kind == "password hashes"}
    for path, state in states.items():
        row = _row_of(path, "secret")
        if state.kind is FileKind.ABSENT or (row is None and path not in hashes):
            continue
        own = {one.uid for name in (row.owners if row else ()) if (one := population.by_name.get(name))}
        found = readers(path, states)
        groups = frozenset(gid for gid in found.gids if not _only(gid, own, population))
        able = Writers(uids=found.uids - own, gids=groups, everyone=found.everyone)
        if able:
            why = row.why if row is not None else "it holds password hashes: a copy of /etc/shadow (shadow(5))"
            told = _readers_told(state, able, population)
            yield Exposed(path=path, at=path, who=able, told=told, why=why, place=Place(facts.subject, path))


def _only(gid: int, uids: set[int | None], population: Population) -> bool:
    members = population.in_gid(gid)
    return bool(members) and all(who.uid in uids for who in members)


def exposed_logs(facts: HostFacts, population: Population) -> Iterator[Exposed]:
    """Yield each log that others than root can write, or replace by a folder above it."""
    states = facts.states
    named = {*_sudo_logs(facts), *facts.log_files}
    seen: set[str] = set()
    for path, state in states.items():
        row = _row_of(path, "log")
        if (row is None and path not in named) or state.kind is FileKind.OTHER:
            continue
        for at in dict.fromkeys((*above(path), *above(state.real or path))):
            who = writers(states.get(at))
            if who:
                if at not in seen:
                    seen.add(at)
                    why = (
                        row.why if row is not None else "sudo or syslog writes to it who used which privilege (sudoers(5), rsyslog.conf(5))"
                    )
                    told = writers_told(states.get(at), population)
                    yield Exposed(path=path, at=at, who=who, told=told, why=why, place=Place(facts.subject, at))
                break


def _sudo_logs(facts: HostFacts) -> Iterator[str]:
    for default in facts.policy.defaults:
        if default.option in ("logfile", "iolog_dir") and default.value and default.value.startswith("/"):
            yield default.value.partition("%")[0].rstrip("/")


def _readers_told(state: FileState, who: Writers, population: Population) -> str:
    mode = f"(mode {state.mode:04o})" if state.mode is not None else ""
    if who.everyone:
        return f"is readable by everyone {mode}"
    names = [_account(uid, population) for uid in sorted(who.uids)]
    names += [f"group {population.group_names.get(gid, str(gid))}" for gid in sorted(who.gids)]
    return f"is readable by {', '.join(names)} {mode}".rstrip()


def _account(uid: int, population: Population) -> str:
    who = population.by_uid(uid)
    return who.name if who is not None else f"uid {uid}"
