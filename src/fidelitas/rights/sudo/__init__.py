"""What a sudo policy gives to whom: `matching` decides who and where a rule is about, `settings` which options are in force,
`grants` what remains once the last match has won.

Follows sudoers(5), and where that is silent sudo's own matcher.  Every answer comes with the rule that gave it.
"""

from fidelitas.rights.sudo.grants import Asks, Grant, Leaf, grants, group_grants, leaves
from fidelitas.rights.sudo.matching import Host, Match, Policy

__all__ = ["Asks", "Grant", "Host", "Leaf", "Match", "Policy", "grants", "group_grants", "leaves"]
