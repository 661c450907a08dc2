"""What changed in an estate: who gained and lost what, and why; findings, accounts and subjects that are new or gone.

The same change on several subjects is one row.  Whose doing it was is shown where a log of the time in between says so.
"""

from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from msgspec import Struct, field

from fidelitas.changes import AccountTurn, EstateChanges, RightChange, SubjectTurn, Turn
from fidelitas.charter import Sanctions
from fidelitas.facts import Gap
from fidelitas.findings import Finding, Severity
from fidelitas.reports.change_causes import Window, cause_document, cause_words, doer
from fidelitas.reports.documents import route_document
from fidelitas.reports.findings import grouped, groups_table, tally
from fidelitas.reports.grouping import merged
from fidelitas.reports.issues import issues_of_changes
from fidelitas.reports.numbers import counted, first_rights, listed
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Part, Report
from fidelitas.reports.sentences import asking, holder
from fidelitas.reports.table import Table
from fidelitas.rights import Holding, PrincipalKind

__all__ = ["Compared", "changes_document", "changes_report", "since_lines"]

_TITLES = {
    Turn.GAINED: "Gained",
    Turn.REPLACED: "Replaced: lost and gained by one change",
    Turn.EASED: "Held on easier terms",
    Turn.ROUTE_ADDED: "One more route to a right that was held before",
    Turn.TIGHTENED: "Held on stricter terms",
    Turn.ROUTE_REMOVED: "One route fewer to a right that is still held",
    Turn.LOST: "Lost",
}
_ON_OTHER_TERMS = frozenset({Turn.EASED, Turn.TIGHTENED})
_ACCOUNTS = {
    AccountTurn.NEW: "new",
    AccountTurn.GONE: "gone",
    AccountTurn.ENABLED: "enabled again",
    AccountTurn.DISABLED: "disabled",
}
_FINDINGS = ("New findings", "Findings that are gone")
_MOST_SUBJECTS, _MOST_NAMES, _MOST_FINDINGS, _MOST_GAPS = 3, 8, 12, 6


class Compared(Struct, frozen=True):
    """The two states that were compared, by what they are called; of surveys also what the logs say of the time between."""

    before: str
    after: str
    window: Window = field(default_factory=Window)
    sanctions: Sanctions | None = None  # what a charter allows
    hosts: bool = False  # two hosts at one time: nothing was gained or lost, one has what the other has not

    @property
    def titles(self) -> Mapping[Turn, str]:
        """The title over each kind of difference in rights."""
        if not self.hosts:
            return _TITLES
        return {
            Turn.GAINED: f"Only on {self.after}",
            Turn.REPLACED: f"Different: {self.before} → {self.after}",
            Turn.EASED: f"On easier terms on {self.after}",
            Turn.ROUTE_ADDED: f"By one more route on {self.after}",
            Turn.TIGHTENED: f"On stricter terms on {self.after}",
            Turn.ROUTE_REMOVED: f"By one more route on {self.before}",
            Turn.LOST: f"Only on {self.before}",
        }

    @property
    def finding_titles(self) -> tuple[str, str]:
        """The titles over findings of one side alone: first those of the second state."""
        return (f"Findings on {self.after} alone", f"Findings on {self.before} alone") if self.hosts else _FINDINGS

    @property
    def account_words(self) -> Mapping[AccountTurn, str]:
        """What is said of an account."""
        if not self.hosts:
            return _ACCOUNTS
        alone = {AccountTurn.NEW: f"only on {self.after}", AccountTurn.GONE: f"only on {self.before}"}
        return {**alone, AccountTurn.ENABLED: f"disabled on {self.before}", AccountTurn.DISABLED: f"disabled on {self.after}"}


def changes_report(found: EstateChanges, states: Compared) -> Report:
    """Return what changed between two states."""
    return Report(
        answer=lambda: [_answer(found, states), *_doubts(found)],
        parts=lambda: _parts(found, states),
        onward=lambda: [] if states.hosts else _onward(found),
        rows=lambda: [
            _rows_table(found, states),
            *_findings_rows(found),
            _accounts_table(found, states, whole=True),
            _subjects_table(found),
        ],
        document=lambda: changes_document(found, states),
        issues=lambda: issues_of_changes(found),
    )


