"""What is left of a policy for one account and one target, once the last match has won.

The policy is walked from its last rule to its first.  A command that was already decided by a later rule is not decided again: a later
``ALL`` hides everything before it, a later ``!ALL`` takes everything before it away.  Only a command can forbid; a user, host or run-as
list that says "no" merely skips its rule.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from enum import Enum
from typing import cast

from msgspec import Struct

from fidelitas.facts import AliasKind, Command, Member, MemberKind, PasswordState, SudoAlias, SudoRule, Tag
from fidelitas.rights.linux.population import Identity
from fidelitas.rights.linux.sudo.matching import Match, Policy
from fidelitas.rights.linux.sudo.settings import Settings, settings_for

__all__ = ["Asks", "Grant", "Leaf", "Reach", "Walk", "grants", "group_grants", "jail_of", "leaves", "reach"]


class Asks(Enum):
    """Whose password sudo asks for."""

    NOTHING = "no password"
    OWN = "own password"
    TARGET = "the target's password"
    ROOT = "root's password"
    DEFAULT = "the password of the account that is run as by default"

    __hash__ = object.__hash__


class Leaf(Struct, frozen=True, kw_only=True):
    """One command of a rule, aliases followed; `aliases` led to it."""

    command: Command
    allowed: bool
    aliases: tuple[SudoAlias, ...] = ()

    @property
    def everything(self) -> bool:
        """Whether it is the word ALL, for any file."""
        return self.command.path == "ALL" and not self.command.digests


class Grant(Struct, frozen=True, kw_only=True):
    """Something that a policy lets an account run as a target.

    `behind` are the earlier rules that would give everything all the same if this one were gone.  `excluded` are the commands that later
    rules forbid; an exclusion from ALL is no barrier (sudoers(5), Limitations of the '!' operator).  `by` tells through which member of the
    user list the rule is about the account.
    """

    rule: SudoRule
    leaf: Leaf
    by: Match
    run_as: Match
    asks: Asks
    conditions: tuple[str, ...]
    excluded: tuple[Command, ...] = ()
    behind: tuple[SudoRule, ...] = ()


class Walk:
    """What a walk over a policy notes on its way; this one keeps nothing."""

    def decided(self, rule: SudoRule, leaf: Leaf) -> None:
        """Take note that a rule gave or took a command."""

    def overridden(self, rule: SudoRule, by: SudoRule) -> None:
        """Take note that a later rule had decided what a rule says."""


_UNHEARD = Walk()
# The rules that are about an account on this host, the last first, each with what its user and host lists said.
Reach = Sequence[tuple[SudoRule, Match, Match]]


def reach(policy: Policy, who: Identity, rules: Iterable[SudoRule] | None = None) -> Reach:
    """Return the rules that are about an account on this host, of all or of those given last first: asked once for all targets."""
    found = []
    for rule in reversed(policy.facts.rules) if rules is None else rules:
        user = policy.users(rule.users, who)
        host = policy.hosts(rule.hosts) if user is not None and user.allowed else None
        if user is not None and host is not None and host.allowed:
            found.append((rule, user, host))
    return found


def leaves(policy: Policy, member: Member) -> Sequence[Leaf]:
    """Return the commands of a rule's command member, aliases followed, in the order in which sudo tries them: last to first.

    An alias that was met before is skipped: all that it can say has been said.  So cycles end, and aliases that name one another
    twice over do not multiply.
    """
    known = policy.worked_out.get((leaves, id(member)))
    if known is None:
        known = policy.worked_out[leaves, id(member)] = member, tuple(_leaves(policy, member))
    return cast(Sequence[Leaf], known[1])


def _leaves(policy: Policy, member: Member) -> Iterator[Leaf]:
    met: set[str] = set()
    agenda: list[tuple[Member, bool, tuple[SudoAlias, ...]]] = [(member, True, ())]
    while agenda:
        one, sense, within = agenda.pop()
        sense = sense != one.negated
        if one.command is not None:
            yield Leaf(command=one.command, allowed=sense, aliases=within)
            continue
        alias = policy.aliases.get((AliasKind.COMMAND, one.value))
        if alias is not None and alias.name not in met:  # an undefined alias matches no command, nor does its negation
            met.add(alias.name)
            agenda += [(inner, sense, (*within, alias)) for inner in alias.members]  # the last is popped first


def grants(
    policy: Policy, who: Identity, target: Identity, now: datetime, rules: Reach | None = None, walk: Walk = _UNHEARD
) -> Iterator[Grant]:
    """Yield all that an account may run as a target user, the deciding rule of each.  The last rule of the policy comes first.

    `walk` notes what each rule decides, and by what it is overridden.
    """
    settings = settings_for(policy, who, target)
    default = settings.value("runas_default") or "root"
    first = policy.facts.rules[0].place if policy.facts.rules else None

    def run_as(rule: SudoRule) -> Match | None:
        if rule.run_as_users is None and rule.run_as_groups is None:
            called = first is not None and policy.is_account(default, target)
            return Match(member=Member(kind=MemberKind.NAME, value=default, place=first), allowed=True) if called and first else None
        return policy.run_as_users(rule.run_as_users or (), who, target)

    found = reach(policy, who) if rules is None else rules
    return _walk(policy, found, now, run_as, lambda rule: _terms(rule, who, target, settings), walk)


def group_grants(
    policy: Policy, who: Identity, name: str, gid: int, now: datetime, rules: Reach | None = None, walk: Walk = _UNHEARD
) -> Iterator[Grant]:
    """Yield all that an account may run as itself with another group, by rules that have a group list and no user list."""
    settings = settings_for(policy, who, None)

    def run_as(rule: SudoRule) -> Match | None:
        if rule.run_as_users is not None or rule.run_as_groups is None:
            return None
        return policy.run_as_groups(rule.run_as_groups, name, gid)

    found = reach(policy, who) if rules is None else rules
    return _walk(policy, found, now, run_as, lambda rule: _terms(rule, who, None, settings), walk)


def _walk(
    policy: Policy,
    rules: Reach,
    now: datetime,
    run_as: Callable[[SudoRule], Match | None],
    asks: Callable[[SudoRule], tuple[Asks, tuple[str, ...]]],
    walk: Walk,
) -> Iterator[Grant]:
    excluded: list[Command] = []
    decided: dict[Command, SudoRule] = {}
    everything: SudoRule | None = None
    unless: list[str] = []
    for index, (rule, user, host) in enumerate(rules):
        found = _about(rule, user, host, run_as, now)
        if found is None:
            continue
        by, target, conditions = found
        if everything is not None:
            walk.overridden(rule, everything)
            continue
        for leaf in leaves(policy, rule.command):
            if leaf.command in decided:
                walk.overridden(rule, decided[leaf.command])
                continue
            walk.decided(rule, leaf)
            if leaf.allowed:
                resolved, more = asks(rule)
                yield Grant(
                    rule=rule,
                    leaf=leaf,
                    by=by,
                    run_as=target,
                    asks=resolved,
                    conditions=(*conditions, *more, *unless),
                    excluded=tuple(excluded) if leaf.everything else (),
                    behind=_behind(policy, rules[index + 1 :], run_as, now) if leaf.everything and not conditions else (),
                )
            elif conditions:
                unless.append(f"unless rule {rule.place.in_file()} forbids it")
            else:
                excluded.append(leaf.command)
            if not conditions:
                decided[leaf.command] = rule
            if leaf.everything and not conditions:
                if walk is _UNHEARD:
                    return
                everything = rule
                break


def _behind(policy: Policy, rules: Reach, run_as: Callable[[SudoRule], Match | None], now: datetime) -> tuple[SudoRule, ...]:
    """Return the rules, of those left, that would give everything; up to one that would forbid everything."""
    behind = []
    for rule, user, host in rules:
        if not any(leaf.everything for leaf in leaves(policy, rule.command)) or _about(rule, user, host, run_as, now) is None:
            continue
        everything = next(leaf for leaf in leaves(policy, rule.command) if leaf.everything)
        if not everything.allowed:
            break
        behind.append(rule)
    return tuple(behind)


def _about(
    rule: SudoRule, user: Match, host: Match, run_as: Callable[[SudoRule], Match | None], now: datetime
) -> tuple[Match, Match, tuple[str, ...]] | None:
    """Return by which members a rule is about an account and a target, at this time, and on what that depends."""
    target = run_as(rule)
    if target is None or not target.allowed:
        return None
    after = rule.options.not_after
    if after is not None and now > after:
        return None
    before = rule.options.not_before
    later = (f"from {before:%Y-%m-%d %H:%M} UTC on",) if before is not None and now < before else ()
    return user, target, (*user.conditions, *host.conditions, *target.conditions, *later)


def _terms(rule: SudoRule, who: Identity, target: Identity | None, settings: Settings) -> tuple[Asks, tuple[str, ...]]:
    """Return whose password is asked, and what the grant is worth less for: a prompt that cannot be answered, a jail."""
    resolved, conditions = _asks(rule, who, target, settings)
    jail = jail_of(rule, settings.value("runchroot"))
    confined = (f"inside {jail} (CHROOT), with what that folder holds: the host's own programs are not there",) if jail else ()
    return resolved, (*conditions, *confined)


def jail_of(rule: SudoRule, by_default: str | None = None) -> str:
    """Return the folder that is the root folder of a rule's commands, or nothing: with "*" the user chooses, and may choose none."""
    jail = rule.options.chroot or by_default or ""
    return "" if jail in ("*", "/") else jail


