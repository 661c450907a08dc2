"""Whether what is held is sanctioned: by which warrant, or why by none."""

from collections.abc import Sequence
from datetime import date
from enum import StrEnum

from msgspec import Struct

from fidelitas.charter.entries import Charter, Clause, Condition, Kind, Warrant
from fidelitas.charter.scope import Scope, covers, is_systems_own
from fidelitas.rights import Holding, Mechanism, RightKind

__all__ = ["Judged", "Sanction", "Sanctions", "sanctioned_by_demand"]


class Sanction(StrEnum):
    """What a charter says of a holding."""

    YES = "sanctioned"
    BROADER = "broader than sanctioned"  # the holder is, though not for this right, or not under these terms
    NO = "unsanctioned"


class Judged(Struct, frozen=True):
    """A holding, whether it is sanctioned, by which warrant or in spite of which, and why it is not."""

    holding: Holding
    sanction: Sanction
    warrant: Warrant | None = None
    reason: str = ""


class Sanctions:
    """A charter's warrants on a day."""

    def __init__(self, charter: Charter, scope: Scope, day: date) -> None:
        self.charter, self._scope, self._day = charter, scope, day

    def judge(self, holding: Holding) -> Judged:
        """Return whether a holding is sanctioned.  The system's own root account is, without a warrant."""
        if is_systems_own(holding):
            return Judged(holding, Sanction.YES, reason="the system's own account")
        mine = [warrant for warrant in self.charter.warrants if self._is_about(warrant, holding)]
        covering = [warrant for warrant in mine if any(covers(one, holding.right) for one in warrant.rights)]
        active = [warrant for warrant in covering if warrant.is_active(self._day)]
        broken = [(warrant, _broken(warrant, holding)) for warrant in active]
        good = next((warrant for warrant, why in broken if not why), None)
        if good is not None:
            return Judged(holding, Sanction.YES, good)
        if broken:
            return Judged(holding, Sanction.BROADER, broken[0][0], broken[0][1])
        if covering:
            return Judged(holding, Sanction.NO, covering[0], _not_active(covering[0], self._day))
        narrower = next((warrant for warrant in mine if warrant.is_active(self._day)), None)
        if narrower is not None:
            return Judged(holding, Sanction.BROADER, narrower, f"sanctioned is {', '.join(narrower.rights)}")
        return Judged(holding, Sanction.NO)

    def allows(self, holding: Holding) -> bool:
        """Return whether a warrant sanctions a holding, or a must asks for it."""
        return self.judge(holding).sanction is Sanction.YES or sanctioned_by_demand(self.charter.clauses, holding)

    def _is_about(self, warrant: Warrant, holding: Holding) -> bool:
        return self._scope.is_on(warrant.on, holding.right.subject) and self._scope.is_held_by(warrant.who, holding)

    def unused(self, holdings: Sequence[Holding]) -> list[Warrant]:
        """Return the active warrants by which nothing is held."""
        active = [warrant for warrant in self.charter.warrants if warrant.is_active(self._day)]
        return [warrant for warrant in active if not any(self._is_for(warrant, holding) for holding in holdings)]

    def _is_for(self, warrant: Warrant, holding: Holding) -> bool:
        return any(covers(one, holding.right) for one in warrant.rights) and self._is_about(warrant, holding)


def _broken(warrant: Warrant, holding: Holding) -> str:
    """Return which condition of a warrant is not met, in words; nothing where all are.

    Weaknesses by which it could be had besides what was granted are findings, and no breach of a warrant.
    """
    routes = [route for route in holding.routes if route.granted] or holding.routes
    if Condition.PASSWORD in warrant.conditions and any(route.asks is None and not route.conditions for route in routes):
        return "no password is asked for"
    by_key = any(link.mechanism in (Mechanism.SSH_KEY, Mechanism.PRIVATE_KEY) for route in routes for link in route.links)
    return "a key is enough" if Condition.NO_KEY in warrant.conditions and by_key else ""


def _not_active(warrant: Warrant, day: date) -> str:
    return f"the warrant lapsed on {warrant.until}" if warrant.has_lapsed(day) else f"the warrant begins on {warrant.begins}"


def sanctioned_by_demand(clauses: Sequence[Clause], holding: Holding) -> bool:
    """Return whether a must asks for what a holding gives; a must for the command ALL as root asks for root itself."""
    wanted = {RightKind.ROOT: "ALL", RightKind.COMMAND: holding.right.detail}.get(holding.right.kind)
    return any(
        clause.kind is Kind.MUST
        and holding.principal.is_called(clause.account)
        and clause.subject == holding.right.subject
        and (
            covers(clause.right, holding.right)
            if clause.right is not None
            else (clause.run_as or "root") == "root" and " ".join(clause.command) == wanted
        )
        for clause in clauses
    )
