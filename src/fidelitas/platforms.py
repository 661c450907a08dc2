"""The platforms that evidence can be of: what each is called, what reads and judges it, which checks look at it, whether it brings logs.

What differs by platform is a field of its row; all code that needs it reads this table.  A new platform is its own modules and one
row.  Knows which function is whose; not what they do, nor how evidence is reached (`sources`).
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from fidelitas.checks import ESTATE_CHECKS, Check, directory, linux, mariadb, postgresql, run_checks, windows
from fidelitas.findings import Finding
from fidelitas.languages.directory import read_directory
from fidelitas.languages.linux.host import HostEvidence
from fidelitas.languages.mariadb import read_mariadb
from fidelitas.languages.postgresql import read_postgresql
from fidelitas.languages.windows.machine import read_windows
from fidelitas.rights import (
    DirectoryRights,
    ServerRights,
    database_rights_of,
    directory_rights_of,
    mariadb_rights_of,
    windows_rights_of,
)

__all__ = ["PLATFORMS", "Judge", "Platform", "check_names", "is_host", "server_findings"]

# What judges evidence, given the directories of the estate.
Judge = Callable[[HostEvidence, Sequence[DirectoryRights]], ServerRights]


@dataclass(frozen=True, slots=True, kw_only=True)
class Platform:
    """One platform.

    `rights` judges one subject; ``None`` for hosts, which are judged together (`audit.rights_of_estate`).  What `needs_directories` is
    judged once those are: it names their accounts and groups.
    """

    name: str
    checks: tuple[Check[Any], ...]
    rights: Judge | None = None
    needs_directories: bool = False
    has_logs: bool = False


def _table(*rows: Platform) -> Mapping[str, Platform]:
    return {row.name: row for row in rows}


PLATFORMS = _table(
    Platform(name="linux", checks=linux.CHECKS, has_logs=True),
    Platform(
        name="windows",
        checks=windows.CHECKS,
        rights=lambda evidence, directories: windows_rights_of(read_windows(evidence), directories),
        needs_directories=True,
        has_logs=True,
    ),
    Platform(name="directory", checks=directory.CHECKS, rights=lambda evidence, _: directory_rights_of(read_directory(evidence))),
    Platform(name="postgresql", checks=postgresql.CHECKS, rights=lambda evidence, _: database_rights_of(read_postgresql(evidence))),
    Platform(name="mariadb", checks=mariadb.CHECKS, rights=lambda evidence, _: mariadb_rights_of(read_mariadb(evidence))),
)


def is_host(platform: str) -> bool:
    """Return whether evidence of a platform is of a Unix host, with a sudo policy."""
    return platform in PLATFORMS and PLATFORMS[platform].rights is None


def server_findings(rights: ServerRights, platforms: Mapping[str, Platform] = PLATFORMS) -> list[Finding]:
    """Return all findings on a server, a directory or a machine, the worst first; none on one that could not be read."""
    checks = platforms[rights.platform].checks if rights.platform in platforms else ()
    return sorted(run_checks(checks, rights), key=lambda finding: (finding.severity, finding.check, finding.about))


def check_names() -> frozenset[str]:
    """Return the names of all checks, and of their themes."""
    # What brings the numerical libraries is asked for here alone.
    from fidelitas.checks.usage.table import USE_CHECKS  # noqa: PLC0415

    every: Iterable[Iterable[Any]] = (*(row.checks for row in PLATFORMS.values()), ESTATE_CHECKS, USE_CHECKS)
    names = {one.name for checks in every for one in checks}
    return frozenset(names | {name.partition(".")[0] for name in names})
