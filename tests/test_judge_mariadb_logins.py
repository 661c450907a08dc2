"""Ways to log in to MariaDB, held against a real server with TLS: which account a connection gets, or that it is refused."""

import os
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from fidelitas.doors import admission
from fidelitas.languages.mariadb import read_mariadb
from fidelitas.rights import MariadbRights, mariadb_rights_of
from fidelitas.sources.mariadb import from_mariadb
from mariadb_server import PROGRAM, Server, scratch_server
from support import fidelitas, open_up

pytestmark = pytest.mark.judge

# Each account, how it is made, and whether its password ("p") is one that a client can give.
ACCOUNTS = {
    "native": "identified by 'p'",
    "bad": "identified via mysql_native_password using 'invalid'",
    "curve": "identified via ed25519 using password('p')",
    "either": "identified via ed25519 using password('p') or mysql_native_password using password('p')",
    "nobody": "identified via unix_socket",
    "games": "identified via mysql_native_password using 'invalid' or unix_socket",
    "daemon": "identified via ed25519 using password('p') or unix_socket",
    "tls": "identified by 'p' require ssl",
    "cert": "identified by 'p' require x509",
    "ann": "identified by 'p' require subject '/CN=ann'",
    "ben": "identified by 'p' require subject '/CN=ben'",
    "issued": "identified by 'p' require issuer '/CN=tides'",
    "cipher": "identified by 'p' require cipher 'TLS_AES_256_GCM_SHA384'",
    "locked": "identified by 'p' account lock",
    "expired": "identified by 'p' password expire",
}
SYSTEM = {"nobody", "games", "daemon"}
WAYS = ("socket", "tcp", "tls", "certificate")


@pytest.fixture(scope="module")
def keys(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with an authority, a key of the server and one of a client, whose name is ann."""
    folder = tmp_path_factory.mktemp("keys")
    open_up(folder)
    new = ["openssl", "req", "-newkey", "rsa:2048", "-nodes"]
    made = [
        [*new, "-x509", "-days", "2", "-subj", "/CN=tides", "-keyout", "ca.key", "-out", "ca.pem"],
        *([*new, "-subj", f"/CN={name}", "-keyout", f"{name}.key", "-out", f"{name}.csr"] for name in ("127.0.0.1", "ann")),
    ]
    sign = ["openssl", "x509", "-req", "-days", "2", "-CA", "ca.pem", "-CAkey", "ca.key", "-CAcreateserial"]
    made += [[*sign, "-in", f"{name}.csr", "-out", f"{name}.pem"] for name in ("127.0.0.1", "ann")]
    for command in made:
        subprocess.run(command, cwd=folder, check=True, capture_output=True)
    for path in folder.iterdir():
        path.chmod(0o644)
    return folder


@pytest.fixture(scope="module")
def server(keys: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    if PROGRAM is None:
        pytest.skip("MariaDB is not installed (apt-get install mariadb-server)")
    if os.geteuid() != 0:
        pytest.skip("connecting as several accounts needs root")
    tls = (f"--ssl-ca={keys}/ca.pem", f"--ssl-cert={keys}/127.0.0.1.pem", f"--ssl-key={keys}/127.0.0.1.key")
    with scratch_server(tmp_path_factory.mktemp("maria"), *tls, "--plugin-load-add=auth_ed25519") as running:
        running.run(*(f"create user {name}@'%' {how}" for name, how in ACCOUNTS.items()))
        running.run(*(f"create user {name}@localhost {how}" for name, how in ACCOUNTS.items()))
        yield running


def gets(server: Server, keys: Path, user: str, way: str) -> bool:
    """Return whether a client that knows the password, and is the system's account of that name where there is one, is let in."""
    place = [f"--socket={server.socket}"] if way == "socket" else ["--host=127.0.0.1", f"--port={server.port}"]
    tls = ["--skip-ssl"] if way in ("socket", "tcp") else [f"--ssl-ca={keys}/ca.pem"]
    tls += [f"--ssl-cert={keys}/ann.pem", f"--ssl-key={keys}/ann.key"] if way == "certificate" else []
    client = ["mariadb", "--no-defaults", *place, *tls, f"--user={user}", "--password=p", "--connect-expired-password", "-e", "select 1"]
    account = ["setpriv", f"--reuid={user}", "--clear-groups"] if user in SYSTEM else []
    done = subprocess.run([*account, *client], capture_output=True, text=True, check=False, timeout=30)
    return done.returncode == 0 or "You must SET PASSWORD" in done.stderr


def test_who_is_let_in_by_which_way(server: Server, keys: Path, tmp_path: Path, need: Callable[..., None]) -> None:
    need("mariadbd", root=True)
    rights = mariadb_rights_of(read_mariadb(from_mariadb(server.uri, "db").bundle))
    fidelitas("survey", "--mariadb", server.uri, "--name", "db", cwd=tmp_path)
    wrong, let_in = [], 0
    for number, (user, way) in enumerate((user, way) for user in ACCOUNTS for way in WAYS):
        said = ours(rights, user, way)
        if number % 7 == 0:  # the command is asked for a part, the function that it calls for all
            assert by_the_program(user, way, tmp_path) == said
        # Which certificate a client has is not asked for: it is said to be needed.
        account, method = said
        expected = account is not None and ("certificate" not in method or (way == "certificate" and "/CN=ben" not in method))
        really = gets(server, keys, user, way)
        let_in += really
        if expected is not really:
            wrong.append((user, way, said))
    assert wrong == []
    assert 20 <= let_in <= 50


def ours(rights: MariadbRights, user: str, way: str) -> tuple[str | None, str]:
    found = admission(rights, user, "socket" if way == "socket" else "127.0.0.1", None, tls=way in ("tls", "certificate"))
    assert found is not None
    return found.account, found.method or ""


def by_the_program(user: str, way: str, folder: Path) -> tuple[str | None, str]:
    options = ("socket" if way == "socket" else "127.0.0.1", "--tls" if way in ("tls", "certificate") else "--no-tls")
    said = fidelitas("which-account", "db", user, *options, "--format", "json", cwd=folder).json
    return said["account"], said["method"] or ""
