"""All rights on one host."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from copy import copy
from datetime import datetime
from functools import cached_property
from ipaddress import ip_interface
from typing import NamedTuple

from fidelitas.facts import AuthorizedKey, FileState, Gap, HostFacts, Place, PrivateKey, Programs
from fidelitas.rights.accounts.identity import AccountKind, AccountWithGroups
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.graph.full_control import FullControl
from fidelitas.rights.graph.group_edges import GroupEdges
from fidelitas.rights.graph.links import Holding, Principal, PrincipalKind, Right, Route
from fidelitas.rights.graph.routes import MOST_TO_LESS, holdings_from, order_of, order_of_right
from fidelitas.rights.linux.dates import Span, span_around
from fidelitas.rights.linux.edges import edges_of
from fidelitas.rights.linux.live import stale_groups
from fidelitas.rights.linux.nodes import Nodes
from fidelitas.rights.linux.population import Identity, Population, populate
from fidelitas.rights.linux.ssh import KeyGrant, key_grants, with_keys
from fidelitas.rights.linux.sudo import Effective, Host, Netgroups, Policy
from fidelitas.rights.linux.summary import HostSummary, summary_of
from fidelitas.rights.subject import SubjectRights

__all__ = ["HostRights", "is_own", "policy_of", "rights_of"]


class _Worked(NamedTuple):
    by_node: tuple[Holding, ...]
    group_edges: GroupEdges[Identity]
    effective: Effective


def _not_followed(place: Place) -> Gap:
    return Gap(
        what="a chain of very many accounts",
        why=f"each may act as the next: it is followed to full control, and {MOST_TO_LESS} links far to other rights",
        weakens="who may act as whom, and other rights short of full control",
        place=place,
    )


class HostRights(SubjectRights):
    """What the facts of a host amount to: who is there is known at once, who holds what is worked out when it is asked for."""

    def __init__(self, facts: HostFacts, population: Population, policy: Policy) -> None:
        super().__init__()
        self.facts = facts
        self.population = population
        self.policy = policy

    @cached_property
    def _worked(self) -> _Worked:
        edges, effective = edges_of(self.facts, self.population, self.policy)
        found = holdings_from(edges)
        self.policy.forget()
        if found.cut_at is not None:
            self.troubles.append(_not_followed(found.cut_at))
        return _Worked(found.by_node, found.group_edges, effective)

    @property
    def by_node(self) -> tuple[Holding, ...]:
        """The holdings worked out one by one."""
        return self._worked.by_node

    @property
    def group_edges(self) -> GroupEdges[Identity]:
        """The holdings that accounts of a directory have by their groups alone."""
        return self._worked.group_edges

    @property
    def effective(self) -> Effective:
        """What each sudo rule still decides."""
        return self._worked.effective

    platform = "linux"
    alone: "HostRights | None" = None  # the same host, as it is without the others

    @property
    def like(self) -> "HostRights":
        """The host that this one is told from: itself before it was joined with others, unless it states what another does."""
        return self.alone or self

    def attempt(self) -> None:
        """Work out who holds what: all that is told of it follows from that."""
        _ = self._worked

    @property
    def host_name(self) -> str:
        """What the host calls itself."""
        return self.facts.host_name

    @cached_property
    def key_grants(self) -> tuple[tuple[Identity, KeyGrant], ...]:
        """The keys that open accounts here, each with the account."""
        accounts = self.population.effective if self.facts.logins.keys else ()
        return tuple((who, key_grant) for who in accounts for key_grant in key_grants(self.facts, who, self.population))

    @cached_property
    def summary(self) -> HostSummary:
        """What joining it with other hosts takes."""
        return summary_of(self)

    @property
    def private_keys(self) -> tuple[PrivateKey, ...]:
        """The private keys that lie here."""
        return self.facts.logins.private_keys

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read."""
        return (*self.facts.gaps, *self.troubles)

    @property
    def holdings(self) -> tuple[Holding, ...]:
        """All holdings, ordered by right, principal and strength of route."""
        if not len(self.group_edges) and not self.from_elsewhere:
            return self.by_node
        return tuple(sorted((*self.by_node, *self.group_edges.holdings(), *self.from_elsewhere), key=order_of))

    @property
    def subject(self) -> str:
        """The host."""
        return self.facts.subject

    @property
    def taken(self) -> datetime:
        """When its evidence was taken."""
        return self.facts.taken

    @property
    def span(self) -> Span:
        """From when to when, around the time of its evidence, the same is in force by the dates that it names."""
        return span_around(self.facts, self.taken)

    @property
    def cites_processes(self) -> bool:
        """Whether its holdings or findings cite processes, which are of the moment."""
        return any(True for _ in stale_groups(self.facts, self.population))

    @property
    def taken_by(self) -> int | None:
        """The user ID that its evidence was taken with."""
        return self.facts.taken_by

    @property
    def live(self) -> bool:
        """Whether it was running, and not a root folder."""
        return self.facts.live

    @property
    def files(self) -> Sequence[FileState]:
        """The files that were looked at."""
        return self.facts.files

    @property
    def programs(self) -> Programs | None:
        """The search for setuid files and capabilities, where there was one."""
        return self.facts.programs

    def joined_with(self, from_elsewhere: tuple[Holding, ...]) -> "HostRights":
        """Return the same host with what accounts of other hosts hold on it."""
        joined = copy(self)
        joined.__dict__.pop("full_control", None)
        joined.alone = self
        joined.from_elsewhere = from_elsewhere
        return joined

    def names(self) -> set[str]:
        """Return its accounts and groups, and anyone who holds a right here."""
        return super().names() | set(self.population.by_name) | {f"%{group.name}" for group in self.population.groups}

    def belongs_to(self, name: str) -> Iterable[str]:
        """Return the groups that an account is in, without the one that is its own by name; of a group of a directory those around it."""
        nesting = self.population.nesting
        if name.startswith("%") and nesting is not None:
            return [f"%{group}" for group in nesting.groups_around(name.removeprefix("%"))]
        who = self.population.by_name.get(name)
        return [f"%{one.group.name}" for one in who.memberships if one.group.name != name] if who else ()

    @property
    def opening_keys(self) -> Iterator[tuple[str, AuthorizedKey]]:
        """The keys that open accounts here, each with the account's name."""
        return ((who.name, grant.key) for who, grant in self.key_grants)

    def person_accounts(self) -> Iterator[tuple[str, str]]:
        """Yield the accounts of people, each with its comment."""
        people = {who.name for who in self.population.effective if who.kind is AccountKind.PERSON}
        return ((name, comment) for name, comment in self.comments() if name in people)

    def comments(self) -> Iterator[tuple[str, str]]:
        """Yield every account with its comment."""
        return ((who.name, who.account.comment if who.account else "") for who in self.population.effective)

    def identity(self, principal: Principal) -> Identity | None:
        """Return the account behind a principal, if it is one."""
        return self.account(principal.name) if principal.kind is PrincipalKind.ACCOUNT else None

    def account(self, name: str) -> Identity | None:
        """Return one of its accounts by its name."""
        return self.population.by_name.get(name)

    def with_groups(self, account: str) -> AccountWithGroups | None:
        """Return what stands over the routes of one of its accounts, ``None`` of any other name."""
        who = self.account(account)
        return None if who is None else who.with_groups

    def node(self, account: str) -> Principal:
        """Return an account of it as a holder."""
        nodes = Nodes(self.subject, self.population.group_names, self.population.nesting)
        return nodes.account(self.population.by_name[account])

    def holder(self, account: str) -> Principal:
        """Return an account as a holder, one of a directory with all its names."""
        who, nesting = self.population.by_name.get(account), self.population.nesting
        if who is not None and who.of_directory and nesting is not None:
            return nesting.node(PrincipalKind.ACCOUNT, account)
        return Principal(kind=PrincipalKind.ACCOUNT, name=account, subject=self.subject)

    def has_account(self, principal: Principal) -> bool:
        """Return whether a holder is an account of it, its own or one that it takes from a directory."""
        who = self.identity(principal)
        return who is not None and who.of_directory is (principal.subject != self.subject)

    def furthest_of_accounts(self) -> Mapping[str, Holding]:
        """Return the furthest reaching of the own holdings of each of its accounts that has any, by name."""
        found: dict[str, Holding] = {}
        for holding in sorted(filter(is_own, self.by_node), key=order_of):
            if self.has_account(holding.principal):
                found.setdefault(holding.principal.name, holding)
        for holding in self.group_edges.furthest(order_of_right, is_own):
            found.setdefault(holding.principal.name, holding)
        return found

    def account_states(self) -> Mapping[str, bool | None]:
        """Return its own accounts, those of a directory left out, each with whether someone can log in by it."""
        return {who.name: who.login.possible for who in self.population.effective if not who.of_directory}

    @property
    def account_count(self) -> int:
        """How many accounts it has."""
        return len(self.population.effective)

    def member_count(self, group: str) -> int:
        """Return how many accounts are in a group."""
        return len(self.population.members(group))

    def knows(self, holder: str) -> bool:
        """Return whether there is such an account, or such a group (written ``%name``), or such another holder."""
        return bool(self.meant_by(holder))

    def meant_by(self, holder: str) -> list[str]:
        """Return what those are called here that a name can mean: an account of a directory can be called otherwise there."""
        return list(self.population.meant_by(holder)) or ([holder] if self._names(holder) else [])

    def _names(self, holder: str) -> bool:
        """Return whether someone who is no account and no group of it, such as one of another host, is called so."""
        return any(held.principal.is_called(holder) for held in (*self.by_node, *self.from_elsewhere))

    def means(self, holder: str) -> Callable[[Principal], bool]:
        """Return what says of a holder whether a name means it: one of a directory also by what it is called there."""
        labels = frozenset(self.meant_by(holder))
        return lambda one: one.is_called(holder) or (one.subject != self.subject and str(one) in labels)

    def taken_from(self, directory: str, name: str) -> list[str]:
        """Return the accounts here that come from a directory and can be meant by a name: of one that it has, what it is called here."""
        nesting = self.population.nesting
        found = nesting.taken_from(directory, name) if nesting is not None else ()
        return [account for account in found if self.population.by_name[account].of_directory]

    def holdings_of(self, holder: str) -> tuple[Holding, ...]:
        """Return those of all holdings whose holder is called so."""
        meant = self.means(holder)
        named = (holding for holding in (*self.by_node, *self.from_elsewhere) if meant(holding.principal))
        given = (holding for name in self.population.meant_by(holder) for holding in self.group_edges.held_by(name))
        return tuple(sorted((*named, *given), key=order_of))

    def own_holdings_with(self, wanted: Callable[[Right], bool]) -> tuple[Holding, ...]:
        """Return those of the own holdings whose right is wanted."""
        some = (holding for holding in (*self.by_node, *self.from_elsewhere) if wanted(holding.right))
        return tuple(sorted(filter(is_own, (*some, *self.group_edges.own_holdings(wanted))), key=order_of))

    def own_holdings_of(self, holder: str) -> tuple[Holding, ...]:
        """Return those of the own holdings whose holder is called so."""
        return tuple(filter(is_own, self.holdings_of(holder)))

    def own_holders(self) -> set[str]:
        """Return the holders of the own holdings, as they are written; those who hold by a group without their holdings being made."""
        named = {str(one.principal) for one in (*self.by_node, *self.from_elsewhere) if is_own(one)}
        return named | set(self.group_edges.holders(lambda _: True))

    def differing(self, other: SubjectRights) -> tuple[Sequence[Holding], Sequence[Holding]]:
        """Return the own holdings, and those of the same host at another time; accounts that have the same by their groups left out."""
        if not isinstance(other, HostRights):
            return super().differing(other)
        return _differing(self, other), _differing(other, self)

    def own_rights(self) -> set[Right]:
        """Return the rights of the own holdings."""
        return {holding.right for holding in (*self.by_node, *self.from_elsewhere) if is_own(holding)} | self.group_edges.rights()

    @cached_property
    def full_control(self) -> FullControl:
        """Who has full control of it, and who can obtain that."""
        return self._full_control_now()

    def full_holders(self, kind: PrincipalKind) -> set[str]:
        """Return the names of the holders of one kind that have full control in a way of their own."""
        every = (holding for holding in (*self.by_node, *self.from_elsewhere) if holding.right.kind.full and is_own(holding))
        found = {holding.principal.name for holding in every if holding.principal.kind is kind}
        return found | set(self.group_edges.holders(lambda right: right.kind.full) if kind is PrincipalKind.ACCOUNT else ())

    def held_by(self, account: str) -> tuple[Holding, ...]:
        """Return what an account holds, also merely by being an account of the host."""
        named = (holding for holding in self.by_node if holding.principal.name == account and self.identity(holding.principal))
        return (*named, *self.group_edges.held_by(account))

    def own_held_by(self, name: str) -> tuple[Holding, ...]:
        """Return those of what an account holds that are own holdings, without making those of all other accounts."""
        return tuple(filter(is_own, self.held_by(name)))

    @property
    def own_holdings(self) -> tuple[Holding, ...]:
        """The holdings without those that an account has in no other way than every account has them; "any account" stands for those."""
        return self.own_holdings_with(lambda _: True)


