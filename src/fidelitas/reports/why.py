"""Every route of one account, link by link, each with file and line: as blocks, and as the JSON document `why`."""

import shlex
from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.documents import holding_document
from fidelitas.reports.drawing import DrawnRoute, Step
from fidelitas.reports.holders import Filter, holders_table, selected
from fidelitas.reports.numbers import counted, first_names
from fidelitas.reports.object_holders import object_answer
from fidelitas.reports.provenance import UNTOLD, Provenance, since_line
from fidelitas.reports.report import Report
from fidelitas.reports.sentences import asking, link_clause
from fidelitas.reports.standing import standing_on
from fidelitas.reports.subjects import words_of
from fidelitas.rights import Holding, PrincipalKind, Route, Strength, SubjectRights
from fidelitas.rights.estate.renaming import renamed
from fidelitas.usage import Grants

__all__ = ["why_blocks", "why_document", "why_report"]

# What a reader follows of one holding; the rest is counted, and all of it is in the JSON.
_MOST_SHOWN = 8
# Of more hosts on which an account holds nothing none is described; of more hosts a listing is named, too.
_MOST_BARE, _MOST_READ = 3, 12


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
    name, several = shlex.quote(account), len(hosts) > 1
    where = "" if several else f" --on {hosts[0].subject}"
    page = [f"fidelitas account {name}{where}"] if not account.startswith("any ") else []
    listing = [f"every holding in a row: fidelitas holders --account {name} --each"] if len(hosts) > _MOST_READ else []
    return [" · ".join([*page, *listing])] if page or listing else []


def why_blocks(account: str, hosts: Sequence[SubjectRights], provenance: Provenance = UNTOLD, path: str = "") -> list[Block]:
    """Return what an account holds on each host and why, for one that may hold nothing; where logs tell, since when and by whose doing.

    Hosts of which the same is to be said are shown together, and so are many on which it holds nothing.
    """
    answers = [_Answer(account, host, _held(account, host, path), provenance.get(host.subject)) for host in hosts]
    bare = [one for one in answers if not one.held]
    bare = bare if len(bare) > _MOST_BARE else []
    alike = _alike(one for one in answers if one.held or not bare)
    blocks = [block for some in alike for block in _blocks(some, path)]
    return blocks + ([_bare_block(bare, path, others=bool(blocks))] if bare else [])


class _Answer(NamedTuple):
    """What an account holds on a host."""

    account: str
    host: SubjectRights
    held: list[Holding]
    grants: Grants | None

    @property
    def mark(self) -> object:
        """A mark: hosts with equal ones have equal answers; ``None`` equals nothing."""
        return self.host.conclusion_mark if self.grants is None else None

    def content(self) -> object:
        """Return what is to be said, without the name of the host."""
        links = (link for holding in self.held for route in holding.routes for link in route.links)
        since = tuple(since_line(link, self.grants) for link in links) if self.grants is not None else ()
        return self.lines(), renamed(tuple(self.held), self.host.subject, ""), since, bool(self.held or self.host.gap_count)

    def lines(self) -> tuple[str, ...]:
        """Return what stands over the routes."""
        return tuple(words_of(self.host).why(self.host, self.account, self.held))


def _alike(answers: Iterable[_Answer]) -> list[list[_Answer]]:
    """Return answers that are equal but for the name of the host together."""
    by_mark: dict[object, list[_Answer]] = {}
    for number, one in enumerate(answers):
        by_mark.setdefault(number if one.mark is None else one.mark, []).append(one)
    found: dict[object, list[_Answer]] = {}
    for some in by_mark.values():
        found.setdefault(some[0].content(), []).extend(some)
    return list(found.values())


def _blocks(alike: Sequence[_Answer], path: str) -> list[Block]:
    first = alike[0]
    rows = [Row(line, style="dim") for line in first.lines()]
    if not first.held:
        rows.append(Row(_nothing(alike, path)))
    if len(alike) > 1:
        rows.append(Row(first_names([one.host.subject for one in alike[1:]]), label="the same on"))
    return [Block(f"{first.account} on {first.host.subject}", tuple(rows)), *(_holding(holding, first.grants) for holding in first.held)]


def _nothing(answers: Iterable[_Answer], path: str) -> str:
    doubt = "; see the gaps below" if any(one.host.gap_count for one in answers) else ""
    return (f"holds nothing on {path}" if path else "holds no elevated right") + doubt


def _bare_block(bare: Sequence[_Answer], path: str, *, others: bool) -> Block:
    where = counted(len(bare), "more subject" if others else "subject")
    names = first_names([one.host.subject for one in bare])
    return Block(f"{bare[0].account} on {where} that know it", (Row(_nothing(bare, path)), Row(names, style="dim")))


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
