"""Triggers of tables as ways to another role's rights (PostgreSQL manual, chapter 39, and CREATE TRIGGER).

A trigger's function runs as the role that changes rows of the table, unless it acts as its owner; nobody needs EXECUTE on it for that.
"""

from collections.abc import Iterator

from fidelitas.facts import Trigger, TriggerMaker
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, PrincipalKind, Strength
from fidelitas.rights.postgresql.functions import fixes_path, leading_owner
from fidelitas.rights.postgresql.names import quoted
from fidelitas.rights.postgresql.privileges import Privileges
from fidelitas.rights.subject import DatabaseServer

__all__ = ["trigger_links"]

_EVENTS = {4: "INSERT", 8: "DELETE", 16: "UPDATE", 32: "TRUNCATE"}


def trigger_links(server: DatabaseServer, privileges: Privileges) -> Iterator[Link]:
    """Yield the links to roles that reach the host: from those who may set off a function that acts as one, or have one run theirs."""
    for trigger in privileges.facts.triggers:
        if trigger.definer:
            if not fixes_path(trigger.settings) and leading_owner(privileges, trigger.function_owner):
                yield from _set_off(server, privileges, trigger)
        elif leading_owner(privileges, trigger.owner) and not privileges.is_superuser(trigger.function_owner):
            yield _run_by_owner(server, trigger)
    for maker in privileges.facts.trigger_makers:
        if leading_owner(privileges, maker.owner) and not privileges.is_superuser(maker.grantee):
            yield _made(server, maker)


def _set_off(server: DatabaseServer, privileges: Privileges, trigger: Trigger) -> Iterator[Link]:
    events = {word for bit, word in _EVENTS.items() if trigger.events & bit}
    table = _table(trigger)
    granted = privileges.grants_on((trigger.database, "table", trigger.schema, trigger.table))
    by_grantee: dict[str, list[str]] = {}
    for grant in granted:
        if (
            grant.privilege in events
            and grant.grantee != trigger.function_owner
            and grant.privilege not in by_grantee.get(grant.grantee, ())
        ):
            by_grantee.setdefault(grant.grantee, []).append(grant.privilege)
    for grantee, able in by_grantee.items():
        yield _link(
            server, grantee, trigger.function_owner, trigger,
            f"may {', '.join(able)} {table} in {trigger.database}, which runs {trigger.function} as {trigger.function_owner}, and that does"
            " not fix its search_path",
            "if the function can be made to do something else by the objects that the role makes",
        )  # fmt: skip


def _run_by_owner(server: DatabaseServer, trigger: Trigger) -> Link:
    table = _table(trigger)
    because = f"owns {trigger.function}, which trigger {trigger.name} on {table} in {trigger.database} runs as the role that changes rows"
    return _link(server, trigger.function_owner, trigger.owner, trigger, because, f"if {trigger.owner} changes rows of {table}")


def _made(server: DatabaseServer, maker: TriggerMaker) -> Link:
    more = f" and {maker.tables - 1} more tables of {maker.owner}" if maker.tables > 1 else ""
    because = f"may put a trigger on {maker.table}{more} in {maker.database} (TRIGGER), which runs as the role that changes rows"
    return _link(
        server, maker.grantee, maker.owner, maker, because, f"if {maker.owner} changes rows of it, and the role can make functions"
    )


def _table(trigger: Trigger) -> str:
    return f"{quoted(trigger.schema)}.{quoted(trigger.table)}"


def _link(server: DatabaseServer, source: str, target: str, fact: Trigger | TriggerMaker, because: str, condition: str) -> Link:
    """Return a link from a role, or from any, to the role as which a function runs."""
    return Link(
        source=server.role(source) if source else Principal(kind=PrincipalKind.ANY_ACCOUNT, name="", subject=server.subject),
        target=server.role(target),
        kind=LinkKind.MAY_BECOME,
        strength=Strength.CONDITIONAL,
        by=By(Mechanism.TRIGGER, fact.table if isinstance(fact, TriggerMaker) else _table(fact)),
        because=because,
        conditions=(condition,),
        place=fact.place,
    )
