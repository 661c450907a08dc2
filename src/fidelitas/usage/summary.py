"""What a person did with privilege, counted while the actions go by."""

from collections import Counter
from datetime import datetime, timedelta

from msgspec import Struct, field

from fidelitas.facts import EventKind
from fidelitas.usage.causes import Causes
from fidelitas.usage.meanings import meaning_of
from fidelitas.usage.persons import AttributedEvent, AttributionBasis

__all__ = ["People", "PersonUse", "is_sure"]

# PAM tells of the first wrong password of a try, without the command, before sudo sums all of them up: it waits for each password, five
# minutes unless passwd_timeout says otherwise (sudoers(5)), and PAM delays each answer.
_SAME_TRY = timedelta(minutes=5)
_SUMMED_UP = -1
_NOT_COUNTED = frozenset({EventKind.OPENED, EventKind.CLOSED, EventKind.LOGIN, EventKind.LOGIN_FAILED})
_SURE = frozenset(
    {
        AttributionBasis.NAMED, AttributionBasis.LOGIN_ID, AttributionBasis.LOGIN_NAME, AttributionBasis.CREDENTIAL,
        AttributionBasis.COMMAND, AttributionBasis.TERMINAL,
    }
)  # fmt: skip
# So many different commands of one person are told apart.
_MOST_COMMANDS = 5000


class PersonUse(Struct):
    """One person on all hosts: numbers of events, and when the first and the last of them were."""

    person: str
    hosts: set[str] = field(default_factory=set)
    used: int = 0
    refused: int = 0
    failed: int = 0  # wrong passwords
    shells: int = 0  # uses that gave a shell
    changes: int = 0  # of accounts and groups
    doubtful: int = 0  # lines that may be forged, which count as nothing else
    commands: Counter[str] = field(default_factory=Counter)
    targets: Counter[str] = field(default_factory=Counter)  # the accounts that were acted as
    days: Counter[int] = field(default_factory=Counter)  # what is counted above, by day (UTC, as date.toordinal numbers them)
    first: datetime | None = None
    last: datetime | None = None

    @property
    def failures(self) -> str:
        """What wrong passwords were: of someone who does use privilege, or of an account that never succeeded."""
        return "" if not self.failed else "mistyped" if self.used else "never successful"


class People:
    """Counts the actions of everyone; what can be several persons' is nobody's here."""

    __slots__ = ("_last_failure", "by_name", "causes")

    def __init__(self) -> None:
        self.by_name: dict[str, PersonUse] = {}
        self.causes = Causes()
        self._last_failure: dict[tuple[str, str], tuple[datetime, int, int | None]] = {}  # when, how many wrong passwords, of which process

    def add(self, record: AttributedEvent) -> int:
        """Count an action, and return how many wrong passwords it adds."""
        event, persons, basis = record
        kind = event.kind
        if kind is EventKind.LOGIN_FAILED:
            self.causes.add(event, event.target or event.account, event.times)
        if kind in _NOT_COUNTED or len(persons) != 1:
            return 0
        person, at = persons[0], event.at
        use = self._seen(person, event.host, at)
        if event.doubt:
            use.doubtful += 1
        elif kind is EventKind.USED:
            if basis in _SURE:
                meaning = meaning_of(event)
                _count_use(use, meaning.program, event.target or "root", at)
                use.shells += meaning.shell and not event.within
        elif kind is EventKind.REFUSED:
            use.refused += 1
            _act(use, at)
            self.causes.add(event, persons[0], 1)
        elif kind is EventKind.CHANGED:
            use.changes += 1
            _act(use, at)
        elif kind is EventKind.FAILED:
            tries = self._tries(record)
            use.failed += tries
            _act(use, at)
            self.causes.add(event, persons[0], tries)
            return tries
        return 0

    def use(self, person: str, program: str, target: str, host: str, at: datetime) -> None:
        """Count a use that is one person's own, of a program as an account."""
        _count_use(self._seen(person, host, at), program, target, at)

    def _seen(self, person: str, host: str, at: datetime | None) -> PersonUse:
        use = self.by_name.get(person)
        if use is None:
            use = self.by_name[person] = PersonUse(person)
        use.hosts.add(host)
        if at is not None:
            if use.last is None or at > use.last:
                use.last = at
            if use.first is None or at < use.first:
                use.first = at
        return use

    def _tries(self, record: AttributedEvent) -> int:
        """Return how many wrong passwords a line adds to those that a line before it told."""
        event, key = record.event, (record.event.host, record.persons[0])
        before, told, process = self._last_failure.pop(key, (None, 0, None))
        if before is None or event.at is None or event.at - before > _SAME_TRY:
            told = 0
        if bool(event.command) or event.sums_up:
            if event.at is not None:
                self._last_failure[key] = event.at, _SUMMED_UP, event.pid
            return event.times if told == _SUMMED_UP else max(event.times - told, 0)
        if told == _SUMMED_UP and event.times > 1:  # "2 more authentication failures", at the end of a try that was summed up
            return 0
        if event.at is not None:
            same_try = event.times > 1 or (event.pid is not None and event.pid == process)
            self._last_failure[key] = event.at, (told if same_try and told > 0 else 0) + event.times, event.pid
        return event.times

    def include(self, others: "People") -> None:
        """Add what others have counted."""
        self.causes.include(others.causes)
        for name, other in others.by_name.items():
            use = self.by_name.setdefault(name, PersonUse(name))
            use.hosts |= other.hosts
            for counter in ("used", "refused", "failed", "shells", "changes", "doubtful"):
                setattr(use, counter, getattr(use, counter) + getattr(other, counter))
            use.commands += other.commands
            use.targets += other.targets
            use.days += other.days
            use.first = min((at for at in (use.first, other.first) if at is not None), default=None)
            use.last = max((at for at in (use.last, other.last) if at is not None), default=None)

    def ranked(self) -> list[PersonUse]:
        """Return everyone, the most active first."""
        return sorted(self.by_name.values(), key=lambda use: (-use.used - use.refused - use.failed, use.person))


def _count_use(use: PersonUse, program: str, target: str, at: datetime | None) -> None:
    commands, targets = use.commands, use.targets
    use.used += 1
    _act(use, at)
    count = commands.get(program, 0)  # half of the time that Counter takes to add to what it has
    if count or len(commands) < _MOST_COMMANDS:
        commands[program] = count + 1
    targets[target] = targets.get(target, 0) + 1


def _act(use: PersonUse, at: datetime | None) -> None:
    if at is not None:
        day, days = at.toordinal(), use.days
        days[day] = days.get(day, 0) + 1


def is_sure(basis: AttributionBasis) -> bool:
    """Return whether what is tied to a person on a basis counts as that person's."""
    return basis in _SURE
