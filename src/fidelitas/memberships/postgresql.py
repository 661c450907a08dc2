"""The roles of a PostgreSQL server, which are accounts and groups at once; names are literal."""

from collections.abc import Sequence

from msgspec.structs import replace

from fidelitas.facts import DatabaseFacts, RoleMembership
from fidelitas.memberships.edits import MembershipEdit, Named
from fidelitas.rights import DatabaseRights

__all__ = ["RoleTable", "identifier", "revoke_statement", "with_edits"]


class RoleTable:
    """Who was granted which role."""

    many_of_a_name = False

    def __init__(self, rights: DatabaseRights) -> None:
        self._names, self._facts = frozenset(role.name for role in rights.facts.roles), rights.facts

    def accounts(self, name: str) -> Sequence[Named]:
        """Return the role of a name."""
        return [Named(name, name)] if name in self._names else []

    def groups(self, name: str) -> Sequence[Named]:
        """Return the role of a name."""
        return self.accounts(name)

    def groups_of(self, account: Named) -> Sequence[Named]:
        """Return the roles that a role was granted itself."""
        return list(dict.fromkeys(Named(one.role, one.role) for one in self._facts.memberships if one.member == account.key))

    def command(self, account: Named, group: Named, *, added: bool) -> str:
        """Return the statements: one for each grantor, where each takes back what it gave."""
        if added:
            return f"GRANT {identifier(group.key)} TO {identifier(account.key)};"
        granted = [one for one in self._facts.memberships if (one.role, one.member) == (group.key, account.key)]
        return " ".join(dict.fromkeys(revoke_statement(self._facts, one) for one in granted))


# Since this version a membership belongs to its grantor (release notes of PostgreSQL 16); before, the grantor was only recorded.
_BY_GRANTOR = 160000


def revoke_statement(facts: DatabaseFacts, one: RoleMembership) -> str:
    """Return the statement that ends one grant of a role."""
    by = f" GRANTED BY {identifier(one.grantor)}" if one.grantor and facts.version >= _BY_GRANTOR else ""
    return f"REVOKE {identifier(one.role)} FROM {identifier(one.member)}{by};"


def identifier(name: str) -> str:
    """Return a name as SQL writes it, in quotes (PostgreSQL manual, 4.1.1): a plain one can be a key word."""
    escaped = name.replace('"', '""')
    return f'"{escaped}"'


def with_edits(facts: DatabaseFacts, edits: Sequence[MembershipEdit]) -> DatabaseFacts:
    """Return the facts of a server with roles granted and revoked; a grant inherits where the member does (GRANT, manual)."""
    gone = {(edit.group.key, edit.account.key) for edit in edits if not edit.added}
    kept = [one for one in facts.memberships if (one.role, one.member) not in gone]
    roles = {role.name: role for role in facts.roles}
    new = [
        RoleMembership(
            role=edit.group.key, member=edit.account.key, admin=False, inherit=roles[edit.account.key].inherit, set=True, grantor=None,
            place=roles[edit.account.key].place,
        )
        for edit in edits if edit.added
    ]  # fmt: skip
    return replace(facts, memberships=(*kept, *new))
