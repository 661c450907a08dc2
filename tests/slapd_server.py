"""A real OpenLDAP server in a folder, as a judge."""

import shutil
import socket
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from msgspec import Struct

from support import open_up

BASE = "dc=saltmarsh,dc=example"
# The schema of sudo rules, which the package of sudo for directories has (sudoers.ldap(5), OpenLDAP schema).
SUDO = Path(__file__).parent / "samples/sudo.schema"
CONFIGURATION = """\
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/nis.schema
include /etc/ldap/schema/inetorgperson.schema
include {schema}
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile {folder}/pid
database mdb
maxsize 67108864
suffix "{base}"
rootdn "cn=admin,{base}"
rootpw admin-pw
directory {folder}/db
dbnosync
{access}
database config
rootdn "cn=admin,{base}"
"""
ACCESS = """\
access to attrs=userPassword by anonymous auth by * none
access to * by users read by anonymous auth"""


class Slapd(Struct, dict=True):
    """A running server."""

    folder: Path
    port: int

    @property
    def uri(self) -> str:
        return f"ldap://127.0.0.1:{self.port}/{BASE}?bind=cn=admin,{BASE}"

    def load(self, text: str, *, change: bool = False) -> None:
        """Add the entries of an LDIF file; one that is a `change` is made."""
        bind = ["-x", "-H", f"ldap://127.0.0.1:{self.port}", "-D", f"cn=admin,{BASE}", "-w", "admin-pw"]
        subprocess.run(["ldapmodify" if change else "ldapadd", *bind], input=text, text=True, capture_output=True, check=True, timeout=60)


@contextmanager
def scratch_slapd(folder: Path, access: str = ACCESS) -> Iterator[Slapd]:
    """A server with access rules as slapd.conf(5) has them; its root may read its configuration."""
    program = shutil.which("slapd") or "/usr/sbin/slapd"
    if not Path(program).exists() or shutil.which("ldapadd") is None:
        pytest.skip("OpenLDAP is not installed (apt-get install slapd ldap-utils)")
    open_up(folder)
    (folder / "db").mkdir()
    (folder / "slapd.conf").write_text(CONFIGURATION.format(folder=folder, base=BASE, access=access, schema=SUDO))
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    running = subprocess.Popen([program, "-f", folder / "slapd.conf", "-h", f"ldap://127.0.0.1:{port}", "-d", "0"])
    probe = ["ldapsearch", "-x", "-H", f"ldap://127.0.0.1:{port}", "-o", "nettimeout=5", "-s", "base", "-b", ""]
    for _ in range(200):
        if subprocess.run(probe, capture_output=True, check=False).returncode != 255 and (folder / "pid").exists():
            break
    yield Slapd(folder, port)
    running.terminate()
    running.wait(20)
