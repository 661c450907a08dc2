"""crontab(5), anacrontab(5) and the crontabs of accounts.

Knows the lines: a variable, or when, (as whom,) what.  A percent sign ends the command; what follows is its input.
"""

import re
from collections.abc import Iterator

from fidelitas.facts import Job, JobKind, Place, SearchFolder
from fidelitas.languages.lines import Line, lines_of
from fidelitas.languages.linux.shell import calls_of

__all__ = ["read_anacrontab", "read_crontab", "runs_in_folder"]

_VARIABLE = re.compile(r"\s*[\"']?[A-Za-z_][A-Za-z0-9_]*[\"']?\s*=")
_PATH = re.compile(r"\s*PATH\s*=\s*[\"']?([^\"']*)")
# Variables that name code which every job runs or loads.
_CODE = re.compile(
    r"\b(?:SHELL|BASH_ENV|ENV|LD_PRELOAD|LD_LIBRARY_PATH|LD_AUDIT|PYTHONPATH|PYTHONSTARTUP|PERL5LIB|RUBYLIB)\s*=\s*[\"']?(/[^\"'\s]*)"
)
_WHEN = re.compile(r"\s*(?:@[a-z]+|(?:\S+\s+){4}\S+)\s+")
# run-parts(8): names of other characters are skipped, so that editors' copies do no harm.
_RUN_PARTS = re.compile(r"[A-Za-z0-9_-]+\Z")


def read_crontab(text: str, origin: Place, account: str | None = None) -> tuple[list[Job], list[SearchFolder]]:
    """Return the jobs of a crontab, and the folders of its PATH where root's jobs use it; `account` is ``None`` for the system's own."""
    jobs: list[Job] = []
    folders: list[SearchFolder] = []
    variables: list[tuple[Line, str]] = []
    for line in lines_of(text, origin):
        if not line.text.strip() or line.text.lstrip().startswith("#"):
            continue
        path = _PATH.match(line.text)
        if path is not None:
            folders += (SearchFolder(path=one, why="PATH of its jobs", place=line.place()) for one in path[1].strip().split(":"))
        elif not _VARIABLE.match(line.text):
            jobs += _job(line, account)
        else:
            variables += ((line, found[1]) for found in _CODE.finditer(line.text))
    for run_as in dict.fromkeys(job.run_as for job in jobs):
        for line, value in variables:
            programs = tuple(one for one in value.split(":") if one.startswith("/"))
            name = origin.path
            jobs.append(Job(kind=JobKind.CRON, name=name, run_as=run_as, command="", programs=programs, place=line.place(), how="reads"))
    return jobs, folders if any(job.run_as in ("root", "0") for job in jobs) else []


def _job(line: Line, account: str | None) -> Iterator[Job]:
    """job = when blanks [ account blanks ] command"""
    when = _WHEN.match(line.text)
    if when is None:
        return
    rest = line.text[when.end() :]
    if account is None:
        account, _, rest = rest.partition(" ") if "\t" not in rest.split(" ")[0] else rest.partition("\t")
    command = re.split(r"(?<!\\)%", rest, maxsplit=1)[0].strip()
    if command:
        name = line.origin.path
        yield from _jobs(name, account, command, line.place())


def _jobs(name: str, account: str, command: str, place: Place) -> Iterator[Job]:
    """Yield a command as a job, and apart from it each folder from whose names it takes options."""
    calls = calls_of(command)
    programs = tuple(dict.fromkeys(call.path for call in calls if call.how != "names"))
    yield Job(kind=JobKind.CRON, name=name, run_as=account, command=command, programs=programs, place=place)
    for call in calls:
        if call.how == "names":
            yield Job(kind=JobKind.CRON, name=name, run_as=account, command=command, programs=(call.path,), place=place, how="names")


def read_anacrontab(text: str, origin: Place) -> list[Job]:
    """Return the jobs of anacron: period, delay, name, command; all of them root's."""
    jobs: list[Job] = []
    for line in lines_of(text, origin):
        words = line.text.split(None, 3)
        if len(words) == 4 and re.match(r"[0-9@]", words[0]) and not _VARIABLE.match(line.text):
            jobs += _jobs(words[2], "root", words[3], line.place())
    return jobs


def runs_in_folder(name: str) -> bool:
    """Return whether run-parts(8) runs a file of this name."""
    return _RUN_PARTS.match(name) is not None
