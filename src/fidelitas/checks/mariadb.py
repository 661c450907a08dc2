"""Checks of MariaDB and MySQL servers: accounts that anyone reaches, passwords that are none, and grant tables that are not in force."""

import re
from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import AccountGrant, GrantScope, Place
from fidelitas.findings import Severity
from fidelitas.rights.graph.links import RightKind
from fidelitas.rights.mariadb.server import MariadbRights, account_for, database_fits

__all__ = ["CHECKS"]

# What the server itself is called in its list of connections.
_SYSTEM_USERS = frozenset({"", "system user", "event_scheduler", "unauthenticated user"})
_LOCAL = ("localhost", "127.0.0.1", "::1")
_USUAL = frozenset({"root", "mariadb.sys", "mysql.sys", "mysql.session", "mysql.infoschema", "debian-sys-maint"})


def _anywhere(host: str) -> bool:
    return host in ("%", "") or host.startswith("%")


@check("databases.anonymous-account", Severity.HIGH, advice="DROP USER ''@'HOST'; give everyone who needs the server a named account.")
def anonymous_account(rights: MariadbRights) -> Iterator[Found]:
    """The server has an anonymous account.

    It accepts any user name that no other account matches, and takes precedence over accounts with a less specific host.
    """
    for account in rights.facts.accounts:
        if not account.user and not account.role and not account.locked:
            yield Found(
                about=account.name,
                message=f"the anonymous account accepts any user name from {account.host or 'anywhere'}",
                places=(account.place,),
            )


@check("databases.no-password", Severity.HIGH, advice="Set a password, or bind the account to the local socket.")
def no_password(rights: MariadbRights) -> Iterator[Found]:
    """An account has an empty password.

    Knowing its name is enough to connect.
    """
    for account in rights.facts.accounts:
        if not account.role and not account.locked and account.user and any(kind == "empty" for _, kind in account.logins):
            worse = rights.is_administrator(account.name)
            message = f"{account.name} has an empty password" + (", and is an administrator" if worse else "")
            yield Found(about=account.name, message=message, places=(account.place,), severity=Severity.CRITICAL if worse else None)


@check("databases.weak-login-method", Severity.MEDIUM, advice="Set the password again with a current method.")
def weak_login_method(rights: MariadbRights) -> Iterator[Found]:
    """An account's password is stored with a broken method, or in clear.

    The 16-digit hash of old servers is cracked in seconds.
    """
    for account in rights.facts.accounts:
        for plugin, kind in account.logins:
            if kind in ("outdated", "plain"):
                how = "in clear" if kind == "plain" else "as an old digest"
                yield Found(
                    about=account.name, message=f"the password of {account.name} is stored {how} ({plugin})", places=(account.place,)
                )


@check("databases.administrator-from-anywhere", Severity.HIGH, advice="Name the host in the account, and REQUIRE SSL.")
def administrator_from_anywhere(rights: MariadbRights) -> Iterator[Found]:
    """An administrator account accepts connections from any address.

    A guessed or stolen password is enough, from anywhere that can reach the port.
    """
    for account in rights.facts.accounts:
        if not account.role and not account.locked and _anywhere(account.host) and rights.is_administrator(account.name):
            tls = "" if account.tls else " and without TLS"
            yield Found(
                about=account.name,
                message=f"{account.name} is an administrator and accepts connections from anywhere{tls}",
                places=(account.place,),
            )


@check(
    "databases.hidden-administrator",
    Severity.HIGH,
    advice="Find out who uses the account, and revoke the privileges that it does not need.",
)
def hidden_administrator(rights: MariadbRights) -> Iterator[Found]:
    """An account that is not named as an administrator has an administrator's privileges.

    Any privilege that changes accounts, grants or files of the server makes its holder an administrator.
    """
    for account in rights.facts.accounts:
        if not account.role and not account.locked and account.user not in _USUAL and rights.is_administrator(account.name):
            roles = sorted(rights.belongs_to(account.name))
            by = f" by role {', '.join(roles)}" if roles and not rights.accounts[account.name].privileges >= {"SUPER"} else ""
            yield Found(about=account.name, message=f"{account.name} is an administrator{by}", places=(account.place,))


@check("databases.socket-administrator", Severity.INFO, advice="None needed if the host's root is meant to administer this database.")
def socket_administrator(rights: MariadbRights) -> Iterator[Found]:
    """An account of the host administers the database through the local socket.

    Anyone who becomes this host account needs no password for the database.
    """
    by_socket = {principal.name for _, principal, _ in rights.socket_logins()}
    for account in rights.facts.accounts:
        if account.name in by_socket and rights.is_administrator(account.name):
            yield Found(
                about=account.name,
                message=f"the host account {account.user} administers this database through the local socket",
                places=(account.place,),
            )