def _asks(rule: SudoRule, who: Identity, target: Identity | None, settings: Settings) -> tuple[Asks, tuple[str, ...]]:
    """Return whose password is asked, and the condition that this puts on the grant, if any."""
    tag = rule.tag(Tag.PASSWD)
    wanted = settings.on("authenticate") if tag is None else tag
    exempt = settings.value("exempt_group")
    if exempt and any(membership.group.name == exempt for membership in who.memberships):
        wanted = False
    if not wanted or who.uid == 0 or (target is not None and who.name == target.name):
        return Asks.NOTHING, ()
    default = settings.value("runas_default") or "root"
    # Of several of these options sudo takes the first (check.c, get_authpw).
    if settings.on("rootpw") or (settings.on("runaspw") and default == "root"):
        return Asks.ROOT, ("if root's password is known",)
    if settings.on("runaspw"):
        return Asks.DEFAULT, () if who.name == default else (f"if the password of {default} is known",)
    if target is not None and settings.on("targetpw"):
        return Asks.TARGET, (f"if the password of {target.name} is known",)
    if who.password is not None and who.password.state in (PasswordState.NONE, PasswordState.LOCKED):
        return Asks.OWN, (f"if {who.name} can authenticate to sudo: no password is set, and what sudo asks for (PAM) was not read",)
    return Asks.OWN, ()
