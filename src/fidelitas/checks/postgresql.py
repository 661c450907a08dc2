"""Checks of PostgreSQL servers: superusers, ways to the host, doors without a password, functions that act as their owner."""

from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import AccessRule, DatabaseGrant
from fidelitas.findings import Severity
from fidelitas.rights.graph.links import Holding, Mechanism, PrincipalKind, RightKind, Strength
from fidelitas.rights.postgresql.functions import fixes_path, leading_owner
from fidelitas.rights.postgresql.login_paths import LoginPath
from fidelitas.rights.postgresql.server import DatabaseRights

__all__ = ["CHECKS"]

# The role that every server is made with.
_FIRST = "postgres"
_OWN = "pg_"


@check("databases.extra-superuser", Severity.HIGH, advice="ALTER ROLE … NOSUPERUSER; grant what is needed, or a predefined role.")
def extra_superuser(rights: DatabaseRights) -> Iterator[Found]:
    """A role other than the first is a superuser.

    PostgreSQL checks no privilege for a superuser, and a superuser can run programs on the host as the service account.
    """
    for role in rights.facts.roles:
        if role.superuser and role.name != _FIRST:
            members = sorted(one.member for one in rights.facts.memberships if one.role == role.name)
            shared = f", which {', '.join(members)} may become" if members else ""
            yield Found(about=role.name, message=f"role {role.name} is a superuser{shared}", places=(role.place,))


@check("databases.superuser-by-membership", Severity.HIGH, advice="REVOKE the membership, or grant it only for the time of a task.")
def superuser_by_membership(rights: DatabaseRights) -> Iterator[Found]:
    """A role that can log in can become a superuser through its memberships.

    SET ROLE is enough, at any depth of membership, whether or not the role inherits.
    """
    for holding in _to_superusers(rights):
        holder, links = holding.principal, holding.routes[0].links
        if holder.kind is PrincipalKind.ROLE and not any(link.mechanism is Mechanism.TRIGGER for link in links):
            way = " → ".join(str(link.target) for link in links[:-1])
            yield Found(about=str(holder), message=f"{holder} can become a superuser: {way}", places=tuple(link.place for link in links))


@check("databases.trigger-of-other", Severity.MEDIUM, advice="Give the function to the table's owner, and REVOKE TRIGGER from other roles.")
def trigger_of_other(rights: DatabaseRights) -> Iterator[Found]:
    """A superuser who changes rows of a table runs a function that another role can write.

    A trigger's function acts as the role that changes the rows. An inserted row, or a restored backup, is enough.
    """
    for holding in _to_superusers(rights):
        by_trigger = ((route, link) for route in holding.routes for link in route.links if link.mechanism is Mechanism.TRIGGER)
        route, found = next(by_trigger, (None, None))
        if route is not None and found is not None and holding.strength is Strength.CONDITIONAL:
            message = f"{holding.principal} can come to the rights of {found.target}: {found.because}"
            yield Found(about=str(holding.principal), message=message, places=tuple(link.place for link in route.links))


def _to_superusers(rights: DatabaseRights) -> Iterator[Holding]:
    """Yield what makes superusers of roles that can log in and are none, and of any account."""
    for holding in rights.own_holdings:
        role = rights.privileges.roles.get(holding.principal.name)
        any_account = holding.principal.kind is PrincipalKind.ANY_ACCOUNT
        if holding.right.kind is RightKind.DB_SUPERUSER and (any_account or (role is not None and role.login and not role.superuser)):
            yield holding


@check("databases.host-access", Severity.HIGH, advice="Revoke the predefined role; copy files on the client instead.")
def host_access(rights: DatabaseRights) -> Iterator[Found]:
    """A role that is not a superuser can reach files or programs of the server's host.

    Running programs or writing files as the service account gives control of the data folder, and so of the whole server.
    """
    superusers = {holding.principal.name for holding in rights.holdings if holding.right.kind is RightKind.DB_SUPERUSER}
    for holding in rights.own_holdings:
        if holding.right.kind is RightKind.DB_HOST_ESCAPE and holding.principal.name not in superusers:
            links = holding.routes[0].links
            message = f"{holding.principal.name} reaches the host: {links[-1].because}"
            yield Found(about=holding.principal.name, message=message, places=tuple(link.place for link in links))


@check("databases.login-without-password", Severity.CRITICAL, advice="Require scram-sha-256, and name the addresses that need access.")
def login_without_password(rights: DatabaseRights) -> Iterator[Found]:
    """An access rule accepts network connections without authentication.

    Anyone who reaches the port can connect as any role that the rule names.
    """
    open_to_all = [rule for rule in rights.facts.access or () if rule.method == "trust" and _is_from_network(rule)]
    found: dict[int, list[LoginPath]] = {}  # by the rule itself: lines of included files have the same numbers
    for role in rights.facts.roles if open_to_all else ():
        for path in rights.login_paths(role.name):
            found.setdefault(id(path.rule), []).append(path)
    for rule in open_to_all:
        if paths := found.get(id(rule)):
            roles = ", ".join(path.role for path in paths[:5]) + (f" and {len(paths) - 5} more" if len(paths) > 5 else "")
            message = f"line {rule.line} lets {roles} in from {paths[0].where} without a password"
            superuser = any(rights.privileges.is_superuser(path.role) for path in paths)
            yield Found(about=str(rule.line), message=message, places=(rule.place,), severity=None if superuser else Severity.HIGH)