@check(
    "databases.pending-grants", Severity.HIGH, advice="Find out who changed the table; undo the change, or run FLUSH PRIVILEGES on purpose."
)
def pending_grants(rights: MariadbRights) -> Iterator[Found]:
    """The grant tables differ from the grants in force.

    Someone edited the tables directly: the change takes effect at the next FLUSH PRIVILEGES or restart.
    """
    known = rights.facts.in_force
    if known is None:
        return
    for account in rights.facts.accounts:
        if account.role or account.locked:
            continue
        now = known.get(account.name)
        comparable = account.privileges
        if now is None:
            message = f"account {account.name} is in the grant tables but not in force"
        elif comparable - now:
            message = f"{account.name} gets {', '.join(sorted(comparable - now))} at the next FLUSH PRIVILEGES or restart"
        elif (now & _COMPARED) - comparable:
            message = (
                f"{account.name} has {', '.join(sorted((now & _COMPARED) - comparable))}, which the grant tables do not contain any more"
            )
        else:
            continue
        yield Found(about=account.name, message=message, places=(account.place,))


# Those of them that are on tables and databases, too.
_ON_OBJECTS = frozenset({"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "INDEX", "ALTER", "TRIGGER"})


@check(
    "databases.pending-object-grants",
    Severity.HIGH,
    advice="Find out who changed the table; undo the change, or run FLUSH PRIVILEGES on purpose.",
)
def pending_object_grants(rights: MariadbRights) -> Iterator[Found]:
    """The tables of grants on databases or tables differ from the grants in force.

    Someone edited them directly: the change takes effect at the next FLUSH PRIVILEGES or restart.
    """
    known = rights.facts.objects_in_force
    if known is None:
        return
    stated: dict[tuple[str, str, str], AccountGrant] = {}
    for grant in rights.facts.grants:
        if grant.host and grant.scope in (GrantScope.DATABASE, GrantScope.TABLE):
            stated[f"{grant.user}@{grant.host}", grant.database, grant.name] = grant
    for key in sorted({*stated, *known}):
        account, database, name = key
        row, now = stated.get(key), known.get(key, frozenset()) & _ON_OBJECTS
        then = row.privileges & _ON_OBJECTS if row is not None else frozenset()
        on = f"{database}.{name or '*'}"
        place = row.place if row is not None else Place(subject=rights.subject, path="object_privileges")
        if then - now:
            message = f"{account} gets {', '.join(sorted(then - now))} on {on} at the next FLUSH PRIVILEGES or restart"
            yield Found(about=f"{account} {on}", message=message, places=(place,))
        elif now - then:
            message = f"{account} has {', '.join(sorted(now - then))} on {on}, which the grant tables do not contain any more"
            yield Found(about=f"{account} {on}", message=message, places=(place,))


# Privileges that every version names alike, in the tables and in information_schema.
_COMPARED = frozenset(
    {"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "FILE", "SUPER", "CREATE USER", "RELOAD", "SHUTDOWN", "PROCESS"}
)


@check("databases.wildcard-grant", Severity.LOW, advice="Write the underscore as \\_ in the grant.")
def wildcard_grant(rights: MariadbRights) -> Iterator[Found]:
    """A grant on a database also covers other databases: an underscore in its name matches any character.

    Anyone who may create a database with a matching name decides what the grant covers.
    """
    for grant in rights.facts.grants:
        if grant.scope is not GrantScope.DATABASE or not re.search(r"(?<!\\)_", grant.database):
            continue
        others = [
            name for name in rights.facts.databases if name != grant.database.replace("\\", "") and database_fits(grant.database, name)
        ]
        if others:
            who = f"{grant.user}@{grant.host}" if grant.host else grant.user
            message = f"the grant of {who} on {grant.database} also covers {', '.join(others[:5])}"
            yield Found(about=f"{who} {grant.database}", message=message, places=(grant.place,))


@check("databases.definer-object", Severity.LOW, advice="Set its DEFINER to an account with only the rights that it needs.")
def definer_object(rights: MariadbRights) -> Iterator[Found]:
    """A routine, view, trigger or event runs as an administrator.

    Anyone who may execute or change it acts as the administrator within its text.
    """
    superusers = {holding.principal.name for holding in rights.holdings if holding.right.kind is RightKind.DB_SUPERUSER}
    for one in rights.facts.definers:
        if one.definer in superusers:
            message = f"{one.object_kind} {one.database}.{one.name} runs as {one.definer}"
            yield Found(about=f"{one.database}.{one.name}", message=message, places=(one.place,))


@check("databases.session-after-revocation", Severity.MEDIUM, advice="KILL the connection by its number in SHOW PROCESSLIST.")
def session_after_revocation(rights: MariadbRights) -> Iterator[Found]:
    """A connection is open for an account that could not connect any more.

    Accounts are checked once, at the start of a connection: revoked access stays usable until the connection ends.
    """
    place = Place(rights.subject, "mysql.sessions")
    for user, address in dict.fromkeys(rights.facts.sessions):
        if user in _SYSTEM_USERS:
            continue
        host = address.partition(":")[0]
        account = account_for(rights.facts.accounts, user, host, host)
        why = "no account matches it any more" if account is None else "its account is locked" if account.locked else ""
        if why:
            yield Found(about=user, message=f"{user} is connected from {host or 'an unknown address'}, and {why}", places=(place,))


CHECKS: tuple[Check[MariadbRights], ...] = (
    anonymous_account,
    no_password,
    weak_login_method,
    administrator_from_anywhere,
    hidden_administrator,
    socket_administrator,
    pending_grants,
    pending_object_grants,
    wildcard_grant,
    definer_object,
    session_after_revocation,
)
