"""Reviews of access: holdings frozen, given to reviewers, decided, carried out, and put into an evidence pack that can be verified.

`items` freezes holdings, `decisions` says which decision counts and what an earlier review's still do, `lists` are work lists in CSV,
`actions` carries out revocations, `pack` makes the evidence pack and `verification` checks one.
"""

from fidelitas.reviews.actions import Action, Outcome, Revocation, actions, revocations
from fidelitas.reviews.decisions import Decision, DecisionKind, carried_over, counting, is_own, undecided
from fidelitas.reviews.items import About, Item, Review, freeze
from fidelitas.reviews.lists import how_it_is_held, note_on, read_list, work_list
from fidelitas.reviews.standing import Standing

__all__ = [
    "About",
    "Action",
    "Decision",
    "DecisionKind",
    "Item",
    "Outcome",
    "Review",
    "Revocation",
    "Standing",
    "actions",
    "carried_over",
    "counting",
    "freeze",
    "how_it_is_held",
    "is_own",
    "note_on",
    "read_list",
    "revocations",
    "undecided",
    "work_list",
]
