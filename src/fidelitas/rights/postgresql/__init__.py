"""Rights on a PostgreSQL server: what its own rules of roles and privileges amount to.

`privileges` decides as the server does, `links` and `server` make links of memberships, attributes and predefined roles, `objects` says who
may do what with one object, `login_paths` who can log in from where.
"""

from fidelitas.rights.postgresql.login_paths import LoginPath, login_paths_of
from fidelitas.rights.postgresql.privileges import Privileges
from fidelitas.rights.postgresql.server import DatabaseRights, database_rights_of

__all__ = ["DatabaseRights", "LoginPath", "Privileges", "database_rights_of", "login_paths_of"]