def _differing(one: HostRights, other: HostRights) -> list[Holding]:
    return list(filter(is_own, (*one.by_node, *one.from_elsewhere, *one.group_edges.differing(other.group_edges))))


def is_own(holding: Holding) -> bool:
    """Return whether someone holds it in a way of its own, and not only as every account does."""
    return not all(_as_anyone(route) for route in holding.routes)


def _as_anyone(route: Route) -> bool:
    target = route.links[0].target
    return isinstance(target, Principal) and target.kind is PrincipalKind.ANY_ACCOUNT


def rights_of(facts: HostFacts, nesting: Nesting | None = None) -> HostRights:
    """Return all rights on a host; `nesting` are the memberships of the directory that its accounts may come from.

    What else it takes of that is among the facts.
    """
    population = with_keys(populate(facts, nesting), facts)
    policy = policy_of(facts, population)
    return HostRights(facts, population, policy)


def policy_of(facts: HostFacts, population: Population, host: Host | None = None) -> Policy:
    """Return the policy on the host that the facts are of, or on another by name and addresses."""
    netgroups = None
    if facts.netgroups is not None:
        netgroups = Netgroups(
            {one.name: one.triples for one in reversed(facts.netgroups)}, {one.name: one.inner for one in reversed(facts.netgroups)}
        )
    addresses = None if facts.addresses is None else tuple(ip_interface(text) for text in facts.addresses)
    return Policy(facts.policy, host or Host(name=facts.host_name or facts.subject, addresses=addresses), population, netgroups)
