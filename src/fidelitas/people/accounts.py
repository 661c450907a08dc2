"""The accounts of a person on each subject, and what they hold: also as accounts of another host, by a key or a socket."""

from collections.abc import Iterable, Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.people.map import MappedPerson
from fidelitas.rights import DirectoryRights, Holding, HostRights, PrincipalKind, SubjectRights, marked

__all__ = ["PersonalAccounts"]


class _Known(Struct, frozen=True):
    """A subject with the names of its accounts, and whether accounts of others hold something on it."""

    subject: SubjectRights
    names: frozenset[str]
    is_reached: bool


class PersonalAccounts:
    """Finds what is a person's on some subjects; indexes are made once for all people."""

    def __init__(self, subjects: Iterable[SubjectRights]) -> None:
        self._known = list(_known(subjects))
        self._elsewhere: dict[str, list[tuple[SubjectRights, Holding]]] = {}
        for known in self._known:
            for holding in _from_elsewhere(known.subject) if known.is_reached else ():
                self._elsewhere.setdefault(str(holding.principal), []).append((known.subject, holding))

    def of(self, person: MappedPerson) -> list[tuple[SubjectRights, str]]:
        """Return a person's accounts, subject by subject; of a database that has accounts for hosts, those of every host."""
        return [(known.subject, name) for known in self._known for name in sorted(_names(known, person))]

    def held(self, one: SubjectRights, name: str) -> tuple[Holding, ...]:
        """Return what an account holds where it is, without what it has only because every account has it: that is not a person's."""
        return one.own_held_by(name)

    def held_elsewhere(self, accounts: Sequence[tuple[SubjectRights, str]]) -> list[tuple[SubjectRights, Holding]]:
        """Return what accounts hold on other subjects: by keys from host to host, and by sockets of servers."""
        return [found for one, name in accounts for found in self._elsewhere.get(f"{name}@{one.subject}", ())]


def _known(subjects: Iterable[SubjectRights]) -> Iterator[_Known]:
    """Yield what is known of subjects; of those that state the same it is found once."""
    found: dict[object, _Known] = {}
    for mark, one in marked(subjects):
        if mark not in found:
            names = frozenset({*one.names(), *(name for name, _ in one.comments())})
            found[mark] = _Known(one, names, bool(_from_elsewhere(one)))
        yield replace(found[mark], subject=one)


def _from_elsewhere(one: SubjectRights) -> list[Holding]:
    """Return what accounts of others hold on a subject; what groups of a directory give to its accounts need not be looked through."""
    held = (*one.by_node, *one.from_elsewhere) if isinstance(one, HostRights) else one.holdings
    return [holding for holding in held if holding.principal.kind is PrincipalKind.ELSEWHERE]


def _names(known: _Known, person: MappedPerson) -> set[str]:
    one, prefix = known.subject, f"{known.subject.subject}:"
    if isinstance(one, DirectoryRights):  # by any form of a name that means one account of it
        meant = (one.meant_by(name.removeprefix(prefix)) for name in person.accounts)
        return {labels[0] for labels in meant if len(labels) == 1 and not labels[0].startswith("%")}
    own = {name.removeprefix(prefix) for name in person.accounts}
    if isinstance(one, HostRights):  # one that it takes of a directory can be called otherwise there
        there = {account for name in own if ":" not in name for account in one.meant_by(name)}
        apart = (name.partition(":") for name in own if ":" in name)
        return (own | there | {account for at, _, name in apart for account in one.taken_from(at, name)}) & known.names
    called = getattr(one, "accounts_called", None)
    if called is not None:
        return (own & known.names) | {account for name in person.accounts for account in called(name.rpartition(":")[2])}
    bare = (name for name in own if ":" not in name)
    return (own & known.names) | {name for name in bare if not name.startswith("%") and _is_here(one, name) and one.knows(name)}


def _is_here(one: SubjectRights, name: str) -> bool:
    """Return whether an account is one of the subject's own, not merely another host's of that name."""
    accounts = getattr(one, "accounts", None)
    return accounts is None or name in accounts or name in one.names()
