"""From sudo rules to links.

A sudo rule is decided for each account by itself, since the last matching rule wins and that may be another for the next account; but
accounts that the policy cannot tell apart are decided once.  A group, and "any account", are asked about through a made-up member that
is in that group and nothing else.
"""

from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence

from msgspec import Struct, field

from fidelitas.facts import AliasKind, Command, HostFacts, Member, MemberKind, Place, Tag
from fidelitas.rights.graph.group_edges import GroupEdge
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, Right, RightKind, Strength
from fidelitas.rights.graph.paths import LinkPath
from fidelitas.rights.linux.nodes import Nodes
from fidelitas.rights.linux.population import Identity, Population, synthetic_member
from fidelitas.rights.linux.powers import lesser_power_of, power_of
from fidelitas.rights.linux.sudo import Asks, Effective, EquivalenceClasses, Grant, Policy, grants, group_grants, reach
from fidelitas.text import quoted

__all__ = ["SudoLinks"]


class _Offer(Struct, frozen=True):
    """A grant for a class of accounts: `targets` are whom it lets them act as, `group` with which group alone, if it is that.

    `links` are those made of it so far, by their source: with the name of the target, so that nobody is offered their own account.
    """

    grant: Grant
    targets: Sequence[Identity] = ()
    group: str | None = None
    links: dict[Principal, list[tuple[str, Link]]] = field(default_factory=dict)


