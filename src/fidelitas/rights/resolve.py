"""From facts to links: user IDs, memberships, sudo rules and su on one host.

A sudo rule is decided for each account by itself, since the last matching rule wins and that may be another for the next account.  A
group, and "any account", are asked about through a made-up member that is in that group and nothing else.
"""

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace

from fidelitas.facts import AliasKind, Command, HostFacts, Member, MemberKind, PasswordState, Place, Tag
from fidelitas.rights.links import Link, LinkKind, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.pam import SuRules, su_rules
from fidelitas.rights.population import Identity, Membership, Population, made_up_member
from fidelitas.rights.powers import power_of
from fidelitas.rights.roads import Roads
from fidelitas.rights.sudo import Asks, Grant, Policy, grants, group_grants, reach

__all__ = ["Step", "steps_of"]


@dataclass(frozen=True, slots=True)
class Step:
    """One way on for a principal: a link, or a membership and the link that it opens."""

    links: tuple[Link, ...]

    @property
    def source(self) -> Principal:
        """Who can take the step."""
        return self.links[0].source

    @property
    def target(self) -> Principal | Right:
        """Where it leads."""
        return self.links[-1].target


def steps_of(facts: HostFacts, population: Population, policy: Policy) -> list[Step]:
    """Return every step that the facts of a host give to anybody, in a fixed order."""
    host = _Host(facts, population, policy)
    others = (Step(links) for links in Roads(facts, population, policy).chains())
    steps = list(dict.fromkeys([*host.user_ids(), *host.su(), *host.sudo(), *others]))
    while True:  # to become somebody who can do nothing more is shown by the right to run as them; as a step it leads nowhere
        sources = {step.source for step in steps}
        useful = [step for step in steps if isinstance(step.target, Right) or step.target in sources]
        if len(useful) == len(steps):
            return steps
        steps = useful


