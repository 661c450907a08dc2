"""What runs by itself: cron jobs, units, scripts in the folders that are run as a whole; and where programs are taken from."""

from dataclasses import dataclass, field

from fidelitas.text import Place

__all__ = ["Job", "SearchFolder"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Job:
    """Something that runs by itself: `kind` is cron, at, unit, unit file, environment (a file of variables for a unit), or script.

    `run_as` is the account, as it is written, `programs` are the paths of what it starts: programs, and scripts for an interpreter.
    """

    kind: str
    name: str
    run_as: str
    command: str
    programs: tuple[str, ...]
    place: Place = field(compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class SearchFolder:
    """A folder from which root takes programs or libraries that are named without a path; `why` says by which setting."""

    path: str
    why: str
    place: Place = field(compare=False)
