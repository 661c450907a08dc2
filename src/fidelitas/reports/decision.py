"""A decision in words: as a block, and as the JSON document `may`."""

from typing import Any

from fidelitas.facts import SudoRule, Tag
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.places import place_document
from fidelitas.reports.refusals import difference, near_document
from fidelitas.reports.report import Report
from fidelitas.rights.linux.sudo import Decision, Policy, Question, Verdict

__all__ = ["decision_block", "decision_document", "decision_report"]

_HEADLINES = {Verdict.ALLOWED: "allowed", Verdict.DENIED: "denied by a rule", Verdict.NO_RULE: "not allowed: no rule is about it"}
_STYLES = {Verdict.ALLOWED: "bold green", Verdict.DENIED: "bold red", Verdict.NO_RULE: "bold yellow"}


def _asked(question: Question) -> str:
    who = question.run_as or ("itself" if question.run_as_group else "the default account (root)")
    group = f", group {question.run_as_group}" if question.run_as_group else ""
    return f"{question.account} runs {' '.join(question.command)} as {who}{group}"


def decision_report(subject: str, question: Question, decision: Decision, notes: tuple[str, ...], policy: Policy) -> Report:
    """Return the answer to a question and what it rests on."""
    asked = (subject, question, decision, notes, policy)
    return Report(parts=lambda: [decision_block(*asked)], document=lambda: decision_document(*asked))


def decision_block(subject: str, question: Question, decision: Decision, notes: tuple[str, ...], policy: Policy) -> Block:
    """Return the answer, the rule with its chain, what is asked, and where it is no, what came nearest."""
    rows = [Row(f"{_asked(question)} on {subject}")]
    if decision.path is not None and decision.path != question.command[0]:
        rows.append(Row(f"{question.command[0]} is {decision.path}"))
    if decision.rule is not None:
        rows.append(Row(f"{decision.rule.place}    {decision.rule.statement}", indent=4, style="cyan"))
        rows += [Row(text, indent=8) for text in _chain(decision, question, policy)]
    if decision.reason:
        rows.append(Row(decision.reason))
    rows += [Row(f"only if {text}", style="yellow") for text in decision.conditions]
    if decision.password is not None:
        rows.append(Row("asks for a password" if decision.password else "asks for no password"))
        rows += [Row(text) for text in _tags(decision)]
    rows += [Row(text, label="note:", style="yellow") for text in notes]
    rows += [Row(f"it is not known whether {text}; assumed false", style="yellow") for text in sorted(policy.taken_as_no or ())]
    for one in decision.near:
        rows += [Row(difference(one), label="near:"), Row(f"{one.rule.place}    {one.rule.statement}", indent=8, style="cyan")]
    rows += [Row(f"{rule.place}    {rule.statement}", label="overridden:", indent=4) for rule in decision.before]
    return Block(_HEADLINES[decision.verdict], tuple(rows), style=_STYLES[decision.verdict])


def _chain(decision: Decision, question: Question, policy: Policy) -> list[str]:
    """Return how the account and the command come into the rule: groups and aliases, with their places."""
    told = []
    who = policy.population.by_name.get(question.account)
    match = policy.users(decision.rule.users, who) if who and decision.rule else None
    if match is not None and match.member.value not in ("", question.account):
        told.append(f"{question.account} is meant by {match.member}")
    aliases = (*(match.aliases if match else ()), *(decision.leaf.aliases if decision.leaf else ()))
    told += [f"through {alias.kind.value} {alias.name} ({alias.place.in_file()})" for alias in aliases]
    if decision.leaf is not None:
        told.append(f"{'the command' if decision.leaf.allowed else 'the ban'} {decision.leaf.command}")
    return told


def _tags(decision: Decision) -> list[str]:
    tags = dict(decision.tags)
    told = []
    if tags.get(Tag.EXEC) is False:
        told.append("the command may run no further commands (NOEXEC)")
    if tags.get(Tag.SETENV):
        told.append("the environment may be set (SETENV)")
    return told


def _rule_document(rule: SudoRule | None) -> dict[str, Any] | None:
    if rule is None:
        return None
    return {**place_document(rule.place), "last_line": rule.last_line, "text": rule.statement}


def decision_document(subject: str, question: Question, decision: Decision, notes: tuple[str, ...], policy: Policy) -> dict[str, Any]:
    """Return the JSON document of a decision."""
    return {
        "schema": "fidelitas/may/1",
        "subject": subject,
        "account": question.account,
        "run_as": question.run_as,
        "run_as_group": question.run_as_group,
        "command": list(question.command),
        "path": decision.path or None,
        "at": question.at.isoformat(),
        "decision": decision.verdict.value,
        "reason": decision.reason or None,
        "conditions": list(decision.conditions),
        "password": decision.password,
        "rule": _rule_document(decision.rule),
        "chain": _chain(decision, question, policy),
        "tags": {tag.value: on for tag, on in decision.tags},
        "notes": list(notes),
        "not_known": sorted(policy.taken_as_no or ()),
        "forestalled": [_rule_document(rule) for rule in decision.before],
        "near": [{**near_document(one), "rule": _rule_document(one.rule)} for one in decision.near],
    }
