"""What each rule of a policy still decides once the last match has won: for whom, as root or not, and what overrides it.

Theory of operation: the policy is decided for every class of accounts and targets that it can tell apart (`Alike`), by `grants` and
`group_grants`.  Each of those walks notes here what a rule gave or took, and which later rule left it nothing.  Links are made of
the same walks.  So what a finding says of a rule, and what holders hold by it, come from one decision and cannot contradict each other.

Knows rules and commands; not routes, nor what is risky.
"""

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct, field

from fidelitas.facts import Command, Member, MemberKind, SudoRule
from fidelitas.rights.linux.population import Identity
from fidelitas.rights.linux.sudo.grants import Asks, Grant, Leaf, Walk, jail_of

__all__ = ["Effective", "InForce", "RuleEffect"]


class InForce(Struct):
    """A command that a rule gives as root: `members` of the user list by which it does, each under the alias it is named by.

    `accounts` are those that have it by name, `excluded` what later rules take from it, `asks` whose passwords it asks for.
    """

    leaf: Leaf
    members: dict[Member, str] = field(default_factory=dict)
    accounts: list[Sequence[Identity]] = field(default_factory=list)
    excluded: dict[Command, None] = field(default_factory=dict)
    asks: set[Asks] = field(default_factory=set)

    @property
    def needs_another_password(self) -> bool:
        """Whether it serves only those who know the password of root, or of the account to run as."""
        return self.asks <= {Asks.ROOT, Asks.TARGET}

    @property
    def users(self) -> list[str]:
        """The members as the rule has them, an alias for those in it, in the order of the rule."""
        return list(dict.fromkeys(self.members[member] for member in self._ordered))

    def is_about(self, member: Member) -> bool:
        """Return whether a member of the list gives it: one by which an account has it, or the name of an account that has it."""
        if member in self.members:
            return True
        return member.kind in (MemberKind.NAME, MemberKind.WORD) and any(who.name == member.value for some in self.accounts for who in some)

    @property
    def _ordered(self) -> list[Member]:
        return sorted(self.members, key=lambda member: (member.place.path, member.place.line or 0, member.place.column or 0))


class RuleEffect(Struct):
    """`as_root` are the commands that a rule gives as root, `decides` those that it gives or takes at all, as any account.

    `overridden_by` are the later rules that decided what this one says.
    """

    as_root: dict[Command, InForce] = field(default_factory=dict)
    decides: set[Command] = field(default_factory=set)
    overridden_by: dict[int, SudoRule] = field(default_factory=dict)

    @property
    def is_overridden(self) -> bool:
        """Whether later rules left it nothing at all, and always will: one that ends gives it back what it says."""
        ends = any(rule.options.not_after or rule.options.not_before for rule in self.overridden_by.values())
        return bool(self.overridden_by) and not self.decides and not ends


class Effective(Walk):
    """The effects of all rules of a policy, noted by the walks over it."""

    def __init__(self, rules: tuple[SudoRule, ...]) -> None:
        self._number: Mapping[int, int] = {id(rule): number for number, rule in enumerate(rules)}
        self.effects = tuple(RuleEffect() for _ in rules)

    def of(self, rules: tuple[SudoRule, ...]) -> Iterator[tuple[SudoRule, RuleEffect]]:
        """Yield each rule with its effect; the rules are those of the policy, or the same of a host that is told from this one."""
        yield from zip(rules, self.effects, strict=True)

    def decided(self, rule: SudoRule, leaf: Leaf) -> None:
        """Note that a rule gave or took a command."""
        self.effects[self._number[id(rule)]].decides.add(leaf.command)

    def overridden(self, rule: SudoRule, by: SudoRule) -> None:
        """Note that a later rule had decided what a rule says."""
        if by is not rule:
            self.effects[self._number[id(rule)]].overridden_by[self._number[id(by)]] = by

    def gives_root(self, grant: Grant, accounts: Sequence[Identity]) -> None:
        """Note that a grant makes some accounts root, or runs its command as root for them."""
        if jail_of(grant.rule):  # what its commands amount to hangs on what the jail holds
            return
        found = self.effects[self._number[id(grant.rule)]].as_root.setdefault(grant.leaf.command, InForce(grant.leaf))
        member = grant.by.member
        found.members.setdefault(member, grant.by.aliases[0].name if grant.by.aliases else str(member))
        found.accounts.append(accounts)
        found.excluded.update(dict.fromkeys(grant.excluded))
        found.asks.add(grant.asks)

    def __getstate__(self) -> object:
        return self.effects

    def __setstate__(self, effects: tuple[RuleEffect, ...]) -> None:
        self.effects, self._number = effects, {}
