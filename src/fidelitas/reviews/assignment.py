"""Who decides what: by the team or the manager of the person who holds a right, or by the owner of the subject that it is on."""

from collections.abc import Callable, Mapping, Sequence
from enum import StrEnum

from fidelitas.people import MappedPerson, Owners
from fidelitas.reviews.items import About
from fidelitas.rights import Holding

__all__ = ["UNASSIGNED", "By", "assignment"]

UNASSIGNED = "unassigned"


class By(StrEnum):
    """Whose work list an item is on."""

    TEAM = "team"  # of the person, by the identity map
    MANAGER = "manager"  # of the person, by the identity map
    OWNER = "owner"  # of the subject: its tag owner=NAME


def assignment(
    by: By,
    people: Sequence[MappedPerson],
    tags: Mapping[str, Sequence[str]],
    sanction: Callable[[Holding], str | None],
    last_used: Callable[[str, str], str | None],
) -> Callable[[Holding], About]:
    """Return what knows of a holding whose it is and who decides.

    `sanction` returns what a charter says of it, `last_used` the day of the last use by subject and account.
    """
    mapped = Owners(people)

    def about(holding: Holding) -> About:
        owners = mapped.of(holding.right.subject, holding.principal)
        return About(
            persons=tuple(person.name for person in owners),
            reviewer=_reviewer(by, owners, tags.get(holding.right.subject, ())),
            sanction=sanction(holding),
            last_used=last_used(holding.right.subject, holding.principal.name),
        )

    return about


def _reviewer(by: By, owners: Sequence[MappedPerson], tags: Sequence[str]) -> str:
    if by is By.OWNER:
        named = [tag.removeprefix("owner=") for tag in tags if tag.startswith("owner=")]
    elif by is By.MANAGER:
        named = [person.manager for person in owners if person.manager]
    else:
        named = [person.team for person in owners if person.team]
    return named[0] if named else UNASSIGNED
