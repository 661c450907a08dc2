"""Checks of MariaDB and MySQL servers: accounts that anybody reaches, passwords that are none, and grant tables that are not in force."""

import re
from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import GrantScope
from fidelitas.findings import Severity
from fidelitas.rights.graph.links import RightKind
from fidelitas.rights.mariadb.server import MariadbRights, account_for, database_fits
from fidelitas.text import Place

__all__ = ["CHECKS"]

# What the server itself is called in its list of connections.
_SYSTEM_USERS = frozenset({"", "system user", "event_scheduler", "unauthenticated user"})
_LOCAL = ("localhost", "127.0.0.1", "::1")
_USUAL = frozenset({"root", "mariadb.sys", "mysql.sys", "mysql.session", "mysql.infoschema", "debian-sys-maint"})


def _anywhere(host: str) -> bool:
    return host in ("%", "") or host.startswith("%")


@check("databases.anonymous-account", Severity.HIGH, advice="DROP USER ''@…: whoever needs the server gets an account of their own.")
def anonymous_account(rights: MariadbRights) -> Iterator[Found]:
    """There is an account without a name.

    It takes every name that no other account takes, and before less specific accounts of that very name.
    """
    for account in rights.facts.accounts:
        if not account.user and not account.role and not account.locked:
            yield Found(
                about=account.name, message=f"anybody from {account.host or 'anywhere'} gets in under any name", places=(account.place,)
            )


@check("databases.no-password", Severity.HIGH, advice="Set a password, or bind the account to a socket.")
def no_password(rights: MariadbRights) -> Iterator[Found]:
    """An account has an empty password.

    Its name is all that it takes.
    """
    for account in rights.facts.accounts:
        if not account.role and not account.locked and account.user and any(kind == "empty" for _, kind in account.logins):
            worse = rights.is_administrator(account.name)
            message = f"{account.name} has an empty password" + (", and is an administrator" if worse else "")
            yield Found(about=account.name, message=message, places=(account.place,), severity=Severity.CRITICAL if worse else None)


@check("databases.weak-login-method", Severity.MEDIUM, advice="Have the password set anew with a current method.")
def weak_login_method(rights: MariadbRights) -> Iterator[Found]:
    """An account's password is kept in a way that is broken, or in clear.

    The old digest of sixteen digits is tried through in seconds.
    """
    for account in rights.facts.accounts:
        for plugin, kind in account.logins:
            if kind in ("outdated", "plain"):
                how = "in clear" if kind == "plain" else "as an old digest"
                yield Found(about=account.name, message=f"the password of {account.name} is kept {how} ({plugin})", places=(account.place,))


@check("databases.administrator-from-anywhere", Severity.HIGH, advice="Name the host, and REQUIRE SSL.")
def administrator_from_anywhere(rights: MariadbRights) -> Iterator[Found]:
    """An administrator may connect from anywhere.

    A password that is known is enough, from wherever the port is reached.
    """
    for account in rights.facts.accounts:
        if not account.role and not account.locked and _anywhere(account.host) and rights.is_administrator(account.name):
            tls = "" if account.tls else " and without TLS"
            yield Found(about=account.name, message=f"{account.name} is an administrator from anywhere{tls}", places=(account.place,))


@check("databases.hidden-administrator", Severity.HIGH, advice="See who uses it; take what it does not need away.")
def hidden_administrator(rights: MariadbRights) -> Iterator[Found]:
    """An account that does not look it is an administrator: by its own privileges, or by a role.

    Every privilege that an administrator needs makes one, whatever the name.
    """
    for account in rights.facts.accounts:
        if not account.role and not account.locked and account.user not in _USUAL and rights.is_administrator(account.name):
            roles = sorted(rights.belongs_to(account.name))
            by = f" by role {', '.join(roles)}" if roles and not rights.accounts[account.name].privileges >= {"SUPER"} else ""
            yield Found(about=account.name, message=f"{account.name} is an administrator{by}", places=(account.place,))


