"""From facts to links: user IDs and su on one host, and everything that the other modules of links say.

A step is what a principal can do next: a link, or memberships and the link that they open.
"""

from collections.abc import Iterable, Iterator, Sequence

from fidelitas.facts import HostFacts, PamRule, PamTask, PasswordState, Place
from fidelitas.rights.accounts.identity import synthetic_member
from fidelitas.rights.graph.group_edges import Edges, GroupEdge
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, Strength
from fidelitas.rights.graph.paths import Edge, LinkPath
from fidelitas.rights.linux.directory_links import links_by_directory
from fidelitas.rights.linux.host_links import HostLinks
from fidelitas.rights.linux.nodes import Nodes
from fidelitas.rights.linux.pam import SuRules, su_rules
from fidelitas.rights.linux.pam_stack import Passage, passage
from fidelitas.rights.linux.population import Identity, Population
from fidelitas.rights.linux.sudo import Effective, Policy
from fidelitas.rights.linux.sudo_links import SudoLinks

__all__ = ["edges_of"]

# Modules whose answer depends on who asks, or on whom they ask to become.
_LOOKING = frozenset({"pam_succeed_if.so", "pam_listfile.so"})


def edges_of(facts: HostFacts, population: Population, policy: Policy) -> tuple[Edges[Identity], Effective]:
    """Return every edge that the facts of a host give to anyone, in a fixed order; and what each sudo rule still decides."""
    nodes = Nodes(facts.subject, population.group_names, population.nesting)
    host = _Host(facts, population, nodes)
    found = [*host.user_ids(), *host.su(), *HostLinks(facts, population, policy, nodes).found()]
    sudo = SudoLinks(facts, population, policy, nodes)
    found += sudo.found(_intermediate_accounts(found))
    found += list(links_by_directory(population, nodes, found))
    group_edges = [one for one in found if isinstance(one, GroupEdge)]
    chains = [one for one in found if not isinstance(one, GroupEdge)]
    named = {node for links in (*chains, *((one.link,) for one in group_edges)) for link in links for node in (link.source, link.target)}
    accounts = {node.name for node in named if isinstance(node, Principal) and node.kind is PrincipalKind.ACCOUNT}
    group_only = [who for who in population.of_directory if who.name not in accounts]
    apart = {who.name for who in group_only}
    for one in group_edges:
        own = (who for who in one.members if who.name not in apart)
        chains += [(*way, one.link) for who in own for way in nodes.paths(who, one)]
    edges = _useful([Edge(links) for links in dict.fromkeys(chains)])
    return Edges(nodes, edges, group_edges if group_only else (), group_only), sudo.effective


def _useful(edges: list[Edge]) -> list[Edge]:
    """Return the steps that lead on: to become someone who can do nothing more is shown by the right to run as them."""
    while True:
        sources = {edge.source for edge in edges}
        useful = [edge for edge in edges if isinstance(edge.target, Right) or edge.target in sources]
        if len(useful) == len(edges):
            return edges
        edges = useful


def _intermediate_accounts(found: Iterable[LinkPath | GroupEdge[Identity]]) -> set[str]:
    """Return the accounts that can go on by themselves, not merely as any account can: anyone who may act as them gains by it."""
    intermediate_accounts = set()
    for one in found:
        if not isinstance(one, GroupEdge):
            intermediate_accounts |= {one[0].source.name} if one[0].source.kind is PrincipalKind.ACCOUNT else set()
        elif one.gid is not None:
            intermediate_accounts |= {who.name for who in one.members}
    return intermediate_accounts


