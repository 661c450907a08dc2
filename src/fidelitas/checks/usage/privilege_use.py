"""Checks of how privilege is used on a host, by its logs: what is out of order, with what was expected and what was observed."""

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import Change
from fidelitas.findings import Severity
from fidelitas.usage import AttributedEvent, HostUse, New, Notable
from fidelitas.usage.unusual import bursts, novelties, odd_hours

__all__ = ["CHECKS"]

# Accounts that are tried from one place within an hour: nobody has so many of their own.
_SPREAD = 5
_MOST_SOURCES = 20
_BRIEF = timedelta(hours=24)
_SHOWN = 5


def _by_person(records: Sequence[AttributedEvent]) -> dict[str, list[AttributedEvent]]:
    people: dict[str, list[AttributedEvent]] = {}
    for record in records:
        people.setdefault(" or ".join(record.persons) or record.event.account or "nobody known", []).append(record)
    return people


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count} times"


def _at(use: HostUse, at: datetime | None) -> str:
    return "at an unknown time" if at is None else f"{at.astimezone(use.zone):%Y-%m-%d %H:%M %Z}"


def _hour(use: HostUse, hour: int) -> str:
    return f"{datetime.fromtimestamp(hour * 3600, UTC).astimezone(use.zone):%a %Y-%m-%d %H:00 %Z}"


def _commands(records: Sequence[AttributedEvent]) -> str:
    shown = list(dict.fromkeys(f'"{record.event.command}"' for record in records if record.event.command))
    more = f" and {len(shown) - _SHOWN} more" if len(shown) > _SHOWN else ""
    return "; ".join(shown[:_SHOWN]) + more


def _found(about: str, message: str, records: Sequence[AttributedEvent], severity: Severity | None = None) -> Found:
    return Found(about=about, message=message, places=tuple(record.event.place for record in records[:_SHOWN]), severity=severity)


def _per_person(use: HostUse, sort: Notable, what: str) -> Iterator[Found]:
    """Yield one finding for each person who did a thing that is noted."""
    for person, records in _by_person(use.notable[sort]).items():
        first = _at(use, records[0].event.at)
        yield _found(person, f"{person} {what} {_times(len(records))}, first {first}: {_commands(records)}", records)


@check("use.failure-burst", Severity.MEDIUM, advice="Ask the account's owner; look where the attempts came from.")
def failure_burst(use: HostUse) -> Iterator[Found]:
    """Far more wrong passwords within an hour than an account's habit explains.

    Guessing looks like this.  Somebody entitled who mistypes does so a few times; what is expected is the account's own rate, drawn towards
    that of all accounts.
    """
    for burst in bursts(use):
        event = burst.found.first
        if event is None:
            continue
        who = "entitled to use privilege here" if use.is_entitled(burst.account) else "without rights here"
        source = event.address or event.terminal
        yield Found(
            about=f"{burst.account} {burst.hour}",
            message=f"{burst.account}, {who}: {burst.found.count} wrong passwords in the hour of {_hour(use, burst.hour)}, "
            f"{burst.expected:.1g} expected (chance {burst.chance:.0e}){f', first from {source}' if source else ''}",
            places=(event.place,),
        )


@check("use.password-spraying", Severity.MEDIUM, advice="Block the source, and look for a log-in from it that succeeded.")
def password_spraying(use: HostUse) -> Iterator[Found]:
    """One place tries many accounts within an hour: one password for all of them.

    No account fails often enough to be locked, and one weak password is all that it takes.
    """
    rows = [
        (source, hour, found) for source, hours in use.sources.items() for hour, found in hours.items() if len(found.accounts) >= _SPREAD
    ]
    rows.sort(key=lambda row: -len(row[2].accounts))
    for source, hour, found in rows[:_MOST_SOURCES]:
        if found.first is not None:
            names = ", ".join(sorted({name for name, _ in found.accounts})[:_SHOWN])
            yield Found(
                about=f"{source} {hour}",
                message=f"from {source}: {found.count} failures on {len(found.accounts)} accounts in the hour of {_hour(use, hour)} "
                f"({names}…), one or two expected",
                places=(found.first.place,),
            )


