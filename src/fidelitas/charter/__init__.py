"""The charter: what access is sanctioned, demanded and forbidden, and which findings are accepted.

`read` takes the file (`entries`).  `check` compares demands with policies, `sanction` holdings with warrants, `segregation` finds rights
that must not come together, `exceptions` findings that were accepted; `state` puts it together.  `draft` works out a first charter;
`edit`, which brings a library that nothing else needs, writes charters.
"""

from fidelitas.charter.check import Outcome, Result, check_charter, decisive
from fidelitas.charter.draft import Drafted, draft
from fidelitas.charter.entries import AcceptedFinding, Charter, Clause, Condition, Kind, Segregation, Warrant, Within
from fidelitas.charter.exceptions import Reviewed, review
from fidelitas.charter.read import read_charter
from fidelitas.charter.sanction import Judged, Sanction, Sanctions, sanctioned_by_demand
from fidelitas.charter.scope import Scope, right_words
from fidelitas.charter.segregation import Conflict, conflicts
from fidelitas.charter.state import CharterState, Due, DueKind, charter_state, widest
from fidelitas.charter.unknown import UnknownName, unknown_in_clauses, unknown_in_entries

__all__ = [
    "AcceptedFinding",
    "Charter",
    "CharterState",
    "Clause",
    "Condition",
    "Conflict",
    "Drafted",
    "Due",
    "DueKind",
    "Judged",
    "Kind",
    "Outcome",
    "Result",
    "Reviewed",
    "Sanction",
    "Sanctions",
    "Scope",
    "Segregation",
    "UnknownName",
    "Warrant",
    "Within",
    "charter_state",
    "check_charter",
    "conflicts",
    "decisive",
    "draft",
    "read_charter",
    "review",
    "right_words",
    "sanctioned_by_demand",
    "unknown_in_clauses",
    "unknown_in_entries",
    "widest",
]
