"""One account's page: on each host who it is, its groups, and all that it may do: as blocks, and as the JSON document `account`."""

from collections import Counter
from collections.abc import Sequence
from typing import Any

from fidelitas.facts import LoginSession, Password
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.holders import holding_document
from fidelitas.reports.places import place_document
from fidelitas.reports.sentences import brief
from fidelitas.rights import Holding, HostRights, Identity, LinkKind, RightKind, Route, ServerRights
from fidelitas.rights.linux.groups import conferred
from fidelitas.rights.linux.live import Stale, stale_groups
from fidelitas.rights.linux.population import Membership

__all__ = ["account_blocks", "account_document"]

# Ways to one right that a page shows; whoever needs all of them asks for them.
MOST_ROUTES = 4


def account_blocks(name: str, hosts: Sequence[HostRights], servers: Sequence[ServerRights] = ()) -> list[Block]:
    """Return a block for each host and server that has the account, and for each that it leads to from there; and a headline over them."""
    here = [host for host in hosts if name in host.population.by_name]
    names = dict.fromkeys(who.account.comment for host in here if (who := host.population.by_name[name]).account and who.account.comment)
    counted = [(here, "host"), *([(servers, "other subject")] if servers else [])]
    told = " and ".join(f"{len(some)} {what}{'' if len(some) == 1 else 's'}" for some, what in counted if some or not servers)
    head = Block(f"{name} on {told}", tuple(Row(text) for text in names))
    there = [_there(host, held) for host in hosts if (held := _from_elsewhere(host, name))]
    return [head, *(_host(host, host.population.by_name[name]) for host in here), *there, *(_server(name, one) for one in servers)]


def _server(name: str, server: ServerRights) -> Block:
    """Return what an account is and holds on a server, in a directory or on a Windows machine."""
    groups = [Row(group.removeprefix("%"), label="group") for group in sorted(server.belongs_to(name))]
    held = [row for holding in server.held_by(name) for row in _holding(holding)]
    rows = [*(Row(line) for line in server.about(name)), *groups, *(held or [Row("holds no elevated right")])]
    return Block(server.subject, tuple(rows))


def _from_elsewhere(host: HostRights, name: str) -> list[Holding]:
    return [holding for holding in host.from_elsewhere if holding.principal.is_called(name)]


def _there(host: HostRights, held: Sequence[Holding]) -> Block:
    """Return what accounts of the name on other hosts hold on this one."""
    rows = [row for holding in held for row in (Row(f"as {holding.principal}"), *_holding(holding))]
    return Block(f"{host.subject}, from another host", tuple(rows))


def _host(host: HostRights, who: Identity) -> Block:
    place = f" ({who.account.place.in_file()})" if who.account else ""
    rows = [
        Row(f"{who.kind.value}, user ID {who.uid}{place}"),
        Row(f"log-in {who.login.value}; password {_password(who.password)}"),
        *(row for one in who.memberships for row in _group(host, one)),
        *(Row(_logon(one), label="logged on") for one in host.facts.login_sessions if one.account == who.name),
        *_running(host, who),
        *(Row(_stale(one), label="session", style="yellow") for one in _stale_of(host, who)),
    ]
    held = sorted(host.held_by(who.name), key=lambda holding: (holding.right.kind, str(holding.right)))
    rows += [row for holding in held for row in _holding(holding)] or [Row("holds no elevated right")]
    return Block(host.subject, tuple(rows))


def _group(host: HostRights, one: Membership) -> list[Row]:
    """Return a group with what it confers by itself; of the account's own group, and of unknown ones, there is nothing to say."""
    found = conferred(one.group, {state.path: state for state in host.facts.files})
    row = Row(f"{one.group.name}{' (primary)' if one.primary else ''}  {one.place.in_file()}", label="group")
    if found is None:
        return [row]
    verdict = f"confers {found.right}" + (f", {found.condition}" if found.condition else "") if found.right else "confers nothing by itself"
    return [row, Row(f"{verdict}: {found.reason}", indent=8, style="bold" if found.right else "")]


def _logon(one: LoginSession) -> str:
    where = f" from {one.host}" if one.host else ""
    return f"{one.terminal}{where} since {one.since:%Y-%m-%d %H:%M} UTC (process {one.pid})"


