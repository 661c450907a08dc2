"""The statements of a sudo policy as they stand in its files: which may be narrowed, and which stay as they are."""

from collections.abc import Callable, Iterable, Iterator
from enum import StrEnum

from msgspec import Struct, field

from fidelitas.facts import MemberKind, SudoRule
from fidelitas.rights.linux.population import Identity
from fidelitas.rights.linux.sudo import Policy

__all__ = ["Left", "Statement", "statements_of", "why_left"]


class Left(StrEnum):
    """Why a statement stays as it is."""

    ROOT = "root"  # root's own: sudo gives root nothing that root lacks
    ELSEWHERE = "elsewhere"  # about other hosts than those whose logs were read
    BANS = "bans"  # it only denies
    NOBODY = "nobody"  # about accounts that no host has
    NOT_ASKED = "not-asked"  # about other accounts than those that were asked for
    NO_FORM = "no-form"  # it could not be written again so that it means the same
    TIGHT = "tight"  # all that it allows was used, and nothing else
    UNUSED = "unused"  # nothing used it, and it was to stay
    NOT_A_FILE = "not-a-file"  # it is stored in a directory


class Statement(Struct):
    """One user specification: its rules by their number in the policy, and its lines in a file."""

    path: str
    line: int
    last_line: int
    text: str
    rules: dict[int, SudoRule] = field(default_factory=dict)

    @property
    def first(self) -> SudoRule:
        """The first of its rules."""
        return next(iter(self.rules.values()))


def statements_of(policy: Policy) -> list[Statement]:
    """Return the statements of a policy, in its order."""
    found: list[Statement] = []
    for number, rule in enumerate(policy.facts.rules):
        line, last = rule.place.line or 0, found[-1] if found else None
        # Of one that goes over several lines the parts are found where each begins.
        if last is None or last.path != rule.place.path or line > last.last_line:
            last = Statement(rule.place.path, line, rule.last_line, rule.statement)
            found.append(last)
        last.last_line = max(last.last_line, rule.last_line)
        last.rules[number] = rule
    return found


def why_left(statement: Statement, policies: Iterable[Policy], wanted: Callable[[Identity], bool], files: Iterable[str]) -> Left | None:
    """Return why a statement of a policy that some hosts share is no candidate; nothing where it is one."""
    rules = list(statement.rules.values())
    if statement.path not in files or not statement.line:
        return Left.NOT_A_FILE
    if all(_only_root(rule) for rule in rules):
        return Left.ROOT
    if all(rule.command.negated for rule in rules):
        return Left.BANS
    here = [policy for policy in policies if any(_is_here(policy, rule) for rule in rules)]
    if not here:
        return Left.ELSEWHERE
    about = [who for policy in here for rule in rules for who in _about(policy, rule)]
    if not about:
        return Left.NOBODY
    return None if any(map(wanted, about)) else Left.NOT_ASKED


def _only_root(rule: SudoRule) -> bool:
    return all(member.kind in (MemberKind.NAME, MemberKind.WORD) and member.value in ("root", "#0") for member in rule.users)


def _is_here(policy: Policy, rule: SudoRule) -> bool:
    match = policy.hosts(rule.hosts)
    return match is not None and match.allowed


def _about(policy: Policy, rule: SudoRule) -> Iterator[Identity]:
    """Yield the accounts that a rule is about."""
    for who in policy.population.ordinary:
        match = policy.users(rule.users, who)
        if match is not None and match.allowed:
            yield who