def _answer(found: EstateChanges, states: Compared) -> str:
    if states.hosts:
        return _answer_of_hosts(found, states)
    counts = [
        (len(_holders(found, Turn.GAINED, Turn.REPLACED)), "holder", "gained rights"),
        (len(_holders(found, Turn.LOST)), "holder", "lost rights"),
        (len(_holders(found, Turn.EASED)), "holder", "with easier terms"),
        (len(_holders(found, Turn.TIGHTENED)), "holder", "with stricter terms"),
        (len(found.new_findings), "new finding", ""),
        (len(found.gone_findings), "finding", "gone"),
        *((sum(one.turn is turn for one in found.subjects), "subject", turn.value) for turn in SubjectTurn),
    ]
    told = [f"{counted(count, noun)} {what}".rstrip() for count, noun, what in counts if count]
    return f"{states.before} → {states.after}, {counted(found.compared, 'subject')} compared: {', '.join(told) or 'nothing changed'}"


def _answer_of_hosts(found: EstateChanges, states: Compared) -> str:
    """Return in how many rights and findings two hosts differ, and which of them has more."""
    sides = [
        (states.before, (Turn.LOST, Turn.ROUTE_REMOVED), found.gone_findings),
        (states.after, (Turn.GAINED, Turn.ROUTE_ADDED), found.new_findings),
    ]
    told = []
    for name, turns, findings in sides:
        rights = sum(change.turn in turns for change in found.rights)
        told.append(f"{name} alone has {counted(rights, 'right or route')} and {counted(len(findings), 'finding')}")
    both = sum(one.turn in (Turn.REPLACED, *_ON_OTHER_TERMS) for one in found.rights)
    return f"{'; '.join(told)}; {counted(both, 'right')} on other terms"


def _holders(found: EstateChanges, *turns: Turn) -> set[object]:
    return {change.holding.principal for change in found.rights if change.turn in turns}


def _doubts(found: EstateChanges) -> list[str]:
    doubtful = sorted({change.subject for change in found.rights if change.doubtful})
    if not doubtful:
        return []
    return [f"on {listed(doubtful, _MOST_NAMES, 'more')} less could be read than before: what is shown as lost may be held still"]


def _parts(found: EstateChanges, states: Compared) -> list[Part]:
    parts: list[Part] = []
    for title, table in _sections(found, states):
        parts += [*(["\n"] if parts else []), f"{title}\n", table]
    return parts or ["No right, finding, account or subject changed, as far as the evidence goes.\n"]


def _sections(found: EstateChanges, states: Compared) -> Iterable[tuple[str, Table]]:
    for turn, title in states.titles.items():
        changes = _without_means([change for change in found.rights if change.turn is turn])
        if changes:
            yield title, _rights_table(changes, states)
    for title, findings in zip(states.finding_titles, (found.new_findings, found.gone_findings), strict=True):
        if findings:
            groups = grouped(_worst_first(findings))
            more = len(groups) - _MOST_FINDINGS
            shown = f"{title}: {tally(findings)}" + (f"; the worst {_MOST_FINDINGS} distinct" if more > 0 else "")
            yield shown, groups_table(groups[:_MOST_FINDINGS])
    if found.accounts:
        yield "Accounts", _accounts_table(found, states)
    if found.subjects:
        yield "Subjects", _subjects_table(found)
    if found.less_read:
        yield "Read before and not now", _gaps_table(found.less_read)


def _worst_first(findings: Sequence[Finding]) -> list[Finding]:
    return sorted(findings, key=lambda finding: (finding.severity, finding.check, finding.message, finding.subject))


# -- rights ----------------------------------------------------------------------------------------------------------------------


