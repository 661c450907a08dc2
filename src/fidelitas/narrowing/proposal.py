"""A sudo policy narrowed to what was used of it, and the proof: every logged use asked again, and rights before and after.

    uses ─ the policy in force ─► which rule allowed each ─ fates, forms ─► rules ─► files ─► the same uses asked again

Pure.  Hosts whose policies are the same text share one proposal, since one file is what people edit and roll out.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.audit import rights_in
from fidelitas.errors import RequestError
from fidelitas.inquiry import Inquiry
from fidelitas.languages.evidence import HostEvidence
from fidelitas.narrowing.fates import Fate, FateKind, decide_fate
from fidelitas.narrowing.lines import Allotted, Narrowed, Narrowing, NewRule, is_rare, new_rules
from fidelitas.narrowing.spelling import exact_arguments, exact_path
from fidelitas.narrowing.statements import Left, Statement, statements_of, why_left
from fidelitas.narrowing.texts import edited_files
from fidelitas.narrowing.uses import Use, span_of
from fidelitas.rehearsal import Rehearsal, rehearse
from fidelitas.revisions import family_files
from fidelitas.rights import Identity, Mechanism, RightKind, Takings
from fidelitas.rights.linux.sudo import Decision, Policy, Question, Verdict, leaves

__all__ = ["HostCase", "Narrowed", "Proposal", "Replayed", "narrow", "shared_policies"]

# The first version of sudo that knows regular expressions in commands (sudoers(5), "Regular expressions").
_EXPRESSIONS = (1, 9, 10)


class HostCase(Struct):
    """A host with its newest evidence and the logged uses of sudo on it."""

    subject: str
    evidence: HostEvidence
    uses: list[Use] = field(default_factory=list)
    takings: Takings | None = None  # what hosts take of directories
    _inquiry: Inquiry | None = None

    @property
    def inquiry(self) -> Inquiry:
        """The policy in force, ready for questions."""
        if self._inquiry is None:
            self._inquiry = Inquiry(self.evidence, takings=self.takings)
        return self._inquiry

    @property
    def policy(self) -> Policy:
        """The policy in force."""
        return self.inquiry.policy


class Replayed(Struct, frozen=True, kw_only=True):
    """A logged use that the policy in force allows, what was meant to become of it, and what the narrower policy says."""

    subject: str
    use: Use
    fate: Fate
    before: Decision
    after: Decision

    @property
    def allowed(self) -> bool:
        """Whether the narrower policy allows it, without a password where no terminal was there to type it."""
        asks_anew = bool(self.after.password and not self.before.password and self.use.without_terminal)
        return self.after.verdict is Verdict.ALLOWED and not asks_anew


class Proposal(Struct, kw_only=True):
    """A narrower policy for the hosts that share one, and what it does.

    `unused_hosts` are those of which no use of sudo is logged, `refused_now` the uses that the policy in force would refuse already.
    """

    hosts: tuple[str, ...]
    unused_hosts: tuple[str, ...]
    span: tuple[datetime, datetime] | None
    narrowed: list[Narrowed]
    files: Mapping[str, bytes]
    replayed: tuple[Replayed, ...]
    refused_now: tuple[Use, ...]
    rehearsals: tuple[Rehearsal, ...]

    @property
    def lost(self) -> tuple[Replayed, ...]:
        """The uses that the narrower policy refuses."""
        return tuple(one for one in self.replayed if not one.allowed)

    @property
    def changed(self) -> list[Narrowed]:
        """The statements that would change."""
        return [one for one in self.narrowed if one.left is None]


def shared_policies(cases: Iterable[HostCase]) -> list[list[HostCase]]:
    """Return the hosts that have a sudo policy in files, those with the same text together."""
    found: dict[tuple[tuple[str, bytes], ...], list[HostCase]] = {}
    for case in cases:
        files = tuple(sorted(family_files("sudo", case.evidence).items()))
        if files:
            found.setdefault(files, []).append(case)
    return list(found.values())


def narrow(cases: Sequence[HostCase], wanted: Callable[[Identity], bool], asked: Narrowing) -> Proposal:
    """Return a narrower policy for hosts that share one, of what accounts that are wanted used."""
    uses = [use for case in cases for use in case.uses]
    span = span_of(uses)
    expressions = all(case.inquiry.sudo_version >= _EXPRESSIONS for case in cases)
    asked = replace(asked, days=_days(span), expressions=expressions)
    return _Narrower(cases, wanted, asked, span).proposal()


def _days(span: tuple[datetime, datetime] | None) -> int:
    return (span[1] - span[0] + timedelta(days=1)).days if span is not None else 0


class _Narrower:
    """One policy on its way: what was allotted to which rule, and the statements."""

    def __init__(
        self,
        cases: Sequence[HostCase],
        wanted: Callable[[Identity], bool],
        asked: Narrowing,
        span: tuple[datetime, datetime] | None,
    ) -> None:
        self._cases, self._asked, self._span = cases, asked, span
        self._files = family_files("sudo", cases[0].evidence)
        self._statements = statements_of(cases[0].policy)
        policies = [case.policy for case in cases]
        self._left = {id(one): why_left(one, policies, wanted, self._files) for one in self._statements}
        self._allotted: dict[int, list[Allotted]] = {}
        self._by_use: dict[int, Allotted] = {}
        self._refused: list[Use] = []

    def proposal(self) -> Proposal:
        for case in self._cases:
            self._allot(case)
        self._decide_fates()
        narrowed = [self._narrowed(one) for one in self._statements]
        while self._demote(narrowed):
            narrowed = [self._narrowed(one) for one in self._statements]
        return self._proved(narrowed)

    def _allot(self, case: HostCase) -> None:
        """Note for each use of a host which rule allows it."""
        rules = self._cases[0].policy.facts.rules
        chosen = any(default.option == "runas_default" for default in self._cases[0].policy.facts.defaults)
        numbers = {id(rule): number for number, rule in enumerate(case.policy.facts.rules)}
        for use in case.uses:
            decision = _ask(case.inquiry, use)
            if decision.verdict is Verdict.ALLOWED and decision.rule is not None:
                number = numbers[id(decision.rule)]
                rule = rules[number] if number < len(rules) else decision.rule  # one of a directory that this host alone takes
                names_nobody = rule.run_as_users is None and rule.run_as_groups is None
                one = Allotted(use, rule, decision, Fate(FateKind.KEPT), names_nobody and chosen)
                self._allotted.setdefault(number, []).append(one)
                self._by_use[id(use)] = one
            else:
                self._refused.append(use)

    def _decide_fates(self) -> None:
        alike: dict[tuple[str, str], list[Use]] = {}
        for one in self._by_use.values():
            alike.setdefault((one.use.path, one.use.arguments), []).append(one.use)
        by_host = {id(use): case for case in self._cases for use in case.uses}
        for one in self._by_use.values():
            case = by_host[id(one.use)]
            rare = is_rare(alike[one.use.path, one.use.arguments], self._asked.days)
            one.fate = decide_fate(one.use, one.rule, case.inquiry.states, case.policy.population, rare=rare)
            if one.fate.kind in (FateKind.KEPT, FateKind.REPLACED):
                one.fate = _stateable(one.fate)

    def _narrowed(self, statement: Statement) -> Narrowed:
        left = self._left[id(statement)]
        if left is not None:
            return Narrowed(statement, left)
        used = any(self._allotted.get(number) for number in statement.rules)
        if not used and self._asked.keep_unused:
            return Narrowed(statement, Left.UNUSED)
        try:
            rules = new_rules(statement, self._allotted, self._cases[0].policy, self._asked)
        except ValueError as error:
            return Narrowed(statement, Left.NO_FORM, why=str(error))
        return Narrowed(statement, Left.TIGHT if self._is_tight(statement, rules) else None, rules, used=used)

    def _is_tight(self, statement: Statement, rules: Sequence[NewRule]) -> bool:
        """Return whether the rules in a statement's place would say the same."""
        policy = self._cases[0].policy
        stated = {
            (leaf.command.path, leaf.command.arguments)
            for rule in statement.rules.values()
            if not rule.command.negated
            for leaf in leaves(policy, rule.command)
            if leaf.allowed
        }
        found = set[tuple[str, str]]().union(*(rule.stated for rule in rules if rule.kind is FateKind.KEPT))
        one_head = len({(rule.who, rule.rest) for rule in rules if not rule.ban}) == 1
        eased = any("NOPASSWD" not in rule.rest and not rule.ban for rule in rules) and "NOPASSWD" in statement.text
        return found == stated and one_head and not eased and not self._asked.by_account

    def _demote(self, narrowed: Sequence[Narrowed]) -> bool:
        """Let go of commands by which an account would still be root, as the rights of the narrower policy show; return whether any."""
        files = self._edited(narrowed)
        rules = {rule.text.replace(" \\\n   ", "") for one in narrowed if one.left is None for rule in one.rules if rule.active}
        found = False
        for case in self._cases:
            for command, reason in _still_root(case, files, rules):
                for one in self._by_use.values():
                    if one.fate.kind in (FateKind.KEPT, FateKind.REPLACED) and command == _shown(one.fate):
                        one.fate = Fate(FateKind.GIVES_ROOT, reason=reason)
                        found = True
        return found

    def _edited(self, narrowed: Sequence[Narrowed]) -> dict[str, bytes]:
        return edited_files(self._files, (one for one in narrowed if one.left is None), self._span)

    def _proved(self, narrowed: list[Narrowed]) -> Proposal:
        files = self._edited(narrowed)
        replayed, rehearsals = [], []
        for case in self._cases:
            edited = with_files(case.evidence, files)
            inquiry = Inquiry(edited, takings=case.takings)
            replayed += [
                Replayed(subject=case.subject, use=use, fate=one.fate, before=one.decision, after=_ask(inquiry, use))
                for use in case.uses
                if (one := self._by_use.get(id(use))) is not None
            ]
            rehearsals.append(rehearse(rights_in(case.evidence, case.takings), rights_in(edited, case.takings)))
        return Proposal(
            hosts=tuple(case.subject for case in self._cases),
            unused_hosts=tuple(case.subject for case in self._cases if not case.uses),
            span=self._span,
            narrowed=narrowed,
            files=files,
            replayed=tuple(replayed),
            refused_now=tuple(self._refused),
            rehearsals=tuple(rehearsals),
        )