class _Host:
    def __init__(self, facts: HostFacts, population: Population, nodes: Nodes) -> None:
        self._facts = facts
        self._population = population
        self._nodes = nodes

    def user_ids(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Every account with user ID 0 is root, whatever its name."""
        for who in self._population.identities:
            if who.uid == 0 and who.account is not None:
                link = Link(
                    source=self._nodes.account(who),
                    target=self._nodes.root,
                    kind=LinkKind.HAS,
                    strength=Strength.DIRECT,
                    by=By(Mechanism.USER_ID),
                    because="has user ID 0",
                    place=who.account.place,
                )
                yield (link,)

    def su(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """su(1) gives an account to anyone who knows its password; to everyone where there is none to know, or PAM asks for none."""
        pam = self._facts.logins.pam
        rules = su_rules(pam.get("su", pam.get("other")) if pam else None)
        yield from self._su_unasked(rules)
        yield from self._su_by_stack(pam.get("su", pam.get("other")) if pam else None, rules)
        for who in self._population.effective:
            if who.password is None or who.account is None:
                continue
            place = who.shadow.place if who.shadow else who.account.place
            if who.password.state is PasswordState.EMPTY and rules.empty_accepted:
                because = f"the password of {who.name} is empty, so that su asks for none"
                link = self._su(who, self._nodes.anyone, because, place, rules)
                yield (link,)
                yield GroupEdge(link, None, [other for other in self._population.ordinary if other.name != who.name])
            elif who.password.state is PasswordState.USABLE and who.uid == 0:
                because = f"su takes the password of {who.name}, which is in force ({who.password.algorithm})"
                holder = self._nodes.principal(PrincipalKind.PASSWORD, who.name)
                yield (self._su(who, holder, because, place, rules, asks=f"{who.name}'s password"),)

    def _su_by_stack(self, service: Sequence[PamRule] | None, rules: SuRules) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Who becomes root, or another account, by rules on names, groups or numbers (pam_succeed_if(8), pam_listfile(8))."""
        stack = [rule for rule in service or () if rule.task is PamTask.AUTH]
        if rules.open_to_all is not None or not any(rule.module in _LOOKING for rule in stack):
            return
        root = next((who for who in self._population.identities if who.uid == 0), None)
        askers = [who for who in self._population.ordinary if who.account is not None]
        for who in askers if root is not None else ():
            found = passage(stack, root, who) if root is not None else None
            if found is not None:
                because = f"becomes root by su without a password: {found.rule.module} in the PAM settings lets it pass"
                yield (self._su_passing(self._nodes.account(who), self._nodes.root, because, found),)
        outsider = synthetic_member()
        for target in askers:
            found = passage(stack, target, outsider)
            if found is not None:
                because = f"becomes {target.name} by su without a password: {found.rule.module} in the PAM settings lets it pass"
                link = self._su_passing(self._nodes.anyone, self._nodes.account(target), because, found)
                yield (link,)
                yield GroupEdge(link, None, [other for other in askers if other.name != target.name])

    def _su_passing(self, source: Principal, target: Principal | Right, because: str, found: Passage) -> Link:
        return Link(
            source=source,
            target=target,
            kind=LinkKind.MAY_BECOME,
            strength=Strength.CONDITIONAL if found.conditions else Strength.DIRECT,
            by=By(Mechanism.SU),
            because=because,
            conditions=found.conditions,
            place=found.rule.place,
        )

    def _su_unasked(self, rules: SuRules) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Who becomes root by su without any password, by the PAM settings."""
        if rules.open_to_all is not None:
            link = self._su_by_pam(self._nodes.anyone, "su does not ask any account for a password (PAM)", rules.open_to_all.place)
            yield (link,)
            yield GroupEdge(link, None, self._population.ordinary)
        if rules.trusted_by is not None and rules.trusted is not None:
            for gid in self._population.gids_called(rules.trusted):
                if self._population.group_names[gid] == rules.trusted:
                    yield from self._su_trusted(gid, rules.trusted_by.place)

    def _su_trusted(self, gid: int, place: Place) -> Iterator[LinkPath | GroupEdge[Identity]]:
        link = self._su_by_pam(self._nodes.group(gid), "PAM trusts its members to use su without a password", place)
        yield (link,)
        yield GroupEdge(link, gid, [who for who in self._population.in_gid(gid) if who.uid != 0])

    def _su_by_pam(self, source: Principal, because: str, place: Place) -> Link:
        return Link(
            source=source,
            target=self._nodes.root,
            kind=LinkKind.MAY_BECOME,
            strength=Strength.DIRECT,
            by=By(Mechanism.SU),
            because=f"{because} (su)",
            place=place,
        )

    def _su(self, who: Identity, source: Principal, because: str, place: Place, rules: SuRules, asks: str | None = None) -> Link:
        return Link(
            source=source,
            target=self._nodes.root if who.uid == 0 else self._nodes.account(who),
            kind=LinkKind.MAY_BECOME,
            strength=Strength.CONDITIONAL if rules.told or asks else Strength.CERTAIN,
            by=By(Mechanism.SU),
            because=because,
            asks=asks,
            conditions=rules.told,
            place=place,
        )
