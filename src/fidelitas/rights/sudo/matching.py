"""Whom and where a rule is about: members of lists against accounts and hosts.

Lists are tried from the last member to the first, and the first that says yes or no decides (sudoers(5)); a list in which no member
says anything says nothing.  What depends on something not in evidence is taken as it would add rights, with the condition written out:
a conditional right that is shown can be checked, one that is not shown cannot.
"""

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from fnmatch import translate
from functools import lru_cache

from fidelitas.facts import AliasKind, Member, MemberKind, SudoAlias, SudoDefault, SudoPolicy
from fidelitas.rights.population import Identity, Population

__all__ = ["Host", "Match", "Policy"]

# Aliases that are followed for one question.  Python's own stack ends at some 900 nested lists, and no policy is nested by hundreds.
_MOST_ALIASES = 400


@dataclass(frozen=True, slots=True, kw_only=True)
class Host:
    """What a host is called: as it calls itself, and its full name where that is known to be another."""

    name: str
    full_name: str | None = None
    resolves: bool = True  # whether sudo may look up the full name (the option fqdn, built in on Debian)

    @property
    def short(self) -> str:
        """The name up to the first dot."""
        return self.name.partition(".")[0]

    @property
    def full(self) -> str:
        """The longest name that is known."""
        return self.full_name or self.name


@dataclass(frozen=True, slots=True, kw_only=True)
class Match:
    """A list's answer: the member that decided, `allowed`, the aliases that led to it, and on what the answer depends."""

    member: Member
    allowed: bool
    aliases: tuple[SudoAlias, ...] = ()
    conditions: tuple[str, ...] = ()


# What one member says by itself: yes, no, or that it depends on the condition.
_Answer = bool | str


