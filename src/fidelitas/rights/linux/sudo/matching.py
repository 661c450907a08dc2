"""Whom and where a rule is about: members of lists against accounts and hosts.

Lists are tried from the last member to the first, and the first that says yes or no decides (sudoers(5)); a list in which no member
says anything says nothing.  What depends on something not in evidence is taken as it would add rights, with the condition written out:
a conditional right that is shown can be checked, one that is not shown cannot.
"""

from collections.abc import Callable, Hashable, Mapping, Sequence
from ipaddress import IPv4Interface, IPv6Interface
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.facts import AliasKind, Member, MemberKind, SudoAlias, SudoDefault, SudoPolicy
from fidelitas.patterns import has_wildcards, wildcard_matches
from fidelitas.rights.linux.population import Identity, Population
from fidelitas.rights.linux.sudo.hosts import Netgroups, address_matches

__all__ = ["Host", "Match", "Policy", "stated_id"]

# Aliases that are followed for one question.  Python's own stack ends at some 900 nested lists, and no policy is nested by hundreds.
_MOST_ALIASES = 400


class Host(Struct, frozen=True, kw_only=True):
    """What a host is called: as it calls itself, and its full name where that is known to be another."""

    name: str
    full_name: str | None = None
    resolves: bool = True  # whether sudo may look up the full name (the option fqdn, built in on Debian)
    addresses: tuple[IPv4Interface | IPv6Interface, ...] | None = None  # of the interfaces that are up; None: not known

    @property
    def short(self) -> str:
        """The name up to the first dot."""
        return self.name.partition(".")[0]

    @property
    def full(self) -> str:
        """The longest name that is known."""
        return self.full_name or self.name


class Match(Struct, frozen=True, kw_only=True):
    """A list's answer: the member that decided, `allowed`, the aliases that led to it, and on what the answer depends."""

    member: Member
    allowed: bool
    aliases: tuple[SudoAlias, ...] = ()
    conditions: tuple[str, ...] = ()


# What one member says by itself: yes, no, or that it depends on the condition.
_Answer = bool | str


