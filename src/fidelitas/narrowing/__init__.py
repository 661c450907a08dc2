"""A sudo policy narrowed to what was used of it.

`uses` gathers what logs record, `statements` are what may change, `fates` decides what becomes of a use, `forms` makes patterns of
arguments, `spelling` writes what a policy states, `lines` makes rules and `texts` files of them; `proposal` puts it together and replays
every use.
"""

from fidelitas.narrowing.fates import FateKind
from fidelitas.narrowing.lines import Narrowed, Narrowing, NewRule
from fidelitas.narrowing.proposal import HostCase, Proposal, Replayed, narrow, shared_policies
from fidelitas.narrowing.statements import Left, Statement
from fidelitas.narrowing.texts import evidence_of
from fidelitas.narrowing.uses import Use, gather_uses

__all__ = [
    "FateKind",
    "HostCase",
    "Left",
    "Narrowed",
    "Narrowing",
    "NewRule",
    "Proposal",
    "Replayed",
    "Statement",
    "Use",
    "evidence_of",
    "gather_uses",
    "narrow",
    "shared_policies",
]
