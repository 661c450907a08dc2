"""Narrower sudo policies: which rules take the place of which statements, which uses they would refuse, and rights before and after."""

from collections.abc import Iterable, Sequence
from typing import Any

from fidelitas.changes import HeldChange, Turn
from fidelitas.narrowing import FateKind, Left, Narrowed, NewRule, Proposal, Replayed, evidence_of
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.documents import holding_document
from fidelitas.reports.numbers import counted, first_rights, listed
from fidelitas.reports.places import place_document
from fidelitas.reports.rehearsal import lock_out_words
from fidelitas.reports.report import Part, Report
from fidelitas.reports.table import Table
from fidelitas.rights import RightKind
from fidelitas.text import clipped, decode

__all__ = ["narrowing_report"]

_LEFT = {
    Left.ROOT: "root's own: sudo gives root nothing that root lacks",
    Left.ELSEWHERE: "about other hosts than those whose logs were read",
    Left.BANS: "only denies",
    Left.NOBODY: "about accounts that these hosts do not have",
    Left.NOT_ASKED: "about other accounts",
    Left.NO_FORM: "could not be written again so that it means the same",
    Left.TIGHT: "all that it allows was used",
    Left.UNUSED: "nothing in these logs used it",
    Left.NOT_A_FILE: "is stored in a directory, not in a file",
}
_WAY_TO_ROOT = "Keep a way to root: the rules marked break-glass (--keep-break-glass), or a rule for a break-glass account."
_MOST = 20
_LONGEST = 120


def narrowing_report(proposals: Sequence[Proposal], without_logs: Sequence[str]) -> Report:
    """Return narrower policies with their proof; `without_logs` are hosts with a policy of which no log was read."""
    return Report(
        answer=lambda: [*_answer(proposals), *_unlogged(without_logs)],
        parts=lambda: [part for one in proposals for part in _parts(one)],
        rows=lambda: [_uses_table([use for one in proposals for use in one.replayed])],
        document=lambda: {
            "schema": "fidelitas/narrowing/1",
            "policies": [_document(one) for one in proposals],
            "hosts_without_logs": list(without_logs),
        },
    )


def _answer(proposals: Sequence[Proposal]) -> list[str]:
    uses = [use for one in proposals for use in one.replayed]
    total, lost = _count(uses), [use for use in uses if not use.allowed]
    other = _count(use for use in lost if use.fate.kind is FateKind.REPLACED)
    spans = [one.span for one in proposals if one.span is not None]
    window = f" from {min(span[0] for span in spans).date()} to {max(span[1] for span in spans).date()}" if spans else ""
    hosts = counted(sum(len(one.hosts) for one in proposals), "host")
    statements = [narrowed for one in proposals for narrowed in one.changed]
    granted, unused = sum(one.grants for one in statements), sum(not one.used for one in statements)
    emptied = len(statements) - granted - unused
    locked = sorted({one.after.subject for proposal in proposals for one in proposal.rehearsals if one.locked_out})
    fates = f"{total - _count(lost)} would be allowed as they are, {other} by another command, {_count(lost) - other} refused"
    return [
        f"{counted(total, 'logged use')} of sudo on {hosts}{window}: {fates}",
        f"{counted(granted, 'statement')} narrowed, {unused} taken out because nothing used them"
        + (f", {emptied} because all that used them gives root" if emptied else ""),
        *([f"LOCK-OUT on {' '.join(locked)}"] if locked else []),
    ]


def _unlogged(without_logs: Sequence[str]) -> list[str]:
    if not without_logs:
        return []
    return [f"no log of {listed(without_logs, 5, 'host')} was read: what is used there is not known, and nothing is proposed for it"]


def _count(uses: Iterable[Replayed]) -> int:
    return sum(one.use.count for one in uses)


def _parts(one: Proposal) -> list[Part]:
    hosts = listed(one.hosts, 5, "host")
    lost = _count(one.lost)
    parts: list[Part] = [
        Block(f"{hosts}: of {counted(_count(one.replayed), 'logged use')} the narrower policy refuses {lost}", tuple(_statements(one)))
    ]
    replaced = [use for use in one.lost if use.fate.kind is FateKind.REPLACED]
    refused = [use for use in one.lost if use.fate.kind is not FateKind.REPLACED]
    for title, table in (
        ("Another command in place of the one that was used", _instead_table(replaced) if replaced else None),
        ("Uses that would be refused", _refused_table(refused) if refused else None),
        ("Rights before and after", _rights_table(one) if any(change.gained or change.lost for change in one.rehearsals) else None),
    ):
        if table is not None:
            parts += ["\n", f"{title}\n", table]
    parts += _warnings(one)
    return [*parts, "\n"]


