"""What a check is: a generator with an identifier, a rank and advice.  Its docstring is for the reader of the report."""

import inspect
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from fidelitas.findings import Finding, Severity
from fidelitas.rights import HostRights
from fidelitas.text import Place

__all__ = ["Check", "Found", "check"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """What a check yields: what it is about, the message, the places; a rank of its own where it differs from the check's."""

    about: str
    message: str
    places: tuple[Place, ...]
    quote: str = ""
    severity: Severity | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Check:
    """One check.  `title` says what is wrong, `why` why it matters."""

    name: str
    severity: Severity
    advice: str
    title: str
    why: str
    run: Callable[[HostRights], Iterator[Found]]

    def findings(self, rights: HostRights) -> Iterator[Finding]:
        """Yield the findings on a host."""
        for found in self.run(rights):
            yield Finding(
                check=self.name,
                severity=self.severity if found.severity is None else found.severity,
                subject=rights.subject,
                about=found.about,
                message=found.message,
                why=self.why,
                advice=self.advice,
                places=found.places,
                quote=found.quote,
            )


def check(name: str, severity: Severity, *, advice: str) -> Callable[[Callable[[HostRights], Iterator[Found]]], Check]:
    """Return a decorator that makes a check of a generator; the first paragraph of its docstring is the title, the rest the reason."""

    def decorate(run: Callable[[HostRights], Iterator[Found]]) -> Check:
        title, _, why = (inspect.getdoc(run) or "").partition("\n\n")
        return Check(name=name, severity=severity, advice=advice, title=" ".join(title.split()), why=" ".join(why.split()), run=run)

    return decorate
