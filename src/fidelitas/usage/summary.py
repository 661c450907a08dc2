"""What a person did with privilege, counted while the actions go by."""

from collections import Counter
from datetime import datetime, timedelta

from msgspec import Struct, field

from fidelitas.facts import EventKind
from fidelitas.usage.causes import Causes
from fidelitas.usage.persons import AttributedEvent, AttributionBasis
from fidelitas.usage.sessions import is_shell

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
        if len(persons) != 1 or kind in _NOT_COUNTED:
            return 0
        use = self.by_name.get(persons[0])
        if use is None:
            use = self.by_name[persons[0]] = PersonUse(persons[0])
        use.hosts.add(event.host)
        at = event.at
        if at is not None:
            if use.first is None or at < use.first:
                use.first = at
            if use.last is None or at > use.last:
                use.last = at
        if event.doubt:
            use.doubtful += 1
        elif kind is EventKind.USED:
            if is_sure(basis):
                self._count_use(use, record)
        elif kind is EventKind.REFUSED:
            use.refused += 1
            self._act(use, at)
            self.causes.add(event, persons[0], 1)
        elif kind is EventKind.CHANGED:
            use.changes += 1
            self._act(use, at)
        elif kind is EventKind.FAILED:
            tries = self._tries(record)
            use.failed += tries
            self._act(use, at)
            self.causes.add(event, persons[0], tries)
            return tries
        return 0

    @staticmethod
    def _act(use: PersonUse, at: datetime | None) -> None:
        if at is not None:
            use.days[at.toordinal()] += 1

    def _count_use(self, use: PersonUse, record: AttributedEvent) -> None:
        event, commands = record.event, use.commands
        use.used += 1
        self._act(use, event.at)
        if is_shell(event):
            use.shells += 1
        command = _program_of(event.command) or event.program
        if command in commands or len(commands) < _MOST_COMMANDS:
            commands[command] += 1
        use.targets[event.target or "root"] += 1

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


def is_sure(basis: AttributionBasis) -> bool:
    """Return whether what is tied to a person on a basis counts as that person's."""
    return basis in _SURE


def _program_of(command: str) -> str:
    """Return the program of a command, which has blanks only where it is in quotes."""
    return command[1:].partition('"')[0] if command.startswith('"') else command.partition(" ")[0]
