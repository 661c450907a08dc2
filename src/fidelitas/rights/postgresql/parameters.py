"""What the right to set a parameter amounts to (GRANT … ON PARAMETER; PostgreSQL manual, chapter 20)."""

from collections.abc import Iterator, Mapping
from typing import Any

from fidelitas.facts import DatabaseFacts, DatabaseGrant
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, PrincipalKind, RightKind, Strength
from fidelitas.rights.postgresql.links import host_parameters
from fidelitas.rights.subject import DatabaseServer

__all__ = ["parameter_links"]


def parameter_links(server: DatabaseServer, facts: DatabaseFacts) -> Iterator[Link]:
    """Yield a link to the host for each grant on a parameter that says what the server runs or loads there."""
    for grant in facts.server_grants:
        known = host_parameters().get(grant.name.lower()) if grant.object_kind == "parameter" else None
        # What takes effect at a reload or restart cannot be set in a session: SET is of no use then.
        if known is not None and (grant.privilege == "ALTER SYSTEM" or not (known.get("reload") or known.get("restart"))):
            yield _link(server, facts, grant, known)


def _link(server: DatabaseServer, facts: DatabaseFacts, grant: DatabaseGrant, known: Mapping[str, Any]) -> Link:
    conditions = tuple(_conditions(facts, known))
    certain = known["strength"] == "certain" and not conditions
    when = ", at the next reload" if known.get("reload") else ", at the next restart" if known.get("restart") else ""
    source = server.role(grant.grantee) if grant.grantee else Principal(kind=PrincipalKind.ANY_ACCOUNT, name="", subject=server.subject)
    return Link(
        source=source,
        target=server.right(RightKind.DB_HOST_ESCAPE),
        kind=LinkKind.HAS,
        strength=Strength.CERTAIN if certain else Strength.CONDITIONAL,
        by=By(Mechanism.PARAMETER, grant.name),
        because=f"may set {grant.name} ({grant.privilege}), which {known['does']}{when}",
        conditions=conditions,
        place=grant.place,
    )


def _conditions(facts: DatabaseFacts, known: Mapping[str, Any]) -> Iterator[str]:
    """Yield what else must hold, as far as it does not."""
    if known.get("archiving") and facts.parameters.get("archive_mode", "") not in ("on", "always"):
        yield "if the server archives its log (archive_mode), which takes a restart"
    if known.get("recovery"):
        yield "if the server recovers, or follows another"
    if known.get("library"):
        yield "if a library of one's own lies where the server finds it"
    if "other" in known:
        yield str(known["other"])
