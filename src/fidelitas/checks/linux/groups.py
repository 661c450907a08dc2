"""Checks of groups: what membership confers by itself, and what running sessions still hold."""

import shlex
from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import LentGroups, PasswordState, Place
from fidelitas.findings import Severity
from fidelitas.rights.graph.links import PrincipalKind, RightKind
from fidelitas.rights.linux.groups import conferred
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.lent_groups import lent_groups
from fidelitas.rights.linux.live import Stale, stale_groups
from fidelitas.rights.linux.population import AccountKind

__all__ = ["CHECKS"]


@check(
    "groups.root-equivalent",
    Severity.HIGH,
    advice="Remove people from the group; give the few commands that they need through sudo, which is logged.",
)
def root_equivalent(rights: HostRights) -> Iterator[Found]:
    """Someone is in a group that is equivalent to root.

    Members can become root, or read every password hash, without a password and without an entry in sudo's log. Reviews of the sudo
    policy do not show it.
    """
    states = rights.facts.states
    for group in rights.population.groups:
        found = conferred(group, states)
        if found is None or found.right not in ("root", "read-secrets"):
            continue
        people = [who for who in rights.population.members(group.name) if who.kind in (AccountKind.PERSON, AccountKind.SERVICE)]
        if people:
            names = ", ".join(who.name for who in people)
            severity = Severity.MEDIUM if found.right != "root" or found.condition else None
            confirmed = found.condition or f"{found.path} is there for it"
            message = f"{names}: group {group.name} {found.reason}; {confirmed}"
            yield Found(
                about=group.name,
                message=message,
                places=(group.place,),
                severity=severity,
                safer=_without(group.name, [who.name for who in people]),
            )


def _without(group: str, names: list[str]) -> str:
    return "; ".join(f"gpasswd --delete={shlex.quote(name)} -- {shlex.quote(group)}" for name in names)


def _matters(rights: HostRights, stale: Stale) -> bool:
    """Return whether a group leads to a right on this host."""
    held = [holding for holding in rights.holdings if holding.principal.kind is PrincipalKind.GROUP]
    return any(holding.principal.name == stale.group and holding.right.kind <= RightKind.READ_SECRETS for holding in held)


@check("groups.added-at-login", Severity.MEDIUM, advice="Remove the group from group.conf; add those who need it by name.")
def added_at_login(rights: HostRights) -> Iterator[Found]:
    """PAM adds people to a root-equivalent group when they log in.

    The account and group files do not show it, and members can keep the group through a setgid program.
    """
    states = rights.facts.states
    by_gid = {group.gid: group for group in reversed(rights.population.groups)}
    told: dict[tuple[int, LentGroups], list[str]] = {}
    for who, gid, lent in lent_groups(rights.facts.logins, rights.population):
        told.setdefault((gid, lent), []).append("all accounts" if who is None else who.name)
    for (gid, lent), names in told.items():
        found = conferred(by_gid[gid], states)
        if found is not None and found.right in ("root", "read-secrets"):
            shown = ", ".join(names[:6]) + (" and more" if len(names) > 6 else "")
            message = f"{shown}: PAM adds group {by_gid[gid].name} at logins by {lent.services}; the group {found.reason}"
            yield Found(about=f"{by_gid[gid].name}\0{lent.users}", message=message, places=(lent.place,))


@check("groups.revoked-but-active", Severity.HIGH, advice="End the account's sessions; processes keep their groups until they end.")
def revoked_but_active(rights: HostRights) -> Iterator[Found]:
    """A running session still has a group that the account was removed from.

    Removing someone from a group does not change running processes. Until they end, the account keeps the rights of the group.
    """
    for stale in stale_groups(rights.facts, rights.population):
        if stale.held:
            shown = ", ".join(f"{process.pid} ({process.name})" for process in stale.processes[:4])
            more = f" and {len(stale.processes) - 4} more" if len(stale.processes) > 4 else ""
            message = f"{stale.who.name} was removed from group {stale.group}, but processes {shown}{more} still have it"
            place = Place(subject=rights.subject, path=f"/proc/{stale.processes[0].pid}/status")
            yield Found(
                about=f"{stale.who.name}\0{stale.group}",
                message=message,
                places=(place,),
                severity=None if _matters(rights, stale) else Severity.LOW,
                safer=f"loginctl terminate-user {shlex.quote(stale.who.name)}",
            )


@check("groups.pending-membership", Severity.INFO, advice="Log out and in again.")
def pending_membership(rights: HostRights) -> Iterator[Found]:
    """A group membership is not yet in force in any session of the account.

    The membership was added after the last login. sudo and everything else that uses the session's groups refuses until the next login.
    """
    for stale in stale_groups(rights.facts, rights.population):
        if not stale.held and _matters(rights, stale):
            message = (
                f"{stale.who.name} is in group {stale.group}, but none of {len(stale.processes)} running processes has it: log in again"
            )
            places = tuple(one.place for one in stale.who.memberships if one.group.gid == stale.gid)
            yield Found(about=f"{stale.who.name}\0{stale.group}", message=message, places=places)


@check("groups.password", Severity.MEDIUM, advice="Remove the password (gpasswd -r GROUP); add members by name.")
def group_password(rights: HostRights) -> Iterator[Found]:
    """A group with elevated rights has a password.

    Anyone who knows it joins the group with newgrp, and no list shows who they are.
    """
    shadows = {one.name: one for one in rights.facts.group_shadows or ()}
    elevated = rights.full_holders(PrincipalKind.GROUP)
    for group in rights.population.groups:
        stated = shadows.get(group.name)
        password, place = (stated.password, stated.place) if stated is not None else (group.password, group.place)
        if group.name in elevated and password.state is PasswordState.USABLE:
            message = f"group {group.name} has a password: newgrp makes anyone who knows it a member"
            yield Found(about=group.name, message=message, places=(place,))


CHECKS: tuple[Check[HostRights], ...] = (
    root_equivalent,
    added_at_login,
    revoked_but_active,
    pending_membership,
    group_password,
)
