"""The file of an estate, in TOML (docs/estate.md).

Every mistake is reported with its line and column, all of them at once.
"""

import re
import tomllib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from fidelitas.errors import FidelitasError, RequestError
from fidelitas.estate.entries import Elevation, Estate, HostEntry, PolicySource, ServerEntry, Shell
from fidelitas.estate.inventory import expanded, listed_names
from fidelitas.estate.positions import Position, positions_of
from fidelitas.text import has_endless_key

__all__ = ["DEFAULT_POLICY_FILES", "read_estate"]

FORMAT = 1
# Where a repository has the sudo policy, unless the file says so.
DEFAULT_POLICY_FILES: Mapping[str, str] = {"/etc/sudoers": "sudoers", "/etc/sudoers.d/": "sudoers.d/"}
# What reads a file of names, by its path beside that of the estate; and what a command prints.
Contents = Callable[[str], str]
Printed = Callable[[Sequence[str]], str]

_HOST_NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9._:%-]*\Z")
_TAG = re.compile(r"[\w.:+-]+(?:=[\w.:+-]+)?\Z")
_ACCOUNT = re.compile(r"[A-Za-z0-9_][\w.@-]*\Z")
_DURATION = re.compile(r"(\d{1,6})([smh])\Z")
_SECONDS = {"s": 1, "m": 60, "h": 3600}
_SERVERS = ("postgresql", "mariadb", "directory")
_PARTS = frozenset({"format", "ssh", "policy", "defaults", "tag", "host", *_SERVERS})
_OF_HOSTS = frozenset(
    {"name", "address", "tags", "elevation", "port", "user", "identity", "collector", "deadline", "shell", "list", "command"}
)
_OF_SERVERS = frozenset({"name", "uri", "tags"})
_OF_DEFAULTS = _OF_HOSTS - {"name", "address", "list", "command"}
_Path = tuple[str | int, ...]


def read_estate(text: str, origin: str, contents: Contents, printed: Printed) -> Estate:
    """Return the estate that a file declares; `contents` reads a file of names, `printed` what a command prints.

    Raises `RequestError` that has every mistake.
    """
    if has_endless_key(text):
        raise RequestError(f'estate "{origin}" has a line with more than a hundred dots: it is not read')
    try:
        stated = tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # the library's message has line and column
        raise RequestError(f'estate "{origin}" is not TOML: {error}') from error
    reader = _Reader(origin, positions_of(text), contents, printed)
    estate = reader.estate(stated)
    if reader.faults:
        *others, last = reader.faults
        raise RequestError(last, more=others, hint="docs/estate.md describes the file.")
    return estate


