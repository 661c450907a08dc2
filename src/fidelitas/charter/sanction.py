"""Whether a charter sanctions a right: a must that says the account is to have it."""

from collections.abc import Iterable

from fidelitas.charter.read import Clause, Kind
from fidelitas.rights import Holding, RightKind

__all__ = ["sanctions"]


def sanctions(clauses: Iterable[Clause], holding: Holding) -> bool:
    """Return whether a must asks for what a holding gives; a must for the command ALL as root asks for root itself."""
    wanted = {RightKind.ROOT: "ALL", RightKind.COMMAND: holding.right.detail}.get(holding.right.kind)
    return any(
        clause.kind is Kind.MUST
        and clause.account == holding.principal.name
        and clause.subject == holding.right.subject
        and (clause.run_as or "root") == "root"
        and " ".join(clause.command) == wanted
        for clause in clauses
    )
