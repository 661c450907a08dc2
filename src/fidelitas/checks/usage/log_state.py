"""Checks of the logs themselves: whether what they tell is all that there was to tell."""

from collections.abc import Iterator, Sequence

from fidelitas.checks.check import Check, Found, check
from fidelitas.findings import Severity, Statistic
from fidelitas.text import Place, shortened
from fidelitas.usage import HostUse, LogState, Silence, log_silences

__all__ = ["CHECKS"]


@check("logs.gap", Severity.MEDIUM, advice="Find out what happened then: a host that was off logs its start; otherwise lines are missing.")
def gap(use: HostUse) -> Iterator[Found]:
    """A log that is normally written steadily has no lines for a period.

    Removed lines look like this. The expected number is the log's own average for these hours and kind of day.
    """
    for silence in log_silences(use):
        if not silence.last:
            yield _found(use, silence, "holds nothing")


@check("logs.silent", Severity.HIGH, advice="Check whether the host is up and its logging runs; an emptied log is an incident.")
def silent(use: HostUse) -> Iterator[Found]:
    """A host's log has stopped: it has no lines since some time, although many are expected.

    Logging failed, was stopped, or the log was emptied.
    """
    for silence in log_silences(use):
        if silence.last:
            yield _found(use, silence, "has stopped: it holds nothing")


def _found(use: HostUse, silence: Silence, what: str) -> Found:
    logs = [log for log in use.logs if log.family == silence.family]
    emptied = "; the file was emptied" if any(log.empty and log.path == silence.family for log in logs) else ""
    begin, end = (f"{at.astimezone(use.zone):%Y-%m-%d %H:%M %Z}" for at in (silence.begin, silence.end))
    return Found(
        about=f"{silence.family} {silence.begin:%Y-%m-%dT%H}",
        message=f"{silence.family} {what} from {begin} to {end} (usual: {silence.expected:.0f} lines){emptied}",
        statistic=Statistic(observed=0, expected=silence.expected, chance=silence.chance),
        places=(Place(use.host, _goes_on(logs, silence).path),),
    )


def _goes_on(logs: Sequence[LogState], silence: Silence) -> LogState:
    """Return the file in which a log goes on after a silence, the last where it does not."""
    return next((log for log in logs if log.last is not None and log.last >= silence.end), logs[-1])


@check("logs.time-backwards", Severity.MEDIUM, advice="Find out whether the clock was set; otherwise treat the lines as inserted.")
def time_backwards(use: HostUse) -> Iterator[Found]:
    """The time stamps of a log go backwards.

    Either the clock was set back, which hides when things happened, or lines were inserted.
    """
    for log in use.logs:
        for jump in log.jumps[:5]:
            before, after = jump.before.astimezone(use.zone), jump.after.astimezone(use.zone)
            yield Found(
                about=f"{log.family} {jump.after:%Y-%m-%dT%H:%M}",
                message=f"{log.path} goes back from {before:%Y-%m-%d %H:%M:%S} to {after:%Y-%m-%d %H:%M:%S}",
                places=(Place(use.host, log.path, jump.line),),
            )


@check("logs.lines-removed", Severity.CRITICAL, advice="Read them in the earlier survey, and find out who could write to the log.")
def lines_removed(use: HostUse) -> Iterator[Found]:
    """Lines that an earlier survey read are missing from the log.

    Logs only grow at the end: someone removed these lines.
    """
    if use.gone:
        first = use.gone[0]
        what = shortened(first.command) or first.target or first.program
        yield Found(
            about=first.place.path,
            message=f"{len(use.gone)} lines that an earlier survey read are gone, the first about {first.account or first.program}: {what}",
            places=tuple(event.place for event in use.gone[:5]),
        )


CHECKS: tuple[Check[HostUse], ...] = (
    gap,
    silent,
    time_backwards,
    lines_removed,
)
