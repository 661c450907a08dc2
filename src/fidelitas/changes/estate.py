"""What changed between two states of an estate: subjects, rights, findings, accounts.

Subjects that are in both are compared; one that states the same in both is not looked at.  What evidence lacks is part of the answer: where
less was read than before, a right that is not shown any more may be held still.
"""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from enum import StrEnum

from msgspec import Struct

from fidelitas.audit import Audit
from fidelitas.changes.causes import IsIn
from fidelitas.changes.kept import KeptChanges
from fidelitas.changes.parts import AccountChange, AccountTurn, SubjectChanges
from fidelitas.changes.subject import RightChange, right_changes
from fidelitas.conclusions import AnswerStore
from fidelitas.facts import Gap, Place
from fidelitas.findings import Finding
from fidelitas.rights import Holding, Link, PrincipalKind, SubjectRights, UnreadSubject
from fidelitas.rights.estate.renaming import renamed
from fidelitas.trouble import internal_error

__all__ = ["EstateChanges", "SubjectChange", "SubjectTurn", "changes_between", "differences"]


# How a function is applied to lists of numbers, in processes that are forked for it.
Each = Callable[[Callable[[Sequence[int]], list[SubjectChanges]], Sequence[Sequence[int]]], Iterable[list[SubjectChanges]]]
# Fewer subjects are compared before other processes have begun; more shares than cores, so that all end together.
_WORTH_FORKING, _SHARES = 24, 8


class SubjectTurn(StrEnum):
    """What became of a subject."""

    NEW = "new"
    SILENT = "silent"  # it was not surveyed this time
    GONE = "gone"  # the estate does not name it any more
    OTHER = "another machine"  # under the same name
    UNREAD = "unread"  # nothing of it could be read, before or after


class SubjectChange(Struct, frozen=True, kw_only=True):
    """A subject that is new, silent or gone; `holders` are how many accounts have full control of a new one."""

    subject: str
    turn: SubjectTurn
    since: datetime | None = None  # when its last evidence was taken
    holders: int = 0


class EstateChanges(SubjectChanges):
    """Everything that changed; `compared` is how many subjects are in both states."""

    compared: int = 0
    subjects: Sequence[SubjectChange] = ()

    @property
    def gains(self) -> list[RightChange]:
        """Where someone has more than before, or has it more easily."""
        return [change for change in self.rights if change.is_gain]

    @property
    def anything(self) -> bool:
        """Whether anything changed."""
        return any((self.subjects, self.rights, self.new_findings, self.gone_findings, self.accounts, self.less_read))

    @property
    def changed_subjects(self) -> set[str]:
        """The subjects on which rights changed."""
        return {change.subject for change in self.rights}


def changes_between(
    before: Audit,
    after: Audit,
    *,
    silent: Collection[str] = (),
    gone: Collection[str] = (),
    other: Collection[str] = (),
    each: Each | None = None,
    store: AnswerStore | None = None,
) -> EstateChanges:
    """Return what changed from one audit to another.

    Of the subjects, `silent` were not surveyed this time, `gone` are not in the estate any more, `other` are another machine than before.
    `each` applies a function to all of some lists in processes that are forked for it: by it many subjects are compared at once.
    What was compared before is kept in a `store`.
    """
    old = {one.subject: one for one in before.subjects}
    new = {one.subject: one for one in after.subjects}
    both = [(old[name], new[name]) for name in sorted(old.keys() & new.keys() - set(gone))]
    read = [(one, other_one) for one, other_one in both if not isinstance(one, UnreadSubject) and not isinstance(other_one, UnreadSubject)]
    found = EstateChanges(compared=len(read), subjects=tuple(_subjects(old, new, silent=set(silent), gone=set(gone), other=set(other))))
    differing = [(one, another) for one, another in read if one.conclusion_mark is None or one.conclusion_mark != another.conclusion_mark]
    kept = KeptChanges(store)
    known = kept.recall(differing)
    rest = [number for number in range(len(differing)) if number not in known]
    fresh = dict(zip(rest, _compared(_Pairs([differing[number] for number in rest], before, after), each), strict=True))
    kept.note(differing, fresh)
    found.add((known | fresh)[number] for number in range(len(differing)))
    _across(before, after, {one.subject for one, _ in read}, found)
    return found


