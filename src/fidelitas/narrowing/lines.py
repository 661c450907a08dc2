"""The rules that take the place of a statement: just what was used, by whom it was used, each with the uses that speak for it."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date

from msgspec import Struct, field

from fidelitas.facts import Command, MemberKind, SudoRule, Tag
from fidelitas.narrowing.fates import Fate, FateKind
from fidelitas.narrowing.forms import Form, forms_of
from fidelitas.narrowing.spelling import (
    exact_arguments,
    exact_path,
    spelled_command,
    spelled_members,
    spelled_name,
    spelled_options,
    spelled_run_as,
    spelled_tags,
)
from fidelitas.narrowing.statements import Left, Statement
from fidelitas.narrowing.uses import Use
from fidelitas.rights.linux.powers import is_judged
from fidelitas.rights.linux.sudo import Decision, Policy, leaves

__all__ = ["Allotted", "Narrowed", "Narrowing", "NewRule", "days_of", "is_rare", "new_rules"]

# A rule is wrapped where it is longer.
_WIDTH = 140


class Allotted(Struct):
    """A use of one host, the rule that allows it with the decision of the policy in force, and what becomes of it."""

    use: Use
    rule: SudoRule
    decision: Decision
    fate: Fate
    as_default: bool = False  # the rule names nobody to run as, and the policy says for whom that is whom


class Narrowing(Struct, frozen=True, kw_only=True):
    """What is asked: rules for accounts instead of those whom a statement is about; what else is to stay; what the policy's sudo knows."""

    by_account: bool = False
    keep_unused: bool = False
    keep_break_glass: bool = False
    expressions: bool = False  # regular expressions, from sudo 1.9.10 on
    days: int = 0  # how many days the logs tell of


class NewRule(Struct):
    """A rule, with what it allows and the uses that speak for it; one that is not `active` is proposed to people, not granted.

    `who` is its user list, `rest` what follows up to the commands: hosts, run-as list, options and tags.
    """

    who: str
    rest: str
    commands: dict[str, list[Use]] = field(default_factory=dict)
    stated: set[tuple[str, str]] = field(default_factory=set)  # path and pattern of each command
    kind: FateKind = FateKind.KEPT
    rare: bool = False
    ban: bool = False  # a ban of the statement, kept as it was
    active: bool = True
    reasons: tuple[str, ...] = ()

    @property
    def uses(self) -> list[Use]:
        """The uses that speak for it."""
        return [use for uses in self.commands.values() for use in uses]

    @property
    def text(self) -> str:
        """The rule as sudoers(5) has it."""
        commands = sorted(self.commands)
        whole = f"{self.who} {self.rest}{', '.join(commands)}"
        if len(whole) <= _WIDTH or not self.active:
            return whole
        joint = ", \\\n    "
        return f"{self.who} {self.rest}\\\n    {joint.join(commands)}"


class Narrowed(Struct):
    """What becomes of a statement: why it is `left`, or the rules in its place; `used` says whether anything used it."""

    statement: Statement
    left: Left | None = None
    rules: list[NewRule] = field(default_factory=list)
    why: str = ""
    used: bool = True

    @property
    def grants(self) -> bool:
        """Whether anything is granted in its place."""
        return any(rule.active and not rule.ban for rule in self.rules)


def days_of(uses: Iterable[Use]) -> set[date]:
    """Return the days on which any of some uses was."""
    return set[date]().union(*(use.days for use in uses))


