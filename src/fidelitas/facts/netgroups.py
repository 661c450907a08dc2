"""Netgroups: sets of hosts and accounts that a file of the host or a directory states, netgroup(5) and RFC 2307."""

from dataclasses import dataclass, field

from fidelitas.text import Place

__all__ = ["Netgroup"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Netgroup:
    """A line of netgroup(5): triples of host, user and domain, in which an empty field stands for any, and other netgroups."""

    name: str
    triples: tuple[tuple[str, str, str], ...]
    inner: tuple[str, ...]
    place: Place = field(compare=False)
