"""The general words for a subject, which a platform's own refine; and what the pages of all platforms share."""

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.documents import holding_document
from fidelitas.reports.sentences import asking, brief
from fidelitas.rights import Holding, LinkKind, Principal, PrincipalKind, RightKind, Route

__all__ = ["AccountLine", "SubjectWords", "holding_rows"]

# Ways to one right that a page shows; `why` shows all.
_MOST_ROUTES = 4
_OWN = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE})


class AccountLine(NamedTuple):
    """What a listing says of an account; `number` is its ID and that of its primary group, `group_list` are names with numbers."""

    kind: str
    number: str = ""
    group_list: tuple[tuple[str, int | None], ...] = ()
    password: str = ""
    keys: int = 0
    last_login: datetime | None = None

    @property
    def groups(self) -> str:
        """The groups in words, with their numbers where they have any."""
        return " ".join(f"{name}({number})" if number is not None else name for name, number in self.group_list)


class SubjectWords:
    """What is said of a subject, for any platform."""

    # Where an account's page of such a subject stands in the document.
    section = "servers"

    def system(self, rights: Any) -> str:
        """Return what system the subject is, in two or three words."""
        return "could not be read"

    def head(self, rights: Any) -> Sequence[str]:
        """Return lines about the subject: what it is, and how much there is."""
        return ("could not be read",)

    def kind(self, rights: Any, principal: Principal) -> str:
        """Return what a holder is, in a few words."""
        return principal.kind.value

    def accounts(self, rights: Any) -> Iterator[tuple[str, AccountLine]]:
        """Yield every account or role, with what a listing says of it."""
        names = {holding.principal.name for holding in rights.own_holdings if holding.principal.kind in _OWN} | set(
            getattr(rights, "accounts", ())
        )
        for name in sorted(names):
            kind = PrincipalKind.ROLE if getattr(rights, "role", None) else PrincipalKind.ACCOUNT
            principal = Principal(kind=kind, name=name, subject=rights.subject)
            groups = tuple((group.removeprefix("%"), None) for group in sorted(rights.belongs_to(name)))
            yield name, AccountLine(self.kind(rights, principal), group_list=groups)

    def ways_in(self, rights: Any, principal: Principal, database: str) -> str:
        """Return from where a holder can connect to a database, and what is asked, in a few words."""
        return ""

    def about(self, rights: Any, name: str) -> Sequence[str]:
        """Return lines about an account or role: what it is, and how it logs in."""
        return ()

    def why(self, rights: Any, name: str, held: Sequence[Holding]) -> Sequence[str]:
        """Return what stands over the routes of a holder."""
        return self.about(rights, name)

    def pages(self, rights: Any, name: str) -> list[Block]:
        """Return the blocks of an account's page: what it is here, its groups, what it holds; none where it is not known."""
        return [self._page(rights, label, "" if label == name else f", as {label}") for label in _meant(rights, name)]

    def _page(self, rights: Any, name: str, named: str) -> Block:
        groups = [Row(group.removeprefix("%"), label="group") for group in sorted(rights.belongs_to(name))]
        held = [row for holding in rights.held_by(name) for row in holding_rows(holding)]
        rows = [*(Row(line) for line in self.about(rights, name)), *groups, *(held or [Row("holds no elevated right")])]
        return Block(f"{rights.subject}{named}", tuple(rows))

    def documents(self, rights: Any, name: str) -> list[dict[str, Any]]:
        """Return the pages of the accounts that a name can mean as parts of a JSON document; none where it is not known."""
        return [
            {
                "subject": rights.subject,
                "about": list(self.about(rights, label)),
                "groups": sorted(rights.belongs_to(label)),
                "holdings": [holding_document(rights, holding) for holding in rights.held_by(label)],
            }
            for label in _meant(rights, name)
        ]


def _meant(rights: Any, name: str) -> list[str]:
    """Return the accounts or roles that a name can mean on a subject that knows it."""
    meant: list[str] = rights.accounts_meant(name) if rights.knows(name) else []
    return meant


def holding_rows(holding: Holding) -> list[Row]:
    """Return a holding as rows of a page: what may be done, and the strongest ways to it."""
    is_root = holding.routes[0].links[-1].kind is LinkKind.HAS
    what = {
        RightKind.ROOT: "is root" if is_root else "may become root",
        RightKind.RUN_AS: f"may run anything as {holding.right.detail}",
        RightKind.READ_SECRETS: "may read secrets",
        RightKind.READ_EVIDENCE: "may read the logs",
        RightKind.WRITE_EVIDENCE: "may change the logs",
        RightKind.COMMAND: f"may run {holding.right.detail}",
        RightKind.RUN_AS_GROUP: f"may run anything as group {holding.right.detail}",
    }.get(holding.right.kind, f"holds {holding.right}")
    rows = [row for route in holding.routes[:_MOST_ROUTES] for row in _route(route)]
    more = len(holding.routes) - _MOST_ROUTES + holding.cut
    return [Row(what, style="bold"), *rows, *([Row(f"and {more} more ways: see fidelitas why", indent=6)] if more > 0 else [])]


def _route(route: Route) -> list[Row]:
    last = route.links[-1]
    asks = asking(route.asks) if route.asks or last.quote else ""
    parts = ", ".join(part for part in (brief(route), asks, str(route.strength)) if part)
    return [Row(parts, indent=6), Row(f"{route.place.in_file()}    {last.quote or ''}".rstrip(), indent=6, style="dim")]