def _warnings(one: Proposal) -> list[Part]:
    parts: list[Part] = []
    for rehearsal in one.rehearsals:
        if rehearsal.locked_out:
            text = f"LOCK-OUT on {rehearsal.after.subject}: {lock_out_words(rehearsal.locked_out)}"
            parts += ["\n", Block(text, (Row(_WAY_TO_ROOT),), style="bold red")]
    eased = [change for rehearsal in one.rehearsals for change in rehearsal.altered if change.turn is Turn.EASED]
    if eased:
        names = listed(list(dict.fromkeys(str(change.holding.principal) for change in eased)), 6, "holder")
        hint = Row("A statement that stays asks for less than the later one that is taken out.")
        parts += ["\n", Block(f"held on easier terms than before by {names}", (hint,), style="bold red")]
    if one.refused_now:
        uses = sum(use.count for use in one.refused_now)
        parts += ["\n", f"{counted(uses, 'logged use')} would be refused by the policy in force already, and count for nothing here\n"]
    if one.unused_hosts:
        parts += ["\n", f"no use of sudo is logged on {listed(one.unused_hosts, 5, 'host')}, which have the same policy\n"]
    return parts


def _statements(one: Proposal) -> Iterable[Row]:
    for narrowed in one.narrowed:
        if narrowed.left is None:
            yield from _changed(narrowed)
    kept: dict[Left, list[Narrowed]] = {}
    for narrowed in one.narrowed:
        if narrowed.left is not None:
            kept.setdefault(narrowed.left, []).append(narrowed)
    for left, some in kept.items():
        places = ", ".join(f"{each.statement.path}:{each.statement.line}" for each in some[:6])
        more = f" and {len(some) - 6} more" if len(some) > 6 else ""
        why = f" ({some[0].why})" if some[0].why else ""
        yield Row(f"stays: {places}{more}: {_LEFT[left]}{why}", style="dim")


def _changed(one: Narrowed) -> Iterable[Row]:
    at = f"{one.statement.path}:{one.statement.line}"
    text = clipped(" ".join(one.statement.text.split()), _LONGEST)
    state = "" if one.grants else "    taken out: all that used it gives root" if one.used else "    unused: taken out"
    yield Row(f"{at}    {text}{state}", style="bold")
    for rule in one.rules:
        yield from _rule(rule)


def _rule(rule: NewRule) -> Iterable[Row]:
    mark = ""
    if rule.kind is FateKind.BREAK_GLASS:
        mark = "break-glass, " + ("kept: " if rule.active else "not granted: ")
    elif rule.rare:
        mark = "rare: "
    for number, line in enumerate(rule.text.split("\n")):
        yield Row((mark if number == 0 else "") + line.strip(), indent=6 if number == 0 else 10)
    if not rule.ban:
        yield Row(evidence_of(rule), indent=10, style="dim")


def _by(uses: Sequence[Replayed]) -> str:
    return listed(sorted({one.use.account for one in uses}), 5, "account")


def _alike(uses: Sequence[Replayed]) -> list[list[Replayed]]:
    found: dict[tuple[str, str], list[Replayed]] = {}
    for one in uses:
        found.setdefault((one.use.command, _why(one)), []).append(one)
    return sorted(found.values(), key=lambda some: (-_count(some), some[0].use.command))


def _why(one: Replayed) -> str:
    if one.fate.reason:
        return one.fate.reason
    if one.after.password and not one.before.password and one.use.without_terminal:
        return "would be asked for a password, and there was no terminal"
    return one.after.reason or "no rule is left that allows it"


def _instead_table(uses: Sequence[Replayed]) -> Table:
    rows = [
        (some[0].use.command, f"{some[0].fate.path} {some[0].fate.arguments}", str(_count(some)), _by(some), some[0].fate.reason)
        for some in _alike(uses)
    ]
    columns = ("used", "allowed instead", "times", "by", "why")
    return Table(columns=columns, rows=tuple(rows), may_fold=frozenset({"why", "by"}), least=("why",))


def _refused_table(uses: Sequence[Replayed]) -> Table:
    alike = _alike(uses)
    rows = [
        (clipped(some[0].use.command, _LONGEST), str(_count(some)), _by(some), some[0].fate.kind.value, _why(some[0]))
        for some in alike[:_MOST]
    ]
    if len(alike) > _MOST:
        rows.append((f"and {len(alike) - _MOST} more commands", str(_count([one for some in alike[_MOST:] for one in some])), "", "", ""))
    return Table(columns=("command", "times", "by", "kind", "why"), rows=tuple(rows), may_fold=frozenset({"command", "why", "by"}))


