"""Who has full control of a subject, and who can obtain it: the one count for every table and sentence that says how many."""

from collections.abc import Sequence
from functools import cached_property

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.rights.graph.links import Holding, Principal, PrincipalKind, Strength

__all__ = ["COUNTED", "FullControl", "full_control_by"]

# Who is counted: not keys, groups and passwords, by which accounts are meant that are counted already.
COUNTED = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE})


class FullControl(Struct, frozen=True, kw_only=True, dict=True):
    """The holders of full control of a subject: those who were granted it, and others; `anyone` says whether that is any account's, too:

    granted (true), to be obtained (false), or not (``None``).
    """

    granted: frozenset[Principal]
    obtaining: frozenset[Principal]
    anyone: bool | None

    def renamed(self, old: str, new: str) -> "FullControl":
        """Return the same of another subject: those that are accounts of it, and not of a directory, under its name."""
        if old == new:
            return self
        granted, obtaining = (
            some - own | {replace(one, subject=new) for one in own}
            for some, own in zip((self.granted, self.obtaining), self._of(old), strict=True)
        )
        return FullControl(granted=granted, obtaining=obtaining, anyone=self.anyone)

    def _of(self, subject: str) -> tuple[frozenset[Principal], frozenset[Principal]]:
        if subject not in self._own:
            granted, obtaining = (frozenset(one for one in some if one.subject == subject) for some in (self.granted, self.obtaining))
            self._own[subject] = granted, obtaining
        return self._own[subject]

    @cached_property
    def _own(self) -> dict[str, tuple[frozenset[Principal], frozenset[Principal]]]:
        return {}


def full_control_by(full: Sequence[Holding]) -> FullControl:
    """Return who has full control by holdings of it; what any account can obtain only under a condition does not count."""
    held = [holding for holding in full if holding.principal.kind in COUNTED]
    granted = frozenset(holding.principal for holding in held if holding.granted)
    by_anyone = [one for one in full if one.principal.kind is PrincipalKind.ANY_ACCOUNT and one.strength is not Strength.CONDITIONAL]
    return FullControl(
        granted=granted,
        obtaining=frozenset(holding.principal for holding in held) - granted,
        anyone=any(one.granted for one in by_anyone) if by_anyone else None,
    )
