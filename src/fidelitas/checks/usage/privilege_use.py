"""Checks of how privilege is used on a host, by its logs: anomalies, with what is usual and what was observed."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime, timedelta

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import Change
from fidelitas.findings import Severity, Statistic
from fidelitas.text import shortened
from fidelitas.usage import AttributedEvent, HostUse, New, Notable

__all__ = ["CHECKS"]

_BRIEF = timedelta(hours=24)
_SHOWN = 5


def _by_person(records: Iterable[AttributedEvent]) -> dict[str, list[AttributedEvent]]:
    people: dict[str, list[AttributedEvent]] = {}
    for record in records:
        people.setdefault(record.label, []).append(record)
    return people


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count} times"


def _usual(expected: float, unit: str = "") -> str:
    """Return what is usual in words a reader takes in; the exact number is in the JSON."""
    return f"usual: fewer than 1{unit}" if expected < 1 else f"usual: {expected:.0f}{unit}"


def _when(use: HostUse, records: Sequence[AttributedEvent], sort: Notable) -> str:
    """Return when a person did something of a sort: of several times how often, of which not all are kept, and the first."""
    first, count = _at(use, records[0].event.at), use.how_often(sort, records[0])
    return f"on {first}" if count == 1 else f"{count} times since {first}"


def _at(use: HostUse, at: datetime | None) -> str:
    return "at an unknown time" if at is None else f"{at.astimezone(use.zone):%Y-%m-%d %H:%M %Z}"


def _hour(use: HostUse, hour: int) -> str:
    return f"{datetime.fromtimestamp(hour * 3600, UTC).astimezone(use.zone):%a %Y-%m-%d %H:00 %Z}"


def _commands(records: Sequence[AttributedEvent], count: int = 0) -> str:
    """Return the commands of records, `count` in all, of which the first are kept."""
    shown = list(dict.fromkeys(f'"{shortened(record.event.command)}"' for record in records if record.event.command))
    more = " and others" if count > len(records) else f" and {len(shown) - _SHOWN} more" if len(shown) > _SHOWN else ""
    return "; ".join(shown[:_SHOWN]) + more


def _forged(count: int) -> str:
    return "a log line" if count == 1 else f"{count} log lines"


def _found(
    about: str,
    message: str,
    records: Sequence[AttributedEvent],
    severity: Severity | None = None,
    statistic: Statistic | None = None,
) -> Found:
    places = tuple(record.event.place for record in records[:_SHOWN])
    return Found(about=about, message=message, places=places, severity=severity, statistic=statistic)


def _per_person(use: HostUse, sort: Notable, what: str) -> Iterator[Found]:
    """Yield one finding for each person who did a thing that is noted."""
    for person, records in _by_person(use.notable[sort]).items():
        count = use.how_often(sort, records[0])
        yield _found(person, f"{person} {what} {_when(use, records, sort)}: {_commands(records, count)}", records)


@check("use.failure-burst", Severity.MEDIUM, advice="Ask the account's owner; check where the attempts came from.")
def failure_burst(use: HostUse) -> Iterator[Found]:
    """An account had far more wrong passwords within an hour than usual.

    Password guessing looks like this; people who mistype their password do so a few times. The usual number is the account's own rate,
    adjusted towards that of all accounts.
    """
    for burst in use.unusual.bursts:
        who = "has rights here" if use.is_entitled(burst.account) else "has no rights here"
        source = burst.found.source
        yield Found(
            about=f"{burst.account} {burst.hour}",
            message=f"{burst.found.count} wrong passwords for {burst.account} ({who}) in one hour ({_usual(burst.expected)}), "
            f"{_hour(use, burst.hour)}{f', first from {source}' if source else ''}",
            places=(burst.found.place,),
            statistic=Statistic(observed=burst.found.count, expected=burst.expected, chance=burst.chance),
        )


@check("use.password-spraying", Severity.MEDIUM, advice="Block the source, and look for a successful login from it.")
def password_spraying(use: HostUse) -> Iterator[Found]:
    """One source tried many accounts within an hour.

    No single account fails often enough to be locked, and one weak password is enough.
    """
    for one in use.unusual.sprays:
        yield Found(
            about=f"{one.source} {one.hour}",
            message=f"{one.source} tried {one.accounts} accounts in one hour ({one.attempts} failures; usual: 1 or 2 accounts), "
            f"{_hour(use, one.hour)}: {', '.join(one.names)}, …",
            places=(one.place,),
        )


@check("use.refused-outsider", Severity.MEDIUM, advice="Ask what was wanted. Grant it if it is needed; otherwise treat it as an attempt.")
def refused_outsider(use: HostUse) -> Iterator[Found]:
    """Someone without rights on this host tried to use privilege and was refused.

    People with rights are refused when they mistype a command; someone without rights has nothing to mistype.
    """
    for person, records in _by_person(use.notable[Notable.REFUSED]).items():
        if not use.is_entitled(person):
            when, count = _when(use, records, Notable.REFUSED), use.how_often(Notable.REFUSED, records[0])
            yield _found(person, f"{person}, who has no rights here, was refused {when}: {_commands(records, count)}", records)


@check("use.refused-probe", Severity.MEDIUM, advice="Ask what was wanted: nobody needs these files for an ordinary task.")
def refused_probe(use: HostUse) -> Iterator[Found]:
    """Someone was refused access to secrets, policy or logs.

    A mistyped command does not name /etc/shadow; such attempts look for further access.
    """
    for person, records in _by_person(use.notable[Notable.REFUSED_SENSITIVE]).items():
        when, count = _when(use, records, Notable.REFUSED_SENSITIVE), use.how_often(Notable.REFUSED_SENSITIVE, records[0])
        yield _found(person, f"{person} was refused access to secrets, policy or logs {when}: {_commands(records, count)}", records)


@check("use.first-use-of-right", Severity.LOW, advice="Confirm with the account's owner that they did it, and why.")
def first_use_of_right(use: HostUse) -> Iterator[Found]:
    """An account uses a right for the first time after a long time without.

    A stolen account, or a forgotten rule, shows itself like this.
    """
    yield from _firsts(use, New.RIGHT)


@check("use.first-use-of-command", Severity.INFO, advice="None needed unless it surprises the account's owner.")
def first_use_of_command(use: HostUse) -> Iterator[Found]:
    """An account with steady habits runs a command with privilege for the first time.

    A single new command is common; together with another finding for the same account and day it shows what was done.
    """
    yield from _firsts(use, New.COMMAND)


def _firsts(use: HostUse, what: New) -> Iterator[Found]:
    for one in use.unusual.novelties:
        if one.what is what:
            event, record = one.record.event, one.record
            thing = f"acted as {event.target or 'root'}" if what is New.RIGHT else f'ran "{event.command.partition(" ")[0]}"'
            yield _found(
                f"{record.persons[0]} {event.target or 'root'} {event.command.partition(' ')[0] if what is New.COMMAND else ''}",
                f"{record.persons[0]} {thing} for the first time on {_at(use, event.at)}, after {one.uses} uses of {one.known} others",
                [record],
                statistic=Statistic(observed=1, expected=one.chance, chance=one.chance),
            )


@check("use.unusual-hour", Severity.LOW, advice="Ask the account's owner whether it was them.")
def unusual_hour(use: HostUse) -> Iterator[Found]:
    """Privilege was used, or tried, at an hour that is unusual for the account.

    The usual hours are the account's own on working days and at weekends, adjusted towards those of all accounts of the host.
    """
    for odd in use.unusual.odd_hours:
        yield Found(
            about=f"{odd.person} {odd.hour}",
            message=f"{odd.person} used privilege, or tried to, {_times(odd.count)} at an unusual hour, {_hour(use, odd.hour)} "
            f"({_usual(odd.expected, ' such hour')}): " + (f'"{shortened(odd.command)}"' if odd.command else ""),
            places=(odd.place,),
            statistic=Statistic(observed=1, expected=odd.expected, chance=odd.share),
        )


@check("use.root-shell", Severity.INFO, advice="Run single commands with sudo, or log the session (Defaults log_output).")
def root_shell(use: HostUse) -> Iterator[Found]:
    """Someone started a shell as another account, or something else that runs what is typed: an interpreter, an editor's shell.

    sudo logs the shell, not the commands typed in it, which cannot be attributed, unless sudo records them (log_output, log_subcmds).
    """
    for person, records in _by_person(use.notable[Notable.SHELL]).items():
        targets = list(dict.fromkeys(record.event.target or "root" for record in records))
        what = "a root shell" if targets == ["root"] else f"a shell as {' and '.join(targets)}"
        shells = list(dict.fromkeys(shortened(record.event.command) or record.event.program for record in records))
        kept = [record.event.recording for record in records if record.event.recording]
        where = (
            f"; recorded by sudo as {', '.join(kept[:_SHOWN])}"
            if len(kept) == len(records)
            else f"; {len(kept)} recorded by sudo"
            if kept
            else ""
        )
        yield _found(person, f"{person} started {what} ({', '.join(shells[:_SHOWN])}) {_when(use, records, Notable.SHELL)}{where}", records)


@check("use.secret-read", Severity.MEDIUM, advice="Ask why; unless there is a reason, change the secret.")
def secret_read(use: HostUse) -> Iterator[Found]:
    """A file with secrets was read with privilege: password hashes, private keys or tickets.

    Anyone who has read them once needs no rights afterwards.
    """
    yield from _per_person(use, Notable.SECRET, "read secrets")


@check("use.policy-edit", Severity.LOW, advice="Check for a change record, and review what changed.")
def policy_edit(use: HostUse) -> Iterator[Found]:
    """A file that defines rights was changed directly, or a program was made to run as its owner or with capabilities.

    Anyone who does either decides what all accounts, their own included, may do.
    """
    yield from _per_person(use, Notable.POLICY, "changed what gives rights")


@check("use.log-edit", Severity.HIGH, advice="Compare the log with a copy kept elsewhere, and send logs to another host.")
def log_edit(use: HostUse) -> Iterator[Found]:
    """A log was edited, removed or emptied with privilege.

    What it contained is lost, and what it contains now is not reliable.
    """
    yield from _per_person(use, Notable.LOG, "changed logs")


@check("use.audit-edit", Severity.HIGH, advice="Check for a change record; otherwise undo the change.")
def audit_edit(use: HostUse) -> Iterator[Found]:
    """Logging was changed: rules of the audit system, logging services or their configuration.

    From then on some events may not be recorded.
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
    """Someone logged in as root directly.

    The log does not show which person it was.
    """
    by_source: dict[str, list[AttributedEvent]] = {}
    for record in use.notable[Notable.ROOT_LOGIN]:
        by_source.setdefault(record.event.address or record.event.terminal, []).append(record)
    for source, here in by_source.items():
        if not any(record.persons for record in here):
            when, how = _when(use, here, Notable.ROOT_LOGIN), here[0].event.reason or "method unknown"
            yield _found(source, f"root logged in from {source or 'an unknown address'} {when} ({how})", here)