def differences(
    first: SubjectRights, second: SubjectRights, first_findings: Sequence[Finding], second_findings: Sequence[Finding]
) -> EstateChanges:
    """Return in what a subject differs from another, as if the first had become the second: its holdings and findings under that name."""
    found = EstateChanges(compared=1)
    before, old = renamed((first.own_holdings, tuple(first_findings)), first.subject, second.subject)
    for of_here in (True, False):  # routes that come from the one into the other would make links of both seem to be of each
        mine, theirs = ([one for one in held if _is_of_here(one) is of_here] for held in (before, second.own_holdings))
        found.rights.extend(right_changes(mine, theirs, _memberships(first), _memberships(second)))
    found.accounts.extend(_accounts(first, second))
    _add_findings(old, second_findings, found)
    found.gone_findings[:] = renamed(found.gone_findings, second.subject, first.subject)
    return found


def _is_of_here(holding: Holding) -> bool:
    return holding.principal.kind is not PrincipalKind.ELSEWHERE


def _subjects(
    old: Mapping[str, SubjectRights], new: Mapping[str, SubjectRights], *, silent: set[str], gone: set[str], other: set[str]
) -> Iterator[SubjectChange]:
    for name in sorted(old.keys() | new.keys()):
        known = new.get(name) or old[name]
        if name in gone:
            yield SubjectChange(subject=name, turn=SubjectTurn.GONE, since=known.taken)
        elif name in silent:
            yield SubjectChange(subject=name, turn=SubjectTurn.SILENT, since=known.taken)
        elif name not in old:
            yield SubjectChange(subject=name, turn=SubjectTurn.NEW, since=known.taken, holders=_full_holders(known))
        elif isinstance(known, UnreadSubject) or isinstance(old[name], UnreadSubject):
            yield SubjectChange(subject=name, turn=SubjectTurn.UNREAD, since=known.taken)
        elif name in other:
            yield SubjectChange(subject=name, turn=SubjectTurn.OTHER, since=known.taken)


def _full_holders(one: SubjectRights) -> int:
    return len({holding.principal for holding in one.own_holdings_with(lambda right: right.kind.full)})


class _Pairs(Struct, frozen=True):
    """Subjects before and after, and the audits that they are of."""

    pairs: Sequence[tuple[SubjectRights, SubjectRights]]
    before: Audit
    after: Audit


# What processes that are forked in the course of a comparison find it by: audits are not to be carried to them.
_PAIRS: list[_Pairs] = []


def _compared(pairs: _Pairs, each: Each | None) -> Iterator[SubjectChanges]:
    """Yield what changed on each of some subjects, in their order."""
    numbers = list(range(len(pairs.pairs)))
    _PAIRS.append(pairs)
    try:
        if each is None or len(numbers) < _WORTH_FORKING:
            yield from _compare_some(numbers)
            return
        shares = _shares(pairs.pairs)
        done = zip(shares, each(_compare_some, shares), strict=True)
        parts = {number: part for share, some in done for number, part in zip(share, some, strict=True)}
        yield from (parts[number] for number in numbers)
    finally:
        _PAIRS.pop()


def _shares(pairs: Sequence[tuple[SubjectRights, SubjectRights]]) -> list[list[int]]:
    """Return the numbers of pairs in some lists; those that state the same as each other in one, since one is told from the other."""
    alike: dict[object, list[int]] = {}
    for number, (one, another) in enumerate(pairs):
        marks = one.conclusion_mark, another.conclusion_mark
        alike.setdefault(number if None in marks else marks, []).append(number)
    found: list[list[int]] = [[] for _ in range(min(_SHARES, len(alike)))]
    for place, some in enumerate(alike.values()):
        found[place % len(found)] += some
    return found


