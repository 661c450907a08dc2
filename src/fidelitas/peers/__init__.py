"""Peers: what a holder has that its like have not, accounts that look copied, and hosts that differ from others of their role.  Pure.

`profiles` says what each holder has, `groups` who is whose peer, `unusual` what is rare among peers, `copies` which accounts look copied.
"""

from collections.abc import Collection, Sequence

from msgspec import Struct

from fidelitas.peers.copies import Copy, copies, given_on
from fidelitas.peers.groups import PeerGroup, peer_groups, role_groups, shared_roles
from fidelitas.peers.profiles import Having, Profile, host_profiles, profiles
from fidelitas.peers.unusual import Unusual, unusual

__all__ = [
    "Copy",
    "Having",
    "Oddities",
    "PeerGroup",
    "Profile",
    "Unusual",
    "copies",
    "given_on",
    "host_profiles",
    "peer_groups",
    "profiles",
    "role_groups",
    "shared_roles",
    "unusual",
]


class Oddities(Struct, frozen=True, kw_only=True):
    """What stands out: among peers, among hosts of one role, and accounts that look copied; `groups` are who was compared with whom."""

    groups: Sequence[PeerGroup]
    unusual: Sequence[Unusual]
    hosts: Sequence[Unusual]
    copies: Sequence[Copy]

    def about(self, names: Collection[str], known: Sequence[Profile]) -> "Oddities":
        """Return what is about some people or accounts, of those that are known; hosts are about nobody."""
        wanted = {profile.name for profile in known if profile.name in names or profile.accounts & set(names)}
        return Oddities(
            groups=[PeerGroup(one.name, one.members, one.declared) for one in self.groups if {m.name for m in one.members} & wanted],
            unusual=[one for one in self.unusual if one.holder in wanted],
            hosts=[],
            copies=[one for one in self.copies if {one.holder, one.like} & wanted],
        )
