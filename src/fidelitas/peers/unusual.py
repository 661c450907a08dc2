"""What is rare among peers, with the numbers that say so."""

from collections.abc import Iterable, Iterator

from msgspec import Struct

from fidelitas.peers.groups import PeerGroup
from fidelitas.peers.profiles import Having, Profile
from fidelitas.rights import Holding

__all__ = ["Unusual", "unusual"]

# The share of peers that would be expected to have something, up to which it is unusual to have it.
_RARE = 0.15
# Half a peer is counted as having it though none has: of few peers nothing is certain.
_DOUBT = 0.5


class Unusual(Struct, frozen=True):
    """Something that a holder has and few of its peers have: `count` of `size`, itself included; `others` are those who have it too."""

    holder: str
    having: Having
    group: str
    declared: bool
    count: int
    size: int
    others: tuple[str, ...]
    places: tuple[str, ...]  # the subjects that it is on
    holding: Holding | None = None


def unusual(groups: Iterable[PeerGroup], *, memberships: bool = False) -> list[Unusual]:
    """Return what is rare among peers, the rarest first; memberships that give no right only where they are asked for."""
    found = [one for group in groups for one in _in(group, memberships=memberships)]
    return sorted(found, key=lambda one: (one.count / one.size, -one.size, one.holder, one.having))


def _in(group: PeerGroup, *, memberships: bool) -> Iterator[Unusual]:
    having: dict[Having, list[Profile]] = {}
    for profile in group.members:
        for one in profile.has if memberships else profile.rights:
            having.setdefault(one, []).append(profile)
    size = len(group.members)
    for one, holders in having.items():
        if expected(len(holders), size) <= _RARE:
            for profile in holders:
                others = tuple(other.name for other in holders if other is not profile)
                places = tuple(sorted(profile.places.get(one, {one.where})))
                yield Unusual(profile.name, one, group.name, group.declared, len(holders), size, others, places, profile.evidence.get(one))


def expected(count: int, size: int) -> float:
    """Return which share of the others would have something, were the group larger, where `count` of `size` have it."""
    return (count - 1 + _DOUBT) / size
