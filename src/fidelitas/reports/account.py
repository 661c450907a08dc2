"""The page of an account or a group: on each subject what it is, its groups or members, and all that it may do; and the JSON document."""

import shlex
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from msgspec.structs import replace

from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.documents import holding_document
from fidelitas.reports.group import group_documents, group_page
from fidelitas.reports.holders import Filter, holders_table, selected
from fidelitas.reports.numbers import first_names
from fidelitas.reports.report import Report
from fidelitas.reports.standing import standing_on
from fidelitas.reports.subjects import words_of
from fidelitas.reports.subjects.linux import held_by_others
from fidelitas.rights import HostRights, PrincipalKind, SubjectRights

__all__ = ["account_blocks", "account_document", "account_report"]


def account_report(name: str, subjects: Sequence[SubjectRights]) -> Report:
    """Return an account's page."""
    return Report(
        answer=lambda: standing_on(name, subjects),
        onward=lambda: [_onward(name)],
        parts=lambda: account_blocks(name, subjects),
        rows=lambda: (holders_table(selected(subjects, Filter(account=name)), whole=True),),
        document=lambda: account_document(name, subjects),
    )


def _onward(name: str) -> str:
    is_account = not name.startswith(("%", "key ", PrincipalKind.ANY_ACCOUNT.value)) and not name.endswith("'s password")
    used = f" · fidelitas usage --person {shlex.quote(name)}" if is_account else ""
    return f"fidelitas why {shlex.quote(name)}{used}"


def account_blocks(name: str, subjects: Sequence[SubjectRights]) -> list[Block]:
    """Return a headline, and blocks for each subject that knows the account, or that it leads to from another; hosts first."""
    known = {one.subject: _page(one, name) for one in subjects}
    hosts, others = ([one for one in subjects if words_of(one).section == section] for section in ("hosts", "servers"))
    here = [one for one in hosts if known[one.subject]]
    meant = {one.subject: {name, *one.meant_by(name)} for one in subjects}
    comments = dict.fromkeys(
        comment for one in subjects for account, comment in one.comments() if account in meant[one.subject] and comment
    )
    counted = [(len(here), "host"), (sum(bool(known[one.subject]) for one in others), "other subject")]
    shown = " and ".join(f"{count} {what}{'' if count == 1 else 's'}" for count, what in counted if count)
    pages = _together([(one.subject, known[one.subject]) for one in (*hosts, *others) if known[one.subject]])
    return [Block(f"{name} on {shown}", tuple(Row(text) for text in comments)), *pages]


def _together(pages: Iterable[tuple[str, list[Block]]]) -> Iterator[Block]:
    """Yield pages, those of subjects on which an account is the same as one."""
    alike: dict[object, list[tuple[str, list[Block]]]] = {}
    for subject, page in pages:
        said = tuple((block.headline.removeprefix(subject), block.rows) for block in page)
        alike.setdefault(said, []).append((subject, page))
    for (_, (first, *further)), *rest in alike.values():
        also = (Row(first_names([subject for subject, _ in rest]), label="the same on"),) if rest else ()
        yield from (replace(first, rows=(*also, *first.rows)), *further)


def _page(one: SubjectRights, name: str) -> list[Block]:
    return group_page(one, name) if name.startswith("%") else list(words_of(one).pages(one, name))


def account_document(name: str, subjects: Sequence[SubjectRights]) -> dict[str, Any]:
    """Return the JSON document of an account, on hosts and on other subjects."""
    asked = () if name.startswith("%") else subjects
    pages = [(words_of(one).section, page) for one in asked for page in words_of(one).documents(one, name)]
    elsewhere = ((one, holding) for one in subjects for holding in one.from_elsewhere if one.means(name)(holding.principal))
    return {
        "schema": "fidelitas/account/1",
        "account": name,
        "hosts": [page for section, page in pages if section == "hosts"],
        "from_elsewhere": [holding_document(one, holding) for one, holding in elsewhere],
        "others": [holding_document(one, held) for one in subjects if isinstance(one, HostRights) for held in held_by_others(one, name)],
        "servers": [page for section, page in pages if section == "servers"],
        "groups": [page for one in subjects if name.startswith("%") for page in group_documents(one, name)],
    }
