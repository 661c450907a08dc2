"""The platforms that evidence can be of: one table, from which the audit, survey, probe and file recognition take all that they know.

A new platform is its own modules and one row.  What touches the world is named as ``module:function`` and loaded where it is used: its
driver may not be installed.  Knows which function is whose; not what they do.
"""

from collections.abc import Callable, Iterable, Mapping
from importlib import import_module
from typing import Any, cast

from msgspec import Struct

from fidelitas.checks import ESTATE_CHECKS, Check, directory, linux, mariadb, postgresql, run_checks, windows
from fidelitas.checks.check import AnyCheck
from fidelitas.checks.examples import example_of
from fidelitas.extras import installed_extra
from fidelitas.findings import CheckText, Finding
from fidelitas.judging import Judge, judge_directory, judge_host, judge_mariadb, judge_postgresql, judge_windows
from fidelitas.languages.ldap.ldif import is_directory_dump
from fidelitas.languages.mariadb import is_mariadb_dump
from fidelitas.languages.postgresql import is_postgresql_dump
from fidelitas.languages.windows.tool_output import is_account_text, is_group_listing, is_user_rights
from fidelitas.rights import SubjectRights

__all__ = ["PLATFORMS", "Dump", "Platform", "Reach", "check_names", "check_texts", "every_check", "findings_on", "is_host", "load"]


class Reach(Struct, frozen=True, kw_only=True):
    """How a server is read from here: `source` takes its address, a name, a password and a deadline."""

    source: str
    metavar: str
    help: str


class Dump(Struct, frozen=True, kw_only=True):
    """A file in which a subject was carried here, other than a bundle: how it is recognised, and what makes evidence of it."""

    recognise: Callable[[bytes], bool]
    source: str


class Platform(Struct, frozen=True, kw_only=True):
    """One platform.

    `judge` makes rights of evidence.  `needs_directories` says that it names accounts and groups of directories, which are judged first;
    `grouped` that subjects which state the same are judged once.  `collector` prints the script that is run on a subject; `title` is what
    help calls a subject.
    """

    name: str
    title: str
    checks: tuple[Check[Any], ...]
    judge: Judge
    needs_directories: bool = False
    grouped: bool = False
    has_logs: bool = False
    reach: Reach | None = None
    dumps: tuple[Dump, ...] = ()
    collector: str | None = None


def _table(*rows: Platform) -> Mapping[str, Platform]:
    return {row.name: row for row in rows}


PLATFORMS = _table(
    Platform(
        name="linux", title="a Linux host", checks=linux.CHECKS, judge=judge_host, needs_directories=True, grouped=True, has_logs=True,
        collector="fidelitas.evidence:probe_script",
    ),
    Platform(
        name="windows", title="a Windows machine", checks=windows.CHECKS, judge=judge_windows, needs_directories=True, has_logs=True,
        dumps=(
            Dump(recognise=is_group_listing, source="fidelitas.sources.file:from_group_listing"),
            Dump(recognise=is_user_rights, source="fidelitas.sources.file:from_user_rights"),
            Dump(recognise=is_account_text, source="fidelitas.sources.file:no_group_listing"),
        ),
        collector="fidelitas.evidence:windows_probe_script",
    ),
    Platform(
        name="directory", title="a directory", checks=directory.CHECKS, judge=judge_directory,
        reach=Reach(
            source="fidelitas.sources.directory:from_directory", metavar="URI",
            help="Read the directory at ldaps://dc.example/dc=example?bind=cn=auditor,dc=example; repeatable.",
        ),
        dumps=(Dump(recognise=is_directory_dump, source="fidelitas.sources.directory:from_ldif"),),
    ),
    Platform(
        name="postgresql", title="a PostgreSQL server", checks=postgresql.CHECKS, judge=judge_postgresql,
        reach=Reach(
            source="fidelitas.sources.postgresql:from_postgresql", metavar="PARAMETERS",
            help="Read the PostgreSQL server of these parameters: postgresql://auditor@db.example/postgres, or service=NAME; repeatable.",
        ),
        dumps=(Dump(recognise=is_postgresql_dump, source="fidelitas.sources.postgresql:from_postgresql_dump"),),
        collector="fidelitas.sources.postgresql:dump_script",
    ),
    Platform(
        name="mariadb", title="a MariaDB or MySQL server", checks=mariadb.CHECKS, judge=judge_mariadb,
        reach=Reach(
            source="fidelitas.sources.mariadb:from_mariadb", metavar="URI",
            help="Read the MariaDB or MySQL server at mariadb://auditor@db.example, or mariadb://root@/?socket=PATH; repeatable.",
        ),
        dumps=(Dump(recognise=is_mariadb_dump, source="fidelitas.sources.mariadb_dump:from_mariadb_dump"),),
        collector="fidelitas.sources.mariadb_dump:dump_script",
    ),
)  # fmt: skip


def load(name: str) -> Callable[..., Any]:
    """Return the function that a row names as ``module:function``; raises `ReadError` where its driver is not installed."""
    module, _, function = name.partition(":")
    with installed_extra():
        return cast(Callable[..., Any], getattr(import_module(module), function))


def is_host(platform: str) -> bool:
    """Return whether evidence of a platform is of a Unix host, with a sudo policy."""
    return platform == "linux"


def findings_on(rights: SubjectRights, platforms: Mapping[str, Platform] = PLATFORMS) -> list[Finding]:
    """Return all findings on one subject, the worst first; none on one that could not be read."""
    checks = platforms[rights.platform].checks if rights.platform in platforms else ()
    return sorted(run_checks(checks, rights), key=lambda finding: (finding.severity, finding.check, finding.places[0], finding.about))


def every_check() -> dict[str, AnyCheck]:
    """Return every check by its name."""
    # The checks of logs need readers that other questions do without.
    from fidelitas.checks.usage.table import USE_CHECKS  # noqa: PLC0415

    every: Iterable[Iterable[AnyCheck]] = (*(row.checks for row in PLATFORMS.values()), ESTATE_CHECKS, USE_CHECKS)
    return {one.name: one for checks in every for one in checks}


def check_names() -> frozenset[str]:
    """Return the names of all checks, and of their families."""
    names = every_check()
    return frozenset({*names, *(name.partition(".")[0] for name in names)})


def check_texts() -> dict[str, CheckText]:
    """Return the texts of each check, by its name."""
    return {
        name: CheckText(one.title, one.why, one.advice, str(one.severity), example.example, example.unlike, example.needs)
        for name, one in sorted(every_check().items())
        for example in (example_of(name),)
    }
