"""Rights: who can do what, by which routes; the heart of Fidelitas.

`population` says who exists, `sudo` decides policies, `powers` is the table of what a program amounts to, `resolve` makes links of all
this and `routes` follows them.  Everything here is pure: facts in, holdings out.
"""

from fidelitas.rights.directory import DirectoryRights, directory_rights_of, for_hosts
from fidelitas.rights.graph.links import Holding, Link, LinkKind, Principal, PrincipalKind, Right, RightKind, Route, Strength
from fidelitas.rights.linux.host import HostRights, rights_of, unread_host
from fidelitas.rights.linux.population import AccountKind, Identity, Login, Membership, Population
from fidelitas.rights.mariadb.server import MariadbRights, mariadb_rights_of
from fidelitas.rights.postgresql import DatabaseRights, LoginPath, database_rights_of
from fidelitas.rights.server import ServerRights, UnreadServer
from fidelitas.rights.windows import WindowsRights, windows_rights_of

# What the rights on a subject are asked for, whatever it is.
SubjectRights = HostRights | ServerRights

__all__ = [
    "AccountKind",
    "DatabaseRights",
    "DirectoryRights",
    "Holding",
    "HostRights",
    "Identity",
    "Link",
    "LinkKind",
    "Login",
    "LoginPath",
    "MariadbRights",
    "Membership",
    "Population",
    "Principal",
    "PrincipalKind",
    "Right",
    "RightKind",
    "Route",
    "ServerRights",
    "Strength",
    "SubjectRights",
    "UnreadServer",
    "WindowsRights",
    "database_rights_of",
    "directory_rights_of",
    "for_hosts",
    "mariadb_rights_of",
    "rights_of",
    "unread_host",
    "windows_rights_of",
]
