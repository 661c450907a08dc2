"""What a check is: a generator with an identifier, a rank and advice.  Its docstring is for the reader of the report."""

import hashlib
import inspect
from collections.abc import Callable, Iterator
from typing import Generic, Protocol, TypeVar

from msgspec import Struct

from fidelitas.findings import Finding, Severity, Statistic
from fidelitas.text import Place, quoted

__all__ = ["AnyCheck", "Check", "Found", "check", "title_and_reason"]

_LONGEST = 8000  # thousands of findings can be about one line


class Found(Struct, frozen=True, kw_only=True):
    """What a check yields: what it is about, the message, the places; a rank of its own where it differs from the check's."""

    about: str
    message: str
    places: tuple[Place, ...]
    quote: str | None = None
    safer: str | None = None  # a safer rule written out, where one can be made of the rule itself
    severity: Severity | None = None
    statistic: Statistic | None = None


class AnyCheck(Struct, frozen=True, kw_only=True):
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
            about=_bounded(found.about),
            message=found.message,
            why=self.why,
            advice=self.advice,
            places=found.places,
            quote=quoted(found.quote) if found.quote else None,
            safer=found.safer if found.safer and len(found.safer) <= _LONGEST else None,
            statistic=found.statistic,
        )


def _bounded(about: str) -> str:
    """Return what a finding is about; of a very long text the beginning and its SHA-256: others can begin so."""
    if len(about) <= _LONGEST:
        return about
    return f"{quoted(about)} {hashlib.sha256(about.encode('utf-8', 'surrogateescape')).hexdigest()}"


class _Subject(Protocol):
    @property
    def subject(self) -> str: ...


S = TypeVar("S", bound=_Subject)


class Check(AnyCheck, Generic[S], frozen=True, kw_only=True):
    """A check of one subject: the rights on a host, a server or in a directory, or the use of privilege on a host."""

    run: Callable[[S], Iterator[Found]]

    def findings(self, rights: S) -> Iterator[Finding]:
        """Yield the findings on a subject."""
        return (self.finding(rights.subject, found) for found in self.run(rights))


def check(name: str, severity: Severity, *, advice: str) -> Callable[[Callable[[S], Iterator[Found]]], Check[S]]:
    """Return a decorator that makes a check of a generator; the first paragraph of its docstring is the title, the rest the reason."""

    def decorate(run: Callable[[S], Iterator[Found]]) -> Check[S]:
        title, why = title_and_reason(run)
        return Check(name=name, severity=severity, advice=advice, title=title, why=why, run=run)

    return decorate


def title_and_reason(run: object) -> tuple[str, str]:
    """Return the title and the reason of a check, from its docstring."""
    title, _, why = (inspect.getdoc(run) or "").partition("\n\n")
    return " ".join(title.split()), " ".join(why.split())
