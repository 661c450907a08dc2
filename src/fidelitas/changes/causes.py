"""Why something is gained or lost: the link of its route that was not there before, or is not there any more.

A link that took the place of another is one change: from what to what.
"""

from collections.abc import Callable, Hashable, Iterable, Iterator, Sequence
from difflib import SequenceMatcher
from enum import StrEnum
from functools import cached_property

from msgspec import Struct

from fidelitas.rights import Holding, Link, Mechanism, PrincipalKind

__all__ = ["Cause", "CauseKind", "IsIn", "LinkChanges"]


# Whether the source of a membership, an account or a group, is in its target at a time.
IsIn = Callable[[Link], bool]


class CauseKind(StrEnum):
    """What happened to a link."""

    ADDED = "added"
    REMOVED = "removed"
    CHANGED = "changed"


class Cause(Struct, frozen=True):
    """A link that was added (`before` is ``None``), removed (`after` is ``None``) or changed."""

    before: Link | None
    after: Link | None

    @property
    def kind(self) -> CauseKind:
        """What happened."""
        return CauseKind.ADDED if self.before is None else CauseKind.REMOVED if self.after is None else CauseKind.CHANGED

    @property
    def link(self) -> Link:
        """The link as it is after, or as it was where it was removed."""
        found = self.after or self.before
        if found is None:
            raise ValueError("a cause is of a link")
        return found

    @property
    def on_other_terms(self) -> bool:
        """Whether the link leads where it led before, and only its terms are others."""
        return (
            self.before is not None
            and self.after is not None
            and (self.before.source, self.before.target) == (self.after.source, self.after.target)
        )


class LinkChanges:
    """The links of one subject's holdings before and after; `was_in` and `is_in` say whether an account was, and is, in a group.

    A membership that leads to nothing is in no route: that it is in none any more does not mean that it has ended.
    """

    def __init__(self, before: Sequence[Holding], after: Sequence[Holding], was_in: IsIn, is_in: IsIn) -> None:
        self._old, self._new, self._was_in, self._is_in = _links_of(before), _links_of(after), was_in, is_in

    def causes(self, holding: Holding, *, gained: bool) -> tuple[Cause, ...]:
        """Return what made the difference to a holding that was gained, or lost: of the strongest route that has such links."""
        return next((self._causes_of(odd, gained=gained) for odd in self._odd_links(holding, gained=gained)), ())

    def every_cause(self, holding: Holding, *, gained: bool) -> tuple[Cause, ...]:
        """Return the same of all routes: what they have that no route had before, or what is in none of them any more."""
        found = (self._causes_of(odd, gained=gained) for odd in self._odd_links(holding, gained=gained))
        return tuple({cause.link.key: cause for causes in found for cause in causes}.values())

    def _odd_links(self, holding: Holding, *, gained: bool) -> Iterator[list[Link]]:
        """Yield, route by route, the links that the other side has not."""
        others, is_member = (self._old, self._was_in) if gained else (self._new, self._is_in)
        for route in holding.routes:
            odd = [link for link in route.links if link.key not in others and not (_is_membership(link) and is_member(link))]
            if odd:
                yield odd

    def _causes_of(self, links: Iterable[Link], *, gained: bool) -> tuple[Cause, ...]:
        return tuple(self._cause(link, gained=gained) for link in links)

    def _cause(self, link: Link, *, gained: bool) -> Cause:
        counterpart = _counterpart(link, self._removed if gained else self._added)
        return Cause(counterpart, link) if gained else Cause(link, counterpart)

    @cached_property
    def _removed(self) -> "_Odd":
        return _Odd(link for key, link in self._old.items() if key not in self._new)

    @cached_property
    def _added(self) -> "_Odd":
        return _Odd(link for key, link in self._new.items() if key not in self._old)


class _Odd:
    """Links that only one side has, by what could tie them to a link of the other side."""

    def __init__(self, links: Iterable[Link]) -> None:
        self.by_source: dict[object, list[Link]] = {}
        self.by_line: dict[object, list[Link]] = {}
        for link in links:
            self.by_source.setdefault((link.source, link.mechanism, link.place.path), []).append(link)
            self.by_line.setdefault((link.mechanism, link.place.path, link.place.line), []).append(link)


def _is_membership(link: Link) -> bool:
    return link.mechanism is Mechanism.MEMBERSHIP and link.source.kind in (PrincipalKind.ACCOUNT, PrincipalKind.GROUP)


def _links_of(holdings: Iterable[Holding]) -> dict[Hashable, Link]:
    return {link.key: link for holding in holdings for route in holding.routes for link in route.links}


def _counterpart(link: Link, odd: _Odd) -> Link | None:
    """Return the link that another took the place of: of the same source in the same file, or else at the same line of a file."""
    same = odd.by_source.get((link.source, link.mechanism, link.place.path)) or (
        odd.by_line.get((link.mechanism, link.place.path, link.place.line)) if link.place.line is not None and link.quote else None
    )
    return _likest(link, same) if same else None


def _likest(link: Link, links: Sequence[Link]) -> Link:
    return max(links, key=lambda one: (one.target == link.target, one.place.line == link.place.line, _likeness(one, link)))


def _likeness(one: Link, other: Link) -> float:
    return SequenceMatcher(None, (one.quote or "")[:200], (other.quote or "")[:200]).quick_ratio()