class SudoLinks:
    """What the policy of one host lets each account, each group that it names, and any account at all, run as whom."""

    def __init__(self, facts: HostFacts, population: Population, policy: Policy, nodes: Nodes) -> None:
        self._facts = facts
        self._population = population
        self._policy = policy
        self._nodes = nodes
        self._alike = EquivalenceClasses(policy)
        self.effective = Effective(policy.facts.rules)
        # The accounts of a class, made once, so that links which the same accounts take share them; the class is kept for its identity.
        self._takers: dict[int, tuple[Sequence[tuple[Identity, Identity]], list[Identity], frozenset[str]]] = {}

    def found(self, intermediate_accounts: set[str]) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Yield every chain, and every link that a group lends.

        To act as an account leads on only for those of `stones`, and for those that the policy itself names.
        """
        self._intermediate_accounts = intermediate_accounts
        for alike in self._classes():
            for offer in self._offers([invoker for _, invoker in alike]):
                yield from self._taken(offer, alike)
        for gid in self._named_groups():
            yield from self._by_synthetic_member(synthetic_member(gid), self._nodes.group(gid))
        yield from self._by_synthetic_member(synthetic_member(), self._nodes.anyone)

    def _classes(self) -> Iterable[list[tuple[Identity, Identity]]]:
        """Return the accounts that are alike together, each as it is and as sudo sees it when it asks."""
        classes: dict[Hashable, list[tuple[Identity, Identity]]] = {}
        plain: list[tuple[Identity, Identity]] = []
        for who in self._population.ordinary:
            invoker = self._population.as_invoker(who)
            if invoker is not who:
                classes[None, who.name] = [(who, invoker)]
            elif self._alike.is_plain(who):
                plain.append((who, who))
            else:
                classes.setdefault(self._alike.invoker(who), []).append((who, who))
        return (*classes.values(), plain) if plain else classes.values()

    def _named_groups(self) -> list[int]:
        """The groups of this host that some user list names."""
        policy = self._policy.facts
        lists: list[tuple[Member, ...]] = [rule.users for rule in policy.rules]
        lists += [alias.members for alias in policy.aliases if alias.kind is AliasKind.USER]
        members = [member for members in lists for member in members]
        stated = {member.value[1:].lower() for member in members if member.kind is MemberKind.GROUP and not member.negated}
        return [gid for gid, name in sorted(self._population.group_names.items()) if name.lower() in stated or f"#{gid}" in stated]

    # -- what is offered ---------------------------------------------------------------------------------------------------------

    def _offers(self, alike: Sequence[Identity]) -> list[_Offer]:
        """Return what the policy gives to accounts that are alike."""
        rules = reach(self._policy, alike[0], self._alike.rules_about(alike[0]))
        if not rules:
            return []
        offers = []
        as_root: set[tuple[Place, Command]] = set()
        about = frozenset[int]().union(*(self._alike.targets_of(rule) for rule, _, _ in rules))
        for number in sorted(about):
            targets = self._alike.targets[number]
            who, target = next(((one, other) for other in targets[:2] for one in alike[:2] if one.name != other.name), (None, None))
            if who is None or target is None:
                continue
            for grant in grants(self._policy, who, target, self._facts.taken, rules, self.effective):
                if target.uid == 0:
                    self.effective.gives_root(grant, alike)
                what = (grant.rule.place, grant.leaf.command)
                if what in as_root:
                    continue  # the same rule gives the same command as root already, which includes this
                if target.uid == 0:
                    as_root.add(what)
                offers.append(_Offer(grant, targets))
        for name, gid in self._run_as_groups():
            found = group_grants(self._policy, alike[0], name, gid, self._facts.taken, rules, self.effective)
            offers += [_Offer(grant, group=name) for grant in found]
        return offers

    def _run_as_groups(self) -> Iterator[tuple[str, int]]:
        """The groups that some list of groups to run as names, and one that stands for all others where such a list says ALL."""
        policy = self._policy.facts
        members = [member for rule in policy.rules if rule.run_as_users is None for member in rule.run_as_groups or ()]
        if not members:
            return
        members += [member for alias in policy.aliases if alias.kind is AliasKind.RUNAS for member in alias.members]
        spare = any(member.kind is MemberKind.ALL for member in members)
        for gid, name in sorted(self._population.group_names.items()):
            named = any(member.kind is not MemberKind.ALL and self._policy.is_group(member.value, name, gid) for member in members)
            if named or spare:
                yield name, gid
                spare = spare and named

    # -- who takes it ------------------------------------------------------------------------------------------------------------

    def _taken(self, offer: _Offer, alike: Sequence[tuple[Identity, Identity]]) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Yield an offer as accounts that are alike have it: by their names, or by the group or "any account" that the rule is about."""
        member = offer.grant.by.member
        if member.kind is MemberKind.ALL:
            yield from self._group_edges(offer, self._nodes.anyone, None, alike)
            return
        for gid, members in self._by_group(member, alike).items():
            if gid is not None:
                yield from self._group_edges(offer, self._nodes.group(gid), gid, members)
                continue
            for who, invoker in members:
                yield from ((link,) for name, link in self._links(offer, self._nodes.account(who)) if name != invoker.name)

    def _by_group(
        self, member: Member, alike: Sequence[tuple[Identity, Identity]]
    ) -> Mapping[int | None, Sequence[tuple[Identity, Identity]]]:
        """Return the accounts by the group through which a member is about them; by ``None`` those that it names."""
        meant = self._policy.group_ids(member.value[1:]) if member.kind is MemberKind.GROUP else frozenset()
        if len(meant) <= 1 and alike[0][1].gids >= meant:
            return {next(iter(meant), None): alike}
        by_group: dict[int | None, list[tuple[Identity, Identity]]] = {}
        for who, invoker in alike:
            by_group.setdefault(self._stated_group(invoker, meant), []).append((who, invoker))
        return by_group

    def _group_edges(
        self, offer: _Offer, source: Principal, gid: int | None, members: Sequence[tuple[Identity, Identity]]
    ) -> Iterator[GroupEdge[Identity]]:
        if id(members) not in self._takers:
            self._takers[id(members)] = members, [who for who, _ in members], frozenset(invoker.name for _, invoker in members)
        _, takers, names = self._takers[id(members)]
        for name, link in self._links(offer, source):
            yield GroupEdge(link, gid, takers if name not in names else [who for who, invoker in members if invoker.name != name])

    def _by_synthetic_member(self, member: Identity, source: Principal) -> Iterator[LinkPath]:
        for offer in self._offers([member]):
            yield from ((link,) for _, link in self._links(offer, source))

    def _stated_group(self, who: Identity, meant: frozenset[int]) -> int | None:
        """Return the group by which a %group of a policy is about an account; a listed one before the primary group."""
        listed_first = sorted(who.memberships, key=lambda membership: membership.primary)
        return next((one.group.gid for one in listed_first if one.group.gid in meant), next(iter(meant & who.gids), None))

    # -- links -------------------------------------------------------------------------------------------------------------------

    def _links(self, offer: _Offer, source: Principal) -> list[tuple[str, Link]]:
        """Return what an offer amounts to for its holder: links, each with the account that it lets them act as."""
        if source not in offer.links:
            offer.links[source] = list(self._made(offer, source))
        return offer.links[source]

    def _made(self, offer: _Offer, source: Principal) -> Iterator[tuple[str, Link]]:
        if offer.group is not None:
            yield "", self._with_group(source, offer.group, offer.grant)
            yield from self._as_group(source, offer.group, offer.grant)
            return
        grant = offer.grant
        power = None if grant.leaf.everything else power_of(grant.leaf.command, noexec=grant.rule.tag(Tag.EXEC) is False)
        reason = power.reason if power else ""
        full = grant.leaf.everything or power is not None or grant.rule.options.chroot == "*"
        as_all = grant.run_as.member.kind is MemberKind.ALL and offer.targets[0].uid != 0
        if as_all:
            right = self._nodes.right(RightKind.RUN_AS, "ALL") if full else self._command(grant, "ALL")
            yield "", self._link(grant, source, right, _because(grant, "any user that is not excluded", reason), by_power=bool(power))
        for target in offer.targets:
            because = _because(grant, _as(target), reason)
            if full and (target.uid == 0 or target.name in self._intermediate_accounts or self._alike.mentioned(target)):
                node = self._nodes.root if target.uid == 0 else self._nodes.account(target)
                yield target.name, self._link(grant, source, node, because, by_power=bool(power), target=target)
            if not as_all and (not full or target.uid != 0):
                right = self._nodes.right(RightKind.RUN_AS, target.name) if full else self._command(grant, target.name)
                yield target.name, self._link(grant, source, right, because, by_power=bool(power), target=target)
            if not full and target.uid == 0:
                yield from self._less(grant, source, target)

    def _less(self, grant: Grant, source: Principal, target: Identity) -> Iterator[tuple[str, Link]]:
        """What a command of root's gives that is less than root: any file to read, or the logs; or another account, by su."""
        power = lesser_power_of(grant.leaf.command, noexec=grant.rule.tag(Tag.EXEC) is False)
        if power is not None:
            kind = RightKind.READ_SECRETS if power.right == "read-secrets" else RightKind.WRITE_EVIDENCE
            because = _because(grant, _as(target), power.reason)
            yield target.name, self._link(grant, source, self._nodes.right(kind), because, by_power=True, target=target)
        words = (grant.leaf.command.arguments or "").split()
        if grant.leaf.command.path.rpartition("/")[2] in ("su", "runuser", "passwd", "chsh") and words:
            named = self._policy.population.by_name.get(words[-1])
            if named is not None and named.uid != 0:
                because = _because(
                    grant, _as(target), f"becomes {named.name}, or sets its password, without asking for it (su(1), passwd(1))"
                )
                yield target.name, self._link(grant, source, self._nodes.account(named), because, by_power=True, target=target)

    def _command(self, grant: Grant, target: str) -> Right:
        suffix = "" if target == "root" else f" as {target}"
        return self._nodes.right(RightKind.COMMAND, f"{grant.leaf.command}{suffix}")

    def _as_group(self, source: Principal, group: str, grant: Grant) -> Iterator[tuple[str, Link]]:
        """What the group gives to anyone who runs any program, or one that does what its user says, with it."""
        command = grant.leaf.command
        power = None if grant.leaf.everything else power_of(command) or lesser_power_of(command)
        if grant.leaf.everything or power is not None:
            for gid in self._policy.population.gids_called(group):
                because = _because(grant, f"itself with group {group}", power.reason if power else "")
                yield "", self._link(grant, source, self._nodes.group(gid), because, by_power=power is not None)

    def _with_group(self, source: Principal, group: str, grant: Grant) -> Link:
        everything = grant.run_as.member.kind is MemberKind.ALL
        detail = "ALL" if everything else group
        if not grant.leaf.everything:
            detail += f" {grant.leaf.command}"
        because = _because(grant, "itself with any group" if everything else f"itself with group {group}", "")
        return self._link(grant, source, self._nodes.right(RightKind.RUN_AS_GROUP, detail), because)

    def _link(
        self,
        grant: Grant,
        source: Principal,
        node: Principal | Right,
        because: str,
        *,
        by_power: bool = False,
        target: Identity | None = None,
    ) -> Link:
        return Link(
            source=source,
            target=node,
            kind=LinkKind.MAY_BECOME,
            strength=_strength(grant, by_power=by_power),
            by=By(Mechanism.SUDO, str(grant.leaf.command) if by_power else None),
            because=because,
            quote=quoted(grant.rule.statement),
            asks=_asked(grant.asks, target),
            own_password=grant.asks is Asks.OWN,
            conditions=grant.conditions,
            place=grant.rule.place,
            behind=tuple(rule.place for rule in grant.behind),
        )


def _strength(grant: Grant, *, by_power: bool) -> Strength:
    if grant.conditions:
        return Strength.CONDITIONAL
    return Strength.CERTAIN if by_power or grant.excluded else Strength.DIRECT


def _asked(asks: Asks, target: Identity | None) -> str | None:
    if asks is Asks.NOTHING:
        return None
    return f"{target.name}'s password" if asks is Asks.TARGET and target is not None else asks.value


def _as(target: Identity) -> str:
    return f"{target.name}, whose user ID is 0" if target.uid == 0 and target.name != "root" else target.name


def _because(grant: Grant, target: str, reason: str) -> str:
    aliases = [*(alias.name for alias in grant.by.aliases), *(alias.name for alias in grant.leaf.aliases)]
    through = f" (through {', '.join(aliases)})" if aliases else ""
    what = "any command" if grant.leaf.everything else str(grant.leaf.command)
    clause = f"may run {what} as {target} by a sudo rule{through}"
    if reason:
        clause += f", which {reason}"
    if grant.excluded:
        clause += f"; excluding {len(grant.excluded)} commands does not restrict this: a copy under another name is not excluded"
    return clause
