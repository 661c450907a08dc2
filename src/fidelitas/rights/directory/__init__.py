"""Rights in a directory: who is in its administrative groups, at any depth, and what hosts make of its accounts and groups.

`objects` knows every object by what it is (DN, SID) and what it is called where two could be meant, `members` who is in which group,
`powers` what a group amounts to; `hosts` is what a Unix host takes, `choice` which directory it takes it from, `admission` whom of it it
lets log in (`filters` are search filters), and `takings` works all three out for many hosts at once.
"""

from fidelitas.rights.directory.hosts import for_hosts
from fidelitas.rights.directory.rights import DirectoryRights, directory_rights_of
from fidelitas.rights.directory.takings import Takings

__all__ = ["DirectoryRights", "Takings", "directory_rights_of", "for_hosts"]
