"""A charter checked against an estate: what is sanctioned, what conflicts, and which entries are due."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import date, timedelta
from enum import StrEnum

from msgspec import Struct

from fidelitas.charter.entries import AcceptedFinding, Charter, Warrant
from fidelitas.charter.exceptions import Reviewed
from fidelitas.charter.sanction import Judged, Sanction, Sanctions
from fidelitas.charter.scope import Scope, includes
from fidelitas.charter.segregation import Conflict, conflicts
from fidelitas.rights import Holding, Principal, PrincipalKind

__all__ = ["CharterState", "Due", "DueKind", "charter_state", "widest"]


class DueKind(StrEnum):
    """Why someone has to see to an entry."""

    LAPSED = "lapsed"
    LAPSING = "lapses soon"
    REVIEW = "review is due"
    OWNER_LEFT = "its owner has left"
    UNUSED = "held by nobody"
    NOTHING_FOUND = "nothing is found any more"


class Due(Struct, frozen=True):
    """A warrant or an exception that someone has to see to, and the day that it is about."""

    kind: DueKind
    entry: Warrant | AcceptedFinding
    day: date | None = None


class CharterState(Struct, frozen=True, kw_only=True):
    """What a charter says of an estate on a day."""

    day: date
    judged: Sequence[Judged]
    conflicts: Sequence[Conflict]
    due: Sequence[Due]
    reviewed: Reviewed

    def of(self, sanction: Sanction) -> list[Judged]:
        """Return the holdings of which a charter says so."""
        return [one for one in self.judged if one.sanction is sanction]


def charter_state(
    charter: Charter, holdings: Sequence[Holding], reviewed: Reviewed, scope: Scope, day: date, soon: timedelta
) -> CharterState:
    """Return what a charter says of holdings on a day; what ends within the time `soon` is due.

    Without any warrant nothing is judged: a charter of demands alone says nothing of what else is held.
    """
    sanctions = Sanctions(charter, scope, day)
    judged = [sanctions.judge(one) for one in _each_once(holdings)] if charter.warrants else []
    return CharterState(
        day=day,
        judged=judged,
        conflicts=list(conflicts(charter.segregations, holdings, scope)),
        due=[*_due_warrants(charter, sanctions.unused(holdings), scope, day, soon), *_due_exceptions(reviewed, charter, scope, day, soon)],
        reviewed=reviewed,
    )


def widest(judged: Sequence[Judged]) -> list[Judged]:
    """Return holdings without those that one of the same holder that reaches further includes: that one is to be decided on."""
    full = {(one.holding.principal, one.holding.right.subject, one.holding.right.kind) for one in judged if one.holding.right.kind.full}

    def is_included(one: Judged) -> bool:
        principal, right = one.holding.principal, one.holding.right
        return any(kind < right.kind and includes(kind, right.kind) for who, on, kind in full if (who, on) == (principal, right.subject))

    return [one for one in judged if not is_included(one)]


def _each_once(holdings: Sequence[Holding]) -> list[Holding]:
    """Return holdings without those of groups by which others, who are listed, have the same right."""
    means = {
        (link.target, holding.right)
        for holding in holdings
        for route in holding.routes
        for link in route.links
        if isinstance(link.target, Principal) and link.target.kind is PrincipalKind.GROUP and link.source == holding.principal
    }
    return [one for one in holdings if one.principal.kind is not PrincipalKind.GROUP or (one.principal, one.right) not in means]


def _due_warrants(charter: Charter, unused_ones: Iterable[Warrant], scope: Scope, day: date, soon: timedelta) -> Iterator[Due]:
    unused = {warrant.number for warrant in unused_ones}
    for warrant in charter.warrants:
        if warrant.has_lapsed(day):
            yield Due(DueKind.LAPSED, warrant, warrant.until)
            continue
        if warrant.until is not None and warrant.until < day + soon:
            yield Due(DueKind.LAPSING, warrant, warrant.until)
        if warrant.review_by is not None and warrant.review_by <= day:
            yield Due(DueKind.REVIEW, warrant, warrant.review_by)
        if _has_left(warrant.owner, scope, day):
            yield Due(DueKind.OWNER_LEFT, warrant)
        if warrant.number in unused:
            yield Due(DueKind.UNUSED, warrant)


def _due_exceptions(reviewed: Reviewed, charter: Charter, scope: Scope, day: date, soon: timedelta) -> Iterator[Due]:
    unused = {one.number for one in reviewed.unused}
    for one in charter.exceptions:
        if one.number in unused:
            yield Due(DueKind.NOTHING_FOUND, one)
        elif one.has_expired(day):
            yield Due(DueKind.LAPSED, one, one.until)
        elif one.until is not None and one.until < day + soon:
            yield Due(DueKind.LAPSING, one, one.until)
        if _has_left(one.owner, scope, day):
            yield Due(DueKind.OWNER_LEFT, one)


def _has_left(owner: str, scope: Scope, day: date) -> bool:
    """Return whether the owner of an entry, named as a person or by an account, has left by the identity map."""
    return bool(owner) and any(person.has_left(day) for person in scope.people if owner in (person.name, *person.accounts))