@check("use.refused-outsider", Severity.MEDIUM, advice="Ask what was wanted. If it is rightly wanted, give that; if not, it was a try.")
def refused_outsider(use: HostUse) -> Iterator[Found]:
    """Somebody without rights here tries to use privilege, and is refused.

    Those who hold rights are refused when they mistype a command; somebody who holds none has nothing to mistype.
    """
    for person, records in _by_person(use.notable[Notable.REFUSED]).items():
        if not use.is_entitled(person):
            times = f"{_times(len(records))}, first {_at(use, records[0].event.at)}"
            yield _found(person, f"{person}, without rights here, was refused {times}, 0 expected: {_commands(records)}", records)


@check("use.refused-probe", Severity.MEDIUM, advice="Ask what was wanted: nobody needs these for a task of their own.")
def refused_probe(use: HostUse) -> Iterator[Found]:
    """Somebody is refused who reaches for secrets, policy or logs.

    A mistyped command does not name /etc/shadow; whoever tries these looks for a way further.
    """
    for person, records in _by_person(use.notable[Notable.REFUSED_SENSITIVE]).items():
        times = f"{_times(len(records))}, first {_at(use, records[0].event.at)}"
        yield _found(person, f"{person} reached for what it may not have {times}: {_commands(records)}", records)


@check("use.first-use-of-right", Severity.LOW, advice="See that the account's owner did it, and why now.")
def first_use_of_right(use: HostUse) -> Iterator[Found]:
    """An account acts as another for the first time, after long use of its rights without.

    A right that lay idle and is suddenly used is how a stolen account, or a forgotten rule, shows itself.
    """
    yield from _firsts(use, New.RIGHT)


@check("use.first-use-of-command", Severity.INFO, advice="Nothing, unless it surprises its owner.")
def first_use_of_command(use: HostUse) -> Iterator[Found]:
    """An account with settled habits runs a command with privilege that it never ran before.

    One such is everyday; beside another finding of the same account and day it tells what was done.
    """
    yield from _firsts(use, New.COMMAND)


def _firsts(use: HostUse, what: New) -> Iterator[Found]:
    for one in novelties(use):
        if one.first.what is what:
            event, record = one.first.record.event, one.first.record
            thing = f"acted as {event.target or 'root'}" if what is New.RIGHT else f'ran "{event.command.partition(" ")[0]}"'
            yield _found(
                f"{record.persons[0]} {event.target or 'root'} {event.command.partition(' ')[0] if what is New.COMMAND else ''}",
                f"{record.persons[0]} {thing} for the first time {_at(use, event.at)}, "
                f"after {one.first.uses} uses of {one.first.known} others; {one.chance:.3f} expected, 1 observed",
                [record],
            )


@check("use.unusual-hour", Severity.LOW, advice="Ask the account's owner whether it was them.")
def unusual_hour(use: HostUse) -> Iterator[Found]:
    """Privilege is used, or tried, at an hour outside the account's own habit.

    The habit is the account's by hours of working days and week-ends, drawn towards that of all accounts of the host.
    """
    for odd in odd_hours(use):
        yield _found(
            f"{odd.person} {odd.hour}",
            f"{odd.person} was active {_times(odd.count)} in the hour of {_hour(use, odd.hour)}; "
            f"{odd.expected:.1g} hours as unusual expected, 1 observed: {_commands([odd.record])}",
            [odd.record],
        )


@check("use.root-shell", Severity.INFO, advice="Run single commands with sudo; keep shells for emergencies, and log their input.")
def root_shell(use: HostUse) -> Iterator[Found]:
    """Somebody opens a shell as another account.

    In a shell names end: what is done in it is told by no log line, or under root's name alone.
    """
    yield from _per_person(use, Notable.SHELL, "opened a shell")


@check("use.secret-read", Severity.MEDIUM, advice="Ask why; change the secret if there is no reason.")
def secret_read(use: HostUse) -> Iterator[Found]:
    """A file with secrets is read with privilege: password hashes, private keys, tickets.

    Who has read them once needs no rights afterwards.
    """
    yield from _per_person(use, Notable.SECRET, "read secrets")


