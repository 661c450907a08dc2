"""What a report says of a PostgreSQL server and its roles."""

from collections.abc import Iterator, Sequence

from fidelitas.reports.subjects.words import AccountLine, SubjectWords
from fidelitas.rights import DatabaseRights, Principal, PrincipalKind

__all__ = ["WORDS"]


class _Words(SubjectWords):
    def system(self, rights: DatabaseRights) -> str:
        return f"PostgreSQL {rights.facts.version_text or ''}".rstrip()

    def head(self, rights: DatabaseRights) -> Sequence[str]:
        facts = rights.facts
        version = f"PostgreSQL {facts.version_text or 'of an unknown version'}"
        login = sum(role.login for role in facts.roles)
        counts = f"{len(facts.roles)} roles, {login} that may log in; {len(facts.databases)} databases, {len(facts.grants)} grants"
        return (f"{version}; evidence of {facts.taken:%Y-%m-%d %H:%M} UTC, as {facts.taken_by}", counts)

    def accounts(self, rights: DatabaseRights) -> Iterator[tuple[str, AccountLine]]:
        for role in rights.facts.roles:
            if not role.name.startswith("pg_"):
                groups = tuple((name, None) for name in sorted(rights.belongs_to(role.name)))
                yield role.name, AccountLine(self.kind(rights, rights.role(role.name)), "", groups, role.password or "")

    def kind(self, rights: DatabaseRights, principal: Principal) -> str:
        role = rights.privileges.roles.get(principal.name)
        if principal.kind is PrincipalKind.ELSEWHERE:
            return "account of its host"
        if role is None:
            return "all roles" if principal.kind is PrincipalKind.ANY_ACCOUNT else "role"
        if not role.login:
            return "role"
        expired = role.valid_until is not None and role.valid_until < rights.taken
        closed = rights.facts.access is not None and not rights.login_paths(role.name)
        return "login role" + (", expired password" if expired else "") + (", no access rule" if closed else "")

    def ways_in(self, rights: DatabaseRights, principal: Principal, database: str) -> str:
        role = rights.privileges.roles.get(principal.name) if principal.kind is PrincipalKind.ROLE else None
        if role is None:
            return ""
        if not role.login:
            return "cannot log in itself"
        if rights.facts.access is None:
            return "not known"
        paths = [path for path in rights.login_paths(role.name) if database in path.databases or not database]
        return "; ".join(dict.fromkeys(f"{path.where} ({path.rule.method})" for path in paths)) or "no rule accepts it"

    def about(self, rights: DatabaseRights, name: str) -> Sequence[str]:
        role = rights.privileges.roles.get(name)
        if role is None:
            return ()
        head = self.kind(rights, rights.role(name)) + (f", password {role.password}" if role.password else "")
        return (head, *(f"in: {path}  (pg_hba.conf:{path.rule.line})" for path in rights.login_paths(name)))


WORDS = _Words()
