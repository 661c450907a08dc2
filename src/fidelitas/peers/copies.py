"""Accounts that look copied from another: all of its groups and few more, though it is of another team; perhaps given on one day."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date

from msgspec import Struct

from fidelitas.peers.groups import PeerGroup
from fidelitas.peers.profiles import Profile
from fidelitas.usage import Grants

__all__ = ["Copy", "copies", "given_on"]

_FEWEST_GROUPS = 3
_ALIKE = 0.75
# On which day a holder was put into a group (``%name``), where a log says so.
GivenOn = Callable[[str, str], date | None]


class Copy(Struct, frozen=True):
    """A holder that has all groups of another one; `day` on which the most of them were given, and how many."""

    holder: str
    like: str
    groups: tuple[str, ...]
    day: date | None = None
    given: int = 0


def copies(known: Sequence[Profile], groups: Sequence[PeerGroup], given_on: GivenOn = lambda _holder, _group: None) -> list[Copy]:
    """Return who looks copied: all groups of someone of another team, and few others.  What a team has in common is nobody's mark."""
    team = {profile.name: group.name for group in groups if group.declared for profile in group.members}
    common = {one for group in groups if group.declared for one in _shared(group)}
    marks = {profile.name: {one.what for one in profile.memberships} - common for profile in known}
    found = [_copy(holder, like, tuple(sorted(marks[like])), given_on) for holder, like in _pairs(team, marks)]
    return sorted(found, key=lambda one: (-one.given, -len(one.groups), one.holder))


def _pairs(team: Mapping[str, str], marks: Mapping[str, set[str]]) -> Iterator[tuple[str, str]]:
    """Yield holders with those whose groups they all have; of two that have the same, the one later in the alphabet with the other."""
    by_mark: dict[str, list[str]] = {}
    for name in team:
        for one in marks[name]:
            by_mark.setdefault(one, []).append(name)
    for name in team:
        mine = marks[name]
        for other in sorted({one for mark in mine for one in by_mark[mark]}):
            theirs = marks[other]
            if team[other] == team[name] or len(theirs) < _FEWEST_GROUPS or not theirs <= mine:
                continue
            if len(theirs) / len(mine) >= _ALIKE and (theirs != mine or name > other):
                yield name, other


def _copy(holder: str, like: str, groups: tuple[str, ...], given_on: GivenOn) -> Copy:
    days = [day for one in groups if (day := given_on(holder, one)) is not None]
    best = max(set(days), key=lambda day: (days.count(day), day), default=None)
    return Copy(holder, like, groups, best, days.count(best) if best is not None else 0)


def _shared(group: PeerGroup) -> set[str]:
    """Return the groups that half of a team or more is in: they are the team's."""
    counts: dict[str, int] = {}
    for profile in group.members:
        for one in {having.what for having in profile.memberships}:
            counts[one] = counts.get(one, 0) + 1
    return {one for one, count in counts.items() if count * 2 >= len(group.members)}


def given_on(known: Sequence[Profile], provenance: Mapping[str, Grants]) -> GivenOn:
    """Return what knows on which day a holder was put into a group, by the logs."""
    accounts = {profile.name: profile.accounts for profile in known}

    def day(holder: str, group: str) -> date | None:
        name = group.removeprefix("%")
        records = [grants.of_membership(name, account) for grants in provenance.values() for account in accounts[holder]]
        days = [record.event.at.date() for record in records if record is not None and record.event.at is not None]
        return max(days, default=None)

    return day
