"""What a sudo policy gives to whom.

`matching` decides who and where a rule is about, `alike` which accounts a policy cannot tell apart, `settings` which options are in
force, `grants` what remains for an account once the last match has won, `effective` what each rule still decides for anyone, `decide`
whether one command may be run, `nearest` what came closest, and `notes` what to know of a rule's file.

Follows sudoers(5), and where that is silent sudo's own matcher.  Every answer comes with the rule that gave it.
"""

from fidelitas.rights.linux.sudo.decide import Decision, Judge, Question, UnknownNameError, Verdict
from fidelitas.rights.linux.sudo.effective import Effective, InForce, RuleEffect
from fidelitas.rights.linux.sudo.equivalence import EquivalenceClasses
from fidelitas.rights.linux.sudo.files import Files, NoFiles
from fidelitas.rights.linux.sudo.grants import Asks, Grant, Leaf, grants, group_grants, jail_of, leaves, reach
from fidelitas.rights.linux.sudo.hosts import Netgroups
from fidelitas.rights.linux.sudo.matching import Host, Match, Policy
from fidelitas.rights.linux.sudo.nearest import Difference, Near, groups_that_may
from fidelitas.rights.linux.sudo.notes import digest_differs, notes_on, stated_file

__all__ = [
    "Asks",
    "Decision",
    "Difference",
    "Effective",
    "EquivalenceClasses",
    "Files",
    "Grant",
    "Host",
    "InForce",
    "Judge",
    "Leaf",
    "Match",
    "Near",
    "Netgroups",
    "NoFiles",
    "Policy",
    "Question",
    "RuleEffect",
    "UnknownNameError",
    "Verdict",
    "digest_differs",
    "grants",
    "group_grants",
    "groups_that_may",
    "jail_of",
    "leaves",
    "notes_on",
    "reach",
    "stated_file",
]
