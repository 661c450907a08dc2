"""Logged uses of sudo against a policy: as blocks, and as part of JSON documents."""

from collections.abc import Sequence
from typing import Any

from fidelitas.facts import SudoRule
from fidelitas.replay import Replay, Replayed
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.numbers import counted
from fidelitas.reports.places import place_document
from fidelitas.reports.refusals import cause_words
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table

__all__ = ["replay_blocks", "replay_document", "replay_report", "replay_table"]

_MOST_SHOWN = 20


def replay_report(replays: Sequence[Replay]) -> Report:
    """Return what policies say of the uses of sudo that were logged."""
    return Report(
        answer=lambda: [_answer(replays)],
        parts=lambda: replay_blocks(replays, whole=True),
        rows=lambda: [replay_table(replays)],
        document=lambda: {"schema": "fidelitas/replay/1", "subjects": replay_document(replays)},
    )


def _answer(replays: Sequence[Replay]) -> str:
    """Return how many of the uses that were logged the policy would refuse."""
    total = sum(use.count for one in replays for use in one.used)
    lost = sum(use.count for one in replays for use in one.lost)
    unused = sum(len(one.unused) for one in replays)
    where = counted(len(replays), "host")
    return f"{counted(total, 'logged use')} of sudo on {where}: the policy refuses {lost}; {counted(unused, 'rule')} not used in these logs"


def replay_blocks(replays: Sequence[Replay], *, whole: bool) -> list[Block]:
    """Return what a policy would refuse of what was used; with `whole` also why what was refused was, and unused rules."""
    blocks = []
    for one in replays:
        total = sum(use.count for use in one.used)
        lost = sum(use.count for use in one.lost)
        headline = f"{one.subject}: of {total} logged uses of sudo the policy refuses {lost}"
        blocks.append(Block(headline, _uses(one.lost), style="bold red" if lost else "bold"))
        if not whole:
            continue
        if one.refused:
            blocks.append(Block(f"{one.subject}: refused, and why", _uses(one.refused), style="bold"))
        if one.unused:
            blocks.append(Block(f"{one.subject}: {len(one.unused)} rules that nothing in these logs used", _rules(one.unused)))
    return blocks


def _uses(uses: Sequence[Replayed]) -> tuple[Row, ...]:
    rows = []
    for use in sorted(uses, key=lambda use: (use.last.account, -use.count, use.last.command))[:_MOST_SHOWN]:
        event = use.last
        times = f"{use.count} times, last " if use.count > 1 else ""
        when = f"{event.at:%Y-%m-%d %H:%M}" if event.at is not None else "at a time not known"
        as_whom = f" as {event.target}" if event.target not in ("", "root") else ""
        rows.append(Row(f"{event.account}: {event.command}{as_whom}  ({times}{when})"))
        reasons = tuple(map(cause_words, use.why)) or tuple(filter(None, (_reason(use),)))
        rows += [Row(reason, indent=8, style="dim") for reason in reasons]
    more = len(uses) - _MOST_SHOWN
    return (*rows, *([Row(f"and {more} more")] if more > 0 else []))


def _reason(use: Replayed) -> str:
    rule = use.decision.rule
    if rule is not None:
        return f"{rule.place.in_file()}    {rule.statement}"
    unsure = "a password in it is masked, so that rules on its arguments may not fit" if use.masked else None
    return "; ".join(filter(None, (use.decision.reason, unsure)))


def _rules(rules: Sequence[SudoRule]) -> tuple[Row, ...]:
    rows = [Row(f"{rule.place.in_file()}    {rule.statement}", style="dim") for rule in rules[:_MOST_SHOWN]]
    more = len(rules) - _MOST_SHOWN
    return (*rows, *([Row(f"and {more} more")] if more > 0 else []))


def replay_table(replays: Sequence[Replay]) -> Table:
    """Return a row for each use, or refusal, and what the policy says of it."""
    return Table(
        columns=("subject", "account", "as", "command", "times", "then", "decision", "place"),
        rows=tuple(
            (
                one.subject,
                use.last.account,
                use.last.target,
                use.last.command,
                str(use.count),
                use.last.kind.value,
                use.decision.verdict.value,
                use.decision.rule.place.in_file() if use.decision.rule else "",
            )
            for one in replays
            for use in (*one.used, *one.refused)
        ),
        may_fold=frozenset({"command", "place"}),
    )


def replay_document(replays: Sequence[Replay]) -> list[dict[str, Any]]:
    """Return a JSON object for each host."""
    return [
        {
            "subject": one.subject,
            "used": [_use_document(use) for use in one.used],
            "refused": [_use_document(use) for use in one.refused],
            "unused_rules": [{"place": place_document(rule.place), "text": rule.statement} for rule in one.unused],
        }
        for one in replays
    ]


def _use_document(use: Replayed) -> dict[str, Any]:
    event, rule = use.last, use.decision.rule
    return {
        "account": event.account,
        "as": event.target or None,
        "group": event.group or None,
        "command": event.command,
        "count": use.count,
        "last": event.at.isoformat() if event.at is not None else None,
        "log": place_document(event.place),
        "decision": use.decision.verdict.value,
        "reason": use.decision.reason or None,
        "rule": None if rule is None else {"place": place_document(rule.place), "text": rule.statement},
        "masked": use.masked,
        "why": [cause_words(cause) for cause in use.why],
        "causes": [cause.kind for cause in use.why],
    }