def _running(host: HostRights, who: Identity) -> list[Row]:
    """Return what the account runs at the moment, a row at most."""
    names = Counter(process.name for process in host.facts.processes or () if who.uid and process.uids[0] == who.uid)
    told = ", ".join(f"{name} ({count})" if count > 1 else name for name, count in names.most_common(6))
    return [Row(f"{told}{' and more' if len(names) > 6 else ''}", label="runs")] if names else []


def _stale_of(host: HostRights, who: Identity) -> list[Stale]:
    return [one for one in stale_groups(host.facts, host.population) if one.who.name == who.name]


def _stale(one: Stale) -> str:
    shown = ", ".join(f"{process.pid} ({process.name})" for process in one.processes[:3])
    if one.held:
        return f"group {one.group} was taken away, and is held by {shown}: revoked yet active"
    return f"group {one.group} was given, and no running session holds it: log in again"


def _password(password: Password | None) -> str:
    if password is None:
        return "not read"
    return password.state.value + (f" ({password.algorithm})" if password.algorithm else "")


def _holding(holding: Holding) -> list[Row]:
    is_root = holding.routes[0].links[-1].kind is LinkKind.HAS
    what = {
        RightKind.ROOT: "is root" if is_root else "may become root",
        RightKind.RUN_AS: f"may run anything as {holding.right.detail}",
        RightKind.READ_SECRETS: "may read secrets",
        RightKind.READ_EVIDENCE: "may read the logs",
        RightKind.WRITE_EVIDENCE: "may change the logs",
        RightKind.COMMAND: f"may run {holding.right.detail}",
        RightKind.RUN_AS_GROUP: f"may run anything as group {holding.right.detail}",
    }.get(holding.right.kind, f"holds {holding.right}")
    rows = [row for route in holding.routes[:MOST_ROUTES] for row in _route(route)]
    more = len(holding.routes) - MOST_ROUTES + holding.cut
    return [Row(what, style="bold"), *rows, *([Row(f"and {more} more ways: see fidelitas why", indent=6)] if more > 0 else [])]


def _route(route: Route) -> list[Row]:
    last = route.links[-1]
    asks = f"asks for {route.asks.replace('own', 'its own')}" if route.asks else "asks for no password" if last.quote else ""
    told = ", ".join(part for part in (brief(route), asks, str(route.strength)) if part)
    return [Row(told, indent=6), Row(f"{route.place.in_file()}    {last.quote}".rstrip(), indent=6, style="cyan")]


def account_document(name: str, hosts: Sequence[HostRights], servers: Sequence[ServerRights]) -> dict[str, Any]:
    """Return the JSON document of an account, on hosts and on servers."""
    here = [host for host in hosts if name in host.population.by_name]
    return {
        "schema": "fidelitas/account/1",
        "account": name,
        "hosts": [_document(host, host.population.by_name[name]) for host in here],
        "from_elsewhere": [holding_document(host, holding) for host in hosts for holding in _from_elsewhere(host, name)],
        "servers": [
            {
                "subject": server.subject,
                "about": list(server.about(name)),
                "groups": sorted(server.belongs_to(name)),
                "holdings": [holding_document(server, holding) for holding in server.held_by(name)],
            }
            for server in servers
        ],
    }


def _document(host: HostRights, who: Identity) -> dict[str, Any]:
    states = {state.path: state for state in host.facts.files}
    return {
        "subject": host.subject,
        "uid": who.uid,
        "gid": who.gid,
        "kind": who.kind.value,
        "login": who.login.value,
        "can_log_in": who.login.possible,
        "password": who.password.state.value if who.password else None,
        "place": place_document(who.account.place) if who.account else None,
        "groups": [
            {
                "name": one.group.name,
                "gid": one.group.gid,
                "primary": one.primary,
                "place": place_document(one.place),
                "confers": (found.right or None) if (found := conferred(one.group, states)) else None,
                "reason": found.reason if found else None,
            }
            for one in who.memberships
        ],
        "logged_on": [
            {"terminal": one.terminal, "from": one.host or None, "since": one.since.isoformat(), "process": one.pid}
            for one in host.facts.login_sessions
            if one.account == who.name
        ],
        "stale": [
            {
                "group": one.group,
                "state": "revoked yet active" if one.held else "granted, not yet in force",
                "processes": [process.pid for process in one.processes],
            }
            for one in _stale_of(host, who)
        ],
        "holdings": [holding_document(host, holding) for holding in host.held_by(who.name)],
    }