def is_rare(uses: Iterable[Use], days: int) -> bool:
    """Return whether something was used on at most one day in thirty of a window; of one of less than two weeks nothing is rare."""
    return days >= 14 and len(days_of(uses)) <= max(1, days // 30)


def new_rules(statement: Statement, allotted: Mapping[int, Sequence[Allotted]], policy: Policy, asked: Narrowing) -> list[NewRule]:
    """Return the rules that take a statement's place, in the order in which sudo has to read them.

    What the statement denies stays where it was among what it allows, since the last match counts.  Raises `ValueError` where the
    statement has no form.
    """
    found: list[NewRule] = []
    segment: list[Allotted] = []
    for number, rule in statement.rules.items():
        bans = _bans(rule, policy)
        if bans:
            found += _segment(segment, asked)
            segment = []
            found.append(_ban(rule, bans))
        segment += () if rule.command.negated else allotted.get(number, ())
    return [*found, *_segment(segment, asked), *_break_glass(statement, allotted, asked)]


def _bans(rule: SudoRule, policy: Policy) -> list[str]:
    """Return what a rule denies: itself where it is negated, what an alias denies among what it allows."""
    member = rule.command
    if member.negated:
        return [f"!{member.value}" if member.command is None else _denied(member.command)]
    if member.command is not None:
        return []
    return [_denied(leaf.command) for leaf in leaves(policy, member) if not leaf.allowed]


def _denied(command: Command) -> str:
    digests = "".join(f"{algorithm}:{value} " for algorithm, value in command.digests)
    return f"{digests}!{spelled_command(Command(path=command.path, arguments=command.arguments))}"


def _ban(rule: SudoRule, bans: Sequence[str]) -> NewRule:
    rest = f"{spelled_members(rule.hosts)} = {spelled_run_as(rule)}{spelled_options(rule.options)}{spelled_tags(rule.tags)}"
    return NewRule(spelled_members(rule.users), rest, {ban: [] for ban in bans}, ban=True)


class _Key(Struct, frozen=True):
    """What uses have in common that one list of arguments is made for."""

    who: str
    rest: str  # hosts, run-as list, options and tags
    path: str
    digests: tuple[tuple[str, str], ...]
    bounds: bool


def _segment(allotted: Sequence[Allotted], asked: Narrowing) -> Iterator[NewRule]:
    """Yield the rules for uses between two bans: those of every day first, then those that are rare."""
    texts: dict[_Key, dict[str, list[Allotted]]] = {}
    for key, one in _keyed(allotted, asked):
        texts.setdefault(key, {}).setdefault(one.fate.arguments, []).append(one)
    rules: dict[tuple[bool, str, str], NewRule] = {}
    for key, by_text in texts.items():
        for form in forms_of(by_text, expressions=asked.expressions, bounds=key.bounds):
            uses = [one.use for text in form.seen for one in by_text[text]]
            rare = is_rare(uses, asked.days)
            rule = rules.setdefault((rare, key.who, key.rest), NewRule(key.who, key.rest, rare=rare))
            _add(rule, key, form, uses)
    yield from _together(rules[key] for key in sorted(rules))


def _together(rules: Iterable[NewRule]) -> list[NewRule]:
    """Return rules, those of accounts that used the same as one that names them all."""
    found: dict[tuple[bool, str, frozenset[str]], NewRule] = {}
    for rule in rules:
        first = found.setdefault((rule.rare, rule.rest, frozenset(rule.commands)), rule)
        if first is not rule:
            first.who = f"{first.who}, {rule.who}"
            for command, uses in rule.commands.items():
                first.commands[command] += uses
    return list(found.values())


def _add(rule: NewRule, key: _Key, form: Form, uses: Sequence[Use]) -> None:
    command = Command(path=exact_path(key.path), arguments=form.pattern, digests=key.digests)
    rule.commands.setdefault(spelled_command(command), []).extend(uses)
    rule.stated.add((key.path, form.pattern))


def _keyed(allotted: Sequence[Allotted], asked: Narrowing) -> Iterator[tuple[_Key, Allotted]]:
    kept = [one for one in allotted if one.fate.kind in (FateKind.KEPT, FateKind.REPLACED)]
    at_no_terminal = {
        (one.fate.path, one.fate.arguments, one.use.account if asked.by_account else "")
        for one in kept
        if one.use.without_terminal and one.decision.password is False
    }
    for one in kept:
        leaf = one.decision.leaf
        if leaf is None:
            continue
        # With one of its own groups an account may run what it may run, which is nothing to give to others.
        by_account = asked.by_account or bool(one.use.group)
        who = spelled_name(one.use.account) if by_account else spelled_members(one.rule.users)
        freely = (one.fate.path, one.fate.arguments, one.use.account if asked.by_account else "") in at_no_terminal
        tags = _tags(one, freely=freely)
        rest = f"{spelled_members(one.rule.hosts)} = {_run_as(one)}{spelled_options(one.rule.options, free_choice=False)}{tags}"
        # Where the rule states arguments itself, a form might allow more than it does; so might one of a program that can do harm.
        alias = one.rule.command.command is None and one.rule.command.kind is not MemberKind.ALL
        bounds = leaf.command.arguments is None and not is_judged(one.fate.path) and not alias
        yield _Key(who, rest, one.fate.path, leaf.command.digests if one.fate.kind is FateKind.KEPT else (), bounds), one


def _tags(one: Allotted, *, freely: bool) -> str:
    """Return the tags of a rule, without leave to set variables; no password only where it was used without a terminal."""
    rule, stated = one.rule, one.rule.tag(Tag.PASSWD)
    tags: list[tuple[Tag, bool]] = [(tag, on) for tag, on in rule.tags if tag is not Tag.PASSWD and not (tag is Tag.SETENV and on)]
    if stated is not None:
        tags.append((Tag.PASSWD, stated or not freely))
    elif one.decision.password is False and not freely:
        tags.append((Tag.PASSWD, True))
    return spelled_tags(tags)


def _run_as(one: Allotted) -> str:
    use = one.use
    user = use.target or "root"
    if one.as_default and not use.group:
        return ""
    if user == use.account and not use.group and any(member.kind is MemberKind.MYSELF for member in one.rule.run_as_users or ()):
        return "() "  # each as itself
    if use.group:
        group = spelled_name(use.group)
        return f"(:{group}) " if user == use.account else f"({spelled_name(user)}:{group}) "
    return f"({spelled_name(user)}) "


def _break_glass(statement: Statement, allotted: Mapping[int, Sequence[Allotted]], asked: Narrowing) -> Iterator[NewRule]:
    """Yield a rule for each account that used, on few days, what gives root: with its password, and only where that is wanted."""
    rules: dict[tuple[str, str], NewRule] = {}
    for number in statement.rules:
        for one in allotted.get(number, ()):
            if one.fate.kind is not FateKind.BREAK_GLASS:
                continue
            try:
                command = spelled_command(Command(path=exact_path(one.use.path), arguments=exact_arguments(one.use.arguments)))
            except ValueError:
                continue  # it has no form; it is in the list of what is not kept
            hosts = spelled_members(statement.rules[number].hosts)
            rest = f"{hosts} = {_run_as(one)}PASSWD: "
            new = NewRule(spelled_name(one.use.account), rest, kind=FateKind.BREAK_GLASS, active=asked.keep_break_glass)
            rule = rules.setdefault((one.use.account, rest), new)
            rule.commands.setdefault(command, []).append(one.use)
            rule.reasons = tuple(dict.fromkeys((*rule.reasons, one.fate.reason)))
    yield from (rules[key] for key in sorted(rules))
