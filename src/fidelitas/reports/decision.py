"""A decision in words: as a block, and as the JSON document `may`."""

import shlex
from typing import Any

from fidelitas.facts import SudoRule, Tag
from fidelitas.inquiry import Answer
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.obstacles import cause, obstacle_document, remedy
from fidelitas.reports.places import place_document
from fidelitas.reports.refusals import difference, near_document
from fidelitas.reports.report import Report
from fidelitas.rights.linux.sudo import Decision, Policy, Question, Verdict

__all__ = ["decision_block", "decision_document", "decision_report"]

_STYLES = {Verdict.ALLOWED: "bold green", Verdict.DENIED: "bold red", Verdict.NO_RULE: "bold red"}


def decision_report(subject: str, question: Question, answer: Answer, policy: Policy) -> Report:
    """Return the answer to a question and what it rests on."""
    asked = (subject, question, answer, policy)
    return Report(
        answer=lambda: _answer(subject, question, answer),
        onward=lambda: [f"fidelitas account {shlex.quote(question.account)}"],
        parts=lambda: [decision_block(*asked)],
        document=lambda: decision_document(*asked),
    )


def _answer(subject: str, question: Question, answer: Answer) -> list[str]:
    """Return yes or no with the question in one line, the cause, and what removes it."""
    who = question.run_as or (question.account if question.run_as_group else "root")
    group = f", group {question.run_as_group}," if question.run_as_group else ""
    allowed = answer.decision.verdict is Verdict.ALLOWED
    verdict = "allowed" if allowed else "refused"
    first, *rest = [*answer.obstacles, None]
    lines = [
        f"{verdict}: {question.account} may {'' if allowed else 'not '}run {shlex.join(question.command)} as {who}{group} on {subject}"
        + (f": {cause(first)}" if first is not None and not allowed else "")
    ]
    for one in [*([first] if allowed else []), *rest]:
        lines += [f"but {cause(one)}"] if one is not None else []
    return [*lines, *(f"To allow it: {remedy(one)}" for one in answer.obstacles)]


def decision_block(subject: str, question: Question, answer: Answer, policy: Policy) -> Block:
    """Return the rule with its chain, what is asked, and where it is no, what came nearest."""
    decision, rows = answer.decision, list[Row]()
    if decision.path is not None and decision.path != question.command[0]:
        rows.append(Row(f"{question.command[0]} is {decision.path}"))
    if decision.rule is not None:
        rows.append(Row(f"{decision.rule.place}    {decision.rule.statement}", indent=4))
        rows += [Row(text, indent=8) for text in _chain(decision, question, policy)]
    if decision.reason:
        rows.append(Row(decision.reason))
    rows += [Row(f"only if {text}", style="bold") for text in decision.conditions]
    if decision.password is not None:
        rows.append(Row("asks for a password" if decision.password else "asks for no password"))
        rows += [Row(text) for text in _tags(decision)]
    rows += [Row(text, label="note:") for text in answer.notes]
    rows += [Row(f"it is not known whether {text}; assumed false", style="bold") for text in sorted(policy.taken_as_no or ())]
    for one in decision.near:
        rows += [Row(difference(one), label="near:"), Row(f"{one.rule.place}    {one.rule.statement}", indent=8)]
    rows += [Row(f"{rule.place}    {rule.statement}", label="overridden:", indent=4) for rule in decision.before]
    deciding = "the rule that decides" if decision.rule is not None else "no rule decides"
    return Block(f"{deciding} on {subject}", tuple(rows), style=_STYLES[decision.verdict])


def _chain(decision: Decision, question: Question, policy: Policy) -> list[str]:
    """Return how the account and the command come into the rule: groups and aliases, with their places."""
    words = []
    who = policy.population.by_name.get(question.account)
    match = policy.users(decision.rule.users, who) if who and decision.rule else None
    if match is not None and match.member.value not in ("", question.account):
        words.append(f"{question.account} is in {match.member}")
    aliases = (*(match.aliases if match else ()), *(decision.leaf.aliases if decision.leaf else ()))
    words += [f"through {alias.kind.value} {alias.name} ({alias.place.in_file()})" for alias in aliases]
    if decision.leaf is not None:
        words.append(f"{'the command' if decision.leaf.allowed else 'the ban'} {decision.leaf.command}")
    return words


def _tags(decision: Decision) -> list[str]:
    tags = dict(decision.tags)
    words = []
    if tags.get(Tag.EXEC) is False:
        words.append("the command may run no further commands (NOEXEC)")
    if tags.get(Tag.SETENV):
        words.append("the environment may be set (SETENV)")
    return words


def _rule_document(rule: SudoRule | None) -> dict[str, Any] | None:
    if rule is None:
        return None
    return {**place_document(rule.place), "last_line": rule.last_line, "text": rule.statement}


def decision_document(subject: str, question: Question, answer: Answer, policy: Policy) -> dict[str, Any]:
    """Return the JSON document of a decision."""
    decision = answer.decision
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
        "notes": list(answer.notes),
        "obstacles": [obstacle_document(one) for one in answer.obstacles],
        "not_known": sorted(policy.taken_as_no or ()),
        "overridden": [_rule_document(rule) for rule in decision.before],
        "near": [{**near_document(one), "rule": _rule_document(one.rule)} for one in decision.near],
    }