def _rights_table(one: Proposal) -> Table:
    """Return what holders lose and what they have in its place, those with the same together."""
    found: dict[tuple[str, str], list[str]] = {}
    for rehearsal in one.rehearsals:
        for holder in dict.fromkeys(str(change.holding.principal) for change in (*rehearsal.lost, *rehearsal.gained)):
            root = any(held.right.kind is RightKind.ROOT and str(held.principal) == holder for held in rehearsal.after.own_holdings)
            lost, gained = (_rights(some, holder, root=root) for some in (rehearsal.lost, rehearsal.gained))
            names = found.setdefault((lost, gained), [])
            if holder not in names:
                names.append(holder)
    rows = [(listed(names, 8, "holder"), lost or "-", gained or "-") for (lost, gained), names in found.items()]
    return Table(columns=("holder", "before", "after"), rows=tuple(rows), may_fold=frozenset({"holder", "before", "after"}))


def _rights(changes: Sequence[HeldChange], holder: str, *, root: bool) -> str:
    """Return what changes for a holder, with root where that is still held."""
    rights = [str(change.holding.right) for change in changes if str(change.holding.principal) == holder]
    return first_rights(list(dict.fromkeys([*(["root"] if root else []), *rights])))


def _uses_table(uses: Sequence[Replayed]) -> Table:
    return Table(
        columns=("subject", "account", "as", "command", "times", "fate", "instead", "allowed", "why"),
        rows=tuple(
            (
                one.subject,
                one.use.account,
                one.use.target,
                one.use.command,
                str(one.use.count),
                one.fate.kind.value,
                f"{one.fate.path} {one.fate.arguments}".strip() if one.fate.kind is FateKind.REPLACED else "",
                "yes" if one.allowed else "no",
                "" if one.allowed else _why(one),
            )
            for one in uses
        ),
        may_fold=frozenset({"command", "instead", "why"}),
    )


def _document(one: Proposal) -> dict[str, Any]:
    return {
        "hosts": list(one.hosts),
        "hosts_without_use": list(one.unused_hosts),
        "from": one.span[0].isoformat() if one.span is not None else None,
        "to": one.span[1].isoformat() if one.span is not None else None,
        "statements": [_statement_document(narrowed) for narrowed in one.narrowed],
        "files": {path: decode(content) for path, content in one.files.items()},
        "uses": [_use_document(use) for use in one.replayed],
        "refused_already": sum(use.count for use in one.refused_now),
        "rights": [
            {
                "subject": rehearsal.after.subject,
                "lost": [holding_document(rehearsal.before, change.holding) for change in rehearsal.lost],
                "gained": [holding_document(rehearsal.after, change.holding) for change in rehearsal.gained],
                "lock_out": lock_out_words(rehearsal.locked_out) if rehearsal.locked_out else None,
            }
            for rehearsal in one.rehearsals
        ],
    }


def _statement_document(one: Narrowed) -> dict[str, Any]:
    return {
        "path": one.statement.path,
        "line": one.statement.line,
        "last_line": one.statement.last_line,
        "text": one.statement.text,
        "left": one.left,
        "why": one.why or (_LEFT[one.left] if one.left is not None else None),
        "rules": [
            {
                "text": rule.text,
                "active": rule.active,
                "kind": "ban" if rule.ban else "break-glass" if rule.kind is FateKind.BREAK_GLASS else "rare" if rule.rare else "used",
                "uses": sum(use.count for use in rule.uses),
                "accounts": sorted({use.account for use in rule.uses}),
                "places": [place_document(use.last.place) for use in rule.uses[:_MOST]],
            }
            for rule in (one.rules if one.left is None else ())
        ],
    }


def _use_document(one: Replayed) -> dict[str, Any]:
    return {
        "subject": one.subject,
        "account": one.use.account,
        "as": one.use.target or None,
        "group": one.use.group or None,
        "command": one.use.command,
        "times": one.use.count,
        "days": len(one.use.days),
        "last": one.use.last.at.isoformat() if one.use.last.at is not None else None,
        "place": place_document(one.use.last.place),
        "fate": one.fate.kind,
        "instead": f"{one.fate.path} {one.fate.arguments}".strip() if one.fate.kind is FateKind.REPLACED else None,
        "allowed": one.allowed,
        "why": None if one.allowed else _why(one),
    }
