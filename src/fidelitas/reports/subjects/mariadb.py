"""What a report says of a MariaDB or MySQL server and its accounts."""

from collections.abc import Iterator, Sequence

from fidelitas.reports.subjects.words import AccountLine, SubjectWords
from fidelitas.rights import MariadbRights, Principal, PrincipalKind

__all__ = ["WORDS"]


class _Words(SubjectWords):
    def system(self, rights: MariadbRights) -> str:
        version = rights.facts.version
        return f"MariaDB {version.removesuffix('-MariaDB')}" if "MariaDB" in version else f"MySQL {version}".rstrip()

    def head(self, rights: MariadbRights) -> Sequence[str]:
        facts = rights.facts
        roles = sum(account.role for account in facts.accounts)
        counts = f"{len(facts.accounts) - roles} accounts, {roles} roles; {len(facts.databases)} databases, {len(facts.grants)} grants"
        return (f"MariaDB or MySQL {facts.version}; evidence of {facts.taken:%Y-%m-%d %H:%M} UTC, as {facts.taken_by}", counts)

    def accounts(self, rights: MariadbRights) -> Iterator[tuple[str, AccountLine]]:
        for name in sorted(rights.accounts):
            groups = tuple((role, None) for role in sorted(rights.belongs_to(name)))
            password = ", ".join(dict.fromkeys(kind for _, kind in rights.accounts[name].logins if kind))
            yield name, AccountLine(self.kind(rights, rights.role(name)), "", groups, password)

    def kind(self, rights: MariadbRights, principal: Principal) -> str:
        account = rights.accounts.get(principal.name)
        if principal.kind is PrincipalKind.ELSEWHERE:
            return "account of its host"
        if account is None:
            return "any account" if principal.kind is PrincipalKind.ANY_ACCOUNT else "role"
        if account.role:
            return "role"
        ways = ", ".join(dict.fromkeys(_login(plugin, kind) for plugin, kind in account.logins))
        closed = ", its host's name is not resolved" if rights.is_out_of_reach(account) else ""
        return f"account, {'locked' if account.locked else ways}{', expired' if account.expired else ''}{closed}"

    def about(self, rights: MariadbRights, name: str) -> Sequence[str]:
        return [f"{known}: {self.kind(rights, rights.role(known))}" for known in rights.accounts_called(name)]


def _login(plugin: str, kind: str) -> str:
    """Return a way to log in, in a word or two."""
    return "socket" if "socket" in plugin else "password" if kind == "current" else f"{kind} password"


WORDS = _Words()
