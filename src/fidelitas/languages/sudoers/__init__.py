"""The policy language of sudo, sudoers(5).

`tokens` reads characters, `parser` reads statements, `files` follows includes as sudo does.
"""

from fidelitas.languages.sudoers.comments import commented_rules
from fidelitas.languages.sudoers.files import PolicyFiles, read_policy

__all__ = ["PolicyFiles", "commented_rules", "read_policy"]
