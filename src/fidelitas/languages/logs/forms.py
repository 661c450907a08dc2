"""The forms of logs: how each is recognised, by how a log begins, and what reads it.  A new form is its module and one row here."""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from datetime import datetime, tzinfo
from typing import NamedTuple, Protocol

from msgspec import Struct, field

from fidelitas.facts import Event, Place
from fidelitas.languages.logs.aside import Passing
from fidelitas.languages.logs.audit_log import AuditReader, is_audit_log
from fidelitas.languages.logs.clock import Clock, has_year
from fidelitas.languages.logs.content import LogContent
from fidelitas.languages.logs.counted import Counted
from fidelitas.languages.logs.directory_log import DirectoryLogReader, is_directory_log
from fidelitas.languages.logs.entries import first_stamp, is_stamped, last_stamp
from fidelitas.languages.logs.hosts_named import are_of
from fidelitas.languages.logs.journal import JournalForm, JournalReader, is_export, is_verbose
from fidelitas.languages.logs.journal_fields import Names
from fidelitas.languages.logs.journal_objects import is_journal_json
from fidelitas.languages.logs.login_records import LastLogReader, LoginReader
from fidelitas.languages.logs.postgresql_log import PostgresqlLogReader, is_postgresql_log
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.shares import WHOLE, Share
from fidelitas.languages.logs.sudo_file import SudoFileReader, is_sudo_file
from fidelitas.languages.logs.syslog import SyslogReader
from fidelitas.languages.logs.windows_events import WindowsEventReader, is_event_xml
from fidelitas.text import decode

__all__ = ["LAST_LOG", "KnownLog", "LogReader", "beating", "is_syslog", "reader_of"]

LAST_LOG = "/lastlog"
_FIRST_LINES = 20


class LogReader(Protocol):
    """Reads one log.  Some have `gaps`, lines that could not be read, or `unknown`, messages of no known form by program.

    Those that can go on where another stopped have something `lasting`, and take with blocks after how many lines they come, and a time
    before which no line is that comes later.
    """

    def events(self, blocks: Iterable[bytes]) -> Iterator[Event]: ...


class KnownLog(Struct, frozen=True, kw_only=True):
    """One log with what is known of its host: the zone of its clock, its accounts by ID, the names that it is `called`.

    `by` is when the log was last written to.
    """

    origin: Place
    content: LogContent
    by: datetime
    zone: tzinfo
    names: Mapping[int, str]
    called: Collection[str] = ()
    sids: Mapping[str, str]
    pulse: Pulse = field(default_factory=Pulse)
    share: Share = WHOLE
    counted: Counted | None = None
    aside: Passing | None = None


class _Form(NamedTuple):
    is_one: Callable[[bytes], bool]
    reader: Callable[[KnownLog], LogReader]
    beats: bool = False  # of itself, by every line that matters


def _journal(form: JournalForm) -> Callable[[KnownLog], LogReader]:
    def reader(log: KnownLog) -> LogReader:
        return JournalReader(log.origin, _names(log), form=form, zone=log.zone, share=log.share, pulse=log.pulse, counted=log.counted)

    return reader


# The first that recognises a log by its first line that is whole reads it; what none does is taken for syslog.
_FORMS = (
    _Form(is_audit_log, lambda log: AuditReader(log.origin, _names(log), log.share, log.pulse, log.aside), beats=True),
    _Form(is_journal_json, _journal(JournalForm.JSON), beats=True),
    _Form(is_export, _journal(JournalForm.EXPORT), beats=True),
    _Form(is_verbose, _journal(JournalForm.VERBOSE), beats=True),
    _Form(is_postgresql_log, lambda log: PostgresqlLogReader(log.origin, log.zone)),
    _Form(is_directory_log, lambda log: DirectoryLogReader(log.origin, log.sids)),
    _Form(is_event_xml, lambda log: WindowsEventReader(log.origin, log.sids)),
    _Form(is_sudo_file, lambda log: SudoFileReader(Clock(log.zone, log.by, *_ends(log.content)), log.origin)),
)


def _names(log: KnownLog) -> Names:
    """Return the accounts that are known by user ID, which are those of the log's own host alone."""
    return Names(log.names, are_of((log.origin.subject, *log.called), log.content.beginning()))


def is_syslog(start: bytes) -> bool:
    """Return whether a log that begins so is taken for one of syslog."""
    return _form_of(start) is None


def _form_of(start: bytes) -> _Form | None:
    """Return the form of a log that begins so, ``None`` of one of syslog: by the first line that is of any, for a log can be cut."""
    at = 0
    for _ in range(_FIRST_LINES):
        rest = start[at:]
        form = next((form for form in _FORMS if form.is_one(rest)), None)
        at = start.find(b"\n", at) + 1
        if form is not None or at == 0 or is_stamped(rest):
            return form
    return None


def reader_of(log: KnownLog, *, records: bool) -> tuple[LogReader, bool]:
    """Return what reads a log, and whether its events are what the pulse of the log beats by."""
    if records:
        last = log.origin.path.endswith(LAST_LOG)
        return (LastLogReader(log.origin, log.names) if last else LoginReader(log.origin)), False
    form = _form_of(log.content.beginning())
    if form is None:  # its pulse is that of all lines that matter, not of its events alone
        clock = Clock(log.zone, log.by, *_stamps(log.content))
        return SyslogReader(clock, log.origin, log.pulse, _names(log), log.share, log.counted, log.aside), False
    return form.reader(log), not form.beats


def beating(events: Iterable[Event], pulse: Pulse) -> Iterator[Event]:
    """Yield the events of a log of which no other line is looked at."""
    for event in events:
        pulse.beat(event.at, event.place.line or 0)
        yield event


def _stamps(content: LogContent) -> list[str]:
    """Return stamps of a log in their order, one of each block and the last, where they have no year; else nothing is needed of them."""
    first = first_stamp(content.first_blocks())
    if not first or has_year(first):
        return []
    each = (first_stamp([block]) for block in content.first_blocks())
    return [stamp for stamp in (first, *each, last_stamp(content.last_blocks())) if stamp]


def _ends(content: LogContent) -> list[str]:
    """Return the same of sudo's own log."""
    each = (decode(block[:15]) for block in content.first_blocks() if block[:1].isalpha())
    last = [line for block in content.last_blocks() for line in block.split(b"\n") if line[:1].isalpha()]
    return [*each, *(decode(line[:15]) for line in last[-1:])]
