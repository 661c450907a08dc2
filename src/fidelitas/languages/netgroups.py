"""Triples of netgroups: (host,user,domain), netgroup(5)."""

import re
from collections.abc import Iterator

__all__ = ["TRIPLE", "netgroup_triples"]

TRIPLE = re.compile(r"\(([^,()]*),([^,()]*),([^,()]*)\)")


def netgroup_triples(text: str) -> Iterator[tuple[str, str, str]]:
    """Yield the triples in a text."""
    return ((host.strip(), user.strip(), domain.strip()) for host, user, domain in TRIPLE.findall(text))