class Policy:
    """A policy on a host with its population: everything that a member of a list can refer to."""

    def __init__(self, policy: SudoPolicy, host: Host, population: Population, netgroups: Netgroups | None = None) -> None:
        self.facts = policy
        self.known_netgroups = netgroups
        # For a single decision what is not known does not match, and is noted here; None where conditions are carried along instead.
        self.taken_as_no: set[str] | None = None
        self.host = host
        self.population = population
        self.aliases: Mapping[tuple[AliasKind, str], SudoAlias] = {(alias.kind, alias.name): alias for alias in policy.aliases}
        options = {default.option: default for default in policy.defaults if not default.binding}
        self.fold_users = _is_on(options.get("case_insensitive_user"), default=True)
        self.fold_groups = _is_on(options.get("case_insensitive_group"), default=True)
        self.group_plugin = "group_plugin" in options
        self.netgroups = _is_on(options.get("use_netgroups"), default=True)
        self.netgroup_tuple = _is_on(options.get("netgroup_tuple"), default=False)
        self._group_ids: dict[str, frozenset[int]] = {}
        self.match_by_gid = _is_on(options.get("match_group_by_gid"), default=False)
        # What lists said, by the identity of the list, which is kept beside it; a host has few lists and is asked about them often.
        self._said: dict[tuple[int, str], tuple[Sequence[Member], Match | None]] = {}
        # What others have worked out of it, by key; what is named by its identity is kept beside it.
        self.worked_out: dict[Hashable, Any] = {}

    def forget(self) -> None:
        """Let go of what lists said, and of what was worked out; it would be worked out again."""
        self._said.clear()
        self.worked_out.clear()

    def users(self, members: Sequence[Member], who: Identity) -> Match | None:
        """Return what a user list says of an account, or nothing."""
        return self._list(members, AliasKind.USER, lambda member: self.is_user(member, who), set())

    def run_as_users(self, members: Sequence[Member], who: Identity, target: Identity) -> Match | None:
        """Return what a run-as user list says of a target, asked by `who`."""
        if any(member.kind is MemberKind.MYSELF for member in members):

            def answer(member: Member) -> _Answer:
                return who.name == target.name if member.kind is MemberKind.MYSELF else self.is_user(member, target)

            return self._list(members, AliasKind.RUNAS, answer, set())
        if target.account is None:  # a synthetic member: its name says nothing of it
            return self._list(members, AliasKind.RUNAS, lambda member: self.is_user(member, target), set())
        key = (id(members), target.name)
        if key not in self._said:
            self._said[key] = members, self._list(members, AliasKind.RUNAS, lambda member: self.is_user(member, target), set())
        return self._said[key][1]

    def run_as_groups(self, members: Sequence[Member], name: str, gid: int) -> Match | None:
        """Return what a run-as group list says of a group."""

        def answer(member: Member) -> _Answer:
            return member.kind is MemberKind.ALL or self.is_group(member.value, name, gid)

        return self._list(members, AliasKind.RUNAS, answer, set())

    def hosts(self, members: Sequence[Member]) -> Match | None:
        """Return what a host list says of this host."""
        key = (id(members), "\0host")  # no account is called so
        if key not in self._said:
            self._said[key] = members, self._list(members, AliasKind.HOST, self.on_host, set())
        return self._said[key][1]

    def _list(
        self,
        members: Sequence[Member],
        kind: AliasKind,
        answer: Callable[[Member], _Answer],
        met: set[str],
        within: tuple[str, ...] = (),
    ) -> Match | None:
        """Return the first answer from the end of the list.

        An alias that was met before has said nothing and will say nothing again; so cycles end, and aliases that name one another
        twice over do not multiply.  The name of an alias `within` itself is a plain name there: sudo finds it in use, and goes on to names.
        """
        conditions: list[str] = []
        for member in reversed(members):
            alias = self.aliases.get((kind, member.value)) if member.kind is MemberKind.WORD else None
            if alias is not None and alias.name not in within:
                if alias.name in met or len(met) == _MOST_ALIASES:
                    continue
                met.add(alias.name)
                found = self._list(alias.members, kind, answer, met, (*within, alias.name))
                if found is None:
                    continue
                found = Match(
                    member=found.member,
                    allowed=found.allowed != member.negated,
                    aliases=(alias, *found.aliases),
                    conditions=found.conditions,
                )
            else:
                said = self._known(answer(member))
                if said is False:
                    continue
                if isinstance(said, str) and member.negated:
                    conditions.append(f"unless {said}")
                    continue
                needed = (f"if {said}",) if isinstance(said, str) else ()
                found = Match(member=member, allowed=not member.negated, conditions=needed)
            return replace(found, conditions=(*found.conditions, *conditions)) if conditions else found
        return None

    def _known(self, said: _Answer) -> _Answer:
        """Return an answer as it is or, where only what is known counts, no for one that depends on something unknown."""
        if self.taken_as_no is None or not isinstance(said, str):
            return said
        self.taken_as_no.add(said)
        return False

    def is_user(self, member: Member, who: Identity) -> _Answer:
        """Return what one member of a user list that is no alias says of an account."""
        if member.kind is MemberKind.ALL:
            return True
        if member.kind is MemberKind.GROUP:
            return self.in_group(member.value[1:], who)
        if member.kind is MemberKind.NETGROUP:
            return self._in_netgroup(member.value[1:], who.name)
        return self.is_account(member.value, who)

    def is_account(self, stated: str, who: Identity) -> bool:
        """Return whether a name, or ``#`` and a number, is an account's."""
        return _is_id(stated, who.uid) or self._same(stated, who.name, fold=self.fold_users)

    def is_group(self, stated: str, name: str, gid: int) -> bool:
        """Return whether a name, or ``#`` and a number, is a group's."""
        return _is_id(stated, gid) or self._same(stated, name, fold=self.fold_groups)

    def in_group(self, group: str, who: Identity) -> _Answer:
        """Return whether an account is in a group (written without the ``%``); sudo compares names that it gets from group IDs."""
        if group.startswith(":") and self.group_plugin:
            return f"the group plugin says that {who.name} is in {group[1:]}"
        return not who.gids.isdisjoint(self.group_ids(group))

    def group_ids(self, stated: str) -> frozenset[int]:
        """Return the IDs of the groups that a name, or ``#`` and a number, means: more than one where several share the name."""
        if stated not in self._group_ids:
            number = stated_id(stated)
            by_number = frozenset[int]() if number is None else frozenset({number})
            self._group_ids[stated] = by_number | self._groups_called(stated)
        return self._group_ids[stated]

    def _groups_called(self, stated: str) -> frozenset[int]:
        if self.match_by_gid:
            return frozenset([one.gid for one in self.population.groups if one.name == stated][:1])
        names = self.population.group_names
        alike = self.population.gids_called(stated)
        return frozenset(gid for gid in alike if self._same(stated, names[gid], fold=self.fold_groups))

    def _in_netgroup(self, netgroup: str, account: str | None) -> _Answer:
        """Return whether an account, or with ``None`` this host, is in a netgroup."""
        who = account or "this host"
        if not self.netgroups:
            return False
        if self.known_netgroups is None:
            return f"{who} is in netgroup {netgroup}"
        hosts: tuple[str | None, ...] = (self.host.full, self.host.short)
        if account is not None and not self.netgroup_tuple:
            hosts = (None,)
        return any(self.known_netgroups.has(netgroup, host, account) for host in hosts)

    @staticmethod
    def _same(stated: str, name: str, *, fold: bool) -> bool:
        return stated == name or (fold and stated.lower() == name.lower())

    def on_host(self, member: Member) -> _Answer:
        """Return what one member of a host list that is no alias says of this host."""
        if member.kind is MemberKind.ALL:
            return True
        if member.kind is MemberKind.NETGROUP:
            return self._in_netgroup(member.value[1:], None)
        if member.kind is MemberKind.ADDRESS:
            if self.host.addresses is None:
                return f"this host has an address in {member.value}"
            return address_matches(member.value, self.host.addresses)
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


def stated_id(stated: str) -> int | None:
    """Return the ID that ``#number`` names; at most eleven digits are looked at, since no longer one is an ID."""
    return int(stated[1:]) if stated.startswith("#") and stated[1:].isdecimal() and len(stated) <= 12 else None


def _is_id(stated: str, number: int | None) -> bool:
    return stated.startswith("#") and number is not None and stated_id(stated) == number


def _fits(pattern: str, name: str) -> bool:
    """fnmatch(3) without regard to case and without special treatment of any character"""
    return wildcard_matches(pattern, name, fold=True) if has_wildcards(pattern) else pattern.lower() == name.lower()
