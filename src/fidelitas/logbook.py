"""Logs of many hosts read into how privilege is used on each: the whole way from lines to what is out of order.

    logs ─ languages ─► events ─ usage ─► actions, sessions, habits ─ checks ─► findings

Pure but for the logs, which are read as they are asked for.  Hosts are read one after another, and of each no more is kept than its use of
privilege amounts to, however long its logs are.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import tzinfo
from itertools import groupby
from typing import Protocol

from msgspec.structs import replace

from fidelitas.facts import Place
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.linux.host import read_host
from fidelitas.languages.logs.copies import CutMemory, without_copies
from fidelitas.languages.logs.reading import Cover, LogLike
from fidelitas.languages.logs.shares import shares_of
from fidelitas.languages.windows.machine import read_windows
from fidelitas.logbook_place import EventFilter, HostLogs, Logbook, LogTask, read_task
from fidelitas.rights import rights_of, windows_rights_of
from fidelitas.text import short_host_name
from fidelitas.trouble import internal_error
from fidelitas.usage import AttributedEvent, HostUse, Latest, LogState

__all__ = ["EventFilter", "HostLogs", "LogTask", "Logbook", "host_logs", "included", "read_logbook", "read_places"]


class HostLogEvidence(HostEvidence, Protocol):
    """The evidence of a host with its logs."""

    @property
    def zone(self) -> tzinfo: ...
    def logs(self, survey: int = 0) -> Sequence[LogLike]: ...


class Memory(Protocol):
    """What is kept of where the reading of a place's logs stood, by the shares of its hosts; a log of `worth` bytes is worth it."""

    worth: int

    def states(self, subject: str, /) -> Mapping[int, bytes]: ...


def host_logs(evidence: Sequence[HostLogEvidence], memory: CutMemory | None = None) -> HostLogs:
    """Return the logs that the evidence of one host holds, the oldest first, with what the newest tells of the host.

    Evidence of which the `memory` knows that the next holds all its logs as well is not asked for.
    """
    newest = evidence[-1]
    try:
        made = _windows_logs(newest) if newest.platform == "windows" else _host_logs(newest)
        return replace(made, logs=_logs_of(evidence, memory))
    except Exception as error:  # noqa: BLE001 its logs can be read without knowing its accounts
        place = Place(subject=newest.subject, path="evidence")
        trouble = internal_error(error, place, f"reading {newest.subject}", "whose user IDs the log names, and who holds rights")
        return HostLogs(subject=newest.subject, logs=_logs_of(evidence, memory), taken=newest.taken, troubles=(trouble,))


class _Collected(Sequence[Sequence[LogLike]]):
    """The logs of each evidence of a host, which is asked for when they are."""

    def __init__(self, evidence: Sequence[HostLogEvidence]) -> None:
        self._evidence = evidence

    def __len__(self) -> int:
        return len(self._evidence)

    def __getitem__(self, number: int) -> Sequence[LogLike]:  # type: ignore[override]
        return self._evidence[number].logs(number)


def _logs_of(evidence: Sequence[HostLogEvidence], memory: CutMemory | None) -> list[LogLike]:
    """Return the logs that a host's surveys brought, each line as far as is plain once."""
    return without_copies(_Collected(evidence), memory)


def _host_logs(newest: HostLogEvidence) -> HostLogs:
    host = rights_of(read_host(newest))
    return HostLogs(
        subject=newest.subject,
        logs=(),
        zone=newest.zone,
        names={account.uid: account.name for account in reversed(host.facts.accounts)},
        called=(newest.host_name,) if newest.host_name else (),
        entitled=frozenset(host.own_holders()) | {"root"},
        taken=newest.taken,
    )


def _windows_logs(newest: HostLogEvidence) -> HostLogs:
    machine = windows_rights_of(read_windows(newest))
    return HostLogs(
        subject=newest.subject,
        logs=(),
        sids={sid: who.name.partition("@")[0] for sid, who in machine.holders.by_sid.items() if who.name},
        entitled=frozenset(holding.principal.name.partition("@")[0] for holding in machine.holdings),
        taken=newest.taken,
    )


def read_logbook(
    hosts: Iterable[HostLogs],
    wanted: EventFilter | None = None,
    take: Callable[[AttributedEvent], None] | None = None,
    each: Callable[[Callable[[LogTask], Logbook], Iterable[LogTask]], Iterable[Logbook]] = map,
    readers: int = 1,
) -> Logbook:
    """Return what the logs of some hosts tell; `take` is given each action that is asked for, host by host, in the order of time.

    `each` is how a function is applied to all of some tasks: `map`, or the like of it over several processes where no actions are to be
    taken; long logs of many hosts are divided among so many `readers`.
    """
    return included(book for _, book in read_places(hosts, wanted or EventFilter(), take, each, readers))


