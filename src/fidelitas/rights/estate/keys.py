"""Roads from host to host: a private key that lies on one, and opens an account of another.

Anyone who can read the key there, or become an account that can, is the other account too; and from there perhaps a third.
"""

from collections.abc import Iterable, Iterator, Mapping, Sequence

from msgspec import Struct

from fidelitas.facts import Place, PrivateKey
from fidelitas.rights.accounts.identity import Identity
from fidelitas.rights.graph.links import By, Holding, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.graph.paths import LinkPath, holding_of
from fidelitas.rights.linux.files import readers
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.nodes import Nodes
from fidelitas.rights.linux.ssh import KeyGrant, key_name
from fidelitas.rights.linux.summary import linked_by_keys

__all__ = ["across_hosts"]

# An account of a host: the host's name and its own.
_At = tuple[str, str]


class _KeyPath(Struct, frozen=True):
    """The links from an account of one host to an account of another."""

    links: LinkPath
    to: _At


def across_hosts(hosts: Sequence[HostRights]) -> Mapping[str, tuple[HostRights, tuple[Holding, ...]]]:
    """Return, by host, the holdings that accounts of other hosts have there by keys that are stored on those."""
    linked = linked_by_keys(host.summary for host in hosts)
    by_name = {host.subject: host for host in hosts if host.subject in linked}
    paths = _paths(by_name.values())
    found: dict[str, dict[tuple[Principal, Right], list[LinkPath]]] = {}
    for start in sorted(paths):
        reached = list(_reached(start, paths))
        for principal, before in _starts(by_name[start[0]], start[1]) if reached else ():
            for chain, (subject, account) in reached:
                for right, rest in _held(by_name[subject], account):
                    routes = found.setdefault(subject, {}).setdefault((principal, right), [])
                    routes.append((*before, *chain, *rest))
    return {
        subject: (by_name[subject], tuple(holding_of(principal, right, chains) for (principal, right), chains in here.items()))
        for subject, here in found.items()
    }


def _paths(hosts: Iterable[HostRights]) -> dict[_At, list[_KeyPath]]:
    """Return the steps from host to host by the account that can take them."""
    opened: dict[str, list[tuple[HostRights, Identity, KeyGrant]]] = {}
    lying: list[tuple[HostRights, Identity, PrivateKey]] = []
    for host in hosts:
        for who, key_grant in host.key_grants:
            opened.setdefault(key_grant.key.fingerprint, []).append((host, who, key_grant))
        lying += ((host, who, key) for who, key in _private_keys(host))
    paths: dict[_At, list[_KeyPath]] = {}
    for host, owner, key in lying:
        for other, who, key_grant in opened.get(key.fingerprint or "", ()):
            if other.subject != host.subject and not key_grant.command:
                here = paths.setdefault((host.subject, owner.name), [])
                here.append(_KeyPath(_links(host, owner, key, other, who, key_grant), (other.subject, who.name)))
    return paths


def _private_keys(host: HostRights) -> Iterator[tuple[Identity, PrivateKey]]:
    """Yield the private keys whose public half is known, each with every account that can read the file."""
    keys = [key for key in host.private_keys if key.fingerprint]
    states = host.facts.states if keys else {}
    for key in keys:
        state = states.get(key.path)
        able = readers(key.path, states)
        if able or (state is not None and state.uid == 0):
            yield from ((who, key) for who in host.population.effective if who.uid == 0 or able.include(who))


def _links(host: HostRights, owner: Identity, key: PrivateKey, other: HostRights, who: Identity, key_grant: KeyGrant) -> LinkPath:
    here, there = _nodes(host), _nodes(other)
    node = there.principal(PrincipalKind.KEY, key_name(key_grant.key))
    needed = ("if its passphrase is known",) if key.encrypted else ()
    private = Link(
        source=here.account(owner),
        target=node,
        kind=LinkKind.HAS,
        strength=Strength.CONDITIONAL if needed else Strength.DIRECT,
        by=By(Mechanism.PRIVATE_KEY),
        because=f"has the private key {key.path}{'' if key.encrypted else ', without a passphrase'}",
        conditions=needed,
        place=Place(subject=host.subject, path=key.path),
    )
    public = Link(
        source=node,
        target=there.root if who.uid == 0 else there.account(who),
        kind=LinkKind.MAY_BECOME,
        strength=Strength.CONDITIONAL if key_grant.conditions else Strength.DIRECT,
        by=By(Mechanism.SSH_KEY),
        because=f"opens the account {who.name} on {other.subject} over SSH",
        conditions=key_grant.conditions,
        place=key_grant.key.place,
    )
    return private, public


def _reached(start: _At, paths: Mapping[_At, Sequence[_KeyPath]]) -> Iterator[tuple[LinkPath, _At]]:
    """Yield the accounts of other hosts that can be come by, the nearest first, each by one shortest chain."""
    agenda: list[tuple[LinkPath, _At]] = [((), start)]
    seen = {start}
    for chain, at in agenda:
        for path in paths.get(at, ()):
            if path.to not in seen:
                seen.add(path.to)
                agenda.append(((*chain, *path.links), path.to))
                if path.to[0] != start[0]:
                    yield agenda[-1]


def _starts(host: HostRights, owner: str) -> Iterator[tuple[Principal, LinkPath]]:
    """Yield who on a host can use what is in an account's home: the account, and anyone who may act as it or as root."""
    yield host.node(owner).from_elsewhere(host.subject, host.subject), ()
    for holding in host.own_holdings:
        right = holding.right
        able = right.kind is RightKind.ROOT or (right.kind is RightKind.RUN_AS and right.detail in (owner, "ALL"))
        if able and holding.principal.kind is PrincipalKind.ACCOUNT and holding.principal.name != owner:
            yield holding.principal.from_elsewhere(host.subject, host.subject), holding.routes[0].links


def _held(host: HostRights, account: str) -> Iterator[tuple[Right, LinkPath]]:
    """Yield what an account holds on a host, as chains that go on from it; root itself is there already."""
    identity = host.population.by_name[account]
    if identity.uid == 0:
        yield Right(kind=RightKind.ROOT, detail="", subject=host.subject), ()
        return
    for holding in host.held_by(account):
        yield from ((holding.right, route.links) for route in holding.routes)


def _nodes(host: HostRights) -> Nodes:
    return Nodes(host.subject, host.population.group_names, host.population.nesting)
