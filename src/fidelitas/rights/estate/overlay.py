"""Hosts that are alike but for their names: one is worked out, the others are that one under another name.

What follows from a host's evidence depends on its name, addresses and time only by what its policy says of them, and by which dates have
passed.  Where two hosts have the same content and that is the same too, the second is told from the first when someone asks.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from ipaddress import ip_interface
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.facts import AliasKind, DefaultScope, FileState, Gap, HostFacts, Member, PrivateKey, Process, Programs
from fidelitas.rights.accounts.identity import AccountWithGroups, Identity
from fidelitas.rights.estate.renaming import renamed
from fidelitas.rights.graph.full_control import FullControl
from fidelitas.rights.graph.group_edges import GroupEdges
from fidelitas.rights.graph.links import Holding, Principal, PrincipalKind, Right
from fidelitas.rights.graph.routes import order_of
from fidelitas.rights.linux.dates import Span, span_around
from fidelitas.rights.linux.host import HostRights, policy_of
from fidelitas.rights.linux.live import stale_groups
from fidelitas.rights.linux.population import Population
from fidelitas.rights.linux.ssh import KeyGrant
from fidelitas.rights.linux.sudo import Effective, Host, Policy
from fidelitas.rights.linux.summary import HostSummary
from fidelitas.rights.subject import SubjectRights

__all__ = ["FirstHost", "HostOverlay", "OwnDetails", "host_specific_key"]

T = TypeVar("T")


class OwnDetails(Struct, frozen=True, kw_only=True):
    """What is a host's own where all else is as on another."""

    subject: str
    host_name: str
    taken: datetime
    addresses: tuple[str, ...] | None
    processes: tuple[Process, ...] | None


def host_specific_key(facts: HostFacts, population: Population, own: OwnDetails) -> tuple[object, ...] | None:
    """Return what follows from a host's own name, addresses, time and processes, or ``None`` where that is its own alone.

    `facts` and `population` are of any host of the same content.
    """
    if any(True for _ in stale_groups(replace(facts, processes=own.processes), population)):
        return None
    addresses = None if own.addresses is None else tuple(ip_interface(text) for text in own.addresses)
    policy = policy_of(facts, population, Host(name=own.host_name or own.subject, addresses=addresses))
    return tuple(policy.on_host(member) for member in _hosts_named(facts)), span_around(facts, own.taken)


def _hosts_named(facts: HostFacts) -> list[Member]:
    policy = facts.policy
    lists = [rule.hosts for rule in policy.rules]
    lists += [alias.members for alias in policy.aliases if alias.kind is AliasKind.HOST]
    lists += [default.binding for default in policy.defaults if default.scope is DefaultScope.HOST]
    return list({(member.kind, member.value): member for members in lists for member in members}.values())


class FirstHost:
    """A host that others are derived from."""

    def __init__(self, rights: HostRights) -> None:
        self.rights = rights

    def population_of(self, subject: str) -> Population:
        """Return who exists on another host: of thousands of accounts that are just as a directory has them, none names the host."""
        here = self.rights.population
        own, groups = renamed((self._own, here.groups), self.rights.subject, subject)
        return replace(here, identities=tuple(own.get(place, who) for place, who in enumerate(here.identities)), groups=groups)

    def account_of(self, name: str, subject: str) -> Identity | None:
        """Return an account of another host by its name."""
        who = self.rights.account(name)
        return who if who is None or self._there.get(name) is who else renamed(who, self.rights.subject, subject)

    @cached_property
    def _own(self) -> dict[int, Identity]:
        """The accounts that are not just as the directory has them, by their place."""
        there = self._there
        return {place: who for place, who in enumerate(self.rights.population.identities) if there.get(who.name) is not who}

    @property
    def _there(self) -> Mapping[str, Identity]:
        nesting = self.rights.population.nesting
        return nesting.identities if nesting is not None else {}


