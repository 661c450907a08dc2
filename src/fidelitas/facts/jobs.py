"""What runs by itself: cron jobs, units, scripts in the folders that are run as a whole; and where programs are taken from."""

from enum import StrEnum

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.text import Place

__all__ = ["Job", "JobKind", "SearchFolder"]


class JobKind(StrEnum):
    """By what something runs by itself."""

    CRON = "cron"
    AT = "at"
    SCRIPT = "script"  # in a folder that is run as a whole
    UNIT = "unit"
    UNIT_FILE = "unit file"
    ENVIRONMENT = "environment"  # a file of variables for a unit
    HOOK = "hook"  # configuration of a program of root's; the name says what that program does with it
    SCRIPT_CALL = "script call"  # named in a script that runs
    START_UP = "start-up file"  # of a shell


@equal_apart_from("place")
class Job(Struct, frozen=True, kw_only=True):
    """Something that runs by itself.

    `run_as` is the account, as it is written, `programs` are the paths of what it starts: programs, and scripts for an interpreter.
    """

    kind: JobKind
    name: str
    run_as: str
    command: str
    programs: tuple[str, ...]
    place: Place
    how: str = "runs"  # "runs", "reads" as code, or takes options from the "names" in a folder


@equal_apart_from("place")
class SearchFolder(Struct, frozen=True, kw_only=True):
    """A folder from which root takes programs or libraries that are named without a path; `why` says by which setting."""

    path: str
    why: str
    place: Place
