"""All rights on one host."""

from dataclasses import dataclass
from ipaddress import ip_interface

from fidelitas.facts import HostFacts
from fidelitas.rights.links import Holding, Principal, PrincipalKind, Route
from fidelitas.rights.population import Identity, Population, populate
from fidelitas.rights.resolve import steps_of
from fidelitas.rights.routes import holdings_from
from fidelitas.rights.ssh import with_keys
from fidelitas.rights.sudo import Host, Netgroups, Policy

__all__ = ["HostRights", "policy_of", "rights_of"]


@dataclass(frozen=True, slots=True, kw_only=True)
class HostRights:
    """What the facts of a host amount to."""

    facts: HostFacts
    population: Population
    policy: Policy
    holdings: tuple[Holding, ...]

    @property
    def subject(self) -> str:
        """The host."""
        return self.facts.subject

    def identity(self, principal: Principal) -> Identity | None:
        """Return the account behind a principal, if it is one."""
        return self.population.by_name.get(principal.name) if principal.kind is PrincipalKind.ACCOUNT else None

    def knows(self, holder: str) -> bool:
        """Return whether there is such an account, or such a group (written ``%name``), or such another holder."""
        groups = (f"%{group.name}" for group in self.population.groups)
        return holder in self.population.by_name or holder in groups or any(str(held.principal) == holder for held in self.holdings)

    def held_by(self, account: str) -> tuple[Holding, ...]:
        """Return what an account holds, also merely by being an account of the host."""
        return tuple(holding for holding in self.holdings if holding.principal.name == account and self.identity(holding.principal))

    @property
    def own_holdings(self) -> tuple[Holding, ...]:
        """The holdings without those that an account has in no other way than every account has them; "any account" stands for those."""
        return tuple(holding for holding in self.holdings if not all(_as_anybody(route) for route in holding.routes))


def _as_anybody(route: Route) -> bool:
    target = route.links[0].target
    return isinstance(target, Principal) and target.kind is PrincipalKind.ANY_ACCOUNT


def rights_of(facts: HostFacts) -> HostRights:
    """Return all rights on a host."""
    population = with_keys(populate(facts), facts)
    policy = policy_of(facts, population)
    return HostRights(
        facts=facts,
        population=population,
        policy=policy,
        holdings=holdings_from(steps_of(facts, population, policy)),
    )


def policy_of(facts: HostFacts, population: Population, host: Host | None = None) -> Policy:
    """Return the policy on the host that the facts are of, or on another by name and addresses."""
    netgroups = None
    if facts.netgroups is not None:
        netgroups = Netgroups(
            {one.name: one.triples for one in reversed(facts.netgroups)}, {one.name: one.inner for one in reversed(facts.netgroups)}
        )
    addresses = None if facts.addresses is None else tuple(ip_interface(text) for text in facts.addresses)
    return Policy(facts.policy, host or Host(name=facts.host_name or facts.subject, addresses=addresses), population, netgroups)