def _compare_some(numbers: Sequence[int]) -> list[SubjectChanges]:
    """Return what changed on some of the subjects that are compared, by their numbers."""
    return [_compare(number) for number in numbers]


def _compare(number: int) -> SubjectChanges:
    """Return what changed on one subject; where comparing it fails unexpectedly, a gap: it costs itself alone."""
    one, another = _PAIRS[-1].pairs[number]
    found = SubjectChanges()
    try:
        _compare_into(found, one, another, _PAIRS[-1])
    except Exception as error:  # noqa: BLE001
        place = Place(subject=another.subject, path="evidence")
        return SubjectChanges(less_read=[internal_error(error, place, f"comparing {another.subject}", "what changed on it")])
    return found


def _compare_into(found: SubjectChanges, one: SubjectRights, another: SubjectRights, pairs: _Pairs) -> None:
    before, after = pairs.before, pairs.after
    less = list(_missing(one.gaps, another.gaps))
    found.less_read.extend(less)
    found.rights.extend(right_changes(*one.differing(another), _memberships(one), _memberships(another), less_was_read=bool(less)))
    found.accounts.extend(_accounts(one, another))
    _add_findings(before.findings_on(one), after.findings_on(another), found)


def _memberships(one: SubjectRights) -> IsIn:
    """Return what knows whether an account of a subject is in a group, by the link that says so on it, or on another one."""
    known: dict[str, frozenset[str]] = {}

    def is_in(link: Link) -> bool:
        source = str(link.source)
        if source not in known:
            known[source] = frozenset(one.belongs_to(source))
        return str(link.target) in known[source]

    return is_in


def _missing(before: Sequence[Gap], after: Sequence[Gap]) -> Iterator[Gap]:
    """Yield the gaps that were not there before; by what they are of and why, since they have no other name."""
    known = {(gap.what, gap.why, gap.place.path) for gap in before}
    return (gap for gap in after if (gap.what, gap.why, gap.place.path) not in known)


def _accounts(one: SubjectRights, another: SubjectRights) -> Iterator[AccountChange]:
    old, new = one.account_states(), another.account_states()
    turns = [
        *((name, AccountTurn.NEW) for name in sorted(new.keys() - old.keys())),
        *((name, AccountTurn.GONE) for name in sorted(old.keys() - new.keys())),
        *((name, AccountTurn.ENABLED) for name in sorted(new.keys() & old.keys()) if new[name] is True and old[name] is False),
        *((name, AccountTurn.DISABLED) for name in sorted(new.keys() & old.keys()) if new[name] is False and old[name] is True),
    ]
    return (AccountChange(subject=another.subject, account=name, turn=turn) for name, turn in turns)


def _across(before: Audit, after: Audit, subjects: set[str], found: EstateChanges) -> None:
    """Add the findings that several hosts show together, of subjects that are in both states."""
    old, new = ([one for one in audit.findings_across if one.subject in subjects] for audit in (before, after))
    _add_findings(old, new, found)


def _add_findings(old: Sequence[Finding], new: Sequence[Finding], found: SubjectChanges) -> None:
    """Add the findings that are on one side alone: by their key, or by what they say; one that got worse, or less bad, is on both."""
    keys, said = ({(one.key, one.severity) for one in side} for side in (old, new)), ({_said(one) for one in side} for side in (old, new))
    (old_keys, new_keys), (old_said, new_said) = keys, said
    found.new_findings.extend(one for one in new if (one.key, one.severity) not in old_keys and _said(one) not in old_said)
    found.gone_findings.extend(one for one in old if (one.key, one.severity) not in new_keys and _said(one) not in new_said)


def _said(finding: Finding) -> tuple[object, ...]:
    return finding.check, finding.subject, finding.message, finding.severity
