"""Where and to whom an entry of a charter applies: subjects by name, pattern or tag; holders by account, group, person or team."""

from collections.abc import Iterable, Mapping, Sequence
from fnmatch import fnmatchcase

from fidelitas.estate import has_tag
from fidelitas.people import MappedPerson, Owners
from fidelitas.rights import Holding, Principal, PrincipalKind, Right, RightKind

__all__ = ["Scope", "covers", "gives", "includes", "is_named", "is_systems_own", "right_words"]

_TAG, _PERSON, _TEAM = "tag:", "person:", "team:"
_OF_SYSTEMS = frozenset({
    RightKind.RUN_AS, RightKind.RUN_AS_GROUP, RightKind.COMMAND, RightKind.READ_SECRETS, RightKind.WRITE_EVIDENCE, RightKind.READ_EVIDENCE
})  # fmt: skip
_OF_DATABASES = frozenset(kind for kind in RightKind if kind.name.startswith("DB_"))
# What a right of full control includes.
_INCLUDED: Mapping[RightKind | None, frozenset[RightKind]] = {
    RightKind.ROOT: _OF_SYSTEMS,
    RightKind.ADMIN: _OF_SYSTEMS,
    RightKind.DB_SUPERUSER: _OF_DATABASES,
    RightKind.DB_HOST_ESCAPE: _OF_DATABASES,
}
_KIND_NAMES = {kind.name.lower().replace("_", "-"): kind for kind in RightKind}


class Scope:
    """What names in a charter mean: `tags` are those of each subject of the ledger, `people` those of the identity map."""

    def __init__(self, tags: Mapping[str, Sequence[str]], people: Iterable[MappedPerson] = ()) -> None:
        self.tags, self.people = tags, tuple(people)
        self._owners = Owners(self.people)
        self._by_name = {person.name: person for person in self.people}

    def subjects(self, on: Sequence[str]) -> list[str]:
        """Return the subjects of the ledger that are meant."""
        return [subject for subject in self.tags if self.is_on(on, subject)]

    def is_on(self, on: Sequence[str], subject: str) -> bool:
        """Return whether a subject is meant by one of some names, patterns (``web*``) or tags (``tag:production``)."""
        return any(self._is(one, subject) for one in on)

    def _is(self, named: str, subject: str) -> bool:
        if named.startswith(_TAG):
            return has_tag(self.tags.get(subject, ()), named.removeprefix(_TAG))
        return named == subject or fnmatchcase(subject, named)

    def is_held_by(self, who: Sequence[str], holding: Holding) -> bool:
        """Return whether the holder is one of some: itself, by a group that it holds the right through, or as a person or of a team."""
        return any(self._holds(one, holding) for one in who)

    def _holds(self, named: str, holding: Holding) -> bool:
        if named.startswith(_PERSON):
            owners = self._owners.of(holding.right.subject, holding.principal)
            return any(person.name == named.removeprefix(_PERSON) for person in owners)
        if named.startswith(_TEAM):
            owners = self._owners.of(holding.right.subject, holding.principal)
            return any(person.team == named.removeprefix(_TEAM) for person in owners)
        return holding.principal.is_called(named) or (named.startswith("%") and _through_group(named, holding))

    def person_of(self, holding: Holding) -> MappedPerson | None:
        """Return the person behind the holder, by the identity map."""
        return next(iter(self._owners.of(holding.right.subject, holding.principal)), None)

    def unknown(self, named: str) -> str | None:
        """Return what sort of thing a name of a person, a team or a tag is, if there is none of it; ``None`` of anything that is known."""
        if named.startswith(_PERSON):
            return None if named.removeprefix(_PERSON) in self._by_name else "person"
        if named.startswith(_TEAM):
            return None if any(person.team == named.removeprefix(_TEAM) for person in self.people) else "team"
        if named.startswith(_TAG):
            return None if self.subjects([named]) else "tag"
        return None


def is_named(named: str, right: Right) -> bool:
    """Return whether a right is the one that a charter names, or of the kind that it names."""
    return named == str(right) or _KIND_NAMES.get(named) is right.kind


def gives(right: Right, named: str) -> bool:
    """Return whether a right gives what a charter names: it is that, or control of all of which that is a part."""
    return is_named(named, right) or _KIND_NAMES.get(named.partition(":")[0]) in _INCLUDED.get(right.kind, ())


def includes(full: RightKind, kind: RightKind) -> bool:
    """Return whether a kind of right includes another on the same subject."""
    return kind in _INCLUDED.get(full, ())


def is_systems_own(holding: Holding) -> bool:
    """Return whether it is root that is root: what the system itself is, and nobody has to sanction."""
    principal = holding.principal
    return principal.kind is PrincipalKind.ACCOUNT and principal.name == "root" and holding.right.kind is RightKind.ROOT


def covers(sanctioned: str, right: Right) -> bool:
    """Return whether a right that a charter names covers another on the same subject: the same, its kind, or control of all of it."""
    return is_named(sanctioned, right) or right.kind in _INCLUDED.get(_KIND_NAMES.get(sanctioned), ())


def right_words() -> list[str]:
    """Return the kinds of rights by the names that a charter can use."""
    return list(_KIND_NAMES)


def _through_group(named: str, holding: Holding) -> bool:
    targets = (link.target for route in holding.routes for link in route.links)
    return any(isinstance(one, Principal) and one.kind is PrincipalKind.GROUP and one.is_called(named) for one in targets)
