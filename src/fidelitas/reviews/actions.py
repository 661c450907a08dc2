"""What carries out the revocations of a review: commands and edits, printed and never run, in an order in which nobody is locked out.

The steps are those by which a leaver's rights end (`departure`), chosen by the places that a route cites.  What is held by a weakness has
no command: it is to be mended where it is.
"""

import shlex
from collections.abc import Iterable, Iterator, Mapping, Sequence
from enum import StrEnum

from msgspec import Struct

from fidelitas.departure import Phase, Step
from fidelitas.departure.removal import removal_steps
from fidelitas.reviews.items import Item, is_of_all
from fidelitas.rights import (
    DatabaseRights,
    Holding,
    HostRights,
    Link,
    Mechanism,
    PrincipalKind,
    Right,
    RightKind,
    Route,
    Strength,
    SubjectRights,
)

__all__ = ["Action", "Outcome", "Revocation", "revocations"]


class Outcome(StrEnum):
    """What the newest evidence shows of a revocation."""

    DONE = "done"
    STILL_HELD = "still held"
    UNREAD = "not surveyed since"


class Action(Struct, frozen=True):
    """A step with the items that it is for; `last` where it takes root from the last who has it on its subject."""

    step: Step
    items: tuple[int, ...]
    last: bool = False


class Revocation(Struct, frozen=True):
    """An item that is to be revoked on one subject, and what became of that."""

    item: Item
    subject: str
    outcome: Outcome
    holding: Holding | None = None


def revocations(items: Iterable[Item], subjects: Mapping[str, SubjectRights], surveyed: Mapping[str, bool]) -> list[Revocation]:
    """Return each revocation with what the newest evidence shows; `surveyed` says of which subjects there is any since the review began."""
    return [_revocation(item, name, subjects.get(name), newer=surveyed.get(name, False)) for item in items for name in item.subjects]


def _revocation(item: Item, name: str, rights: SubjectRights | None, *, newer: bool) -> Revocation:
    held = None if rights is None else next((one for one in rights.own_holdings if _is_item(one, item)), None)
    if rights is None or (held is not None and not newer):
        return Revocation(item, name, Outcome.UNREAD, held)
    return Revocation(item, name, Outcome.DONE if held is None else Outcome.STILL_HELD, held)


def _is_item(holding: Holding, item: Item) -> bool:
    return str(holding.principal) == item.holder and str(holding.right) == item.right and holding.principal.kind.value == item.holder_kind


def actions(left: Sequence[Revocation], subjects: Mapping[str, SubjectRights]) -> list[Action]:
    """Return the steps that are left, lesser rights before control of a subject; the last who has root on a host comes at the very end."""
    found: dict[Step, dict[int, None]] = {}
    for one in left:
        if one.holding is not None and one.outcome is not Outcome.DONE:
            for step in _steps(subjects[one.subject], one.holding):
                found.setdefault(step, {})[one.item.number] = None
    locked = _locked_out(left, subjects)
    full = {one.item.number for one in left if one.holding is not None and one.holding.right.kind.full}
    made = [Action(step, tuple(items), last=step.subject in locked and not full.isdisjoint(items)) for step, items in found.items()]
    return sorted(made, key=lambda one: (one.last, not full.isdisjoint(one.items), one.step.subject, _place(one.step)))


def _place(step: Step) -> tuple[str, int]:
    """Return the order within a file: the last line first, so that the numbers of the others stay."""
    return (step.place.path, -(step.place.line or 0)) if step.place is not None else ("", 0)


def _locked_out(left: Sequence[Revocation], subjects: Mapping[str, SubjectRights]) -> set[str]:
    """Return the hosts on which nobody would be left who can log in and become root."""
    found = set()
    for name, rights in subjects.items():
        if isinstance(rights, HostRights):
            going = {one.item.holder for one in left if one.subject == name and one.item.right == "root"}
            if going and not any(_can(rights, holding) and str(holding.principal) not in going for holding in rights.own_holdings):
                found.add(name)
    return found


def _can(rights: HostRights, holding: Holding) -> bool:
    """Return whether a holding is root of an account that can log in, as far as is known, by what was granted to it."""
    who = rights.identity(holding.principal) if holding.principal.kind is PrincipalKind.ACCOUNT else None
    return holding.right.kind is RightKind.ROOT and holding.granted and who is not None and who.login.possible is not False


def _steps(rights: SubjectRights, holding: Holding) -> Iterator[Step]:
    """Yield what ends each route of a holding."""
    for route in holding.routes:
        if not is_of_all(route) or holding.principal.kind is PrincipalKind.ANY_ACCOUNT:
            yield from _of_route(rights, holding, route)


def _of_route(rights: SubjectRights, holding: Holding, route: Route) -> Iterator[Step]:
    account = holding.principal.name
    places = {(link.place.path, link.place.line) for link in route.links}
    known = [
        step
        for step in removal_steps(rights, account)
        if step.phase is Phase.RIGHTS and step.place is not None and (step.place.path, step.place.line) in places
    ]
    if known:
        yield known[0]
        return
    first = route.links[0]
    yield _of_attribute(rights, first) or _of_session(rights, first) or _of_key(rights, route) or _by_hand(rights, holding, route)


def _of_session(rights: SubjectRights, link: Link) -> Step | None:
    """Return the step that ends sessions which hold a group that the files give no more."""
    if link.mechanism is not Mechanism.HELD_MEMBERSHIP:
        return None
    command = f"loginctl terminate-user {shlex.quote(link.source.name)}"
    return Step(phase=Phase.SESSIONS, subject=rights.subject, what=f"end the sessions: {link.because}", command=command, place=link.place)


def _of_attribute(rights: SubjectRights, link: Link) -> Step | None:
    if not isinstance(rights, DatabaseRights) or link.mechanism is not Mechanism.ATTRIBUTE:
        return None
    role = '"' + link.source.name.replace('"', '""') + '"'
    full = isinstance(link.target, Right) and link.target.kind is RightKind.DB_SUPERUSER
    attribute = "NOSUPERUSER" if full else "NOCREATEROLE"
    what = f"take the attribute from role {link.source.name}"
    return Step(phase=Phase.RIGHTS, subject=rights.subject, what=what, command=f"ALTER ROLE {role} {attribute};", place=link.place)


def _of_key(rights: SubjectRights, route: Route) -> Step | None:
    """Return the step that takes a key out of the file that accepts it."""
    link = next((one for one in route.links if one.mechanism is Mechanism.SSH_KEY and one.place.line is not None), None)
    if link is None or not isinstance(rights, HostRights) or link.place.subject != rights.subject:
        return None
    owner = next((who for who, grant in rights.key_grants if grant.key.place == link.place), None)
    runner = "" if owner is None or owner.uid == 0 else f"runuser -u {shlex.quote(owner.name)} -- "
    command = f"{runner}sed --in-place '{link.place.line}d' {shlex.quote(link.place.path)}"
    return Step(phase=Phase.KEYS, subject=rights.subject, what=f"remove the key of {link.source}", command=command, place=link.place)


def _by_hand(rights: SubjectRights, holding: Holding, route: Route) -> Step:
    """Return the step of a route for which there is no command: where it is, and how it is looked at."""
    weak = (one for one in route.links if one.strength is not Strength.DIRECT)
    link = next(weak, route.links[-1])
    command = f"fidelitas why {shlex.quote(str(holding.principal))} {shlex.quote(rights.subject)}"
    return Step(phase=Phase.LEFT_BEHIND, subject=rights.subject, what=f"mend by hand: {link.because}", command=command, place=link.place)