def _is_from_network(rule: AccessRule) -> bool:
    return rule.type != "local" and not rule.address.startswith("127.") and rule.address != "::1"


@check("databases.cleartext-password", Severity.MEDIUM, advice="Use hostssl, or scram-sha-256, which never sends the password.")
def cleartext_password(rights: DatabaseRights) -> Iterator[Found]:
    """An access rule accepts passwords in clear over an unencrypted connection.

    Anyone who can read the network traffic gets the password.
    """
    for rule in rights.facts.access or ():
        if rule.method in ("password", "ldap", "pam", "bsd", "radius") and rule.type in ("host", "hostnossl"):
            yield Found(
                about=str(rule.line),
                message=f"line {rule.line} asks {', '.join(rule.roles)} for a password in clear ({rule.method}) without TLS",
                places=(rule.place,),
            )


@check("databases.weak-password-hash", Severity.MEDIUM, advice="Set password_encryption to scram-sha-256, then set the password again.")
def weak_password_hash(rights: DatabaseRights) -> Iterator[Found]:
    """A role's password is stored as an MD5 hash.

    The hash itself is enough to log in, and is quickly cracked.
    """
    for role in rights.facts.roles:
        if role.password == "md5":  # noqa: S105
            yield Found(about=role.name, message=f"the password of {role.name} is stored as MD5", places=(role.place,))


@check("databases.session-after-expiry", Severity.MEDIUM, advice="SELECT pg_terminate_backend(PID).")
def session_after_expiry(rights: DatabaseRights) -> Iterator[Found]:
    """A connection is open for a role that could not log in any more.

    Authentication happens once, at the start of a connection: revoked access stays usable until the connection ends.
    """
    for session in rights.facts.sessions:
        role = rights.privileges.roles.get(session.role)
        expired = role is not None and role.valid_until is not None and role.valid_until < rights.facts.taken
        why = (
            "has no such role any more"
            if role is None
            else "no longer allows the login"
            if not role.login
            else "has an expired password for it"
        )
        if session.role and (role is None or not role.login or expired):
            where = f" from {session.address}" if session.address else ""
            message = f"{session.role} is connected to {session.database}{where}, and the server {why}"
            yield Found(about=session.role, message=message, places=(session.place,))


@check("databases.expired-password", Severity.LOW, advice="Drop the role, or revoke its memberships and grants.")
def expired_password(rights: DatabaseRights) -> Iterator[Found]:
    """A role whose password has expired still has rights.

    VALID UNTIL applies to the password only: a certificate, peer or trust rule still accepts the role.
    """
    held = {holding.principal.name for holding in rights.own_holdings}
    for role in rights.facts.roles:
        if role.login and role.valid_until is not None and role.valid_until < rights.facts.taken and role.name in held:
            message = f"the password of {role.name} expired on {role.valid_until:%Y-%m-%d}, and its rights are as they were"
            yield Found(about=role.name, message=message, places=(role.place,))


@check(
    "databases.definer-function",
    Severity.HIGH,
    advice="ALTER FUNCTION … SET search_path = pg_catalog; REVOKE EXECUTE ON FUNCTION … FROM PUBLIC.",
)
def definer_function(rights: DatabaseRights) -> Iterator[Found]:
    """A function runs as a superuser, or as a role that reaches the host, and other roles may execute it.

    Without a fixed search_path, the caller decides which functions and operators it uses, and so runs code as that role.
    """
    for routine in rights.facts.routines:
        reaches = leading_owner(rights.privileges, routine.owner) if routine.definer else ""
        if not reaches:
            continue
        key = (routine.database, "function", routine.schema, routine.name)
        runners = [role.name for role in rights.facts.roles if not role.superuser and rights.privileges.has(role.name, key, "EXECUTE")]
        runners = [name for name in runners if not name.startswith(_OWN)]
        safe = fixes_path(routine.settings)
        if runners:
            who = f"{len(runners)} roles" if len(runners) > 3 else ", ".join(runners)
            path = "has a fixed search_path" if safe else "has no fixed search_path"
            yield Found(
                about=f"{routine.database} {routine.name}",
                message=f"{routine.name} in {routine.database} runs as {routine.owner}, {reaches}; it {path}, and {who} may execute it",
                places=(routine.place,),
                severity=Severity.INFO if safe else None,
            )