def _rights_table(changes: Sequence[RightChange], states: Compared) -> Table:
    """Return a row for each change, equal ones of several subjects or holders together."""
    each = ((change, _cells(change, states)) for change in changes)
    rest = ((change, right, (cause, by, _sanction_words(change, states))) for change, (right, cause, by) in each)
    together = merged((holder_words(change), right, change.subject, others) for change, right, others in rest)
    rows = [
        (listed(names, _MOST_NAMES, "more"), first_rights(rights), listed(subjects, _MOST_SUBJECTS, "subject"), *others)
        for names, rights, subjects, others in together
    ]
    folding, least = frozenset({"holder", "right", "cause", "route"}), ("by", "cause", "route")
    if states.hosts:  # all of it is on the one that the title names, and no log says who made two hosts differ
        shown = tuple((names, right, cause) for names, right, _, cause, _, _ in rows)
        return Table(columns=("holder", "right", "route"), rows=shown, may_fold=folding, least=least)
    columns = ("holder", "right", "on", "cause", "by", "charter")
    width = 5 if states.sanctions is None else 6
    return Table(columns=columns[:width], rows=tuple(row[:width] for row in rows), may_fold=folding, least=least)


def _without_means(changes: Sequence[RightChange]) -> list[RightChange]:
    """Return changes without those of groups by which others, who are listed, have the same change."""
    means = {
        (cause.link.source, change.subject)
        for change in changes
        for cause in change.causes
        if cause.link.source != change.holding.principal
    }
    groups = PrincipalKind.GROUP
    return [one for one in changes if one.holding.principal.kind is not groups or (one.holding.principal, one.subject) not in means]


def _cells(change: RightChange, states: Compared) -> tuple[str, str, str]:
    words = "; ".join(dict.fromkeys(cause_words(cause, change.holding, turned=not states.hosts) for cause in change.causes))
    return right_words(change), words or _without_cause(change), doer(change.causes, states.window)


def _sanction_words(change: RightChange, states: Compared) -> str:
    """Return what a charter says of what someone has now; nothing of what is lost, or without a charter."""
    if states.sanctions is None or not change.is_gain:
        return ""
    return "sanctioned" if states.sanctions.allows(change.holding) else states.sanctions.judge(change.holding).sanction.value


def _without_cause(change: RightChange) -> str:
    return "" if change.turn in _ON_OTHER_TERMS else "not known"


def holder_words(change: RightChange) -> str:
    """Return the holder; where another one took its place, both."""
    before, after = change.before, change.after
    if before is not None and after is not None and before.principal != after.principal:
        return f"{holder(before.principal)} → {holder(after.principal)}"
    return holder(change.holding.principal)


def right_words(change: RightChange) -> str:
    """Return the right; of one that took the place of another both, of one that is held on other terms the terms."""
    before, after = change.before, change.after
    if before is None or after is None:
        return str(change.holding.right)
    if before.right != after.right:
        return f"{before.right} → {after.right}"
    return f"{after.right}: {_terms(before, after)}" if change.turn in _ON_OTHER_TERMS else str(after.right)


def _terms(before: Holding, after: Holding) -> str:
    """Return which of the terms are others: the password that is asked for, how sure it is, on what it depends."""
    old, new = ((_password(one.routes[0].asks), str(one.strength), "; ".join(one.routes[0].conditions)) for one in (before, after))
    others = [(one or "no condition", other or "no condition") for one, other in zip(old, new, strict=True) if one != other]
    return ", ".join(f"{one} → {other}" for one, other in others)


def _password(asks: str | None) -> str:
    return asking(asks).removeprefix("asks for ").removeprefix("the account's ")


def _rows_table(found: EstateChanges, states: Compared) -> Table:
    """Return a row for each change of a right by itself."""
    rows = [
        (
            change.turn.value,
            holder_words(change),
            right_words(change),
            change.subject,
            *_cells(change, states)[1:],
            "yes" if change.doubtful else "",
            _sanction_words(change, states),
        )
        for change in found.rights
    ]
    return Table(columns=("change", "holder", "right", "subject", "cause", "by", "doubtful", "charter"), rows=tuple(rows))


# -- the rest --------------------------------------------------------------------------------------------------------------------


