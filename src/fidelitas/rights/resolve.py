"""From facts to links: user IDs and su on one host, and everything that the other modules of links say.

A step is what a principal can do next: a link, or memberships and the link that they open.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from fidelitas.facts import HostFacts, PasswordState, Place
from fidelitas.rights.chains import Chain
from fidelitas.rights.links import Link, LinkKind, Principal, PrincipalKind, Right, Strength
from fidelitas.rights.nodes import Lent, Nodes
from fidelitas.rights.pam import SuRules, su_rules
from fidelitas.rights.population import Identity, Population
from fidelitas.rights.roads import Roads
from fidelitas.rights.sudo import Effective, Policy
from fidelitas.rights.sudo_links import SudoLinks

__all__ = ["Step", "Steps", "steps_of"]


@dataclass(frozen=True, slots=True)
class Step:
    """One way on for a principal: a link, or a membership and the link that it opens."""

    links: Chain

    @property
    def source(self) -> Principal:
        """Who can take the step."""
        return self.links[0].source

    @property
    def target(self) -> Principal | Right:
        """Where it leads."""
        return self.links[-1].target


@dataclass(frozen=True, slots=True)
class Steps:
    """All steps on a host: `steps` each by itself, and `lent` to `borrowers`, accounts of a directory that have nothing but by groups.

    `effective` is what each sudo rule still decides.
    """

    nodes: Nodes
    steps: Sequence[Step]
    lent: Sequence[Lent]
    borrowers: Sequence[Identity]
    effective: Effective


def steps_of(facts: HostFacts, population: Population, policy: Policy) -> Steps:
    """Return every step that the facts of a host give to anybody, in a fixed order."""
    nodes = Nodes(facts.subject, population)
    host = _Host(facts, population, nodes)
    found = [*host.user_ids(), *host.su(), *Roads(facts, population, policy, nodes).found()]
    sudo = SudoLinks(facts, population, policy, nodes)
    found += sudo.found(_stepping_stones(found))
    lent = [one for one in found if isinstance(one, Lent)]
    chains = [one for one in found if not isinstance(one, Lent)]
    named = {node for links in (*chains, *((one.link,) for one in lent)) for link in links for node in (link.source, link.target)}
    accounts = {node.name for node in named if isinstance(node, Principal) and node.kind is PrincipalKind.ACCOUNT}
    borrowers = [who for who in population.of_directory if who.name not in accounts]
    apart = {who.name for who in borrowers}
    for one in lent:
        own = (who for who in one.members if who.name not in apart)
        chains += [(*way, one.link) for who in own for way in nodes.ways(who, one)]
    return Steps(nodes, _useful([Step(links) for links in dict.fromkeys(chains)]), lent if borrowers else (), borrowers, sudo.effective)


def _useful(steps: list[Step]) -> list[Step]:
    """Return the steps that lead on: to become somebody who can do nothing more is shown by the right to run as them."""
    while True:
        sources = {step.source for step in steps}
        useful = [step for step in steps if isinstance(step.target, Right) or step.target in sources]
        if len(useful) == len(steps):
            return steps
        steps = useful


def _stepping_stones(found: Iterable[Chain | Lent]) -> set[str]:
    """Return the accounts that can go on by themselves, not merely as any account can: whoever may act as them gains by it."""
    stones = set()
    for one in found:
        if not isinstance(one, Lent):
            stones |= {one[0].source.name} if one[0].source.kind is PrincipalKind.ACCOUNT else set()
        elif one.gid is not None:
            stones |= {who.name for who in one.members}
    return stones


class _Host:
    def __init__(self, facts: HostFacts, population: Population, nodes: Nodes) -> None:
        self._facts = facts
        self._population = population
        self._nodes = nodes

    def user_ids(self) -> Iterator[Chain | Lent]:
        """Every account with user ID 0 is root, whatever its name."""
        for who in self._population.identities:
            if who.uid == 0 and who.account is not None:
                link = Link(
                    source=self._nodes.account(who),
                    target=self._nodes.root,
                    kind=LinkKind.HAS,
                    strength=Strength.DIRECT,
                    way="user ID 0",
                    because="its user ID is 0",
                    place=who.account.place,
                )
                yield (link,)

    def su(self) -> Iterator[Chain | Lent]:
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
                link = self._su(who, self._nodes.anybody, because, place, rules)
                yield (link,)
                yield Lent(link, None, [other for other in self._population.ordinary if other.name != who.name])
            elif who.password.state is PasswordState.USABLE and who.uid == 0:
                because = f"su takes the password of {who.name}, which is in force ({who.password.algorithm})"
                holder = self._nodes.principal(PrincipalKind.PASSWORD, who.name)
                yield (self._su(who, holder, because, place, rules, asks=f"{who.name}'s password"),)

    def _su_unasked(self, rules: SuRules) -> Iterator[Chain | Lent]:
        """Who becomes root by su without any password, by the PAM settings."""
        if rules.open_to_all is not None:
            link = self._su_by_pam(self._nodes.anybody, "PAM lets everybody use su unasked", rules.open_to_all.place)
            yield (link,)
            yield Lent(link, None, self._population.ordinary)
        if rules.trusted_by is not None:
            for gid in self._population.gids_called(rules.trusted):
                if self._population.group_names[gid] == rules.trusted:
                    yield from self._su_trusted(gid, rules.trusted_by.place)

    def _su_trusted(self, gid: int, place: Place) -> Iterator[Chain | Lent]:
        link = self._su_by_pam(self._nodes.group(gid), "PAM trusts its members to use su without a password", place)
        yield (link,)
        yield Lent(link, gid, [who for who in self._population.in_gid(gid) if who.uid != 0])

    def _su_by_pam(self, source: Principal, because: str, place: Place) -> Link:
        return Link(
            source=source,
            target=self._nodes.root,
            kind=LinkKind.MAY_BECOME,
            strength=Strength.DIRECT,
            way="su",
            because=f"{because} (su)",
            place=place,
        )

    def _su(self, who: Identity, source: Principal, because: str, place: Place, rules: SuRules, asks: str = "") -> Link:
        return Link(
            source=source,
            target=self._nodes.root if who.uid == 0 else self._nodes.account(who),
            kind=LinkKind.MAY_BECOME,
            strength=Strength.CONDITIONAL if rules.told or asks else Strength.CERTAIN,
            way="su",
            because=because,
            asks=asks,
            conditions=rules.told,
            place=place,
        )
