"""What an account or a person amounts to, in one sentence: where it has full control, where it can obtain it, where it holds less."""

from collections.abc import Iterable

from fidelitas.reports.numbers import counted
from fidelitas.rights import Holding, PrincipalKind, Right, Strength, SubjectRights

__all__ = ["furthest", "standing", "standing_on"]

_MOST_SUBJECTS = 6
_ANYONE = PrincipalKind.ANY_ACCOUNT.value


def standing(name: str, holdings: Iterable[Holding]) -> str:
    """Return the sentence; the subject of a holding is that of its right."""
    held = list(holdings)
    full = [one for one in held if one.right.kind.full]
    sure = [one for one in full if one.granted and one.strength is not Strength.CONDITIONAL]
    granted = {one.right.subject for one in sure}
    conditional = {one.right.subject for one in full if one.granted} - granted
    obtainable = {one.right.subject for one in full} - granted - conditional
    limited = {one.right.subject for one in held} - granted - obtainable - conditional
    parts = [
        f"has full control of {_where(granted, [one.right for one in sure])}" if granted else "",
        f"has full control of {_where(conditional, [one.right for one in full])} under conditions" if conditional else "",
        f"can obtain it on {_where(obtainable, [one.right for one in full])} by a weakness" if granted and obtainable else "",
        f"can obtain full control of {_where(obtainable, [one.right for one in full])} by a weakness" if obtainable and not granted else "",
        f"has limited rights on {_where(limited, [])}" if limited else "",
    ]
    return f"{name} " + ("; ".join(part for part in parts if part) or "holds no elevated right")


def standing_on(name: str, subjects: Iterable[SubjectRights]) -> list[str]:
    """Return the sentence about an account on some subjects, and one about what every account there can obtain."""
    known = list(subjects)
    own = [holding for one in known for holding in one.own_holdings_of(name)]
    open_to_all = [one for one in known if any(map(_by_anyone, one.own_holdings_of(_ANYONE)))]
    anyone = [one.subject for one in open_to_all if {name, *one.meant_by(name)} & {who for who, _ in one.comments()}]
    where = " and ".join(anyone) if len(anyone) <= _MOST_SUBJECTS else counted(len(anyone), "subject")
    return [standing(name, own), *([f"Any account of {where} can obtain full control of it: {name}, too"] if anyone else [])]


def _by_anyone(holding: Holding) -> bool:
    return holding.principal.kind is PrincipalKind.ANY_ACCOUNT and holding.right.kind.full and holding.strength is not Strength.CONDITIONAL


def _where(subjects: set[str], rights: Iterable[Right]) -> str:
    """Return subjects, each with the furthest right there; many are counted."""
    if len(subjects) > _MOST_SUBJECTS:
        return counted(len(subjects), "subject")
    by_right: dict[str, list[str]] = {}
    for subject in sorted(subjects):
        there = sorted((one for one in rights if one.subject == subject), key=lambda one: one.kind.value)
        by_right.setdefault(str(there[0]) if there else "", []).append(subject)
    return ", ".join(" and ".join(names) + (f" ({right})" if right else "") for right, names in by_right.items())


def furthest(holdings: Iterable[Holding]) -> str:
    """Return the furthest reaching right with its subjects, empty without one: full control first, then granted before obtainable."""
    held = sorted(holdings, key=_rank)
    if not held:
        return ""
    first = held[0].right
    alike = [one.right.subject for one in held if str(one.right) == str(first) and _rank(one)[:3] == _rank(held[0])[:3]]
    subjects = list(dict.fromkeys(alike))
    where = " ".join(subjects) if len(subjects) <= _MOST_SUBJECTS else counted(len(subjects), "subject")
    how = (
        ""
        if held[0].granted and held[0].strength is not Strength.CONDITIONAL
        else " (conditional)"
        if held[0].granted
        else " (can be obtained)"
    )
    return f"{first} on {where}{how}"


def _rank(one: Holding) -> tuple[object, ...]:
    sure = one.granted and one.strength is not Strength.CONDITIONAL
    return not one.right.kind.full, not sure, not one.granted, one.right.kind.value, one.right.subject
