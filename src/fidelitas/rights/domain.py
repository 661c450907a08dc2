"""What a machine asks of a directory: who a SID is, and who is in a group.  So that no platform imports another."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Protocol

from fidelitas.facts import DirectoryAccount
from fidelitas.rights.graph.links import Holding, Link, Principal, Right

__all__ = ["Domain"]


class Domain(Protocol):
    """The accounts and groups of a directory, by SID."""

    @property
    def subject(self) -> str:
        """The directory's name in the estate."""

    @property
    def taken(self) -> datetime:
        """When its evidence was taken."""

    @property
    def accounts(self) -> Mapping[str, DirectoryAccount]:
        """Its accounts by name."""

    @property
    def by_sid(self) -> Mapping[str, Principal]:
        """The accounts and groups that have a SID, as holders."""

    @property
    def by_qualified_name(self) -> Mapping[str, Principal]:
        r"""The accounts and groups by ``domain\name`` and ``name@realm``, in small letters."""

    @property
    def built_in(self) -> Mapping[str, Principal]:
        """The groups that each machine has of its own (S-1-5-32-…), as the domain controllers have them."""

    @property
    def domain_sids(self) -> frozenset[str]:
        """The SIDs of its domains."""

    @property
    def holdings(self) -> Sequence[Holding]:
        """Who administers it."""

    def below(self, groups: Iterable[Principal], /) -> Iterator[Link]:
        """Yield the links that lead to some groups, at any depth, each once: memberships, and who may change them."""

    def over_machine(self, computer: str, right: Right, /) -> Iterator[Link]:
        """Yield the links to a right on a machine of the domain by what the directory allows or keeps."""
