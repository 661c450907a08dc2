"""Who is let in as a role without a password of the server's: an account of its host, or of a directory (PostgreSQL manual, 21.2 to 21.12).

Certificates, RADIUS and PAM prove names that no evidence holds; they are said beside the way in, and nobody is named for them.
"""

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from fidelitas.facts import AccessRule, DatabaseFacts, IdentityMap, Place
from fidelitas.rights.postgresql.expressions import found_in
from fidelitas.rights.postgresql.login_paths import SAYS_EXPRESSIONS, names_role
from fidelitas.rights.postgresql.privileges import Privileges

__all__ = ["Identity", "directory_accounts", "mapped_accounts"]


class Identity(NamedTuple):
    """An account that a rule takes for a role, and the line that says so."""

    account: str
    place: Place


def mapped_accounts(facts: DatabaseFacts, privileges: Privileges, rule: AccessRule, role: str, known: Iterable[str]) -> Iterator[Identity]:
    """Yield the accounts that a rule takes for a role: without a map that of the same name, with one those that its lines name.

    Of a line whose account is an expression those that are `known` (pg_ident.conf).
    """
    name = _options(rule).get("map", "")
    if not name:
        yield Identity(role, rule.place)
    for line in facts.identity_maps if name else ():
        if line.map == name:
            accounts = known if line.account.startswith("/") else (line.account,)
            yield from (Identity(one, line.place) for one in accounts if _maps(line, one, role, privileges))


def _maps(line: IdentityMap, account: str, role: str, privileges: Privileges) -> bool:
    stated = line.role
    if line.account.startswith("/"):
        groups = found_in(line.account[1:], account)
        if groups is None or (r"\1" in stated and not groups):
            return False
        if r"\1" in stated:  # what the first group took is a name, whatever it looks like
            return stated.replace(r"\1", groups[0], 1) == role
    if stated == "all" and privileges.facts.version < SAYS_EXPRESSIONS:
        return stated == role
    return stated == role or (privileges.facts.version >= SAYS_EXPRESSIONS and names_role(stated, role, privileges))


def directory_accounts(
    facts: DatabaseFacts, privileges: Privileges, rule: AccessRule, role: str, known: Mapping[str, str]
) -> Iterator[Identity]:
    """Yield the accounts of a directory that a rule takes for a role; `known` has the DN of each account by its name."""
    if rule.method == "ldap":
        yield from (Identity(name, rule.place) for name in _bound(_options(rule), role, known))
    elif rule.method in ("gss", "sspi"):
        options = _options(rule)
        by_principal = {_principal(name, dn, options): name for name, dn in known.items()}
        for account, place in mapped_accounts(facts, privileges, rule, role, by_principal):
            if account in by_principal:
                yield Identity(by_principal[account], place)


def _bound(options: Mapping[str, str], role: str, known: Mapping[str, str]) -> Iterator[str]:
    """Yield the account whose password the server tries: of the DN that it makes of the role, or the one that it finds by its name."""
    prefix, suffix, base = (options.get(name, "") for name in ("ldapprefix", "ldapsuffix", "ldapbasedn"))
    made = _folded(f"{prefix}{role}{suffix}")
    by_name = prefix.endswith("\\") or suffix.startswith("@") or "ldapbasedn" in options or "ldapurl" in options
    for name, dn in known.items():
        if _folded(dn) == made or (by_name and name.lower() == role.lower() and _folded(dn).endswith(_folded(base))):
            yield name


def _principal(name: str, dn: str, options: Mapping[str, str]) -> str:
    """Return the name that Kerberos has for an account of a directory, as a map sees it."""
    if options.get("include_realm", "1") == "0":
        return name
    domain = ".".join(part.partition("=")[2].strip() for part in dn.split(",") if part.strip().lower().startswith("dc="))
    return f"{name}@{options.get('krb_realm') or domain.upper()}"


def _options(rule: AccessRule) -> dict[str, str]:
    return {name: value for name, _, value in (option.partition("=") for option in rule.options)}


def _folded(dn: str) -> str:
    return ",".join(part.strip() for part in dn.split(",")).lower()