def _stateable(fate: Fate) -> Fate:
    """Return what becomes of a use that is kept, or that sudoers has no form for its arguments."""
    try:
        exact_path(fate.path)
        exact_arguments(fate.arguments)
    except ValueError as error:
        return Fate(FateKind.NO_FORM, reason=str(error))
    return fate


def _shown(fate: Fate) -> str:
    return f"{fate.path} {fate.arguments}" if fate.arguments else f'{fate.path} ""'


def _still_root(case: HostCase, files: Mapping[str, bytes], rules: Iterable[str]) -> list[tuple[str, str]]:
    """Return commands of new rules by which an account would still be root, and why."""
    known = set(rules)
    kinds = (RightKind.ROOT, RightKind.READ_SECRETS, RightKind.WRITE_EVIDENCE)
    return [
        (link.by.name, link.because)
        for holding in rights_in(with_files(case.evidence, files), case.takings).own_holdings
        if holding.right.kind in kinds
        for route in holding.routes
        for link in route.links
        if link.by.mechanism is Mechanism.SUDO and link.by.name is not None and " ".join((link.quote or "").split()) in known
    ]


def _ask(inquiry: Inquiry, use: Use) -> Decision:
    question = Question(account=use.account, command=use.words, run_as=use.target or None, run_as_group=use.group or None, at=inquiry.taken)
    try:
        return inquiry.ask(question).decision
    except RequestError as error:  # an account or group that is not there any more
        return Decision(verdict=Verdict.NO_RULE, reason=str(error))


class _Edited:
    """Evidence with other files."""

    def __init__(self, evidence: HostEvidence, files: Mapping[str, bytes]) -> None:
        self._evidence = evidence
        self.files = {**evidence.files, **files}

    def __getattr__(self, name: str) -> Any:
        return getattr(self._evidence, name)


def with_files(evidence: HostEvidence, files: Mapping[str, bytes]) -> HostEvidence:
    """Return evidence in which some files have another content."""
    return _Edited(evidence, files)
