"""The accounts of a subject: what each is, its numbers and groups, how it logs in, and the furthest right that it has."""

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any

from fidelitas.reports.numbers import counted
from fidelitas.reports.report import Report
from fidelitas.reports.subjects import words_of
from fidelitas.reports.subjects.words import AccountLine
from fidelitas.reports.table import Table
from fidelitas.rights import Holding, Principal, PrincipalKind, SubjectRights

__all__ = ["AccountRow", "account_rows", "accounts_report"]

AccountRow = tuple[SubjectRights, str, AccountLine, Holding | None]


def account_rows(subjects: Iterable[SubjectRights], *, kind: str | None = None, elevated: bool = False) -> list[AccountRow]:
    """Return the accounts of subjects, of one kind or elevated ones where that is wanted, each with the furthest right that it has."""
    found = []
    for one in subjects:
        furthest = one.furthest_of_accounts()
        for name, line in words_of(one).accounts(one):
            held = furthest.get(name)
            if (kind is None or line.kind.partition(",")[0] == kind) and (held is not None or not elevated):
                found.append((one, name, line, held))
    return found


def accounts_report(rows: Sequence[AccountRow], logins: dict[tuple[str, str], datetime], now: datetime) -> Report:
    """Return the accounts; `logins` are the last ones that the logs know, by subject and account."""
    return Report(
        answer=lambda: _answer(rows),
        parts=lambda: [_table(rows, logins, now)],
        document=lambda: _document(rows, logins),
        onward=lambda: [f"fidelitas account {rows[0][1]} · only those with rights: --elevated"] if rows else [],
    )


def _answer(rows: Sequence[AccountRow]) -> list[str]:
    kinds: dict[str, int] = {}
    for _, _, line, _ in rows:
        kinds[line.kind.partition(",")[0]] = kinds.get(line.kind.partition(",")[0], 0) + 1
    told = ", ".join(f"{count} {kind}" for kind, count in kinds.items())
    held = sum(held is not None for *_, held in rows)
    return [f"{counted(len(rows), 'account')}: {told}; {held} with elevated rights"] if rows else []


def _table(rows: Sequence[AccountRow], logins: dict[tuple[str, str], datetime], now: datetime) -> Table:
    several = len({one.subject for one, *_ in rows}) > 1
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
                _right(held),
            )
            for one, name, line, held in rows
        ),
        may_fold=frozenset({"groups", "right", "kind", "password"}),
        least=("last login", "keys", "password", "groups"),
        empty="No account is as asked for.",
    )


def _right(held: Holding | None) -> str:
    return "" if held is None else str(held.right) + ("" if held.granted else " (can be obtained)")


def ago(at: datetime | None, now: datetime) -> str:
    """Return a day and how long ago it was."""
    if at is None:
        return ""
    days = (now.date() - at.date()).days
    return f"{at:%Y-%m-%d}" + (f", {counted(days, 'day')} ago" if 0 < days < 1000 else ", today" if days == 0 else "")


def _document(rows: Sequence[AccountRow], logins: dict[tuple[str, str], datetime]) -> dict[str, Any]:
    return {
        "schema": "fidelitas/accounts/1",
        "accounts": [
            {
                "subject": one.subject,
                "account": name,
                "kind": line.kind,
                "number": line.number or None,
                "groups": [{"name": group, "number": number} for group, number in line.group_list],
                "password": line.password or None,
                "keys": line.keys,
                "last_login": _iso(logins.get((one.subject, name)) or line.last_login),
                "right": str(held.right) if held else None,
                "granted": held.granted if held else None,
                "can_log_in": _can_log_in(one, name),
            }
            for one, name, line, held in rows
        ],
    }


def _iso(at: datetime | None) -> str | None:
    return at.isoformat() if at else None


def _can_log_in(one: SubjectRights, name: str) -> bool | None:
    who = one.identity(Principal(kind=PrincipalKind.ACCOUNT, name=name, subject=one.subject))
    return who.login.possible if who else None