def _findings_rows(found: EstateChanges) -> list[Table]:
    rows = [
        (what, str(finding.severity), finding.subject, finding.check, finding.message, finding.places[0].in_file(), finding.key)
        for what, findings in (("new finding", found.new_findings), ("finding gone", found.gone_findings))
        for finding in _worst_first(findings)
    ]
    return [Table(columns=("change", "severity", "subject", "check", "finding", "place", "key"), rows=tuple(rows))] if rows else []


def _accounts_table(found: EstateChanges, states: Compared, *, whole: bool = False) -> Table:
    """Return a row for each account, with the subjects that it is on; `whole` for each account of each subject."""
    if whole:
        rows = [(states.account_words[one.turn], one.account, one.subject) for one in found.accounts]
        return Table(columns=("account change", "account", "subject"), rows=tuple(rows))
    by_account: dict[tuple[AccountTurn, str], list[str]] = {}
    for one in found.accounts:
        by_account.setdefault((one.turn, one.account), []).append(one.subject)
    alike: dict[tuple[AccountTurn, tuple[str, ...]], list[str]] = {}
    for (turn, account), subjects in by_account.items():
        alike.setdefault((turn, tuple(subjects)), []).append(account)
    rows = [
        (states.account_words[turn], listed(accounts, _MOST_NAMES, "more"), listed(subjects, _MOST_SUBJECTS, "subject"))
        for (turn, subjects), accounts in sorted(alike.items(), key=lambda item: list(AccountTurn).index(item[0][0]))
    ]
    width = 2 if states.hosts else 3
    return Table(columns=("change", "accounts", "on")[:width], rows=tuple(row[:width] for row in rows), may_fold=frozenset({"accounts"}))


def _subjects_table(found: EstateChanges) -> Table:
    rows = []
    for turn in SubjectTurn:
        those = [one for one in found.subjects if one.turn is turn]
        if len(those) > _MOST_FINDINGS:
            rows.append((turn.value, counted(len(those), "subject"), ""))
        else:
            rows += [(turn.value, one.subject, _subject_words(one.turn, one.since, one.holders)) for one in those]
    return Table(columns=("change", "subject", "detail"), rows=tuple(rows), may_fold=frozenset({"detail"}))


def _subject_words(turn: SubjectTurn, since: datetime | None, holders: int) -> str:
    when = f"{since.astimezone(UTC):%Y-%m-%d %H:%M} UTC" if since is not None else ""
    return {
        SubjectTurn.NEW: f"{counted(holders, 'holder')} of full control",
        SubjectTurn.SILENT: f"not surveyed this time; last read {when}",
        SubjectTurn.GONE: f"the estate does not name it any more; last read {when}",
        SubjectTurn.OTHER: "another machine under this name: machine-id and host keys differ",
        SubjectTurn.UNREAD: "its evidence could not be read: not compared",
    }[turn]


def _gaps_table(gaps: Sequence[Gap]) -> Table:
    """Return a row for each kind of gap, with the subjects that it is on."""
    groups: dict[tuple[str, str, str], list[str]] = {}
    for gap in gaps:
        groups.setdefault((gap.what, gap.why, gap.weakens), []).append(gap.place.subject)
    rows = [
        (listed(sorted(set(subjects)), _MOST_SUBJECTS, "subject"), what, why, weakens) for (what, why, weakens), subjects in groups.items()
    ]
    if len(rows) > _MOST_GAPS:
        rest = len(rows) - _MOST_GAPS
        rows = [*rows[:_MOST_GAPS], ("", f"and {rest} more: fidelitas coverage", "", "")]
    return Table(columns=("on", "what", "why", "weakens"), rows=tuple(rows), may_fold=frozenset({"why", "weakens"}))


def _onward(found: EstateChanges) -> list[str]:
    gains = found.gains
    commands = []
    if gains:
        first = gains[0]
        commands.append(f"fidelitas why {holder(first.holding.principal)} {first.subject}")
    worst = next((finding for finding in _worst_first(found.new_findings) if finding.severity <= Severity.MEDIUM), None)
    if worst is not None:
        commands.append(f"fidelitas findings {worst.key}")
    return [" · ".join(commands)] if commands else []