class _Host:
    def __init__(self, facts: HostFacts, population: Population, policy: Policy) -> None:
        self._facts = facts
        self._population = population
        self._policy = policy
        self._root = Right(kind=RightKind.ROOT, detail="", subject=facts.subject)

    def _principal(self, kind: PrincipalKind, name: str = "") -> Principal:
        return Principal(kind=kind, name=name, subject=self._facts.subject)

    # -- user IDs and su ---------------------------------------------------------------------------------------------------------

    def user_ids(self) -> Iterator[Step]:
        """Every account with user ID 0 is root, whatever its name."""
        for who in self._population.identities:
            if who.uid == 0 and who.account is not None:
                link = Link(
                    source=self._principal(PrincipalKind.ACCOUNT, who.name),
                    target=self._root,
                    kind=LinkKind.HAS,
                    strength=Strength.DIRECT,
                    way="user ID 0",
                    because="its user ID is 0",
                    place=who.account.place,
                )
                yield Step((link,))

    def su(self) -> Iterator[Step]:
        """su(1) gives an account to whoever knows its password; to everybody where there is none to know, or PAM asks for none."""
        pam = self._facts.log_ins.pam
        rules = su_rules(pam.get("su", pam.get("other")) if pam else None)
        yield from self._su_unasked(rules)
        for who in self._population.effective:
            if who.password is None or who.account is None:
                continue
            place = who.shadow.place if who.shadow else who.account.place
            if who.password.state is PasswordState.EMPTY and rules.empty_accepted:
                because = f"the password of {who.name} is empty, so that su asks for none"
                step = self._su(who, PrincipalKind.ANY_ACCOUNT, "", because, place, rules)
                yield step
                for other in self._population.effective:
                    if other.uid != 0 and other.name != who.name and other.account is not None:
                        yield Step((self._as_anybody(other.name, other.account.place), *step.links))
            elif who.password.state is PasswordState.USABLE and who.uid == 0:
                because = f"su takes the password of {who.name}, which is in force ({who.password.algorithm})"
                yield self._su(who, PrincipalKind.PASSWORD, who.name, because, place, rules, asks=f"{who.name}'s password")

    def _su_unasked(self, rules: SuRules) -> Iterator[Step]:
        """Who becomes root by su without any password, by the PAM settings."""
        if rules.open_to_all is not None:
            link = self._su_by_pam(self._principal(PrincipalKind.ANY_ACCOUNT), "PAM lets everybody use su unasked", rules.open_to_all.place)
            yield Step((link,))
            for who in self._population.effective:
                if who.uid != 0 and who.account is not None:
                    yield Step((self._as_anybody(who.name, who.account.place), link))
        if rules.trusted_by is not None:
            group = self._principal(PrincipalKind.GROUP, rules.trusted)
            link = self._su_by_pam(group, "PAM trusts its members to use su without a password", rules.trusted_by.place)
            yield Step((link,))
            for who in self._population.members(rules.trusted):
                membership = self._which(who, rules.trusted)
                if membership is not None and who.uid != 0:
                    yield Step((self._in_group(who.name, membership), link))

    def _su_by_pam(self, source: Principal, because: str, place: Place) -> Link:
        return Link(
            source=source,
            target=self._root,
            kind=LinkKind.MAY_BECOME,
            strength=Strength.DIRECT,
            way="su",
            because=f"{because} (su)",
            place=place,
        )

    def _as_anybody(self, name: str, place: Place) -> Link:
        return Link(
            source=self._principal(PrincipalKind.ACCOUNT, name),
            target=self._principal(PrincipalKind.ANY_ACCOUNT),
            kind=LinkKind.HAS,
            strength=Strength.DIRECT,
            way="account",
            because="it is an account of this host",
            place=place,
        )

    def _su(self, who: Identity, kind: PrincipalKind, name: str, because: str, place: Place, rules: SuRules, asks: str = "") -> Step:
        link = Link(
            source=self._principal(kind, name),
            target=self._root if who.uid == 0 else self._principal(PrincipalKind.ACCOUNT, who.name),
            kind=LinkKind.MAY_BECOME,
            strength=Strength.CONDITIONAL if rules.told or asks else Strength.CERTAIN,
            way="su",
            because=because,
            asks=asks,
            conditions=rules.told,
            place=place,
        )
        return Step((link,))

    # -- sudo --------------------------------------------------------------------------------------------------------------------

    def sudo(self) -> Iterator[Step]:
        """What the policy lets each account, each group that it names, and any account at all, run as whom."""
        for who in self._population.effective:
            if who.uid != 0:
                yield from self._of(who, self._principal(PrincipalKind.ACCOUNT, who.name))
        for name, gid in self._named_groups():
            yield from self._of(made_up_member(gid), self._principal(PrincipalKind.GROUP, name))
        yield from self._of(made_up_member(), self._principal(PrincipalKind.ANY_ACCOUNT))

    def _named_groups(self) -> Iterator[tuple[str, int]]:
        """The groups of this host that some user list names."""
        policy = self._policy.facts
        lists: list[tuple[Member, ...]] = [rule.users for rule in policy.rules]
        lists += [alias.members for alias in policy.aliases if alias.kind is AliasKind.USER]
        members = [member for members in lists for member in members]
        stated = {member.value[1:].lower() for member in members if member.kind is MemberKind.GROUP and not member.negated}
        for gid, name in sorted(self._population.group_names.items()):
            if name.lower() in stated or f"#{gid}" in stated:
                yield name, gid

    def _of(self, who: Identity, principal: Principal) -> Iterator[Step]:
        who = self._population.as_invoker(who)
        rules = reach(self._policy, who)
        if not rules:
            return
        as_root: set[tuple[Place, Command]] = set()
        for target in self._targets(who):
            for grant in grants(self._policy, who, target, self._facts.taken, rules):
                what = (grant.rule.place, grant.leaf.command)
                if what in as_root:
                    continue  # the same rule gives the same command as root already, which includes this
                if target.uid == 0:
                    as_root.add(what)
                yield from self._steps(principal, who, target, grant)
        for name, gid in self._run_as_groups():
            for grant in group_grants(self._policy, who, name, gid, self._facts.taken, rules):
                yield self._with_group(principal, who, name, grant)

    def _run_as_groups(self) -> Iterator[tuple[str, int]]:
        if any(rule.run_as_groups and rule.run_as_users is None for rule in self._policy.facts.rules):
            yield from ((name, gid) for gid, name in sorted(self._population.group_names.items()))

    def _with_group(self, principal: Principal, who: Identity, group: str, grant: Grant) -> Step:
        before = self._membership(principal, who, grant)
        everything = grant.run_as.member.kind is MemberKind.ALL
        detail = "ALL" if everything else group
        if not grant.leaf.everything:
            detail += f" {grant.leaf.command}"
        link = Link(
            source=_principal_of(before[-1].target) if before else principal,
            target=Right(kind=RightKind.RUN_AS_GROUP, detail=detail, subject=self._facts.subject),
            kind=LinkKind.MAY_BECOME,
            strength=_strength(grant, by_power=False),
            way="sudo",
            because=_because(grant, "itself with any group" if everything else f"itself with group {group}", ""),
            quote=grant.rule.statement,
            asks="" if grant.asks is Asks.NOTHING else grant.asks.value,
            conditions=grant.conditions,
            place=grant.rule.place,
        )
        return Step((*before, link))

    def _targets(self, who: Identity) -> Iterable[Identity]:
        """The accounts to become: those with user ID 0 first, then every other but the invoker's own."""
        everybody = self._population.effective
        yield from (target for target in everybody if target.uid == 0)
        yield from (target for target in everybody if target.uid != 0 and target.name != who.name)

    def _steps(self, principal: Principal, who: Identity, target: Identity, grant: Grant) -> Iterator[Step]:
        before = self._membership(principal, who, grant)
        source = _principal_of(before[-1].target) if before else principal
        command = grant.leaf.command
        power = None if grant.leaf.everything else power_of(command, noexec=grant.rule.tag(Tag.EXEC) is False)
        full = grant.leaf.everything or power is not None
        link = Link(
            source=source,
            target=self._target(target, command, full=full),
            kind=LinkKind.MAY_BECOME,
            strength=_strength(grant, by_power=power is not None),
            way="sudo",
            because=_because(grant, _as(target), power.reason if power else ""),
            quote=grant.rule.statement,
            asks="" if grant.asks is Asks.NOTHING else _asked(grant.asks, target),
            secret_of=principal.name if grant.asks is Asks.OWN and principal.kind is PrincipalKind.ACCOUNT else None,
            conditions=grant.conditions,
            place=grant.rule.place,
            behind=tuple(rule.place for rule in grant.behind),
        )
        yield Step((*before, link))
        if full and target.uid != 0:
            anybody = grant.run_as.member.kind is MemberKind.ALL
            run_as = Right(kind=RightKind.RUN_AS, detail="ALL" if anybody else target.name, subject=self._facts.subject)
            because = _because(grant, "anybody that it does not exclude", "") if anybody else link.because
            yield Step((*before, replace(link, target=run_as, because=because)))

    def _target(self, target: Identity, command: Command, *, full: bool) -> Principal | Right:
        if not full:
            suffix = "" if target.name == "root" else f" as {target.name}"
            return Right(kind=RightKind.COMMAND, detail=f"{command}{suffix}", subject=self._facts.subject)
        return self._root if target.uid == 0 else self._principal(PrincipalKind.ACCOUNT, target.name)

    def _membership(self, principal: Principal, who: Identity, grant: Grant) -> tuple[Link, ...]:
        """Return the link from an account to the group, or to "any account", through which a rule is about it."""
        member = grant.by.member
        if principal.kind is not PrincipalKind.ACCOUNT:
            return ()
        if member.kind is MemberKind.ALL and who.account is not None:
            return (self._as_anybody(principal.name, who.account.place),)
        if member.kind is MemberKind.GROUP:
            membership = self._which(who, member.value[1:])
            if membership is None:
                return ()
            return (self._in_group(principal.name, membership),)
        return ()

    def _in_group(self, name: str, membership: Membership) -> Link:
        because = f"{membership.group.name} is its primary group" if membership.primary else f"it is in group {membership.group.name}"
        return Link(
            source=self._principal(PrincipalKind.ACCOUNT, name),
            target=self._principal(PrincipalKind.GROUP, self._population.group_names[membership.group.gid]),
            kind=LinkKind.HAS,
            strength=Strength.DIRECT,
            way="group",
            because=because,
            place=membership.place,
        )

    def _which(self, who: Identity, stated: str) -> Membership | None:
        """Return the membership by which a %group of a policy is about an account; a listed one before the primary group."""
        names = self._population.group_names
        for membership in sorted(who.memberships, key=lambda membership: membership.primary):
            gid = membership.group.gid
            if stated == f"#{gid}" or names[gid].lower() == stated.lower():
                return membership
        return None


def _strength(grant: Grant, *, by_power: bool) -> Strength:
    if grant.conditions:
        return Strength.CONDITIONAL
    return Strength.CERTAIN if by_power or grant.excluded else Strength.DIRECT


def _asked(asks: Asks, target: Identity) -> str:
    return f"{target.name}'s password" if asks is Asks.TARGET else asks.value


def _as(target: Identity) -> str:
    return f"{target.name}, whose user ID is 0" if target.uid == 0 and target.name != "root" else target.name


def _principal_of(node: Principal | Right) -> Principal:
    if isinstance(node, Right):
        raise TypeError("a membership leads to a principal")
    return node


def _because(grant: Grant, target: str, reason: str) -> str:
    aliases = [*(alias.name for alias in grant.by.aliases), *(alias.name for alias in grant.leaf.aliases)]
    through = f" (through {', '.join(aliases)})" if aliases else ""
    what = "any command" if grant.leaf.everything else str(grant.leaf.command)
    clause = f"a sudo rule{through} lets it run {what} as {target}"
    if reason:
        clause += f", which {reason}"
    if grant.excluded:
        clause += f"; that {len(grant.excluded)} commands are excluded is no barrier, since a copy under another name is not"
    return clause
