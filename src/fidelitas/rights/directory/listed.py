"""Which groups list an object as a member, as a server's own filters see it: without primary groups, through groups of every type.

``(memberOf=DN)`` asks for the groups whose own list names an object, ``(memberOf:1.2.840.113556.1.4.1941:=DN)`` for those round them, too
([MS-ADTS] 3.1.1.3.4.4, LDAP_MATCHING_RULE_TRANSITIVE_EVAL).
"""

from collections.abc import Iterable

from fidelitas.distinguished_names import folded
from fidelitas.facts import DirectoryFacts
from fidelitas.rights.directory.objects import Thing
from fidelitas.rights.graph.walks import reached

__all__ = ["ListedGroups"]


class ListedGroups:
    """The groups of one directory by what they list, and by what objects say that they are in; DNs are folded."""

    def __init__(self, facts: DirectoryFacts) -> None:
        self._above: dict[str, dict[str, None]] = {}
        for group in facts.groups:
            for dn, _ in group.members:
                self._above.setdefault(folded(dn), {})[folded(group.dn)] = None
        things: tuple[Thing, ...] = (*facts.accounts, *facts.groups)
        for one in things:
            self._above.setdefault(folded(one.dn), {}).update((folded(dn), None) for dn, _ in one.member_of)

    def of(self, dn: str) -> frozenset[str]:
        """Return the groups that list an object."""
        return frozenset(self._listing(folded(dn)))

    def in_chain(self, dn: str) -> frozenset[str]:
        """Return the groups that list an object, or a group that does, and so on."""
        return frozenset(reached(self._listing(folded(dn)), self._listing))

    def _listing(self, folded_dn: str) -> Iterable[str]:
        return self._above.get(folded_dn, ())