@check("databases.untrusted-function", Severity.MEDIUM, advice="REVOKE EXECUTE … FROM PUBLIC; rewrite the function in a trusted language.")
def untrusted_function(rights: DatabaseRights) -> Iterator[Found]:
    """A function in an untrusted language may be executed by roles that are not superusers.

    Such functions can read files and run programs on the host; what they do with their arguments depends on their text.
    """
    for routine in rights.facts.routines:
        key = (routine.database, "function", routine.schema, routine.name)
        if not routine.trusted and any(
            rights.privileges.has(role.name, key, "EXECUTE") for role in rights.facts.roles if not role.superuser and role.login
        ):
            message = f"{routine.name} in {routine.database} is written in {routine.language}, which is not trusted"
            yield Found(about=f"{routine.database} {routine.name}", message=message, places=(routine.place,))


# Extensions that reach beyond the database: what each is for.
_REACHING = {
    "adminpack": "writes files of the server", "dblink": "connects to other servers", "file_fdw": "reads files of the server's host",
    "postgres_fdw": "connects to other servers", "mysql_fdw": "connects to other servers", "plperlu": "runs anything on the host",
    "plpython3u": "runs anything on the host", "plpythonu": "runs anything on the host", "pltclu": "runs anything on the host",
    "pg_cron": "runs scheduled statements as the role that asked", "lo": "reads and writes large objects",
}  # fmt: skip


@check(
    "databases.risky-extension", Severity.INFO, advice="DROP EXTENSION if nothing uses it; otherwise review who may execute its functions."
)
def risky_extension(rights: DatabaseRights) -> Iterator[Found]:
    """A database has an extension that reaches beyond the database.

    Attackers who control a superuser, or a role that may use the extension, use it to reach other systems.
    """
    for one in rights.facts.extensions:
        if one.name in _REACHING:
            message = f"{one.name} in {one.database} {_REACHING[one.name]}"
            yield Found(about=f"{one.database} {one.name}", message=message, places=(one.place,))


@check("databases.public-default-privileges", Severity.MEDIUM, advice="ALTER DEFAULT PRIVILEGES … REVOKE … FROM PUBLIC.")
def public_default_privileges(rights: DatabaseRights) -> Iterator[Found]:
    """Objects that a role creates are accessible to every role by default.

    Nobody grants anything when the object is created, so nobody notices.
    """
    kinds = {"r": "tables", "S": "sequences", "n": "schemas"}
    for one in rights.facts.defaults:
        if not one.grantee and one.object_kind in kinds:
            where = f" in schema {one.schema}" if one.schema else ""
            message = f"every role gets {one.privilege} on the {kinds[one.object_kind]} that {one.owner} makes{where} in {one.database}"
            severity = Severity.LOW if one.privilege in ("SELECT", "USAGE") else None
            yield Found(
                about=f"{one.database} {one.owner} {one.object_kind} {one.privilege}",
                message=message,
                places=(one.place,),
                severity=severity,
            )


@check("databases.public-write", Severity.MEDIUM, advice="REVOKE … FROM PUBLIC, and grant to the roles that need it.")
def public_write(rights: DatabaseRights) -> Iterator[Found]:
    """Every role may change a table.

    PUBLIC includes every present and future role.
    """
    found: dict[tuple[str, str, str], list[str]] = {}
    first: dict[tuple[str, str, str], DatabaseGrant] = {}
    for grant in rights.facts.grants:
        if grant.object_kind == "table" and not grant.grantee and grant.privilege in ("INSERT", "UPDATE", "DELETE", "TRUNCATE"):
            key = grant.database, grant.schema, grant.name
            found.setdefault(key, []).append(grant.privilege)
            first.setdefault(key, grant)
    for (database, schema, name), privileges in found.items():
        if schema not in ("pg_catalog", "information_schema"):
            message = f"every role may {', '.join(privileges).lower()} {schema}.{name} in {database}"
            yield Found(about=f"{database} {schema}.{name}", message=message, places=(first[database, schema, name].place,))


@check("databases.stored-password", Severity.LOW, advice="Give each role its own user mapping, with minimal rights on the other server.")
def stored_password(rights: DatabaseRights) -> Iterator[Found]:
    """A password for another server is stored for a role.

    Anyone who becomes the role, or can read the server's files, can use it on the other server.
    """
    for mapping in rights.facts.mappings:
        if mapping.password:
            who = mapping.role or "any role"
            message = f"for {who} a password at server {mapping.server} is kept in {mapping.database}"
            yield Found(
                about=f"{mapping.database} {mapping.server} {who}",
                message=message,
                places=(mapping.place,),
                severity=None if mapping.role else Severity.MEDIUM,
            )


CHECKS: tuple[Check[DatabaseRights], ...] = (
    extra_superuser,
    superuser_by_membership,
    trigger_of_other,
    host_access,
    login_without_password,
    cleartext_password,
    weak_password_hash,
    session_after_expiry,
    expired_password,
    definer_function,
    untrusted_function,
    risky_extension,
    public_default_privileges,
    public_write,
    stored_password,
)