class _Reader:
    """Reads what a file states, and gathers what is wrong with it in `faults`."""

    def __init__(self, origin: str, positions: Mapping[_Path, Position], contents: Contents, printed: Printed) -> None:
        self.faults: list[str] = []
        self._origin, self._positions, self._contents, self._printed = origin, positions, contents, printed
        self._known: dict[str, int] = {}

    def estate(self, stated: Mapping[str, Any]) -> Estate:
        for name in stated:
            if name not in _PARTS:
                self._fault((name,), f'"{name}" is not a part of the file; its parts are {", ".join(sorted(_PARTS))}')
        if stated.get("format") != FORMAT:
            self._fault(("format",), f'the file must say "format = {FORMAT}"')
        common = self._settings(self._table(stated, "defaults"), ("defaults",), _OF_DEFAULTS)
        by_tag = {tag: self._settings(one, ("tag", tag), _OF_DEFAULTS) for tag, one in self._table(stated, "tag").items()}
        hosts = [host for at, entry in self._entries(stated, "host") for host in self._hosts(entry, at, common, by_tag)]
        servers = [one for kind in _SERVERS for at, entry in self._entries(stated, kind) for one in self._server(entry, at, kind)]
        config = self._table(stated, "ssh").get("config")
        if config is not None and not isinstance(config, str):
            self._fault(("ssh", "config"), '"config" must be the path of a configuration file of ssh')
        path = Path(self._origin).parent / config if isinstance(config, str) else None
        return Estate(hosts=hosts, servers=servers, ssh_config=path, policy=self._policy(stated))

    def _policy(self, stated: Mapping[str, Any]) -> PolicySource | None:
        """Return the repository of the policy, where one is named."""
        entry = self._table(stated, "policy")
        for name in sorted(set(entry) - {"repository", "files", "intended"}):
            self._fault(("policy", name), f'there is no setting "{name}" here; there are files, intended, repository')
        for name in ("files", "intended"):
            value = entry.get(name, {})
            if not isinstance(value, dict) or not all(isinstance(one, str) and one for one in value.values()):
                self._fault(("policy", name), f'"{name}" must be a table of texts')
                return None
        files = entry.get("files", {})
        for here, there in files.items():
            if not here.startswith("/") or there.startswith(("/", "-", ":")) or here.endswith("/") is not there.endswith("/"):
                why = "write a path on a host and one in the repository, both of a file or both of a folder"
                self._fault(("policy", "files", here), f'"{here}" = "{there}": {why}')
        for tag, name in entry.get("intended", {}).items():
            if name.startswith("-"):
                self._fault(("policy", "intended", tag), f'"{name}" does not name a commit')
        if not isinstance(entry.get("repository", ""), str) or (entry and "repository" not in entry):
            self._fault(("policy",), '"repository" must be the folder of a git repository')
            return None
        if not entry:
            return None
        return PolicySource(
            repository=Path(self._origin).parent / entry["repository"],
            files=files or DEFAULT_POLICY_FILES,
            intended=entry.get("intended", {}),
        )

    # -- parts ---------------------------------------------------------------------------------------------------------------------

    def _table(self, stated: Mapping[str, Any], name: str) -> Mapping[str, Any]:
        found = stated.get(name, {})
        if isinstance(found, dict):
            return found
        self._fault((name,), f"write [{name}]")
        return {}

    def _entries(self, stated: Mapping[str, Any], kind: str) -> Iterator[tuple[_Path, dict[str, Any]]]:
        found = stated.get(kind, [])
        if not isinstance(found, list) or not all(isinstance(one, dict) for one in found):
            self._fault((kind,), f"write [[{kind}]] with two brackets")
            return
        yield from (((kind, number), one) for number, one in enumerate(found))

    def _settings(self, entry: Any, at: _Path, known: frozenset[str]) -> Mapping[str, Any]:
        """Return what an entry states, without what cannot be so."""
        if not isinstance(entry, dict):
            self._fault(at, "it must be a table")
            return {}
        good = {}
        for name, value in entry.items():
            if name not in known:
                self._fault((*at, name), f'there is no setting "{name}" here; there are {", ".join(sorted(known))}')
            elif (why := _wrong(name, value)) is not None:
                self._fault((*at, name), f'"{name}" {why}')
            else:
                good[name] = value
        return good

    def _hosts(
        self, entry: Mapping[str, Any], at: _Path, common: Mapping[str, Any], by_tag: Mapping[str, Mapping[str, Any]]
    ) -> Iterator[HostEntry]:
        own = self._settings(entry, at, _OF_HOSTS)
        tags = [tag for one in (common, own) for tag in one.get("tags", ())]
        # A host's own settings count more than those of its tags, the first tag's more than the next's, and all more than the defaults.
        layers = [common, *(by_tag[tag] for tag in reversed(tags) if tag in by_tag), own]
        told = {name: value for layer in layers for name, value in layer.items()}
        line = self._at(at).line
        names = list(self._names(own, at))
        if "address" in own and len(names) > 1:
            self._fault((*at, "address"), '"address" is of one host, and this entry is of several')
        for name in names:
            if not _HOST_NAME.match(name):
                self._fault((*at, "name"), f'"{name}" cannot name a host')
            elif name in self._known:
                self._fault(at, f'"{name}" was declared before, in line {self._known[name]}')
            else:
                self._known[name] = line
                yield self._host(name, at, own, told, tags)

    def _host(self, name: str, at: _Path, own: Mapping[str, Any], told: Mapping[str, Any], tags: Iterable[str]) -> HostEntry:
        shell = Shell(told.get("shell", Shell.SH.value))
        windows = shell is Shell.POWERSHELL
        for setting in ("elevation", "collector"):
            if windows and setting in own:
                self._fault((*at, setting), f'"{setting}" is for hosts with sh: a Windows machine is read as the account that logs in')
        return HostEntry(
            name=name,
            address=own.get("address", name),
            tags=tuple(dict.fromkeys(tags)),
            elevation=Elevation.NONE if windows else Elevation(told.get("elevation", Elevation.SUDO.value)),
            shell=shell,
            port=told.get("port"),
            user=told.get("user"),
            identity=told.get("identity"),
            collector=None if windows else told.get("collector"),
            deadline=_seconds(told["deadline"]) if "deadline" in told else None,
            line=self._at(at).line,
        )

    def _names(self, entry: Mapping[str, Any], at: _Path) -> Iterator[str]:
        """Yield the names of an entry: stated, patterns, of a file, or what a command prints."""
        if not {"name", "list", "command"} & set(entry):
            self._fault(at, 'it has no "name", "list" or "command"')
        stated = entry.get("name", [])
        for pattern in [stated] if isinstance(stated, str) else stated:
            try:
                yield from expanded(pattern)
            except ValueError as error:
                self._fault((*at, "name"), str(error))
        if "list" in entry:
            yield from self._listed((*at, "list"), lambda: self._contents(entry["list"]))
        if "command" in entry:
            yield from self._listed((*at, "command"), lambda: self._printed(_texts(entry["command"]) or []))

    def _listed(self, at: _Path, text: Callable[[], str]) -> Iterator[str]:
        try:
            yield from listed_names(text())
        except (ValueError, RecursionError, FidelitasError) as error:
            self._fault(at, str(error))

    def _server(self, entry: Mapping[str, Any], at: _Path, kind: str) -> Iterator[ServerEntry]:
        own = self._settings(entry, at, _OF_SERVERS)
        if "uri" not in own:
            if "uri" not in entry:
                self._fault(at, 'it has no "uri"')
            return
        name, line = own.get("name"), self._at(at).line
        shown = name or own["uri"]
        if not isinstance(shown, str) or shown in self._known:
            self._fault(at, f'"{shown}" was declared before, or is not a single name')
            return
        self._known[shown] = line
        yield ServerEntry(name=name, kind=kind, uri=own["uri"], tags=tuple(own.get("tags", ())), line=line)

    # -- faults --------------------------------------------------------------------------------------------------------------------

    def _at(self, path: _Path) -> Position:
        """Return where a part stands, or the nearest part around it."""
        while path and path not in self._positions:
            path = path[:-1]
        return self._positions.get(path, Position(1, 1))

    def _fault(self, path: _Path, what: str) -> None:
        at = self._at(path)
        self.faults.append(f'estate "{self._origin}", line {at.line}, column {at.column}: {what}')


