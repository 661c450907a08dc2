"""Who gets in from where: the rules of access in their order, the first that fits decides (PostgreSQL manual, 21.1 pg_hba.conf)."""

from collections.abc import Iterator
from collections.abc import Set as AbstractSet
from functools import cache
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_network

from msgspec import Struct

from fidelitas.facts import AccessRule, DatabaseFacts, DatabaseRole
from fidelitas.rights.postgresql.expressions import found_in
from fidelitas.rights.postgresql.privileges import Privileges

__all__ = ["LoginPath", "first_rule", "hindrance", "is_anywhere", "login_paths_of", "names_role"]

Network = IPv4Network | IPv6Network
Address = IPv4Address | IPv6Address
# Which connections a type of rule takes: of a socket, of TCP without and with TLS or GSSAPI.
_TAKES = {
    "local": frozenset({"socket"}),
    "host": frozenset({"plain", "tls", "gss"}),
    "hostssl": frozenset({"tls"}),
    "hostnossl": frozenset({"plain", "gss"}),
    "hostgssenc": frozenset({"gss"}),
    "hostnogssenc": frozenset({"plain", "tls"}),
}


class LoginPath(Struct, frozen=True):
    """A way in for a role: by which rule, from which addresses, to which databases, and what is asked for."""

    rule: AccessRule
    role: str
    databases: tuple[str, ...]
    besides: tuple[str, ...] = ()  # networks of which rules before it decide

    @property
    def where(self) -> str:
        """From where, in words."""
        if self.rule.type == "local":
            return "a socket of the server"
        shown = "anywhere" if is_anywhere(self.rule) else network_of(self.rule) or self.rule.address
        return shown + (f" but {', '.join(self.besides)}" if self.besides else "")

    def __str__(self) -> str:
        return f"{self.role} to {', '.join(self.databases)} from {self.where}: {self.rule.method}"


def network_of(rule: AccessRule) -> str:
    """Return the network of a rule, empty where it names a host."""
    found = _network(rule)
    return "" if found is None else str(found)


def _network(rule: AccessRule) -> Network | None:
    return _network_at(rule.address, rule.netmask) if rule.address and rule.netmask else None


@cache  # it is asked for each role
def _network_at(address: str, netmask: str) -> Network | None:
    try:
        if ":" in address:  # netmask of IPv6 in words of an address
            bits = sum(int(part or "0", 16).bit_count() for part in netmask.split(":"))
            return ip_network(f"{address}/{bits}", strict=False)
        return ip_network(f"{address}/{netmask}", strict=False)
    except ValueError:
        return None


def is_anywhere(rule: AccessRule) -> bool:
    """Return whether a rule is for every address."""
    network = _network(rule)
    return rule.address == "all" or (network is not None and network.prefixlen == 0)


def login_paths_of(facts: DatabaseFacts, privileges: Privileges, role: str) -> list[LoginPath]:
    """Return the ways in for a role that may log in, those that an earlier rule shuts or takes over left out."""
    found = privileges.roles.get(role)
    if facts.access is None or found is None:
        return []
    login_paths: list[LoginPath] = []
    before: list[tuple[AccessRule, frozenset[str]]] = []
    for rule in facts.access:
        if not _is_about(rule, role, privileges):
            continue
        databases = frozenset(name for name in facts.databases if _has_database(rule, name, role, privileges))
        open_to = {name for name in databases - _taken(rule, before) if not hindrance(facts, privileges, found, rule, name)}
        if open_to and (rule.type != "hostssl" or facts.ssl):
            login_paths.append(LoginPath(rule, role, tuple(sorted(open_to)), _besides(rule, open_to, before)))
        if rule.type != "hostssl" or facts.ssl:
            before.append((rule, databases))
    return login_paths


def first_rule(
    facts: DatabaseFacts, privileges: Privileges, role: str, address: Address | None, database: str, *, tls: bool
) -> AccessRule | None:
    """Return the first rule that is for a connection, which decides; without an address, of one by the socket."""
    kind = "socket" if address is None else "tls" if tls else "plain"
    for rule in facts.access or ():
        if kind not in _TAKES.get(rule.type, frozenset()) or not _is_about(rule, role, privileges):
            continue
        if _has_database(rule, database, role, privileges) and (address is None or _is_from(rule, address)):
            return rule
    return None


def _is_from(rule: AccessRule, address: Address) -> bool:
    """Return whether a rule is for an address; one that names a host or the server's own networks is taken not to be."""
    network = _network(rule)
    return rule.address == "all" or (network is not None and network.version == address.version and address in network)


def _taken(rule: AccessRule, before: list[tuple[AccessRule, frozenset[str]]]) -> frozenset[str]:
    """Return the databases for which every connection that a rule takes was decided by the rules before it."""
    return frozenset(name for earlier, databases in before if _covers(earlier, rule) for name in databases)


