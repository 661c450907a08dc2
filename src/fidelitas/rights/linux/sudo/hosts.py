"""Addresses and netgroups: the two ways besides names in which a rule can be about a host."""

from collections.abc import Mapping, Sequence
from ipaddress import AddressValueError, IPv4Address, IPv4Interface, IPv6Address, IPv6Interface

from msgspec import Struct, field

__all__ = ["Netgroups", "address_matches"]

Interface = IPv4Interface | IPv6Interface
Triple = tuple[str, str, str]


def address_matches(stated: str, interfaces: Sequence[Interface]) -> bool:
    """Return whether an address or network of a rule is one of a host's (sudo's match_addr.c).

    Without a mask: an interface's address, or the address of its network.  With one: the rule's own host bits do not count, but for an
    IPv6 mask that is written as an address.
    """
    text, slash, mask = stated.partition("/")
    address = _address(text)
    if address is None:
        return False
    same = [one for one in interfaces if one.version == address.version]
    if not slash:
        return any(address in (one.ip, one.network.network_address) for one in same)
    bits = _mask(mask, address.version)
    if bits is None:
        return False
    number = int(address) if address.version == 6 and ":" in mask else int(address) & bits
    return any(int(one.ip) & bits == number for one in same)


def _address(text: str) -> IPv4Address | IPv6Address | None:
    try:
        return IPv6Address(text) if ":" in text else IPv4Address(text)
    except AddressValueError:
        return None


def _mask(text: str, version: int) -> int | None:
    """Return a network mask as a number; the length 0 is none, to sudo."""
    width = 32 if version == 4 else 128
    if "." in text or ":" in text:
        address = _address(text)
        return int(address) if address is not None and address.version == version else None
    if not text.isdecimal() or len(text) > 3 or not 1 <= int(text) <= width:
        return None
    return ((1 << int(text)) - 1) << (width - int(text))


class Netgroups(Struct, frozen=True):
    """The netgroups of netgroup(5): for each the triples (host, user, domain) and the netgroups within it."""

    triples: Mapping[str, Sequence[Triple]] = field(default_factory=dict)
    inner: Mapping[str, Sequence[str]] = field(default_factory=dict)

    def has(self, name: str, host: str | None, user: str | None) -> bool:
        """Return whether a netgroup holds a host and a user; ``None``, and an empty field, stand for any (innetgr(3))."""
        agenda = [name]
        for group in agenda:
            for of_host, of_user, _ in self.triples.get(group, ()):
                fits_host = host is None or of_host == "" or of_host.lower() == host.lower()
                if fits_host and (user is None or of_user in ("", user)):
                    return True
            agenda += [one for one in self.inner.get(group, ()) if one not in agenda]
        return False
