"""A first charter from what is held today, so that a person can read and sign it: equal holdings together, by group, by team and by tag."""

from collections.abc import Iterable, Sequence

from msgspec import Struct

from fidelitas.charter.scope import Scope, is_systems_own
from fidelitas.rights import Holding, Principal, PrincipalKind

__all__ = ["Drafted", "draft"]


class Drafted(Struct, frozen=True, kw_only=True):
    """A warrant to be signed: who, which rights, where; `holders` are who holds it today."""

    who: tuple[str, ...]
    rights: tuple[str, ...]
    on: tuple[str, ...]
    holders: tuple[str, ...]


def draft(holdings: Iterable[Holding], scope: Scope) -> list[Drafted]:
    """Return warrants that sanction what was granted of some holdings, the furthest reaching first.

    What can be obtained by a weakness is to be mended, not signed.
    """
    every = [one for one in holdings if one.granted and not is_systems_own(one)]
    order = _order(every)
    rights: dict[tuple[str, str], dict[str, list[Holding]]] = {}
    for holding in every:
        key = (_who(holding), holding.right.subject)
        rights.setdefault(key, {}).setdefault(_right_name(holding), []).append(holding)
    together: dict[tuple[str, tuple[str, ...]], list[str]] = {}
    for (who, subject), held in rights.items():
        together.setdefault((who, tuple(sorted(held, key=lambda name: (order[name], name)))), []).append(subject)
    by_place: dict[tuple[tuple[str, ...], tuple[str, ...]], list[str]] = {}
    for (who, names), subjects in together.items():
        by_place.setdefault((names, tuple(sorted(subjects))), []).append(who)
    found = [
        Drafted(
            who=tuple(_as_team(sorted(who), scope)),
            rights=names,
            on=_as_tag(subjects, scope),
            holders=_holders(who, set(subjects), every),
        )
        for (names, subjects), who in by_place.items()
    ]
    return sorted(found, key=lambda one: (order[one.rights[0]], one.on, one.who))


def _who(holding: Holding) -> str:
    """Return the holder, or the group that it holds a right through: who is in it is decided elsewhere."""
    first = holding.routes[0].links[0]
    target = first.target
    through = isinstance(target, Principal) and target.kind is PrincipalKind.GROUP and holding.principal.kind is PrincipalKind.ACCOUNT
    return f"%{target.name}" if through and isinstance(target, Principal) else str(holding.principal)


def _right_name(holding: Holding) -> str:
    return str(holding.right)


def _order(holdings: Iterable[Holding]) -> dict[str, int]:
    """Return how far each right reaches, by its name: less is further."""
    return {_right_name(one): int(one.right.kind) for one in holdings}


def _as_team(who: Sequence[str], scope: Scope) -> list[str]:
    """Return names with all accounts of a team as that team, where no account of the team is missing."""
    left = list(who)
    teams = dict.fromkeys(person.team for person in scope.people if person.team is not None)
    for team in teams:
        accounts = {account for person in scope.people if person.team == team for account in person.accounts}
        if len(accounts) > 1 and accounts <= set(left):
            left = [f"team:{team}", *(name for name in left if name not in accounts)]
    return left


def _as_tag(subjects: Sequence[str], scope: Scope) -> tuple[str, ...]:
    """Return subjects as a tag that exactly these have, where there are several and there is one."""
    tags = {tag for subject in subjects for tag in scope.tags.get(subject, ())} if len(subjects) > 1 else set()
    fitting = sorted(tag for tag in tags if sorted(scope.subjects([f"tag:{tag}"])) == sorted(subjects))
    return (f"tag:{fitting[0]}",) if fitting else tuple(subjects)


def _holders(who: Sequence[str], subjects: set[str], holdings: Iterable[Holding]) -> tuple[str, ...]:
    mine = (one for one in holdings if one.right.subject in subjects and _who(one) in who and one.principal.kind is not PrincipalKind.GROUP)
    return tuple(sorted({str(one.principal) for one in mine}))
