"""Checks: what is risky or unexpected about the rights on a subject.

Each is a pure generator over the rights.  Its module lists it in `CHECKS`, under the name that its identifier has after the family;
importing a module registers nothing.
"""

from collections.abc import Iterable
from typing import Protocol, TypeVar

from fidelitas.checks.check import Check, Found, check
from fidelitas.checks.estate import ESTATE_CHECKS
from fidelitas.checks.linux import CHECKS
from fidelitas.facts import Gap, Place
from fidelitas.findings import Finding
from fidelitas.rights.linux.summary import HostSummary
from fidelitas.trouble import guarded

__all__ = ["CHECKS", "ESTATE_CHECKS", "Check", "Found", "check", "estate_findings", "run_checks"]


class _Judged(Protocol):
    @property
    def subject(self) -> str: ...
    @property
    def troubles(self) -> list[Gap]: ...


J = TypeVar("J", bound=_Judged)


def run_checks(checks: Iterable[Check[J]], rights: J) -> list[Finding]:
    """Return what some checks find of a subject; one that fails unexpectedly costs itself, and is a gap of the subject."""
    found: list[Finding] = []
    place = Place(subject=rights.subject, path="checks")
    for one in checks:
        found += guarded(one.findings(rights), rights.troubles, place, f"checking {one.name}", f"what the check {one.name} finds")
    return found


def estate_findings(hosts: Iterable[HostSummary]) -> list[Finding]:
    """Return what only all hosts together show."""
    hosts = tuple(hosts)
    return [finding for check in ESTATE_CHECKS for finding in check.findings(hosts)]
