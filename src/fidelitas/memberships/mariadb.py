"""The roles of a MariaDB or MySQL server; a name without a host stands for all accounts of that user."""

from collections.abc import Sequence

from msgspec.structs import replace

from fidelitas.facts import DatabaseAccount, MariadbFacts, RoleGrant
from fidelitas.memberships.edits import MembershipEdit, Named
from fidelitas.rights import MariadbRights

__all__ = ["RoleTable", "account_text", "role_change", "with_edits"]


class RoleTable:
    """Who was granted which role."""

    many_of_a_name = True

    def __init__(self, rights: MariadbRights) -> None:
        self._accounts, self._granted = rights.accounts, rights.facts.roles

    def accounts(self, name: str) -> Sequence[Named]:
        """Return the accounts of a name: one, or all of a user."""
        return [Named(known, known) for known, account in self._accounts.items() if name in (known, account.user)]

    def groups(self, name: str) -> Sequence[Named]:
        """Return the role of a name."""
        return [Named(known, known) for known, account in self._accounts.items() if known == name and account.role]

    def groups_of(self, account: Named) -> Sequence[Named]:
        """Return the roles that an account was granted itself."""
        user, host = _parts(self._accounts[account.key])
        return [Named(one.role, one.role) for one in self._granted if (one.user, one.host) == (user, host)]

    def command(self, account: Named, group: Named, *, added: bool) -> str:
        """Return the statement."""
        return role_change(self._accounts[account.key], group.key, added=added)


def _parts(account: DatabaseAccount) -> tuple[str, str]:
    """Return how grants of roles name an account: a role has no host."""
    return account.user, "" if account.role else account.host


def account_text(account: DatabaseAccount) -> str:
    """Return an account or role as statements name it."""
    user, host = _parts(account)
    return _text(user) + (f"@{_text(host)}" if not account.role else "")


def role_change(account: DatabaseAccount, role: str, *, added: bool) -> str:
    """Return the statement that grants a role, or revokes it."""
    return f"{'GRANT' if added else 'REVOKE'} {_text(role)} {'TO' if added else 'FROM'} {account_text(account)};"


def _text(value: str) -> str:
    escaped = value.replace("\\", "\\\\").replace("'", "''")
    return f"'{escaped}'"


def with_edits(facts: MariadbFacts, edits: Sequence[MembershipEdit]) -> MariadbFacts:
    """Return the facts of a server with roles granted and revoked."""
    accounts = {account.name: account for account in facts.accounts}
    gone = {(*_parts(accounts[edit.account.key]), edit.group.key) for edit in edits if not edit.added}
    kept = [one for one in facts.roles if (one.user, one.host, one.role) not in gone]
    new = []
    for edit in edits:
        if edit.added:
            account = accounts[edit.account.key]
            user, host = _parts(account)
            new.append(RoleGrant(user=user, host=host, role=edit.group.key, admin=False, place=account.place))
    return replace(facts, roles=(*kept, *new))
