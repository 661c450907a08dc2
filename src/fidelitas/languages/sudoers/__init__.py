"""The policy language of sudo, sudoers(5).

`tokens` reads characters, `parser` reads statements, `files` follows includes as sudo does.
"""

from fidelitas.languages.sudoers.files import PolicyFiles, read_policy

__all__ = ["PolicyFiles", "read_policy"]