def since_lines(found: EstateChanges, states: Compared) -> list[str]:
    """Return what changed since the last survey: a line for the gravest gains, one that counts the rest; nothing where nothing did."""
    gained = _without_means([change for change in found.rights if change.turn is Turn.GAINED])
    by_themselves = [change for change in gained if change.holding.principal.kind is not PrincipalKind.PASSWORD]  # not by knowing another's
    gravest = sorted(by_themselves, key=lambda change: change.holding.right.kind)[:_MOST_SUBJECTS]
    counts = [
        (len(found.gains) - len(gravest), "more gain" if gravest else "gain", ""),
        (len(_holders(found, Turn.LOST)), "holder", "lost rights"),
        (len(found.new_findings), "new finding", ""),
        (len(found.gone_findings), "finding", "gone"),
    ]
    told = [f"{counted(count, noun)} {what}".rstrip() for count, noun, what in counts if count > 0]
    told += [f"{one.subject} is {one.turn.value}" for one in found.subjects[:_MOST_SUBJECTS]]
    if not gravest and not told:
        return []
    lines = [f"  {_gain_line(change, states.window)}" for change in gravest]
    return [f"Since the survey of {states.before}", *lines, *([f"  {', '.join(told)}"] if told else []), "  all of it: fidelitas changes"]


def _gain_line(change: RightChange, window: Window) -> str:
    causes = "; ".join(dict.fromkeys(cause_words(cause, change.holding, place=False) for cause in change.causes))
    by = doer(change.causes, window)
    why = ", ".join(filter(None, (causes, by and f"by {by}")))
    return f"{holder_words(change)} gained {right_words(change)} on {change.subject}" + (f": {why}" if why else "")


# -- as a document -----------------------------------------------------------------------------------------------------------------


def changes_document(found: EstateChanges, states: Compared) -> dict[str, Any]:
    """Return the JSON document of changes."""
    return {
        "schema": "fidelitas/changes/1",
        "of": "hosts" if states.hosts else "surveys",
        "before": states.before,
        "after": states.after,
        "compared": found.compared,
        "rights": [_right_document(change, states) for change in found.rights],
        "findings": {
            "new": [_finding_document(finding) for finding in _worst_first(found.new_findings)],
            "gone": [_finding_document(finding) for finding in _worst_first(found.gone_findings)],
        },
        "accounts": [{"change": one.turn.value, "account": one.account, "subject": one.subject} for one in found.accounts],
        "subjects": [
            {
                "change": one.turn.value,
                "subject": one.subject,
                "last_read": one.since and one.since.isoformat(),
                "full_control": one.holders,
            }
            for one in found.subjects
        ],
        "less_read": [
            {"subject": gap.place.subject, "what": gap.what, "why": gap.why, "weakens": gap.weakens, "place": place_document(gap.place)}
            for gap in found.less_read
        ],
    }


def _right_document(change: RightChange, states: Compared) -> dict[str, Any]:
    return {
        "change": change.turn.value,
        "subject": change.subject,
        "holder": str(change.holding.principal),
        "right": str(change.holding.right),
        "doubtful": change.doubtful,
        "before": _held_document(change.before),
        "after": _held_document(change.after),
        "causes": [cause_document(cause, states.window) for cause in change.causes],
        "charter": _sanction_words(change, states) or None,
    }


def _held_document(holding: Holding | None) -> dict[str, Any] | None:
    if holding is None:
        return None
    return {
        "holder": {"name": str(holding.principal), "kind": holding.principal.kind.value},
        "right": str(holding.right),
        "strength": str(holding.strength),
        "route": route_document(holding.routes[0]),
    }


def _finding_document(finding: Finding) -> dict[str, Any]:
    return {
        "key": finding.key,
        "check": finding.check,
        "severity": str(finding.severity),
        "subject": finding.subject,
        "message": finding.message,
        "place": place_document(finding.places[0]),
    }