class HostOverlay(HostRights):
    """What the evidence of a host amounts to, told from that of another."""

    def __init__(self, origin: FirstHost, own: OwnDetails) -> None:
        self._origin, self._own, self.first = origin, own, origin.rights
        SubjectRights.__init__(self)

    def attempt(self) -> None:
        """Do nothing: what it holds is told from another host, of which that was worked out."""

    @property
    def subject(self) -> str:
        """The host."""
        return self._own.subject

    @property
    def taken(self) -> datetime:
        """When its evidence was taken: known without telling all other facts from those of the other host."""
        return self._own.taken

    @property
    def taken_by(self) -> int | None:
        """The user ID that its evidence was taken with."""
        return self.first.taken_by

    @property
    def live(self) -> bool:
        """Whether it was running, and not a root folder."""
        return self.first.live

    @cached_property
    def facts(self) -> HostFacts:  # type: ignore[override]
        """The facts of the host."""
        own = self._own
        facts = self.here(self.first.facts)
        return replace(
            facts, subject=own.subject, taken=own.taken, host_name=own.host_name, addresses=own.addresses, processes=own.processes
        )

    @property
    def span(self) -> Span:
        """From when to when, around the time of its evidence, the same is in force by the dates that it names."""
        return span_around(self.first.facts, self._own.taken)

    @property
    def cites_processes(self) -> bool:
        """Whether its holdings or findings cite processes: such a host is not told from another."""
        return False

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read."""
        return (*self.here(self.first.gaps), *self.troubles)

    @property
    def files(self) -> Sequence[FileState]:
        """The files that were looked at: made anew each time, since thousands of hosts are asked for them once each."""
        return self.here(self.first.files)

    @property
    def programs(self) -> Programs | None:
        """The search for setuid files and capabilities, where there was one."""
        return self.here(self.first.programs)

    @property
    def host_name(self) -> str:
        """What the host calls itself."""
        return self._own.host_name

    @property
    def key_grants(self) -> tuple[tuple[Identity, KeyGrant], ...]:
        """The keys that open accounts here, each with the account."""
        return self.here(self.first.key_grants)

    @cached_property
    def summary(self) -> HostSummary:
        """What joining it with other hosts takes."""
        return replace(self.here(self.first.summary), host_name=self.host_name)

    @property
    def private_keys(self) -> tuple[PrivateKey, ...]:
        """The private keys that lie here."""
        return self.first.private_keys

    @cached_property
    def population(self) -> Population:  # type: ignore[override]
        """Who exists on it."""
        return self._origin.population_of(self.subject)

    @cached_property
    def policy(self) -> Policy:  # type: ignore[override]
        """Its sudo policy."""
        return policy_of(self.facts, self.population)

    @property
    def effective(self) -> Effective:
        """What each sudo rule still decides: of the same rules the same."""
        return self.first.effective

    @property
    def by_node(self) -> tuple[Holding, ...]:
        """The holdings worked out one by one."""
        return self.here(self.first.by_node)

    @property
    def group_edges(self) -> GroupEdges[Identity]:
        """The holdings that accounts of a directory have by their groups alone."""
        return self.first.group_edges.renamed(self.here)

    def account(self, name: str) -> Identity | None:
        """Return one of its accounts by its name, without the others."""
        return self._origin.account_of(name, self.subject)

    def with_groups(self, account: str) -> AccountWithGroups | None:
        """Return what stands over the routes of one of its accounts, ``None`` of any other name."""
        return self.first.with_groups(account)

    def held_by(self, account: str) -> tuple[Holding, ...]:
        """Return what an account holds, also merely by being an account of the host."""
        return self.here(self.first.held_by(account))

    def belongs_to(self, name: str) -> Iterable[str]:
        """Return the groups that an account is in, without the one that is its own by name."""
        return self.first.belongs_to(name)

    def account_states(self) -> Mapping[str, bool | None]:
        """Return its own accounts, each with whether someone can log in by it."""
        return self.first.account_states()

    def holder(self, account: str) -> Principal:
        """Return an account as a holder."""
        return self.here(self.first.holder(account))

    def meant_by(self, holder: str) -> list[str]:
        """Return what those are called here that a name can mean."""
        return list(self.first.population.meant_by(holder)) or ([holder] if self.holdings_of(holder) else [])

    def holdings_of(self, holder: str) -> tuple[Holding, ...]:
        """Return those of all holdings whose holder is called so."""
        here = self.here(self.first.holdings_of(holder))
        elsewhere = (holding for holding in self.from_elsewhere if holding.principal.is_called(holder))
        return tuple(sorted((*here, *elsewhere), key=order_of))

    def own_holdings_with(self, wanted: Callable[[Right], bool]) -> tuple[Holding, ...]:
        """Return those of the own holdings whose right is wanted."""
        here = self.here(self.first.own_holdings_with(wanted))
        elsewhere = (holding for holding in self.from_elsewhere if wanted(holding.right))
        return tuple(sorted((*here, *elsewhere), key=order_of))

    def own_holders(self) -> set[str]:
        """Return the holders of the own holdings, as they are written."""
        return self.first.own_holders() | {str(one.principal) for one in self.from_elsewhere}

    def own_rights(self) -> set[Right]:
        """Return the rights of the own holdings."""
        return {*self.here(tuple(self.first.own_rights())), *(holding.right for holding in self.from_elsewhere)}

    @property
    def full_control(self) -> FullControl:
        """Who has full control of it, and who can obtain that."""
        if self.from_elsewhere or self.first.from_elsewhere:
            return super().full_control
        return self.first.full_control.renamed(self.first.subject, self.subject)

    def full_holders(self, kind: PrincipalKind) -> set[str]:
        """Return the names of the holders of one kind that have full control in a way of their own."""
        elsewhere = (one.principal for one in self.from_elsewhere if one.right.kind.full)
        return self.first.full_holders(kind) | {principal.name for principal in elsewhere if principal.kind is kind}

    @property
    def like(self) -> HostRights:
        """The host that this one is told from."""
        return self.first

    def here(self, value: T) -> T:
        """Return what was found on that host as it is here."""
        return renamed(value, self.first.subject, self.subject)
