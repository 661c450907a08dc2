"""The accounts of a subject: what each is, its numbers and groups, how it logs in, and the furthest right that it has."""

from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from fidelitas.reports.numbers import counted
from fidelitas.reports.report import Listed, Report
from fidelitas.reports.subjects import words_of
from fidelitas.reports.subjects.words import AccountLine
from fidelitas.reports.table import Table
from fidelitas.rights import Principal, PrincipalKind, Right, SubjectRights

__all__ = ["AccountRow", "Accounts", "accounts_report"]


class AccountRow(NamedTuple):
    """An account of a subject, with the furthest right that it has, if any: of thousands of hosts the holdings themselves are not held."""

    rights: SubjectRights
    name: str
    line: AccountLine
    right: Right | None
    granted: bool


class Accounts:
    """The accounts of subjects, of one kind or elevated ones where that is wanted; made anew each time that they are gone through."""

    def __init__(self, subjects: Sequence[SubjectRights], *, kind: str | None = None, elevated: bool = False) -> None:
        self.subjects, self._kind, self._elevated = subjects, kind, elevated

    def __iter__(self) -> Iterator[AccountRow]:
        for one in self.subjects:
            furthest = one.furthest_of_accounts()
            for name, line in words_of(one).accounts(one):
                held = furthest.get(name)
                if (self._kind is None or line.kind.partition(",")[0] == self._kind) and (held is not None or not self._elevated):
                    yield AccountRow(one, name, line, *((None, False) if held is None else (held.right, held.granted)))


def accounts_report(accounts: Accounts, logins: dict[tuple[str, str], datetime], now: datetime) -> Report:
    """Return the accounts; `logins` are the last ones that the logs know, by subject and account."""
    first = next(iter(accounts), None)
    return Report(
        answer=lambda: _answer(accounts),
        parts=lambda: [_table(accounts, logins, now)],
        document=lambda: {"schema": "fidelitas/accounts/1", "accounts": Listed(lambda: (_row_document(row, logins) for row in accounts))},
        onward=lambda: [f"fidelitas account {first.name} · only those with rights: --elevated"] if first is not None else [],
    )


def _answer(accounts: Accounts) -> list[str]:
    kinds: Counter[str] = Counter()
    held = 0
    for row in accounts:
        kinds[row.line.kind.partition(",")[0]] += 1
        held += row.right is not None
    told = ", ".join(f"{count} {kind}" for kind, count in kinds.items())
    return [f"{counted(kinds.total(), 'account')}: {told}; {held} with elevated rights"] if kinds else []


def _table(accounts: Accounts, logins: dict[tuple[str, str], datetime], now: datetime) -> Table:
    rows = list(accounts)
    several = len({row.rights.subject for row in rows}) > 1
    return Table(
        columns=(*(("subject",) if several else ()), "account", "kind", "id", "groups", "password", "keys", "last login", "right"),
        rows=tuple(
            (
                *((one.subject,) if several else ()),
                name,
                line.kind,
                line.number,
                line.groups,
                line.password,
                str(line.keys) if line.keys else "",
                ago(logins.get((one.subject, name)) or line.last_login, now),
                "" if right is None else str(right) + ("" if granted else " (can be obtained)"),
            )
            for one, name, line, right, granted in rows
        ),
        may_fold=frozenset({"groups", "right", "kind", "password"}),
        least=("last login", "keys", "password", "groups"),
        empty="No account is as asked for.",
    )


def ago(at: datetime | None, now: datetime) -> str:
    """Return a day and how long ago it was."""
    if at is None:
        return ""
    days = (now.date() - at.date()).days
    return f"{at:%Y-%m-%d}" + (f", {counted(days, 'day')} ago" if 0 < days < 1000 else ", today" if days == 0 else "")


def _row_document(row: AccountRow, logins: dict[tuple[str, str], datetime]) -> dict[str, Any]:
    one, line = row.rights, row.line
    return {
        "subject": one.subject,
        "account": row.name,
        "kind": line.kind,
        "number": line.number or None,
        "groups": [{"name": group, "number": number} for group, number in line.group_list],
        "password": line.password or None,
        "keys": line.keys,
        "last_login": _iso(logins.get((one.subject, row.name)) or line.last_login),
        "right": str(row.right) if row.right else None,
        "granted": row.granted if row.right else None,
        "can_log_in": _can_log_in(one, row.name),
    }


def _iso(at: datetime | None) -> str | None:
    return at.isoformat() if at else None


def _can_log_in(one: SubjectRights, name: str) -> bool | None:
    who = one.identity(Principal(kind=PrincipalKind.ACCOUNT, name=name, subject=one.subject))
    return who.login.possible if who else None
