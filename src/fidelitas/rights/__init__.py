"""Rights: who can do what, by which routes; the heart of Fidelitas.

`population` says who exists, `sudo` decides policies, `powers` is the table of what a program amounts to, `resolve` makes links of all
this and `routes` follows them.  Everything here is pure: facts in, holdings out.
"""

from fidelitas.rights.accounts.identity import AccountWithGroups
from fidelitas.rights.directory import DirectoryRights, Takings, directory_rights_of, for_hosts
from fidelitas.rights.graph.full_control import COUNTED, FullControl
from fidelitas.rights.graph.links import (
    By,
    Holding,
    Link,
    LinkKind,
    Mechanism,
    Principal,
    PrincipalKind,
    Right,
    RightKind,
    Route,
    Strength,
    bare_name,
)
from fidelitas.rights.linux.host import HostRights, rights_of
from fidelitas.rights.linux.population import AccountKind, Identity, Login, Membership, Population
from fidelitas.rights.mariadb.server import MariadbRights, mariadb_rights_of
from fidelitas.rights.postgresql import DatabaseRights, LoginPath, database_rights_of
from fidelitas.rights.subject import DatabaseServer, Lack, SubjectRights, UnreadSubject, known_names, marked
from fidelitas.rights.windows import WindowsRights, windows_rights_of

__all__ = [
    "COUNTED",
    "AccountKind",
    "AccountWithGroups",
    "By",
    "DatabaseRights",
    "DatabaseServer",
    "DirectoryRights",
    "FullControl",
    "Holding",
    "HostRights",
    "Identity",
    "Lack",
    "Link",
    "LinkKind",
    "Login",
    "LoginPath",
    "MariadbRights",
    "Mechanism",
    "Membership",
    "Population",
    "Principal",
    "PrincipalKind",
    "Right",
    "RightKind",
    "Route",
    "Strength",
    "SubjectRights",
    "Takings",
    "UnreadSubject",
    "WindowsRights",
    "bare_name",
    "database_rights_of",
    "directory_rights_of",
    "for_hosts",
    "known_names",
    "mariadb_rights_of",
    "marked",
    "rights_of",
    "windows_rights_of",
]
