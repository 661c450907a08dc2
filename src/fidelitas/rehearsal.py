"""A change rehearsed: what another policy would change in rights, known before it is done.

Compares what everyone holds before and after; texts are not compared.  Pure.
"""

from collections.abc import Collection, Iterable, Iterator, Sequence
from enum import StrEnum
from itertools import pairwise

from msgspec import Struct

from fidelitas.audit import EvidenceSource, audit
from fidelitas.changes import HeldChange, Turn, held_changes
from fidelitas.facts import Gap
from fidelitas.memberships import Memberships, Plan, plan
from fidelitas.rights import DirectoryRights, Holding, HostRights, Mechanism, PrincipalKind, RightKind, SubjectRights

__all__ = ["Effect", "LockOut", "LockOutKind", "Rehearsal", "Rehearsed", "effect_of", "errors_of", "rehearse", "rehearse_change"]


class LockOutKind(StrEnum):
    """Who could not become root any more."""

    NOBODY = "nobody"  # is left who could
    ROOT_ALONE = "root-alone"  # is left, and has no password to log in with
    NO_LOGIN = "no-login"  # those who could cannot log in
    SUDO = "sudo"  # everyone who can by sudo now would lose it


class LockOut(Struct, frozen=True, kw_only=True):
    """That a change would lock out: `accounts` are who is left or who loses it, `left` what would lead to root still."""

    kind: LockOutKind
    accounts: tuple[str, ...] = ()
    left: tuple[Holding, ...] = ()


class Rehearsal(Struct, frozen=True, kw_only=True):
    """What a change does to one subject: the changes in rights."""

    before: SubjectRights
    after: SubjectRights
    gained: tuple[HeldChange, ...]
    lost: tuple[HeldChange, ...]
    altered: tuple[HeldChange, ...]
    locked_out: LockOut | None

    @property
    def elevated(self) -> bool:
        """Whether someone gains full control."""
        return any(change.holding.right.kind.full for change in self.gained)

    @property
    def changes(self) -> bool:
        """Whether anyone's rights change."""
        return bool(self.gained or self.lost or self.altered)


class Rehearsed(Struct, frozen=True, kw_only=True):
    """A change rehearsed on every subject that it is about: those where someone gains full control first."""

    subjects: Sequence[SubjectRights]  # as they are
    rehearsals: Sequence[Rehearsal]
    plan: Plan


class Effect(StrEnum):
    """When a changed membership gives or takes a right."""

    AT_ONCE = "at-once"
    NEXT_LOGON = "next-logon"


def effect_of(holding: Holding) -> Effect:
    """Return when a right that hangs on memberships comes, or goes.

    A session keeps the groups that it began with (credentials(7); [MS-KILE] 3.3.5.6); sudo(8) reads the group file of its host each
    time, and a database server its roles.
    """
    links = holding.routes[0].links
    for link, onward in pairwise(links):
        read_each_time = onward.mechanism is Mechanism.SUDO and link.place.subject == holding.principal.subject
        if link.mechanism is Mechanism.MEMBERSHIP and not read_each_time:
            return Effect.NEXT_LOGON
    return Effect.AT_ONCE


def rehearse_change(evidence: EvidenceSource, changed: EvidenceSource, wanted: Memberships, asked: str | None = None) -> Rehearsed:
    """Return what becomes of rights where `changed` is in the place of `evidence`, and memberships are as is `wanted`.

    With `asked` only that subject is shown; its groups are changed, or those of directories.  Nothing that was concluded before is used.
    """
    heads = evidence.subjects()
    directories = {name for name, (platform, _) in heads.items() if platform == DirectoryRights.platform}
    chosen: Collection[str] = heads if asked is None else {asked, *directories}
    before = audit(evidence, chosen, findings=False, edits={}).subjects
    planned = plan(wanted, before, asked)
    after = {one.subject: one for one in audit(changed, chosen, findings=False, edits=planned.edits).subjects}
    shown = [one for one in before if asked in (None, one.subject)]
    rehearsals = [rehearse(one, after[one.subject]) for one in shown]
    return Rehearsed(subjects=shown, rehearsals=sorted(rehearsals, key=_urgency), plan=planned)


def _urgency(one: Rehearsal) -> tuple[bool, bool, bool, str]:
    return one.locked_out is None, not one.elevated, not one.changes, one.after.subject


def errors_of(rehearsals: Iterable[Rehearsal]) -> list[Gap]:
    """Return each error of a new policy once, at each of its places, though it is an error on every host."""
    found: dict[tuple[object, ...], Gap] = {}
    for host in (one.after for one in rehearsals if isinstance(one.after, HostRights)):
        for error in (*host.facts.policy.gaps, *host.facts.policy.visudo_refusals):
            found[error.place.path, error.place.line, error.place.column, error.why] = error
    return list(found.values())


def rehearse(before: SubjectRights, after: SubjectRights) -> Rehearsal:
    """Return what changes from one state of a subject's rights to another."""
    changes = held_changes(before.own_holdings, after.own_holdings)
    hosts = (before, after) if isinstance(before, HostRights) and isinstance(after, HostRights) else None
    return Rehearsal(
        before=before,
        after=after,
        gained=tuple(one for one in changes if one.turn is Turn.GAINED),
        lost=tuple(one for one in changes if one.turn is Turn.LOST),
        altered=tuple(one for one in changes if one.turn not in (Turn.GAINED, Turn.LOST)),
        locked_out=(_locked_out(hosts[1]) or _sudo_lost(*hosts)) if hosts and changes else None,
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
