"""The files of a policy with narrower rules in the place of statements: what was there stays readable, as a comment."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime

from fidelitas.narrowing.fates import FateKind
from fidelitas.narrowing.lines import Narrowed, NewRule, days_of
from fidelitas.text import clipped, decode, escape_control

__all__ = ["edited_files", "evidence_of"]

_MOST_NAMES, _LONGEST = 6, 200


def edited_files(files: Mapping[str, bytes], narrowed: Iterable[Narrowed], span: tuple[datetime, datetime] | None) -> dict[str, bytes]:
    """Return the files in which statements are replaced by rules, by path; a statement without rules is taken out."""
    by_file: dict[str, list[Narrowed]] = {}
    for one in narrowed:
        by_file.setdefault(one.statement.path, []).append(one)
    return {path: _edited(files[path], found, span) for path, found in by_file.items()}


def _edited(content: bytes, narrowed: Iterable[Narrowed], span: tuple[datetime, datetime] | None) -> bytes:
    lines = decode(content).split("\n")
    for one in sorted(narrowed, key=lambda one: -one.statement.line):
        at = slice(one.statement.line - 1, one.statement.last_line)
        lines[at] = _block(lines[at], one, span)
    return "\n".join(lines).encode("utf-8", "surrogateescape")


def _block(old: Sequence[str], one: Narrowed, span: tuple[datetime, datetime] | None) -> list[str]:
    window = f"from {span[0].date()} to {span[1].date()}" if span is not None else "in the logs"
    state = "narrowed by its use" if one.grants else "taken out, since all that used it gives root," if one.used else "unused"
    block = [_comment(f"{state} {window}; it was:"), *(_comment(f"  {line}") for line in old)]
    for rule in one.rules:
        block += [_comment(line) for line in _notes(rule)]
        block += [rule.text] if rule.active else [_comment(f"  {rule.text}")]
    return block


def _notes(rule: NewRule) -> list[str]:
    """Return what is known of a new rule, as lines of a comment."""
    if rule.ban:
        return []
    told = evidence_of(rule)
    if rule.kind is FateKind.BREAK_GLASS:
        state = "kept as it was asked for" if rule.active else "not granted"
        return [f"break-glass, {state}: {told}; {'; '.join(rule.reasons)}"]
    return [f"rare, to be kept only if it is needed still: {told}" if rule.rare else told]


def evidence_of(rule: NewRule) -> str:
    """Return the uses that speak for a rule: how many, by whom, on how many days, where the last is recorded."""
    uses = rule.uses
    accounts = sorted({use.account for use in uses})
    names = ", ".join(accounts[:_MOST_NAMES]) + (f" and {len(accounts) - _MOST_NAMES} more" if len(accounts) > _MOST_NAMES else "")
    count, days = sum(use.count for use in uses), len(days_of(uses))
    last = max((use.last for use in uses), key=lambda event: (event.at is not None, event.at))
    when = f", last {last.at.date()}" if last.at is not None else ""
    return f"{count} use{'s' * (count != 1)} by {names} on {days} day{'s' * (days != 1)}{when} ({last.place})"


def _comment(text: str) -> str:
    """Return a line of a comment: neither text of a log nor a backslash at its end can make more of it."""
    return f"# {clipped(escape_control(text.replace(chr(9), ' ')), _LONGEST).rstrip().rstrip(chr(92))}".rstrip()