def _seconds(text: str) -> float:
    found = _DURATION.match(text)
    return float(int(found[1]) * _SECONDS[found[2]]) if found is not None else 0.0


def _texts(value: Any) -> list[str] | None:
    """Return a text, or a list of them, as a list; ``None`` for anything else."""
    some = [value] if isinstance(value, str) else value
    return some if isinstance(some, list) and some and all(isinstance(one, str) and one for one in some) else None


def _wrong(name: str, value: Any) -> str | None:
    """Return what is wrong with the value of a setting, or ``None``."""
    if name in ("name", "command"):
        return None if _texts(value) is not None else "must be a text or a list of texts"
    if name == "tags":
        some = value if isinstance(value, list) else None
        good = some is not None and all(isinstance(one, str) and _TAG.match(one) for one in some)
        return None if good else 'must be a list of words, such as ["web", "team=tides"]'
    if name == "port":
        return None if isinstance(value, int) and not isinstance(value, bool) and 0 < value < 65536 else "must be a number from 1 to 65535"
    if not isinstance(value, str) or not value or not value.isprintable():
        return "must be a text"
    return _wrong_text(name, value)


def _wrong_text(name: str, value: str) -> str | None:
    if name in ("elevation", "shell"):
        known = [one.value for one in (Elevation if name == "elevation" else Shell)]
        return None if value in known else f'is "{value}"; it can be {", ".join(known)}'
    if name == "deadline":
        return None if _seconds(value) else "must be a time such as 90s, 10m or 2h"
    if name == "address":
        return None if _HOST_NAME.match(value) else f'is "{value}", which is not an address'
    if name == "user":
        return None if _ACCOUNT.match(value) else f'is "{value}", which is not an account'
    if name == "collector":
        return None if re.fullmatch(r"/[\w./-]+", value) and "/../" not in value else "must be an absolute path of plain characters"
    if name == "uri":
        try:
            password = urlsplit(value).password
        except ValueError as error:
            return f"is not a URI: {error}"
        return "has a password in it; leave it to the password file of the client" if password or "password=" in value else None
    return None
