"""What a check is: a generator with an identifier, a rank and advice.  Its docstring is for the reader of the report."""

import inspect
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from fidelitas.findings import Finding, Severity
from fidelitas.rights import DatabaseRights, DirectoryRights, HostRights, MariadbRights
from fidelitas.text import Place
from fidelitas.usage import HostUse

__all__ = [
    "Check",
    "DatabaseCheck",
    "DirectoryCheck",
    "EstateCheck",
    "Found",
    "MariadbCheck",
    "UseCheck",
    "check",
    "database_check",
    "directory_check",
    "estate_check",
    "mariadb_check",
    "use_check",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """What a check yields: what it is about, the message, the places; a rank of its own where it differs from the check's."""

    about: str
    message: str
    places: tuple[Place, ...]
    quote: str = ""
    safer: str = ""  # a safer rule written out, where one can be made of the rule itself
    severity: Severity | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class _Check:
    """What every check has: `title` says what is wrong, `why` why it matters."""

    name: str
    severity: Severity
    advice: str
    title: str
    why: str

    def finding(self, subject: str, found: Found) -> Finding:
        """Return what was found on a subject as a finding."""
        return Finding(
            check=self.name,
            severity=self.severity if found.severity is None else found.severity,
            subject=subject,
            about=found.about,
            message=found.message,
            why=self.why,
            advice=self.advice,
            places=found.places,
            quote=found.quote,
            safer=found.safer,
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Check(_Check):
    """A check of one host."""

    run: Callable[[HostRights], Iterator[Found]]

    def findings(self, rights: HostRights) -> Iterator[Finding]:
        """Yield the findings on a host."""
        return (self.finding(rights.subject, found) for found in self.run(rights))


@dataclass(frozen=True, slots=True, kw_only=True)
class EstateCheck(_Check):
    """A check across all hosts in evidence."""

    run: Callable[[Iterable[HostRights]], Iterator[tuple[HostRights, Found]]]

    def findings(self, hosts: Iterable[HostRights]) -> Iterator[Finding]:
        """Yield the findings on all hosts."""
        return (self.finding(host.subject, found) for host, found in self.run(hosts))


@dataclass(frozen=True, slots=True, kw_only=True)
class DatabaseCheck(_Check):
    """A check of one PostgreSQL server."""

    run: Callable[[DatabaseRights], Iterator[Found]]

    def findings(self, rights: DatabaseRights) -> Iterator[Finding]:
        """Yield the findings on a server."""
        return (self.finding(rights.subject, found) for found in self.run(rights))


@dataclass(frozen=True, slots=True, kw_only=True)
class MariadbCheck(_Check):
    """A check of one MariaDB or MySQL server."""

    run: Callable[[MariadbRights], Iterator[Found]]

    def findings(self, rights: MariadbRights) -> Iterator[Finding]:
        """Yield the findings on a server."""
        return (self.finding(rights.subject, found) for found in self.run(rights))


@dataclass(frozen=True, slots=True, kw_only=True)
class DirectoryCheck(_Check):
    """A check of one directory."""

    run: Callable[[DirectoryRights], Iterator[Found]]

    def findings(self, rights: DirectoryRights) -> Iterator[Finding]:
        """Yield the findings in a directory."""
        return (self.finding(rights.subject, found) for found in self.run(rights))


@dataclass(frozen=True, slots=True, kw_only=True)
class UseCheck(_Check):
    """A check of how privilege is used on one host."""

    run: Callable[[HostUse], Iterator[Found]]

    def findings(self, use: HostUse) -> Iterator[Finding]:
        """Yield the findings on a host."""
        return (self.finding(use.host, found) for found in self.run(use))


def check(name: str, severity: Severity, *, advice: str) -> Callable[[Callable[[HostRights], Iterator[Found]]], Check]:
    """Return a decorator that makes a check of a generator; the first paragraph of its docstring is the title, the rest the reason."""

    def decorate(run: Callable[[HostRights], Iterator[Found]]) -> Check:
        title, why = _told(run)
        return Check(name=name, severity=severity, advice=advice, title=title, why=why, run=run)

    return decorate


def database_check(name: str, severity: Severity, *, advice: str) -> Callable[[Callable[[DatabaseRights], Iterator[Found]]], DatabaseCheck]:
    """Return the like of `check` for a generator over the rights on a database server."""

    def decorate(run: Callable[[DatabaseRights], Iterator[Found]]) -> DatabaseCheck:
        title, why = _told(run)
        return DatabaseCheck(name=name, severity=severity, advice=advice, title=title, why=why, run=run)

    return decorate


def mariadb_check(name: str, severity: Severity, *, advice: str) -> Callable[[Callable[[MariadbRights], Iterator[Found]]], MariadbCheck]:
    """Return the like of `check` for a generator over the rights on a MariaDB or MySQL server."""

    def decorate(run: Callable[[MariadbRights], Iterator[Found]]) -> MariadbCheck:
        title, why = _told(run)
        return MariadbCheck(name=name, severity=severity, advice=advice, title=title, why=why, run=run)

    return decorate


def directory_check(
    name: str, severity: Severity, *, advice: str
) -> Callable[[Callable[[DirectoryRights], Iterator[Found]]], DirectoryCheck]:
    """Return the like of `check` for a generator over the rights in a directory."""

    def decorate(run: Callable[[DirectoryRights], Iterator[Found]]) -> DirectoryCheck:
        title, why = _told(run)
        return DirectoryCheck(name=name, severity=severity, advice=advice, title=title, why=why, run=run)

    return decorate


def use_check(name: str, severity: Severity, *, advice: str) -> Callable[[Callable[[HostUse], Iterator[Found]]], UseCheck]:
    """Return the like of `check` for a generator over the use of privilege."""

    def decorate(run: Callable[[HostUse], Iterator[Found]]) -> UseCheck:
        title, why = _told(run)
        return UseCheck(name=name, severity=severity, advice=advice, title=title, why=why, run=run)

    return decorate


_Estate = Callable[[Iterable[HostRights]], Iterator[tuple[HostRights, Found]]]


def estate_check(name: str, severity: Severity, *, advice: str) -> Callable[[_Estate], EstateCheck]:
    """Return the like of `check` for a generator over all hosts."""

    def decorate(run: _Estate) -> EstateCheck:
        title, why = _told(run)
        return EstateCheck(name=name, severity=severity, advice=advice, title=title, why=why, run=run)

    return decorate


def _told(run: object) -> tuple[str, str]:
    title, _, why = (inspect.getdoc(run) or "").partition("\n\n")
    return " ".join(title.split()), " ".join(why.split())
