"""A change rehearsed: what another policy would change in rights, known before it is done.

Compares what everybody holds before and after; texts are not compared.  Pure.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from enum import StrEnum

from fidelitas.changes import HeldChange, Turn, held_changes
from fidelitas.facts import Gap
from fidelitas.rights import Holding, HostRights, PrincipalKind, RightKind
from fidelitas.rights.graph.links import Mechanism

__all__ = ["LockOut", "LockOutKind", "Rehearsal", "errors_of", "rehearse"]


class LockOutKind(StrEnum):
    """Who could not become root any more."""

    NOBODY = "nobody"  # is left who could
    ROOT_ALONE = "root-alone"  # is left, and has no password to log in with
    NO_LOGIN = "no-login"  # those who could cannot log in
    SUDO = "sudo"  # everyone who can by sudo now would lose it


@dataclass(frozen=True, slots=True, kw_only=True)
class LockOut:
    """That a change would lock out: `accounts` are who is left or who loses it, `left` what would lead to root still."""

    kind: LockOutKind
    accounts: tuple[str, ...] = ()
    left: tuple[Holding, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Rehearsal:
    """What a new policy does to one host: its errors, and the changes in rights."""

    before: HostRights
    after: HostRights
    errors: tuple[Gap, ...]
    gained: tuple[HeldChange, ...]
    lost: tuple[HeldChange, ...]
    altered: tuple[HeldChange, ...]
    locked_out: LockOut | None


def errors_of(rehearsals: Iterable[Rehearsal]) -> list[Gap]:
    """Return each error of a new policy once, at each of its places, though it is an error on every host."""
    found = {(error.place.path, error.place.line, error.place.column, error.why): error for one in rehearsals for error in one.errors}
    return list(found.values())


def rehearse(before: HostRights, after: HostRights) -> Rehearsal:
    """Return what changes from one state of a host's rights to another."""
    changes = held_changes(before.own_holdings, after.own_holdings)
    return Rehearsal(
        before=before,
        after=after,
        errors=(*after.facts.policy.gaps, *after.facts.policy.visudo_refusals),
        gained=tuple(one for one in changes if one.turn is Turn.GAINED),
        lost=tuple(one for one in changes if one.turn is Turn.LOST),
        altered=tuple(one for one in changes if one.turn not in (Turn.GAINED, Turn.LOST)),
        locked_out=_locked_out(after) or _sudo_lost(before, after),
    )


def _locked_out(rights: HostRights) -> LockOut | None:
    """Return that nobody, or nobody who can log in, could become root; nothing where someone could."""
    roots = list(_roots(rights))
    others = tuple(name for name, uid, _ in roots if uid != 0)
    if any(can is not False for _, _, can in roots):
        alone = not others and not any(can for _, uid, can in roots if uid == 0)
        return LockOut(kind=LockOutKind.ROOT_ALONE) if alone else None
    return LockOut(kind=LockOutKind.NO_LOGIN if others else LockOutKind.NOBODY, accounts=others)


def _sudo_lost(before: HostRights, after: HostRights) -> LockOut | None:
    """Return that everyone who can become root by sudo now would lose it, with the ways that would be left; else nothing."""
    lost = tuple(sorted(_by_sudo(before) - _by_sudo(after)))
    if not lost or _by_sudo(after):
        return None
    left = tuple(holding for holding in after.own_holdings if holding.right.kind is RightKind.ROOT)
    return LockOut(kind=LockOutKind.SUDO, accounts=lost, left=left)


def _by_sudo(rights: HostRights) -> frozenset[str]:
    """Return the accounts besides root that may become root by sudo and can log in, as far as is known."""
    roots = [holding for holding in rights.holdings if holding.right.kind is RightKind.ROOT]
    sudo = [one for one in roots if any(link.mechanism is Mechanism.SUDO for route in one.routes for link in route.links)]
    people = [who for one in sudo if (who := rights.identity(one.principal)) is not None and who.uid != 0]
    return frozenset(who.name for who in people if who.login.possible is not False)


def _roots(rights: HostRights) -> Iterator[tuple[str, int | None, bool | None]]:
    """Yield the accounts that are root or may become it, each with its user ID and whether it can log in."""
    for holding in rights.holdings:
        if holding.right.kind is RightKind.ROOT and holding.principal.kind is PrincipalKind.ACCOUNT:
            who = rights.identity(holding.principal)
            if who is not None:
                yield who.name, who.uid, who.login.possible