@check("use.policy-edit", Severity.LOW, advice="See that it is in a change record, and what it changed.")
def policy_edit(use: HostUse) -> Iterator[Found]:
    """A file that says who holds rights is edited by hand.

    Whoever edits it decides what everybody, themselves included, may do from then on.
    """
    yield from _per_person(use, Notable.POLICY, "edited policy")


@check("use.log-edit", Severity.HIGH, advice="Hold the log against a copy kept elsewhere, and send logs to another host.")
def log_edit(use: HostUse) -> Iterator[Found]:
    """A log is edited, removed or emptied with privilege.

    What it told is lost, and what it tells now cannot be relied on.
    """
    yield from _per_person(use, Notable.LOG, "changed logs")


@check("use.audit-edit", Severity.HIGH, advice="See that it is in a change record; put it back otherwise.")
def audit_edit(use: HostUse) -> Iterator[Found]:
    """What is logged is changed: rules of the audit system, the logging services or their configuration.

    From then on things happen that nothing tells of.
    """
    yield from _per_person(use, Notable.AUDIT, "changed what is logged")
    told = [record for record in use.notable[Notable.CHANGED] if record.event.change is Change.AUDIT]
    for person, records in _by_person(told).items():
        kinds = ", ".join(dict.fromkeys(record.event.reason.removeprefix("audit: ") for record in records))
        yield _found(
            f"audit {person}",
            f"{person} changed the rules of the audit system {_times(len(records))}: {kinds}",
            records,
        )


@check("use.root-login", Severity.MEDIUM, advice="Let people log in as themselves, and refuse root (PermitRootLogin no).")
def root_login(use: HostUse) -> Iterator[Found]:
    """Somebody logs in as root directly.

    No log tells who that was.
    """
    records = use.notable[Notable.ROOT_LOGIN]
    for address in dict.fromkeys(record.event.address or record.event.terminal for record in records):
        here = [record for record in records if (record.event.address or record.event.terminal) == address]
        if not any(record.persons for record in here):
            times = f"{_times(len(here))}, first {_at(use, here[0].event.at)}"
            yield _found(
                address, f"root logged in {times}, from {address or 'nowhere told'} ({here[0].event.reason or 'no method told'})", here
            )


@check("use.brief-membership", Severity.HIGH, advice="Find out what was done meanwhile: the membership was meant to be missed.")
def brief_membership(use: HostUse) -> Iterator[Found]:
    """A membership is given and taken away again within a day.

    A survey the day after finds nothing; what was done in between was done with the group's rights.
    """
    for given, taken in use.flips():
        begin, end = given.event.at, taken.event.at
        if begin is None or end is None or not timedelta() <= end - begin <= _BRIEF or given.event.change is not Change.MEMBER_ADDED:
            continue
        who = " or ".join(given.persons) or "nobody known"
        hours = (end - begin).total_seconds() / 3600
        yield _found(
            f"{given.event.target} {given.event.group}",
            f"{given.event.target} was in group {given.event.group} for {hours:.1f} hours from {_at(use, begin)}, put in by {who}",
            [given, taken],
        )


@check(
    "use.suspected-forgery", Severity.HIGH, advice="Believe neither account nor command of it; find who was logged in, and what wrote it."
)
def suspected_forgery(use: HostUse) -> Iterator[Found]:
    """A line that may be forged: it imitates the fields of the program, or another process wrote it.

    Somebody wanted a reader of the log to believe something.
    """
    for person, records in _by_person(use.notable[Notable.SUSPECTED_FORGERY]).items():
        yield _found(person, f"{_times(len(records))} a line about {person}: {records[0].event.doubt}", records)


CHECKS: tuple[Check[HostUse], ...] = (
    failure_burst,
    password_spraying,
    refused_outsider,
    refused_probe,
    first_use_of_right,
    first_use_of_command,
    unusual_hour,
    root_shell,
    secret_read,
    policy_edit,
    log_edit,
    audit_edit,
    root_login,
    brief_membership,
    suspected_forgery,
)
