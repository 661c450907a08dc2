"""The views of the use of privilege: a summary, every event, elevated sessions, or the order of time; each a report."""

import re
import shlex
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime, tzinfo
from functools import cached_property
from typing import Any

from msgspec import Struct

from fidelitas.findings import Finding
from fidelitas.logbook import EventFilter, Logbook
from fidelitas.reports.findings import findings_document, tally
from fidelitas.reports.numbers import counted
from fidelitas.reports.report import Part, Report
from fidelitas.reports.sessions import sessions_table, timeline_blocks
from fidelitas.reports.usage import head_line, people_table, usage_blocks, usage_document, usage_table
from fidelitas.reports.usage_parts import anomalies, causes_table, coverage_line, shells_parts, titled, trend_of
from fidelitas.reports.usage_person import person_parts
from fidelitas.usage import AttributedEvent, Session

__all__ = ["VIEWS", "UsageAnswer"]


_WORD = re.compile(r"[^\s,:;\"']+")


class UsageAnswer(Struct, frozen=True, dict=True):
    """What the logs say of the events that are `wanted`; `records` are kept for views that show each. Times are shown in `zone`."""

    book: Logbook
    records: Sequence[AttributedEvent]
    wanted: EventFilter
    zone: tzinfo

    @cached_property
    def findings(self) -> list[Finding]:
        """The anomalies; of whole logs alone, since a part of them shows them only in part; of one person those that name it."""
        person = self.wanted.person
        if person is not None:
            return [found for found in self.book.findings() if person in _WORD.findall(found.message)]
        return self.book.findings() if self.whole else []

    @property
    def window(self) -> tuple[datetime | None, datetime | None]:
        """From when to when events are wanted."""
        return self.wanted.since, self.wanted.until

    @property
    def whole(self) -> bool:
        """Whether all events are wanted."""
        return self.wanted == EventFilter()

    @property
    def shells_are_wanted(self) -> bool:
        """Whether nothing is asked for that a session is not chosen by."""
        return self.wanted.command is None and self.wanted.kinds == EventFilter().kinds

    def sessions(self) -> Iterator[Session]:
        """Yield the sessions that are wanted."""
        return (session for use in self.book.hosts.values() for session in use.sessions if self.wanted.takes_session(session))

    def document(self, records: Sequence[AttributedEvent] | None = None) -> dict[str, Any]:
        """Return the JSON document, with each event where they are given."""
        return usage_document(self.book, findings_document(self.findings, complete=True)["findings"], records)


def _summary(answer: UsageAnswer) -> Report:
    one = answer.wanted.person is not None
    return Report(
        answer=lambda: _answer(answer),
        parts=lambda: person_parts(answer) if one else _summary_parts(answer),
        rows=lambda: [people_table(answer.book.people.ranked(), answer.zone, whole=True)],
        onward=lambda: _onward(answer),
        document=answer.document,
    )


def _answer(answer: UsageAnswer) -> list[str]:
    """Return what was read and of which time, then who did what: uses, refusals, wrong passwords, shells, anomalies."""
    people = answer.book.people.ranked()
    users = sum(bool(use.used) for use in people)
    parts = [
        f"{counted(users, 'person')} used privilege {counted(sum(use.used for use in people), 'time')}",
        f"{counted(sum(use.refused for use in people), 'refusal')}",
        f"{counted(sum(use.failed for use in people), 'wrong password')}",
        f"{counted(sum(use.shells for use in people), 'root shell')}",
    ]
    known = answer.whole or answer.wanted.person is not None
    found = [f"anomalies: {tally(answer.findings)}" if known else "anomalies: only for whole logs"]
    head = head_line(answer.book, answer.zone, answer.window)
    return [head, coverage_line(answer.book, answer.zone, answer.window), "; ".join([*parts, *found])]


def _onward(answer: UsageAnswer) -> list[str]:
    people = [use.person for use in answer.book.people.ranked()]
    one = [f"fidelitas usage --person {shlex.quote(people[0])}"] if len(people) > 1 else []
    found = [f"fidelitas findings {answer.findings[0].check}"] if answer.findings else []
    return [" · ".join([*one, *found, "fidelitas usage --sessions", "every event: --events"])]


def _summary_parts(answer: UsageAnswer) -> list[Part]:
    book, zone = answer.book, answer.zone
    parts: list[Part] = [people_table(book.people.ranked(), zone, trend_of(book, answer.window)), "\n"]
    parts += anomalies(answer.findings)
    if answer.shells_are_wanted:
        left_out = sum(use.shells_left_out for use in book.hosts.values())
        parts += shells_parts(answer.sessions(), zone, left_out)
    parts += titled("Refused, and passwords that were wrong", causes_table(book.people.causes, zone))
    return [*parts, *usage_blocks(book.hosts.values(), zone)] if answer.whole else parts


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
        parts=lambda: [sessions_table(list(answer.sessions()), answer.zone, everything=False)],
        rows=lambda: [sessions_table(list(answer.sessions()), answer.zone, everything=True)],
        document=answer.document,
    )


VIEWS: dict[str, Callable[[UsageAnswer], Report]] = {
    "summary": _summary,
    "events": _events,
    "sessions": _sessions,
    "timeline": _timeline,
}