@check("databases.socket-administrator", Severity.INFO, advice="Nothing, if whoever becomes that account of the host is meant to.")
def socket_administrator(rights: MariadbRights) -> Iterator[Found]:
    """An account of the host is an administrator of the database, by the socket.

    Whoever becomes that account on the host needs no password here.
    """
    for account in rights.facts.accounts:
        socket = any("socket" in plugin for plugin, _ in account.logins)
        if socket and not account.locked and rights.is_administrator(account.name):
            yield Found(
                about=account.name,
                message=f"the account {account.user} of the host is an administrator here, by the socket",
                places=(account.place,),
            )


@check("databases.pending-grants", Severity.HIGH, advice="Find who changed the table; put it back, or FLUSH PRIVILEGES on purpose.")
def pending_grants(rights: MariadbRights) -> Iterator[Found]:
    """The grant tables say something else than what is in force.

    They were changed by hand: at the next load, a restart at the latest, what they say becomes true.
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
            message = f"account {account.name} is in the table and not in force"
        elif comparable - now:
            message = f"{account.name} gets {', '.join(sorted(comparable - now))} at the next load of the grant tables"
        elif (now & _COMPARED) - comparable:
            message = f"{account.name} has {', '.join(sorted((now & _COMPARED) - comparable))}, which the table does not say any more"
        else:
            continue
        yield Found(about=account.name, message=message, places=(account.place,))


# Privileges that every version names alike, in the tables and in information_schema.
_COMPARED = frozenset(
    {"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "FILE", "SUPER", "CREATE USER", "RELOAD", "SHUTDOWN", "PROCESS"}
)


@check("databases.wildcard-grant", Severity.LOW, advice="Write the underscore as \\_ in the grant.")
def wildcard_grant(rights: MariadbRights) -> Iterator[Found]:
    """A grant on a database reaches others, because an underscore in its name stands for any character.

    Who may make a database of such a name chooses what is reached.
    """
    for grant in rights.facts.grants:
        if grant.scope is not GrantScope.DATABASE or not re.search(r"(?<!\\)_", grant.database):
            continue
        others = [
            name for name in rights.facts.databases if name != grant.database.replace("\\", "") and database_fits(grant.database, name)
        ]
        if others:
            who = f"{grant.user}@{grant.host}" if grant.host else grant.user
            message = f"the grant of {who} on {grant.database} also reaches {', '.join(others[:5])}"
            yield Found(about=f"{who} {grant.database}", message=message, places=(grant.place,))


@check("databases.definer-object", Severity.LOW, advice="Define it as an account with the rights that it needs.")
def definer_object(rights: MariadbRights) -> Iterator[Found]:
    """A routine, view, trigger or event acts as an administrator.

    Whoever may run it, or change it, acts as the administrator within its text.
    """
    superusers = {holding.principal.name for holding in rights.holdings if holding.right.kind is RightKind.DB_SUPERUSER}
    for one in rights.facts.definers:
        if one.definer in superusers:
            message = f"{one.object_kind} {one.database}.{one.name} acts as {one.definer}"
            yield Found(about=f"{one.database}.{one.name}", message=message, places=(one.place,))


@check("databases.session-after-revocation", Severity.MEDIUM, advice="End it: KILL with the number that the process list shows.")
def session_after_revocation(rights: MariadbRights) -> Iterator[Found]:
    """A connection is open of an account that would not be let in any more.

    An account is looked up once, when a connection begins: what was taken away since is in use until it ends.
    """
    place = Place(rights.subject, "mysql.sessions")
    for user, address in dict.fromkeys(rights.facts.sessions):
        if user in _SYSTEM_USERS:
            continue
        host = address.partition(":")[0]
        account = account_for(rights.facts.accounts, user, host, host)
        why = "there is no account for it any more" if account is None else "its account is locked" if account.locked else ""
        if why:
            yield Found(about=user, message=f"{user} is connected from {host or 'nowhere told'}, and {why}", places=(place,))


CHECKS: tuple[Check[MariadbRights], ...] = (
    anonymous_account,
    no_password,
    weak_login_method,
    administrator_from_anywhere,
    hidden_administrator,
    socket_administrator,
    pending_grants,
    wildcard_grant,
    definer_object,
    session_after_revocation,
)
