"""What a person still holds: on which subject, by which account, which right; also by keys on other hosts and by sockets."""

from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from fidelitas.departure.removal import key_steps, removal_steps
from fidelitas.departure.steps import Phase, Step
from fidelitas.people import MappedPerson, PersonalAccounts
from fidelitas.rights import Holding, HostRights, SubjectRights

__all__ = ["Departure", "Remaining", "departure_of"]


class Remaining(Struct, frozen=True):
    """A right that is still held, by which account."""

    subject: SubjectRights
    account: str
    holding: Holding


class Departure(Struct, frozen=True, kw_only=True):
    """Everything of a person: `accounts` by subject, what they still hold, and the steps that end it, in their order."""

    person: MappedPerson
    accounts: tuple[tuple[SubjectRights, str], ...]
    remaining: tuple[Remaining, ...]
    steps: tuple[Step, ...]


def departure_of(person: MappedPerson, subjects: Sequence[SubjectRights]) -> Departure:
    """Return what a person still holds on some subjects, and how it is taken away."""
    personal = PersonalAccounts(subjects)
    accounts = tuple(personal.of(person))
    remaining = [Remaining(one, name, holding) for one, name in accounts for holding in personal.held(one, name)]
    remaining += [Remaining(one, str(holding.principal), holding) for one, holding in personal.held_elsewhere(accounts)]
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


def _fingerprints(accounts: Iterable[tuple[SubjectRights, str]]) -> Iterator[str]:
    """Yield the keys that are the person's: those that open their accounts, and the private ones in their homes."""
    for one, name in accounts:
        if isinstance(one, HostRights):
            who = one.account(name)
            home = who.account.home.rstrip("/") if who is not None and who.account is not None else ""
            yield from (key.fingerprint for account, key in one.opening_keys if account == name)
            mine = (key for key in one.private_keys if home and key.path.startswith(f"{home}/"))
            yield from (key.fingerprint for key in mine if key.fingerprint)
