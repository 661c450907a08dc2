"""Accounts that a policy cannot tell apart.

What a policy gives to an account depends on the account only by what the members of its lists say of it.  Two accounts of which the same
members say yes are given the same, so that one of them is asked about and speaks for all: the cost of a host is that of its rules, not
of the thousands of accounts that a directory lends it.
"""

from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property

from fidelitas.facts import AliasKind, DefaultScope, Member, MemberKind, PasswordState, SudoRule
from fidelitas.rights.accounts.identity import Identity, synthetic_member
from fidelitas.rights.linux.sudo.matching import Policy, stated_id

__all__ = ["EquivalenceClasses"]

_NOBODY = synthetic_member()
# Options by which sudo asks for the password of the target, whose name is then in the answer.
_ASK_TARGET = frozenset({"targetpw", "runaspw"})


class EquivalenceClasses:
    """Which accounts are alike to a policy, as those who ask and as those who are to be acted as."""

    def __init__(self, policy: Policy) -> None:
        facts = policy.facts
        self._policy = policy
        users = self._members(AliasKind.USER, (rule.users for rule in facts.rules), DefaultScope.USER)
        self._user_members = {(member.kind, member.value): number for number, member in enumerate(users)}
        self._as_invoker = self._told_apart(users)
        targets = self._members(AliasKind.RUNAS, (rule.run_as_users or () for rule in facts.rules), DefaultScope.RUNAS)
        self._target_members = {(member.kind, member.value): number for number, member in enumerate(targets)}
        self._as_target = self._told_apart(targets)
        self._targets_of: dict[Hashable, frozenset[int]] = {}
        self._exempt = {default.value for default in facts.defaults if default.option == "exempt_group"}
        self._asks_target = any(default.option in _ASK_TARGET for default in facts.defaults)
        defaults = {default.value for default in facts.defaults if default.option == "runas_default" and default.value} | {"root"}
        self._defaults = {who.name for name in defaults for who in _called(policy, name)}
        for name in self._defaults:
            self._as_target.setdefault(name, []).append(name)

    def invoker(self, who: Identity) -> Hashable:
        """Return the class of an account that asks; equal for accounts to which the policy gives the same."""
        if who.account is None or self._policy.population.by_name.get(who.name) is not who:
            return None, who  # a made-up member, or one that sudo sees under another name
        told = self._as_invoker.get(who.name)
        unable = who.password is not None and who.password.state in (PasswordState.NONE, PasswordState.LOCKED)
        exempt = frozenset(one.group.name for one in who.memberships if one.group.name in self._exempt) if self._exempt else frozenset()
        # With runaspw sudo asks the one that is run as by default for its own password, and all others for one that they need not know.
        return tuple(told or ()), who.name if unable or who.name in self._defaults else "", exempt

    def is_plain(self, who: Identity) -> bool:
        """Return whether no user list is about an account but such as are about everyone, as for most accounts of a directory."""
        return who.name not in self._as_invoker and who.name not in self._defaults and who.password is None and not self._exempt

    def mentioned(self, who: Identity) -> bool:
        """Return whether some user list is about an account by its name or one of its groups."""
        return who.name in self._as_invoker

    def targets_of(self, rule: SudoRule) -> frozenset[int]:
        """Return which of the classes of targets a rule's lists of whom to act as say anything of, by their numbers."""
        key = rule.run_as_users, rule.run_as_groups is None
        if key not in self._targets_of:
            members = rule.run_as_users
            some = self._maybe_about(members)
            self._targets_of[key] = frozenset(number for number in some if self._about(members, self.targets[number][0]))
        return self._targets_of[key]

    def _maybe_about(self, members: Sequence[Member] | None) -> Iterable[int]:
        """Return the classes of targets that a list can be about: thousands of rules each name one of thousands of accounts."""
        numbers = None if members is None else self._numbers(AliasKind.RUNAS, members, self._target_members)
        if numbers is None:
            return range(len(self.targets))
        return {at for number in numbers for at in self._classes_by_member.get(number, ())}

    @cached_property
    def _classes_by_member(self) -> dict[int | str, list[int]]:
        """The classes of targets that a member of a list of whom to act as is about."""
        found: dict[int | str, list[int]] = {}
        for at, (one, *_) in enumerate(self.targets):
            for number in self._as_target.get(one.name, ()):
                found.setdefault(number, []).append(at)
        return found

    def _about(self, members: Sequence[Member] | None, target: Identity) -> bool:
        if members is None:  # the default, or with a list of groups the invoker, who is asked about by those groups
            return target.name in self._defaults
        return any(member.kind is MemberKind.MYSELF for member in members) or (
            self._policy.run_as_users(members, _NOBODY, target) is not None
        )

    @cached_property
    def targets(self) -> list[list[Identity]]:
        """Return the accounts that can be acted as, those that are alike together; those with user ID 0 first, each by itself."""
        classes: dict[Hashable, list[Identity]] = {}
        everyone = self._policy.population.effective
        for who in (*(who for who in everyone if who.uid == 0), *(who for who in everyone if who.uid != 0)):
            alone = who.name if who.uid == 0 or self._asks_target else ""
            classes.setdefault((tuple(self._as_target.get(who.name, ())), alone), []).append(who)
        return list(classes.values())

    def rules_about(self, who: Identity) -> Sequence[SudoRule]:
        """Return the rules whose user lists may be about an account, the last first; for a made-up member all."""
        if who.account is None:
            return self._policy.facts.rules[::-1]
        told = self._as_invoker.get(who.name, ())
        return [rule for rule, members in self._members_of_rules if members is None or not members.isdisjoint(told)]

    @cached_property
    def _members_of_rules(self) -> list[tuple[SudoRule, frozenset[int] | None]]:
        """Each rule, the last first, with the numbers of the members of its user list; ``None`` where it may be about anyone."""
        lists: dict[tuple[Member, ...], frozenset[int] | None] = {}
        for rule in self._policy.facts.rules:
            if rule.users not in lists:
                lists[rule.users] = self._numbers(AliasKind.USER, rule.users, self._user_members)
        return [(rule, lists[rule.users]) for rule in reversed(self._policy.facts.rules)]

    def _numbers(self, kind: AliasKind, members: Sequence[Member], known: Mapping[tuple[MemberKind, str], int]) -> frozenset[int] | None:
        """Return the numbers of the members of a list, aliases followed; ``None`` where it may be about anyone."""
        found: set[int] = set()
        agenda, met = list(members), set()
        for member in agenda:
            alias = self._policy.aliases.get((kind, member.value)) if member.kind is MemberKind.WORD else None
            if member.kind in (MemberKind.ALL, MemberKind.MYSELF):
                return None
            if alias is None or alias.name in met:  # within itself an alias is a plain name
                found.add(known[member.kind, member.value])
            else:
                met.add(alias.name)
                agenda += alias.members
        return frozenset(found)

    def _members(self, kind: AliasKind, lists: Iterable[Sequence[Member]], scope: DefaultScope) -> list[Member]:
        """Return the distinct members of lists, and of the aliases and Defaults entries of their kind."""
        facts = self._policy.facts
        every = [*lists, *(alias.members for alias in facts.aliases if alias.kind is kind)]
        every += [default.binding for default in facts.defaults if default.scope is scope]
        return list({(member.kind, member.value): member for members in every for member in members}.values())

    def _told_apart(self, members: Iterable[Member]) -> dict[str, list[int | str]]:
        """Return, by account, the numbers of the members that are about it; an answer that depends on something is one by itself."""
        told: dict[str, list[int | str]] = {}
        for number, member in enumerate(members):
            if member.kind is MemberKind.GROUP and not member.value.startswith("%:"):
                for name in self._in_groups(member.value[1:]):
                    told.setdefault(name, []).append(number)
                continue
            for who, said in self._answers(member):
                told.setdefault(who.name, []).extend((number,) if said is True else (number, who.name))
        return told

    def _in_groups(self, stated: str) -> Iterable[str]:
        members = [self._policy.population.in_gid(gid) for gid in self._policy.group_ids(stated)]
        if len(members) == 1:
            return (who.name for who in members[0])
        return dict.fromkeys(who.name for one in members for who in one)

    def _answers(self, member: Member) -> Iterator[tuple[Identity, bool | str]]:
        """Yield the accounts that a member is about, aliases aside, with what it says: yes, or that it depends on something."""
        if member.kind in (MemberKind.ALL, MemberKind.MYSELF):
            return
        named = member.kind in (MemberKind.NAME, MemberKind.WORD)
        able = _called(self._policy, member.value) if named else self._policy.population.effective
        for who in {one.name: one for one in able}.values():
            said = self._policy.is_user(member, who)
            if said is not False:
                yield who, said


def _called(policy: Policy, stated: str) -> Iterator[Identity]:
    yield from policy.population.called(stated)
    if (number := stated_id(stated)) is not None:
        yield from policy.population.of_uid(number)
