"""What an account or a person amounts to, in one sentence: where it has full control, where it can obtain it, where it holds less."""

from collections.abc import Iterable

from fidelitas.reports.numbers import counted
from fidelitas.rights import Holding, Right

__all__ = ["furthest", "standing"]

_MOST_SUBJECTS = 6


def standing(name: str, holdings: Iterable[Holding]) -> str:
    """Return the sentence; the subject of a holding is that of its right."""
    held = list(holdings)
    full = [one for one in held if one.right.kind.full]
    granted = {one.right.subject for one in full if one.granted}
    obtainable = {one.right.subject for one in full} - granted
    limited = {one.right.subject for one in held} - granted - obtainable
    parts = [
        f"has full control of {_where(granted, [one.right for one in full if one.granted])}" if granted else "",
        f"can obtain it on {_where(obtainable, [one.right for one in full])} by a weakness" if granted and obtainable else "",
        f"can obtain full control of {_where(obtainable, [one.right for one in full])} by a weakness" if obtainable and not granted else "",
        f"has limited rights on {_where(limited, [])}" if limited else "",
    ]
    return f"{name} " + ("; ".join(part for part in parts if part) or "holds no elevated right")


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
    held = sorted(holdings, key=lambda one: (not one.right.kind.full, not one.granted, one.right.kind.value, one.right.subject))
    if not held:
        return ""
    first = held[0].right
    alike = [one.right.subject for one in held if str(one.right) == str(first) and one.granted == held[0].granted]
    subjects = list(dict.fromkeys(alike))
    where = " ".join(subjects) if len(subjects) <= _MOST_SUBJECTS else counted(len(subjects), "subject")
    return f"{first} on {where}" + ("" if held[0].granted else " (can be obtained)")
