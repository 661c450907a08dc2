"""Netgroups: sets of hosts and accounts that a file of the host or a directory states, netgroup(5) and RFC 2307."""

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.text import Place

__all__ = ["Netgroup"]


@equal_apart_from("place")
class Netgroup(Struct, frozen=True, kw_only=True):
    """A line of netgroup(5): triples of host, user and domain, in which an empty field stands for any, and other netgroups."""

    name: str
    triples: tuple[tuple[str, str, str], ...]
    inner: tuple[str, ...]
    place: Place
