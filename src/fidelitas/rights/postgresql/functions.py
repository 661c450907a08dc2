"""Functions by which a role comes to another's rights: those that act as their owner, and those that run as who changes an object.

What a function does with its arguments is not read: of one that acts as its owner that is a condition.
"""

from collections.abc import Iterable, Iterator

from fidelitas.facts import Routine
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, PrincipalKind, Strength
from fidelitas.rights.postgresql.links import host_parameters, predefined
from fidelitas.rights.postgresql.privileges import Key, Privileges
from fidelitas.rights.subject import DatabaseServer

__all__ = ["fixes_path", "function_links", "leading_owner"]


def fixes_path(settings: Iterable[str]) -> bool:
    """Return whether a function with these settings says itself in which schemas names are looked up, so that its caller cannot."""
    return any(setting.startswith("search_path=") for setting in settings)


def leading_owner(privileges: Privileges, owner: str) -> str:
    """Return how a function that acts as a role reaches the host, as a clause; nothing where it does not.

    Inside such a function SET ROLE is refused: what counts is what the role has as it is.
    """
    if privileges.is_superuser(owner):
        return "a superuser"
    mine = privileges.inherits(owner)
    role = next((name for name in predefined() if name in mine), "")
    if role:
        return f"a member of {role}"
    granted = (one for one in privileges.facts.server_grants if one.object_kind == "parameter" and one.grantee in {*mine, ""})
    parameter = next((one.name for one in granted if one.name.lower() in host_parameters()), "")
    return f"a role that may set {parameter}" if parameter else ""


def function_links(server: DatabaseServer, privileges: Privileges) -> Iterator[Link]:
    """Yield the links from those who may run a function, or own one, to the role whose rights it has."""
    for routine in privileges.facts.routines:
        if routine.definer and not fixes_path(routine.settings) and leading_owner(privileges, routine.owner):
            yield from _of_definer(server, privileges, routine)
    superuser = next((role.name for role in privileges.facts.roles if role.superuser), "")
    for trigger in privileges.facts.event_triggers:
        if trigger.enabled and superuser and not privileges.is_superuser(trigger.owner):
            because = (
                f"owns {trigger.function}, which event trigger {trigger.name} in {trigger.database} runs as the role that changes an"
                " object, a superuser too"
            )
            by, target = By(Mechanism.OWNER, trigger.function), server.role(superuser)
            yield server.link(trigger.owner, target, LinkKind.MAY_BECOME, by, because, trigger.place, certain=True)


def _of_definer(server: DatabaseServer, privileges: Privileges, routine: Routine) -> Iterator[Link]:
    key: Key = (routine.database, "function", routine.schema, routine.name)
    for grant in privileges.grants_on(key):
        if grant.privilege != "EXECUTE" or grant.grantee == routine.owner:
            continue
        everyone = Principal(kind=PrincipalKind.ANY_ACCOUNT, name="", subject=server.subject)
        yield Link(
            source=server.role(grant.grantee) if grant.grantee else everyone,
            target=server.role(routine.owner),
            kind=LinkKind.MAY_BECOME,
            strength=Strength.CONDITIONAL,
            by=By(Mechanism.DEFINER, routine.name),
            because=f"may run {routine.name} in {routine.database}, which acts as {routine.owner} and does not fix its search_path",
            conditions=("if the function can be made to do something else by the objects that its caller makes",),
            place=routine.place,
        )
