"""Who gets into a database from where: what the program says of a connection, held against real connections to a real PostgreSQL server.

Rules of pg_hba.conf at random, with narrower rules before wider ones and names that look like keywords; connections come from addresses of
the loopback network by a relay, with and without TLS, with the password that the role has.
"""

import json
import os
import random
import select
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

import psycopg
import pytest

from fidelitas.doors import admission
from fidelitas.languages.postgresql import read_postgresql
from fidelitas.rights import DatabaseRights, database_rights_of
from fidelitas.sources.postgresql import from_postgresql
from postgresql_server import Server, installations, scratch_server
from support import fidelitas

pytestmark = pytest.mark.judge

# Sets of rules; JUDGE_ESTATES makes more of them.
SEEDS = max(int(os.environ.get("JUDGE_ESTATES", "20")) // 5, 4)
SEED = """\
create role grp nologin;
create role inner_grp nologin;
grant inner_grp to grp;
create role plain login password 'made-up-1';
create role member login password 'made-up-2';
grant grp to member;
create role bare login;
create role late login password 'made-up-4' valid until '2024-01-31';
create role shut nologin password 'made-up-5';
create role boss login superuser connection limit 0 password 'made-up-6';
create role full login connection limit 0 password 'made-up-7';
create role "all" login password 'made-up-8';
set password_encryption = 'md5';
create role old login password 'made-up-9';
reset password_encryption;
create database plain;
create database "all";
create database closed allow_connections false;
create database private;
revoke connect on database private from public;
grant connect on database private to inner_grp;
create database "inner_grp"
"""
PASSWORDS = {"plain": 1, "member": 2, "late": 4, "shut": 5, "boss": 6, "full": 7, "all": 8, "old": 9}
ROLES = ("plain", "member", "bare", "late", "shut", "boss", "full", "all", "old")
DATABASES = ("plain", "all", "closed", "private", "inner_grp")
ADDRESSES = ("127.0.0.1", "127.1.2.3", "127.1.2.77", "127.1.9.9", "127.200.0.5")
NETWORKS = ("all", "127.0.0.0/8", "127.1.0.0/16", "127.1.2.0/24", "127.1.2.3/32", "10.0.0.0/8", "0.0.0.0/0", "127.200.0.5/32")
_LAST = "local all postgres trust\nhost all postgres 127.0.0.1/32 trust\n"


def rules(chance: random.Random, version: int) -> str:
    """Return rules of access; those of the superuser of the test come first."""
    users = ["all", '"all"', "+grp", "+inner_grp", '"+grp"', "plain", "plain,old", "member", "bare", "full", "boss,late"]
    databases = ["all", '"all"', "plain", "sameuser", "samerole", '"sameuser"', "replication", '"replication"', "private,plain"]
    users += ["/^(pl|ol)"] if version >= 16 else []
    databases += ["/^p"] if version >= 16 else []
    lines = []
    for _ in range(chance.randrange(3, 12)):
        kind = chance.choice(("host", "host", "host", "hostssl", "hostnossl", "local"))
        address = "" if kind == "local" else chance.choice(NETWORKS)
        method = chance.choice(("trust", "trust", "reject", "scram-sha-256", "md5", "password"))
        lines.append(f"{kind} {chance.choice(databases)} {chance.choice(users)} {address} {method}")
    return _LAST + "\n".join(lines) + "\n"


@contextmanager
def relayed(source: str, port: int) -> Iterator[int]:
    """Yield a port that leads to the server, which sees a connection come from an address of the loopback network."""
    listening = socket.create_server(("127.0.0.1", 0))

    def carry(near: socket.socket) -> None:
        with near, socket.create_connection(("127.0.0.1", port), source_address=(source, 0)) as far, suppress(OSError):
            while True:
                for one in select.select([near, far], [], [])[0]:
                    data = one.recv(65536)
                    if not data:
                        return
                    (far if one is near else near).sendall(data)

    def serve() -> None:
        with suppress(OSError):
            while True:
                threading.Thread(target=carry, args=(listening.accept()[0],), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield listening.getsockname()[1]
    finally:
        listening.shutdown(socket.SHUT_RDWR)
        listening.close()


def gets_in(server: Server, relays: dict[str, int], role: str, address: str, database: str, *, tls: bool) -> bool:
    where = {"host": str(server.socket), "port": server.port} if address == "socket" else {"host": "127.0.0.1", "port": relays[address]}
    password = f"made-up-{PASSWORDS[role]}" if role in PASSWORDS else "nonsense"
    try:
        with psycopg.connect(**where, user=role, dbname=database, password=password, sslmode="require" if tls else "disable") as found:  # type: ignore[arg-type]
            found.execute("select 1")
    except psycopg.Error:
        return False
    return True


def questions(server: DatabaseRights) -> Iterator[tuple[str, str, str, bool, bool]]:
    """Yield role, address, database, TLS, and whether the project lets it in; a password that is right is taken as given."""
    for role in ROLES:
        for address in (*ADDRESSES, "socket"):
            for database in DATABASES:
                for tls in (True, False) if address != "socket" and server.facts.ssl else (False,):
                    found = admission(server, role, address, database, tls=tls)
                    yield role, address, database, tls, found is not None and found.account is not None


@pytest.mark.parametrize("version", [name for name in installations() if name in ("15", "18")])
def test_who_gets_in_is_who_the_server_lets_in(
    version: str, tmp_path_factory: pytest.TempPathFactory, tmp_path: Path, need: Callable[..., None]
) -> None:
    need("runuser", "openssl", root=True)
    wrong: list[object] = []
    with scratch_server(tmp_path_factory.mktemp("pgd"), installations()[version]) as server:
        server.listen()
        server.run(SEED)
        for seed in range(SEEDS):
            chance = random.Random(seed)
            text = rules(chance, int(version))
            server.access(text, alone=True)
            read = database_rights_of(read_postgresql(from_postgresql(server.parameters(), "db").bundle))
            with ExitStack() as stack:
                relays = {address: stack.enter_context(relayed(address, server.port)) for address in ADDRESSES}
                asked = list(questions(read))
                for role, address, database, tls, ours in chance.sample(asked, 70):
                    real = gets_in(server, relays, role, address, database, tls=tls)
                    wrong += [] if real == ours else [(seed, role, address, database, tls, f"real {real}", text)]
            _asks_the_program(server, chance.sample(asked, 3), tmp_path / str(seed))
    assert not wrong, (len(wrong), wrong[:3])


def _asks_the_program(server: Server, asked: list[tuple[str, str, str, bool, bool]], folder: Path) -> None:
    """The command says what the function says that was held against the server."""
    folder.mkdir()
    fidelitas("survey", "--postgresql", server.parameters(), "--name", "db", cwd=folder)
    for role, address, database, tls, ours in asked:
        words = ("which-account", "db", role, address, "--database", database, "--tls" if tls else "--no-tls", "--format", "json")
        ran = fidelitas(*words, cwd=folder)
        assert (ran.status, json.loads(ran.out)["account"] is not None) == (0 if ours else 1, ours), (words, ran.out)
