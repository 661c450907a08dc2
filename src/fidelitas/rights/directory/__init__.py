"""Rights in a directory: who is in its administrative groups, at any depth, and what hosts make of its accounts and groups.

`objects` knows every object by what it is (DN, SID) and what it is called where two could be meant, `members` who is in which group,
`powers` what a group amounts to; `hosts` is what a Unix host takes,
`choice` which directory it takes it from.
"""

from fidelitas.rights.directory.choice import directory_of
from fidelitas.rights.directory.hosts import for_hosts
from fidelitas.rights.directory.rights import DirectoryRights, directory_rights_of

__all__ = ["DirectoryRights", "directory_of", "directory_rights_of", "for_hosts"]