# What a method asks is a password of the role.
_BY_PASSWORD = frozenset({"scram-sha-256", "md5", "password"})


def hindrance(facts: DatabaseFacts, privileges: Privileges, role: DatabaseRole, rule: AccessRule, database: str) -> str:
    """Return why a connection for which a rule decides is refused whatever it proves, as a clause; nothing where it need not be."""
    if rule.method == "reject":
        return "the first rule that fits rejects it"
    if not role.login:
        return f"role {role.name} may not log in (NOLOGIN)"
    if rule.method in _BY_PASSWORD:
        if role.password == "none":  # noqa: S105 of the kinds of passwords
            return f"role {role.name} has no password"
        if rule.method == "scram-sha-256" and role.password == "md5":  # noqa: S105
            return f"the password of {role.name} is kept as md5, with which scram-sha-256 cannot be answered"
        if role.valid_until is not None and role.valid_until <= facts.taken:
            return f"the password of {role.name} has expired"
    if database in facts.closed:
        return f"database {database} accepts no connections"
    if role.superuser:
        return ""
    if role.connection_limit == 0 or database in facts.full:
        return f"the connection limit of {'the role' if role.connection_limit == 0 else 'the database'} is 0"
    if not privileges.has(role.name, ("", "database", "", database), "CONNECT"):
        return f"role {role.name} may not connect to database {database}"
    return ""


def _besides(rule: AccessRule, databases: AbstractSet[str], before: list[tuple[AccessRule, frozenset[str]]]) -> tuple[str, ...]:
    """Return the narrower networks that rules before one decide about, for some of the same databases and ways of connecting."""
    wide = _network(rule)
    narrower = (
        network_of(earlier)
        for earlier, those in before
        if those & databases and _TAKES.get(earlier.type, frozenset()) & _TAKES.get(rule.type, frozenset()) and network_of(earlier)
        if wide is None or _inside(earlier, rule)
    )
    return tuple(dict.fromkeys(narrower)) if rule.type != "local" else ()


def _inside(earlier: AccessRule, rule: AccessRule) -> bool:
    narrow, wide = _network(earlier), _network(rule)
    if narrow is None or wide is None or narrow.version != wide.version:
        return False
    return narrow.subnet_of(wide)  # type: ignore[arg-type]


def _covers(earlier: AccessRule, rule: AccessRule) -> bool:
    if not _TAKES.get(rule.type, frozenset()) <= _TAKES.get(earlier.type, frozenset()):
        return False
    if rule.type == "local" or earlier.address == "all":
        return True
    wide, narrow = _network(earlier), _network(rule)
    if wide is None or narrow is None:
        return earlier.address == rule.address
    return wide.version == narrow.version and narrow.subnet_of(wide)  # type: ignore[arg-type]


def _is_about(rule: AccessRule, role: str, privileges: Privileges) -> bool:
    return any(_is_role(name, role, rule, privileges) for name in rule.roles)


def _is_role(name: str, role: str, rule: AccessRule, privileges: Privileges) -> bool:
    if name in rule.quoted_roles:  # in quotation marks it is a name, whatever it would mean without
        return name == role
    return names_role(name, role, privileges)


def names_role(name: str, role: str, privileges: Privileges) -> bool:
    """Return whether a word for roles means one: its name, ``all``, a group with ``+``, from version 16 on an expression."""
    if name.startswith("+"):  # a superuser is a member of those alone that it was put into
        return name[1:] in privileges.put_into(role)
    return name in ("all", role) or _expressed(name, role, privileges)


def _has_database(rule: AccessRule, name: str, role: str, privileges: Privileges) -> bool:
    return any(_is_database(one, name, role, rule, privileges) for one in rule.databases)


def _is_database(one: str, name: str, role: str, rule: AccessRule, privileges: Privileges) -> bool:
    if one in rule.quoted_databases:
        return one == name
    if one == "sameuser":
        return name == role
    if one in ("samerole", "samegroup"):
        return name in privileges.put_into(role)
    if one == "replication":
        return False  # it is for streams of the whole server alone
    return one in ("all", name) or _expressed(one, name, privileges)


# From this version on a name of a rule that begins with a slash is an expression.
SAYS_EXPRESSIONS = 160000


def _expressed(pattern: str, name: str, privileges: Privileges) -> bool:
    return pattern.startswith("/") and privileges.facts.version >= SAYS_EXPRESSIONS and found_in(pattern[1:], name) is not None


def replication_login_paths(facts: DatabaseFacts, privileges: Privileges, role: str) -> Iterator[AccessRule]:
    """Yield the rules by which a role may stream the whole server."""
    for rule in facts.access or ():
        streams = "replication" in rule.databases and "replication" not in rule.quoted_databases
        if streams and rule.method != "reject" and _is_about(rule, role, privileges):
            yield rule
