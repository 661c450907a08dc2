"""What a sudo policy gives to whom.

`matching` decides who and where a rule is about, `alike` which accounts a policy cannot tell apart, `settings` which options are in
force, `grants` what remains for an account once the last match has won, `effective` what each rule still decides for anybody, `decide`
whether one command may be run, `nearest` what came closest, and `notes` what to know of a rule's file.

Follows sudoers(5), and where that is silent sudo's own matcher.  Every answer comes with the rule that gave it.
"""

from fidelitas.rights.sudo.alike import Alike
from fidelitas.rights.sudo.decide import Decision, Judge, Question, UnknownNameError, Verdict
from fidelitas.rights.sudo.effective import Effective, InForce, RuleEffect
from fidelitas.rights.sudo.files import Files, NoFiles
from fidelitas.rights.sudo.grants import Asks, Grant, Leaf, grants, group_grants, jail_of, leaves, reach
from fidelitas.rights.sudo.hosts import Netgroups
from fidelitas.rights.sudo.matching import Host, Match, Policy
from fidelitas.rights.sudo.nearest import Near, nearest
from fidelitas.rights.sudo.notes import notes_on, stated_file, wrong_digest

__all__ = [
    "Alike",
    "Asks",
    "Decision",
    "Effective",
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
    "grants",
    "group_grants",
    "jail_of",
    "leaves",
    "nearest",
    "notes_on",
    "reach",
    "stated_file",
    "wrong_digest",
]
