"""Segregation of duties: who holds rights together that nobody may."""

from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct

from fidelitas.charter.entries import Segregation, Within
from fidelitas.charter.scope import Scope, is_named
from fidelitas.rights import Holding, PrincipalKind

__all__ = ["Conflict", "conflicts"]

_HOLDERS = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE, PrincipalKind.ELSEWHERE})
# The holder whom everyone may become by a password that is set is the system itself.
_SYSTEM = frozenset({"root"})


class Conflict(Struct, frozen=True):
    """A holder, a person where the identity map says so, with a holding of each of the rights."""

    segregation: Segregation
    holder: str
    holdings: tuple[Holding, ...]


def conflicts(segregations: Iterable[Segregation], holdings: Iterable[Holding], scope: Scope) -> Iterator[Conflict]:
    """Yield who holds rights together that a charter keeps apart; root itself is nobody's duty."""
    held = [one for one in holdings if one.principal.kind in _HOLDERS and one.principal.name.partition("@")[0] not in _SYSTEM]
    for segregation in segregations:
        here = [one for one in held if not segregation.on or scope.is_on(segregation.on, one.right.subject)]
        yield from _of(segregation, here, scope)


def _of(segregation: Segregation, holdings: Sequence[Holding], scope: Scope) -> Iterator[Conflict]:
    together: dict[tuple[str, str], dict[str, Holding]] = {}
    for holding in holdings:
        for right in segregation.rights:
            if is_named(right, holding.right):
                key = _holder(holding, scope), holding.right.subject if segregation.within is Within.SUBJECT else ""
                together.setdefault(key, {}).setdefault(right, holding)
    for (holder, _), found in sorted(together.items()):
        if len(found) == len(set(segregation.rights)):
            yield Conflict(segregation, holder, tuple(found[right] for right in dict.fromkeys(segregation.rights)))


def _holder(holding: Holding, scope: Scope) -> str:
    person = scope.person_of(holding)
    if person is not None:
        return person.name
    name = holding.principal.name
    return name if holding.principal.kind is PrincipalKind.ACCOUNT else name.rpartition("@")[0] or name
