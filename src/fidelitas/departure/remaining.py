"""What a person still holds: on which subject, by which account, which right; also by keys on other hosts and by sockets."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from fidelitas.departure.removal import key_steps, removal_steps
from fidelitas.departure.steps import Phase, Step
from fidelitas.people import MappedPerson
from fidelitas.rights import Holding, HostRights, PrincipalKind, SubjectRights

__all__ = ["Departure", "Remaining", "departure_of"]


@dataclass(frozen=True, slots=True)
class Remaining:
    """A right that is still held, by which account."""

    subject: SubjectRights
    account: str
    holding: Holding


@dataclass(frozen=True, slots=True, kw_only=True)
class Departure:
    """Everything of a person: `accounts` by subject, what they still hold, and the steps that end it, in their order."""

    person: MappedPerson
    accounts: tuple[tuple[SubjectRights, str], ...]
    remaining: tuple[Remaining, ...]
    steps: tuple[Step, ...]


def departure_of(person: MappedPerson, subjects: Sequence[SubjectRights]) -> Departure:
    """Return what a person still holds on some subjects, and how it is taken away."""
    accounts = tuple((one, name) for one in subjects for name in sorted(_accounts(one, person)))
    remaining = [Remaining(one, name, holding) for one, name in accounts for holding in one.held_by(name) if _counts(holding)]
    remaining += _from_elsewhere(accounts, subjects)
    steps = [step for one, name in accounts for step in removal_steps(one, name)]
    fingerprints = set(_fingerprints(accounts))
    for one in subjects:
        if isinstance(one, HostRights):
            steps += key_steps(one, {name for other, name in accounts if other is one}, fingerprints)
    kept = {(left.subject.subject, left.holding.principal, left.holding.right): left for left in remaining}
    return Departure(
        person=person,
        accounts=accounts,
        remaining=tuple(kept.values()),
        steps=tuple(sorted(dict.fromkeys(steps), key=_order)),
    )


def _order(step: Step) -> tuple[object, ...]:
    """Return the order of a step: of lines of one file the last first, so that the numbers of the others stay."""
    return step.phase, step.subject, -(step.place.line or 0) if step.phase is Phase.KEYS and step.place else 0


def _accounts(one: SubjectRights, person: MappedPerson) -> set[str]:
    """Return the accounts of a subject that are the person's; of a database that has accounts for hosts, those of every host."""
    found = {name for name in (*one.names(), *(name for name, _ in one.comments())) if person.owns(one.subject, name)}
    called = getattr(one, "accounts_called", None)
    if called is not None:
        found |= {account for name in person.accounts for account in called(name.rpartition(":")[2])}
    own = (name.rpartition(":")[2] for name in person.accounts if name.rpartition(":")[0] in ("", one.subject))
    return found | {name for name in own if one.knows(name) and not name.startswith("%") and called is None and _is_here(one, name)}


def _is_here(one: SubjectRights, name: str) -> bool:
    """Return whether an account is one of the subject's own, not merely another host's of that name."""
    accounts = getattr(one, "accounts", None)
    return not isinstance(one, HostRights) and (accounts is None or name in accounts or name in one.names())


def _counts(holding: Holding) -> bool:
    return holding.principal.kind is not PrincipalKind.ANY_ACCOUNT


def _from_elsewhere(accounts: Iterable[tuple[SubjectRights, str]], subjects: Iterable[SubjectRights]) -> Iterator[Remaining]:
    """Yield what the accounts hold on other subjects: by keys from host to host, and by sockets of servers."""
    names = {f"{name}@{one.subject}" for one, name in accounts}
    for one in subjects:
        for holding in one.holdings:
            if holding.principal.kind is PrincipalKind.ELSEWHERE and str(holding.principal) in names:
                yield Remaining(one, str(holding.principal), holding)


def _fingerprints(accounts: Iterable[tuple[SubjectRights, str]]) -> Iterator[str]:
    """Yield the keys that are the person's: those that open their accounts, and the private ones in their homes."""
    for one, name in accounts:
        if isinstance(one, HostRights):
            who = one.population.by_name.get(name)
            home = who.account.home.rstrip("/") if who is not None and who.account is not None else ""
            yield from (key.fingerprint for account, key in one.opening_keys if account == name)
            mine = (key for key in one.private_keys if home and key.path.startswith(f"{home}/"))
            yield from (key.fingerprint for key in mine if key.fingerprint)
