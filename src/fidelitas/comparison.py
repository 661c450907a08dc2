"""Two accounts held against each other: which groups and rights one has and the other lacks, host by host.  Pure."""

from collections.abc import Iterable

from msgspec import Struct

from fidelitas.rights import Holding, SubjectRights

__all__ = ["Compared", "compare"]


class Compared(Struct, frozen=True, kw_only=True):
    """One group or right on one host, and who of the two has it; `first` and `second` are the holdings, for a right."""

    subject: str
    what: str
    name: str
    in_first: bool
    in_second: bool
    first: Holding | None = None
    second: Holding | None = None


def compare(hosts: Iterable[SubjectRights], first: str, second: str) -> list[Compared]:
    """Return all groups and rights that either account has, host by host, groups first."""
    return [one for host in hosts for one in (*_groups(host, first, second), *_rights(host, first, second))]


def _groups(host: SubjectRights, first: str, second: str) -> Iterable[Compared]:
    mine, theirs = (_group_names(host, name) for name in (first, second))
    for name in sorted(mine | theirs):
        yield Compared(subject=host.subject, what="group", name=name, in_first=name in mine, in_second=name in theirs)


def _group_names(host: SubjectRights, account: str) -> set[str]:
    """Return the names of an account's groups, without the one that is its own by name."""
    return {group.removeprefix("%") for name in host.accounts_meant(account) for group in host.belongs_to(name)}


def _rights(host: SubjectRights, first: str, second: str) -> Iterable[Compared]:
    mine, theirs = (
        {held.right: held for name in host.accounts_meant(account) for held in host.held_by(name)} for account in (first, second)
    )
    for right in sorted(mine.keys() | theirs.keys(), key=lambda right: (right.kind, right.detail)):
        yield Compared(
            subject=host.subject,
            what="right",
            name=str(right),
            in_first=right in mine,
            in_second=right in theirs,
            first=mine.get(right),
            second=theirs.get(right),
        )
