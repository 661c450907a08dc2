"""Every route of one account, link by link, each with file and line: as blocks, and as the JSON document `why`."""

import shlex
from collections.abc import Sequence
from typing import Any

from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.documents import holding_document
from fidelitas.reports.drawing import DrawnRoute, Step
from fidelitas.reports.holders import Filter, holders_table, selected
from fidelitas.reports.object_holders import object_answer
from fidelitas.reports.provenance import UNTOLD, Provenance, since_line
from fidelitas.reports.report import Report
from fidelitas.reports.sentences import asking, link_clause
from fidelitas.reports.standing import standing_on
from fidelitas.reports.subjects import words_of
from fidelitas.rights import Holding, PrincipalKind, Route, Strength, SubjectRights
from fidelitas.usage import Grants

__all__ = ["why_blocks", "why_document", "why_report"]

# What a reader follows of one holding; the rest is counted, and all of it is in the JSON.
_MOST_SHOWN = 8


def why_report(account: str, hosts: Sequence[SubjectRights], provenance: Provenance = UNTOLD, path: str = "") -> Report:
    """Return what an account holds on each host and why; with a path, on that object of a database alone."""

    def rows() -> list[tuple[SubjectRights, Holding]]:
        return [(host, holding) for host in hosts for holding in _held(account, host, path)]

    return Report(
        answer=lambda: object_answer(rows(), account) if path else standing_on(account, hosts),
        onward=lambda: _onward(account, hosts),
        parts=lambda: why_blocks(account, hosts, provenance, path),
        rows=lambda: (holders_table(rows() if path else selected(hosts, Filter(account=account)), provenance, whole=True),),
        document=lambda: why_document(account, hosts, provenance, path),
        routes=lambda: (_drawn(holding, route) for _, holding in rows() for route in holding.routes[:_MOST_SHOWN]),
    )


def _drawn(holding: Holding, route: Route) -> DrawnRoute:
    condition = f", only {'; '.join(route.conditions)}" if route.conditions else ""
    steps = (
        Step(str(link.source), str(link.target), link.because, str(link.place), sure=link.strength is not Strength.CONDITIONAL)
        for link in route.links
    )
    return DrawnRoute(f"{holding.right} on {holding.right.subject} ({route.strength}{condition})", tuple(steps))


def _onward(account: str, hosts: Sequence[SubjectRights]) -> list[str]:
    where = f" --on {hosts[0].subject}" if len(hosts) == 1 else ""
    return [f"fidelitas account {shlex.quote(account)}{where}"] if not account.startswith("any ") else []


def why_blocks(account: str, hosts: Sequence[SubjectRights], provenance: Provenance = UNTOLD, path: str = "") -> list[Block]:
    """Return what an account holds on each host and why, for one that may hold nothing; where logs tell, since when and by whose doing."""
    return [block for host in hosts for block in _host(account, host, provenance.get(host.subject), path)]


def _host(account: str, host: SubjectRights, grants: Grants | None, path: str) -> list[Block]:
    held = _held(account, host, path)
    lines = words_of(host).why(host, account, held)
    blocks = [Block(f"{account} on {host.subject}", tuple(Row(line, style="dim") for line in lines))]
    if not held:
        why = (f"holds nothing on {path}" if path else "holds no elevated right") + ("; see the gaps below" if host.gaps else "")
        blocks[0] = Block(f"{account} on {host.subject}", (*blocks[0].rows, Row(why)))
    return blocks + [_holding(holding, grants) for holding in held]


def _held(account: str, host: SubjectRights, path: str) -> list[Holding]:
    """Return what an account holds, on an object also what every account does."""
    if not path:
        return list(host.holdings_of(account))
    meant = host.means(account)
    return [holding for holding in host.on(path) if meant(holding.principal) or holding.principal.kind is PrincipalKind.ANY_ACCOUNT]


def _holding(holding: Holding, grants: Grants | None) -> Block:
    rows: list[Row] = []
    for number, route in enumerate(holding.routes[:_MOST_SHOWN], 1):
        rows += _route(route, number, len(holding.routes), grants)
    hidden = len(holding.routes[_MOST_SHOWN:]) + holding.cut
    if hidden:
        rows.append(Row(f"and {hidden} more routes"))
    through = f", as {holding.principal}" if holding.principal.kind is PrincipalKind.ELSEWHERE else ""
    return Block(f"{holding.right}{through}  ({holding.strength}{'' if holding.granted else ', can be obtained'})", tuple(rows))


def _route(route: Route, number: int, count: int, grants: Grants | None) -> list[Row]:
    rows = [Row(f"route {number} of {count}, {route.strength}", style="underline")] if count > 1 else []
    for link in route.links:
        rows.append(Row(link_clause(link), indent=4))
        rows.append(Row(f"{link.place}" + (f"    {link.quote}" if link.quote else ""), indent=8, style="dim"))
        if since := since_line(link, grants):
            rows.append(Row(since, indent=8, style="dim"))
        if link.asks or link.quote:
            rows.append(Row(asking(link.asks), indent=8))
        if link.behind:
            rows.append(Row(f"without this rule, {', '.join(place.in_file() for place in link.behind)} would give the same", indent=8))
    rows += [Row(condition, label="only", indent=4, style="bold") for condition in route.conditions]
    return rows


def why_document(account: str, hosts: Sequence[SubjectRights], provenance: Provenance = UNTOLD, path: str = "") -> dict[str, Any]:
    """Return the JSON document of an account's routes."""
    return {
        "schema": "fidelitas/why/1",
        "account": account,
        "holdings": [holding_document(host, holding, provenance) for host in hosts for holding in _held(account, host, path)],
        "gaps": [str(gap) for host in hosts for gap in host.gaps],
    }
