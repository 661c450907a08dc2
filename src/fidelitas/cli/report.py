"""``fidelitas report``."""

from collections.abc import Sequence
from datetime import timedelta
from pathlib import Path

import click

from fidelitas.audit import Audit, audit
from fidelitas.charter import charter_state, review
from fidelitas.cli.changes import since_last
from fidelitas.cli.charter_file import charter_in_use, charter_options
from fidelitas.cli.engine import engine_for
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.new_file import write_new_file
from fidelitas.cli.output import say
from fidelitas.cli.people import read_people
from fidelitas.cli.progress import progress
from fidelitas.cli.source import Source, source_options
from fidelitas.cli.times import reader_zone
from fidelitas.pages.content import Asked, content_of
from fidelitas.pages.pictures import Trend
from fidelitas.pages.rendering import rendered
from fidelitas.pages.standing import standing_of
from fidelitas.pages.trend import point_of
from fidelitas.pages.week import week_of
from fidelitas.people import MappedPerson
from fidelitas.reports.glossary import terms
from fidelitas.reviewing import ReviewBook

# Charter entries that end within this time are shown.
_SOON = timedelta(days=30)


@click.command
@click.option(
    "--out", "file", type=click.Path(dir_okay=False, path_type=Path), default="report.html", show_default=True, metavar="FILE",
    help="Write FILE, which must not be there yet.",
)  # fmt: skip
@click.option(
    "--surveys", "count", type=click.IntRange(1, 50), default=6, show_default=True, metavar="N",
    help="Draw the trend of the last N surveys.",
)  # fmt: skip
@charter_options
@source_options
def command(file: Path, count: int, charter: Path | None, mapped: Path | None, source: Source) -> None:
    """Write the report for people who do not use a terminal: one file for a browser, which loads nothing from elsewhere.

    First in short for a manager: who can become root or administrator where, what changed, the gravest problems, what is due, what was not
    read.  Then pictures, systems, findings, holders and gaps, each statement with its evidence; searched and filtered in the page.

    With --people holders are people; with --charter what it sanctions is marked, and what is overdue is named.
    """
    found = source.audit(findings=True)
    survey = source.ledger.named(source.survey or "last")
    names = {one.subject for one in found.subjects}
    findings = source.every_finding(found)
    people = tuple(read_people(mapped)) if mapped is not None else ()
    use = None if charter is None else charter_in_use(charter, mapped, source.tags_of(), found.subjects, whole=False)
    reviewed = None if use is None else review(findings, use.charter.exceptions, use.scope, use.day)
    state = None if use is None or reviewed is None else charter_state(
        use.charter, [holding for one in found.subjects for holding in one.own_holdings], reviewed, use.scope, use.day, _SOON
    )  # fmt: skip
    reviews = ReviewBook(source.ledger).unfinished(found.subjects)
    latest = source.latest(names)
    with progress("writing the report"):
        asked = Asked(
            survey=survey,
            subjects=found.subjects,
            findings=findings if reviewed is None else reviewed.findings,
            evidence=source.newest_evidence,
            tags=source.tags_of(),
            since=[line.strip() for line in since_last(source.ledger, survey, found) if "fidelitas changes" not in line],
            people=people,
            sanctions=None if use is None else use.sanctions,
            accepted=() if reviewed is None else reviewed.excepted,
            standing=standing_of(state, reviews),
            trend=_trend(source, survey, count, found, people),
            week=week_of([one.quarters for one in latest.values()], reader_zone()),
            latest=latest,
            logged=source.logged(names),
            glossary=[(word, meaning) for word, (meaning, _) in terms().items()],
        )
        write_new_file(file, rendered(content_of(asked)).encode())
    say(f'the report is in "{file}": open it in a browser')
    tell_gaps(found.subjects)


def _trend(source: Source, survey: str, count: int, found: Audit, people: Sequence[MappedPerson]) -> Trend:
    """Return the last surveys up to one, each judged by the rules of now; only the last where it is of some tags alone."""
    names = [name for name in source.ledger.names() if name <= survey][-count:-1] if not source.tags else []
    engine = engine_for(source.ledger)
    states = {name: source.ledger.as_of(name) for name in names}
    earlier = [point_of(name, audit(stored, findings=True, each=engine.judging(stored)), people) for name, stored in states.items()]
    return Trend((*earlier, point_of(survey, found, people)))
