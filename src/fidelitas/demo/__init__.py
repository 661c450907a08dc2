"""The Saltmarsh Tide Observatory: a made-up estate, generated from a seed, with a list of everything that was planted in it.

People, hosts and data are invented; the domain is saltmarsh.example.
"""

from fidelitas.demo.estate import TAGS, TAKEN, Estate, earlier_surveys, make_estate, policy_commits, review_decisions, write_estate
from fidelitas.demo.review import REVIEW, PlannedDecision, started

__all__ = [
    "REVIEW",
    "TAGS",
    "TAKEN",
    "Estate",
    "PlannedDecision",
    "earlier_surveys",
    "make_estate",
    "policy_commits",
    "review_decisions",
    "started",
    "write_estate",
]
