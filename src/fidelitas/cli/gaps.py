"""Missing evidence on standard error, and in the exit status."""

from collections.abc import Iterable, Sequence

import click

from fidelitas.cli.main import UNREAD_STATUS
from fidelitas.cli.output import say
from fidelitas.facts import Gap
from fidelitas.reports.coverage import gaps_line
from fidelitas.rights import SubjectRights

__all__ = ["note_unread", "tell_gaps"]


def tell_gaps(hosts: Sequence[SubjectRights]) -> None:
    """Say on standard error that evidence is missing, where it is."""
    count = sum(host.gap_count for host in hosts)
    if count:
        say(gaps_line(count))
    note_unread(gap for host in hosts for gap in host.fatal_gaps)


def note_unread(gaps: Iterable[Gap], *, in_part: bool = False) -> None:
    """Say of every subject, log or check that was lost as a whole that it was, and let the command end with 4 unless it ends worse.

    With `in_part` it ends so where a part of one was lost, too.
    """
    for gap in gaps:
        if gap.fatal:
            say(f"{gap.place.subject}: {gap.why}")
        if gap.fatal or in_part:
            click.get_current_context().find_root().meta[UNREAD_STATUS] = 4