class Policy:
    """A policy on a host with its population: everything that a member of a list can refer to."""

    def __init__(self, policy: SudoPolicy, host: Host, population: Population) -> None:
        self.facts = policy
        self.host = host
        self.population = population
        self.aliases: Mapping[tuple[AliasKind, str], SudoAlias] = {(alias.kind, alias.name): alias for alias in policy.aliases}
        options = {default.option: default for default in policy.defaults if not default.binding}
        self.fold_users = _is_on(options.get("case_insensitive_user"), default=True)
        self.fold_groups = _is_on(options.get("case_insensitive_group"), default=True)
        self.group_plugin = "group_plugin" in options
        self.netgroups = _is_on(options.get("use_netgroups"), default=True)

    def users(self, members: Sequence[Member], who: Identity) -> Match | None:
        """Return what a user list says of an account, or nothing."""
        return self._list(members, AliasKind.USER, lambda member: self._user(member, who), set())

    def run_as_users(self, members: Sequence[Member], who: Identity, target: Identity) -> Match | None:
        """Return what a run-as user list says of a target, asked by `who`."""

        def answer(member: Member) -> _Answer:
            return who.name == target.name if member.kind is MemberKind.MYSELF else self._user(member, target)

        return self._list(members, AliasKind.RUNAS, answer, set())

    def run_as_groups(self, members: Sequence[Member], name: str, gid: int) -> Match | None:
        """Return what a run-as group list says of a group."""

        def answer(member: Member) -> _Answer:
            return member.kind is MemberKind.ALL or _is_id(member.value, gid) or self._same(member.value, name, fold=self.fold_groups)

        return self._list(members, AliasKind.RUNAS, answer, set())

    def hosts(self, members: Sequence[Member]) -> Match | None:
        """Return what a host list says of this host."""
        return self._list(members, AliasKind.HOST, self._on_host, set())

    def _list(
        self,
        members: Sequence[Member],
        kind: AliasKind,
        answer: Callable[[Member], _Answer],
        met: set[str],
    ) -> Match | None:
        """Return the first answer from the end of the list.

        An alias that was met before has said nothing and will say nothing again; so cycles end, and aliases that name one another
        twice over do not multiply.
        """
        conditions: list[str] = []
        for member in reversed(members):
            alias = self.aliases.get((kind, member.value)) if member.kind is MemberKind.WORD else None
            if alias is not None:
                if alias.name in met or len(met) == _MOST_ALIASES:
                    continue
                met.add(alias.name)
                found = self._list(alias.members, kind, answer, met)
                if found is None:
                    continue
                found = Match(
                    member=found.member,
                    allowed=found.allowed != member.negated,
                    aliases=(alias, *found.aliases),
                    conditions=found.conditions,
                )
            else:
                said = answer(member)
                if said is False:
                    continue
                if isinstance(said, str) and member.negated:
                    conditions.append(f"unless {said}")
                    continue
                needed = (f"if {said}",) if isinstance(said, str) else ()
                found = Match(member=member, allowed=not member.negated, conditions=needed)
            return Match(member=found.member, allowed=found.allowed, aliases=found.aliases, conditions=(*found.conditions, *conditions))
        return None

    def _user(self, member: Member, who: Identity) -> _Answer:
        if member.kind is MemberKind.ALL:
            return True
        if member.kind is MemberKind.GROUP:
            return self._group(member.value[1:], who)
        if member.kind is MemberKind.NETGROUP:
            return f"{who.name} is in netgroup {member.value[1:]}" if self.netgroups else False
        return _is_id(member.value, who.uid) or self._same(member.value, who.name, fold=self.fold_users)

    def _group(self, group: str, who: Identity) -> _Answer:
        """%name, %#gid or %:name; sudo compares names that it gets from the account's group IDs"""
        if group.startswith(":"):
            return f"the group plugin says that {who.name} is in {group[1:]}" if self.group_plugin else False
        if group.startswith("#"):
            return any(_is_id(group, gid) for gid in who.gids)
        names = self.population.group_names
        return any(self._same(group, names[gid], fold=self.fold_groups) for gid in who.gids if gid in names)

    @staticmethod
    def _same(stated: str, name: str, *, fold: bool) -> bool:
        return stated == name or (fold and stated.lower() == name.lower())

    def _on_host(self, member: Member) -> _Answer:
        if member.kind is MemberKind.ALL:
            return True
        if member.kind is MemberKind.NETGROUP:
            return f"this host is in netgroup {member.value[1:]}" if self.netgroups else False
        if member.kind is MemberKind.ADDRESS:
            return f"this host has an address in {member.value}"
        return self._host_name(member.value)

    def _host_name(self, pattern: str) -> _Answer:
        """A pattern with a dot is held against the full name, one without against the short name; case does not matter"""
        if "." not in pattern:
            return _fits(pattern, self.host.short)
        if _fits(pattern, self.host.full):
            return True
        open_question = "." not in self.host.full and self.host.resolves and _fits(pattern.partition(".")[0], self.host.short)
        return f"the full name of this host is {pattern}" if open_question else False


def _is_on(stated: SudoDefault | None, *, default: bool) -> bool:
    return default if stated is None else stated.operator != "!"


def _is_id(stated: str, number: int | None) -> bool:
    """Return whether ``#number`` names an ID; at most eleven digits are looked at, since no longer one is an ID."""
    return stated.startswith("#") and stated[1:].isdecimal() and len(stated) <= 12 and int(stated[1:]) == number


def _fits(pattern: str, name: str) -> bool:
    """fnmatch(3) without regard to case and without special treatment of any character"""
    if not set(pattern) & set("*?[]\\"):
        return pattern.lower() == name.lower()
    return _compiled(pattern.lower())(name.lower()) is not None


@lru_cache(maxsize=4096)
def _compiled(pattern: str) -> Callable[[str], re.Match[str] | None]:
    # fnmatch(3) negates a set with "!" and, on every system that sudo runs on, "^"; Python's only with "!".
    return re.compile(translate(pattern.replace("[^", "[!"))).match
