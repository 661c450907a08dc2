"""The views of the use of privilege: a summary, every event, elevated sessions, or the order of time; each a report."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import tzinfo
from functools import cached_property
from typing import Any

from fidelitas.findings import Finding
from fidelitas.logbook import EventFilter, Logbook
from fidelitas.reports.findings import findings_blocks, findings_document, grouped, tally
from fidelitas.reports.report import Part, Report
from fidelitas.reports.sessions import sessions_table, timeline_blocks
from fidelitas.reports.usage import head_block, people_table, usage_blocks, usage_document, usage_table
from fidelitas.usage import AttributedEvent, Session

__all__ = ["VIEWS", "UsageAnswer"]


@dataclass(frozen=True)
class UsageAnswer:
    """What the logs tell of the events that are `wanted`; `records` are kept for views that show each. Times are shown in `zone`."""

    book: Logbook
    records: Sequence[AttributedEvent]
    wanted: EventFilter
    zone: tzinfo

    @cached_property
    def findings(self) -> list[Finding]:
        """What is out of order; told of whole logs alone, since a part of them shows it only in part."""
        return self.book.findings() if self.whole else []

    @property
    def whole(self) -> bool:
        """Whether all events are wanted."""
        return self.wanted == EventFilter()

    @property
    def sessions(self) -> list[Session]:
        """The sessions that are wanted."""
        return [session for use in self.book.hosts.values() for session in use.sessions if self.wanted.takes_session(session)]

    def document(self, records: Sequence[AttributedEvent] | None = None) -> dict[str, Any]:
        """Return the JSON document, with each event where they are given."""
        return usage_document(self.book, findings_document(self.findings, complete=True)["findings"], records)


def _summary(answer: UsageAnswer) -> Report:
    people = people_table(answer.book.people.ranked(), answer.zone)
    return Report(parts=lambda: _summary_parts(answer), rows=lambda: [people], document=answer.document)


def _summary_parts(answer: UsageAnswer) -> list[Part]:
    book, zone = answer.book, answer.zone
    head: list[Part] = [head_block(book, zone, (answer.wanted.since, answer.wanted.until)), people_table(book.people.ranked(), zone), "\n"]
    if not answer.whole:
        return head
    told = f"\nAnomalies: {tally(answer.findings)}\n\n"
    return [*head, *usage_blocks(book.hosts.values(), zone), told, *findings_blocks(grouped(answer.findings))]


def _events(answer: UsageAnswer) -> Report:
    return Report(parts=lambda: [usage_table(answer.records, answer.zone)], document=lambda: answer.document(answer.records))


def _timeline(answer: UsageAnswer) -> Report:
    return Report(
        parts=lambda: timeline_blocks(answer.records, answer.zone),
        rows=lambda: [usage_table(answer.records, answer.zone)],
        document=lambda: answer.document(answer.records),
    )


def _sessions(answer: UsageAnswer) -> Report:
    return Report(
        parts=lambda: [sessions_table(answer.sessions, answer.zone, everything=False)],
        rows=lambda: [sessions_table(answer.sessions, answer.zone, everything=True)],
        document=answer.document,
    )


VIEWS: dict[str, Callable[[UsageAnswer], Report]] = {
    "summary": _summary,
    "events": _events,
    "sessions": _sessions,
    "timeline": _timeline,
}