def read_places(
    hosts: Iterable[HostLogs],
    wanted: EventFilter,
    take: Callable[[AttributedEvent], None] | None,
    each: Callable[[Callable[[LogTask], Logbook], Iterable[LogTask]], Iterable[Logbook]],
    readers: int,
    memory: Memory | None = None,
) -> Iterator[tuple[HostLogs, Logbook]]:
    """Yield the logs of each place with what they record by themselves; of logs that were read before, the new lines are read."""
    if take is None:
        tasks = [task for at, host in enumerate(hosts) for task in _tasks(at, host, wanted, readers, memory)]
        parts: Iterable[tuple[LogTask, Logbook]] = zip(tasks, each(read_task, tasks), strict=True)
    else:
        single = (LogTask(at, host, wanted, shares_of(host.logs, 1)[0]) for at, host in enumerate(hosts))
        parts = ((task, read_task(task, take)) for task in single)
    for _, of_host in groupby(parts, key=lambda part: part[0].at):
        read = list(of_host)
        yield read[0][0].host, _finished(read[0][0].host, [one for _, one in read])


def _tasks(at: int, host: HostLogs, wanted: EventFilter, readers: int, memory: Memory | None) -> Iterator[LogTask]:
    """Yield the tasks of a place; only where everything is asked for it is worth to go on with what was read."""
    shares = shares_of(host.logs, readers)
    if memory is None or wanted != EventFilter():
        yield from (LogTask(at, host, wanted, share) for share in shares)
    else:
        states = memory.states(host.subject)
        yield from (LogTask(at, host, wanted, share, states.get(share.number, b""), memory.worth) for share in shares)


def included(books: Iterable[Logbook]) -> Logbook:
    """Return what the logs of several places record together."""
    book = Logbook()
    for one in books:
        _include(book, one)
    # Of files at hand nobody knows when they were collected: not before the last line of any of them.
    latest = max((log.last for use in book.hosts.values() for log in use.logs if log.last is not None), default=None)
    for use in book.hosts.values():
        use.until = use.until or latest
    return book


def _include(book: Logbook, one: Logbook) -> None:
    for name, use in one.hosts.items():
        # A host that two logs tell of, its own and one that others send theirs to, is told of twice.
        book.hosts[name if name not in book.hosts else f"{name} by {len(book.hosts)}"] = use
    book.people.include(one.people)
    book.everyone |= one.everyone
    book.records += one.records
    book.unknown += one.unknown
    book.gaps += one.gaps
    book.unread += one.unread
    book.covers += one.covers
    _include_latest(book, one)


def _include_latest(book: Logbook, one: Logbook) -> None:
    for subject, latest in one.latest.items():
        book.latest.setdefault(subject, Latest()).include(latest)


def _finished(host: HostLogs, parts: Sequence[Logbook]) -> Logbook:
    """Return what the logs of one place tell, of which others have read the shares: each tells of all what a log covers and lacks."""
    first, *others = parts
    for one in others:
        first.hosts |= one.hosts
        first.people.include(one.people)
        first.everyone |= one.everyone
        first.records += one.records
        first.unknown += one.unknown
        first.gone += one.gone
        first.states |= one.states
        _include_latest(first, one)
        first.gaps += [gap for gap in one.gaps if gap not in first.gaps]
    first.hosts = dict(sorted(first.hosts.items()))  # in one order, however they were divided
    first.gaps[:0] = host.troubles
    for use in first.hosts.values():
        use.entitled = host.entitled if host.subject == use.host else use.entitled
    # What a log covers is said of the host that it is of; a log of many hosts says nothing of how steadily each wrote to it.
    uses = list(first.hosts.values())
    own = uses[0] if len(uses) == 1 else first.hosts.get(short_host_name(host.subject))
    if own is None and first.covers:
        own = first.hosts.setdefault(short_host_name(host.subject), HostUse(host.subject, host.zone))
    if own is not None:
        own.gone += first.gone
        own.until = host.taken or own.until
        latest = max((cover.survey for cover in first.covers), default=0)
        of_others = not own.events and any(use.events for use in uses)
        own.logs += [_state(cover, of_others=of_others) for cover in first.covers if cover.survey == latest]
    return first


def _state(cover: Cover, *, of_others: bool) -> LogState:
    pulse = cover.pulse
    return LogState(
        path=cover.path,
        family=cover.family,
        first=pulse.first,
        last=pulse.last,
        hours=pulse.hours,
        jumps=pulse.jumps,
        empty=cover.empty,
        survey=cover.survey,
        of_others=of_others,
    )
