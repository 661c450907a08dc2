"""What stands out among peers: rights that few of them have, accounts that look copied, hosts that differ from their role."""

import shlex
from collections.abc import Sequence
from typing import Any

from fidelitas.peers import Copy, Oddities, PeerGroup, Unusual
from fidelitas.reports.grouping import merged
from fidelitas.reports.numbers import counted, first_rights, listed
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Part, Report
from fidelitas.reports.sentences import brief
from fidelitas.reports.table import Table

__all__ = ["peers_report"]

_MOST_NAMES, _MOST_GROUPS = 6, 4


def peers_report(found: Oddities) -> Report:
    """Return what stands out among peers."""
    return Report(
        answer=lambda: [_answer(found)],
        parts=lambda: _parts(found),
        onward=lambda: _onward(found),
        rows=lambda: [_rows([*found.unusual, *found.hosts]), _copies_table(found.copies)],
        document=lambda: _document(found),
    )


def _answer(found: Oddities) -> str:
    holders = len({one.holder for one in found.unusual})
    compared = sum(len(group.members) for group in found.groups)
    parts = [
        f"{counted(holders, 'holder')} with rights that few peers have",
        counted(len(found.copies), "likely copy") if found.copies else "",
        f"{counted(len({one.holder for one in found.hosts}), 'host')} unlike the others of its role" if found.hosts else "",
    ]
    return f"{counted(compared, 'holder')} in {counted(len(found.groups), 'group')} of peers: {', '.join(filter(None, parts))}"


def _parts(found: Oddities) -> list[Part]:
    sections = [
        ("Unusual among peers", _unusual_table(found.unusual)) if found.unusual else None,
        ("Likely copies", _copies_table(found.copies)) if found.copies else None,
        ("Hosts unlike the others of their role", _hosts_table(found.hosts)) if found.hosts else None,
        ("Compared with each other", _groups_table(found.groups)),
    ]
    parts: list[Part] = []
    for title, table in filter(None, sections):
        parts += [*(["\n"] if parts else []), f"{title}\n", table]
    return parts


def _onward(found: Oddities) -> list[str]:
    first = next((one for one in found.unusual if one.holding is not None), None)
    if first is None or first.holding is None:
        return []
    return [f"fidelitas why {shlex.quote(str(first.holding.principal))} {first.holding.right.subject}"]


def peer_words(one: Unusual) -> str:
    """Return the numbers: held by how many of how many, in which group, and who the others are."""
    others = f", also {', '.join(one.others[:_MOST_NAMES])}" if one.others else ""
    return f"held by {one.count} of {one.size} in {one.group}{others}"


def _unusual_table(found: Sequence[Unusual]) -> Table:
    rows = merged((one.holder, one.having.what, listed(one.places, 3, "subject"), (peer_words(one), _through(one))) for one in found)
    return Table(
        columns=("holder", "right", "on", "peers", "through"),
        rows=tuple((", ".join(names), first_rights(rights), listed(places, 3, "subject"), *rest) for names, rights, places, rest in rows),
        may_fold=frozenset({"holder", "right", "peers", "through"}),
        least=("through",),
    )


def _through(one: Unusual) -> str:
    return brief(one.holding.routes[0]) if one.holding is not None else ""


def _hosts_table(found: Sequence[Unusual]) -> Table:
    """Return a row for what only some hosts of a role give to someone."""
    rows = merged((one.having.where, one.having.what, one.holder, (peer_words(one), _through(one))) for one in found)
    return Table(
        columns=("host", "holder", "right", "hosts of the role", "through"),
        rows=tuple((listed(hosts, 3, "host"), " ".join(holders), first_rights(rights), *rest) for holders, rights, hosts, rest in rows),
        may_fold=frozenset({"holder", "right", "hosts of the role", "through"}),
        least=("through",),
    )


def _copies_table(found: Sequence[Copy]) -> Table:
    rows = [
        (
            one.holder,
            one.like,
            ", ".join(one.groups[:_MOST_GROUPS])
            + (f" and {len(one.groups) - _MOST_GROUPS} more" if len(one.groups) > _MOST_GROUPS else ""),
            f"{one.given} of {len(one.groups)} on {one.day}" if one.day is not None else "not recorded",
        )
        for one in found
    ]
    return Table(columns=("holder", "has all groups of", "groups", "given"), rows=tuple(rows), may_fold=frozenset({"groups"}))


def _groups_of(one: Copy) -> str:
    more = len(one.groups) - _MOST_GROUPS
    return ", ".join(one.groups[:_MOST_GROUPS]) + (f" and {more} more" if more > 0 else "")


def _groups_table(groups: Sequence[PeerGroup]) -> Table:
    rows = [(one.name, str(len(one.members)), "declared" if one.declared else "by what they have", _members(one)) for one in groups]
    return Table(
        columns=("group", "size", "why", "members"),
        rows=tuple(rows),
        may_fold=frozenset({"group", "members"}),
        empty="Nobody was compared: a group of peers has at least three members.",
    )


def _members(group: PeerGroup) -> str:
    return ", ".join(one.name for one in group.members[:8]) + (f" and {len(group.members) - 8} more" if len(group.members) > 8 else "")


def _rows(found: Sequence[Unusual]) -> Table:
    return Table(
        columns=("holder", "right", "on", "held by", "of", "group", "also"),
        rows=tuple(
            (one.holder, one.having.what, " ".join(one.places), str(one.count), str(one.size), one.group, " ".join(one.others))
            for one in found
        ),
    )


def _document(found: Oddities) -> dict[str, Any]:
    return {
        "schema": "fidelitas/peers/1",
        "groups": [
            {"name": one.name, "declared": one.declared, "members": [profile.name for profile in one.members]} for one in found.groups
        ],
        "unusual": [_unusual_document(one) for one in found.unusual],
        "hosts": [_unusual_document(one) for one in found.hosts],
        "copies": [
            {
                "holder": one.holder,
                "like": one.like,
                "groups": list(one.groups),
                "day": one.day.isoformat() if one.day is not None else None,
                "given_on_that_day": one.given,
            }
            for one in found.copies
        ],
    }


def _unusual_document(one: Unusual) -> dict[str, Any]:
    return {
        "holder": one.holder,
        "what": one.having.what,
        "on": list(one.places),
        "group": one.group,
        "declared": one.declared,
        "held_by": one.count,
        "of": one.size,
        "others": list(one.others),
        "place": place_document(one.holding.routes[0].place) if one.holding is not None else None,
    }