@check("use.brief-membership", Severity.HIGH, advice="Find out what was done meanwhile, and why the membership was removed.")
def brief_membership(use: HostUse) -> Iterator[Found]:
    """A membership was added and removed within a day.

    A survey on the next day does not show it; in between, the account had the group's rights.
    """
    for given, taken in use.flips():
        begin, end = given.event.at, taken.event.at
        if begin is None or end is None or not timedelta() <= end - begin <= _BRIEF or given.event.change is not Change.MEMBER_ADDED:
            continue
        who = " or ".join(given.persons) or "nobody known"
        hours = (end - begin).total_seconds() / 3600
        yield _found(
            f"{given.event.target} {given.event.group}",
            f"{given.event.target} was in group {given.event.group} for {hours:.1f} hours from {_at(use, begin)}, added by {who}",
            [given, taken],
        )


@check(
    "use.suspected-forgery",
    Severity.HIGH,
    advice="Do not rely on its account or command; find out who was logged in, and which process wrote it.",
)
def suspected_forgery(use: HostUse) -> Iterator[Found]:
    """A log line may be forged: it imitates the fields of the program, or another process wrote it.

    Someone may want readers of the log to believe something.
    """
    for person, records in _by_person(use.notable[Notable.SUSPECTED_FORGERY]).items():
        yield _found(
            person,
            f"{_forged(use.how_often(Notable.SUSPECTED_FORGERY, records[0]))} about {person} may be forged: {records[0].event.doubt}",
            records,
        )


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
