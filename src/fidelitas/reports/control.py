"""Who has full control of a subject, and who can obtain it: counted in one place for every table and sentence that says how many."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from fidelitas.people import MappedPerson
from fidelitas.rights import Principal, PrincipalKind, Strength, SubjectRights

__all__ = ["COUNTED", "Control", "control_of", "in_control", "person_of"]

# Who is counted: not keys, groups and passwords, by which accounts are meant that are counted already.
COUNTED = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE})


@dataclass(frozen=True, slots=True, kw_only=True)
class Control:
    """The holders of full control of a subject: those who were granted it, and others; `anyone` says whether that is any account's, too:

    granted (true), to be obtained (false), or not (``None``).
    """

    granted: frozenset[Principal]
    obtaining: frozenset[Principal]
    anyone: bool | None

    @property
    def administrators(self) -> str:
        """How many were granted full control, in words."""
        return "any account" if self.anyone else str(len(self.granted))

    @property
    def escalations(self) -> str:
        """How many can obtain full control by a weakness, in words."""
        return "any account" if self.anyone is False else str(len(self.obtaining))


def control_of(subject: SubjectRights) -> Control:
    """Return who has full control of a subject; what any account can obtain only under a condition does not count."""
    full = [holding for holding in subject.own_holdings if holding.right.kind.full]
    counted = [holding for holding in full if holding.principal.kind in COUNTED]
    granted = frozenset(holding.principal for holding in counted if holding.granted)
    by_anyone = [one for one in full if one.principal.kind is PrincipalKind.ANY_ACCOUNT and one.strength is not Strength.CONDITIONAL]
    return Control(
        granted=granted,
        obtaining=frozenset(holding.principal for holding in counted) - granted,
        anyone=any(one.granted for one in by_anyone) if by_anyone else None,
    )


def person_of(subject: str, account: str, people: Sequence[MappedPerson]) -> str:
    """Return the person that an account is of by the identity map; the account where it is nobody's."""
    return next((person.name for person in people if person.owns(subject, account)), account)


def in_control(subjects: Iterable[SubjectRights], people: Sequence[MappedPerson]) -> tuple[frozenset[str], frozenset[str]]:
    """Return the people, and accounts that are nobody's, who were granted full control of some subject; and others who can obtain it."""
    every = [(one.subject, control_of(one)) for one in subjects]
    granted = frozenset(person_of(subject, str(who), people) for subject, control in every for who in control.granted)
    obtaining = frozenset(person_of(subject, str(who), people) for subject, control in every for who in control.obtaining)
    return granted, obtaining - granted
