"""What the program says of rights on a MariaDB server, held against real sessions: accounts with overlapping host patterns, rows for everyone,
roles, grants on databases by pattern, on tables, columns and routines.

Each account connects from this machine, by the socket and over TCP, and tries; the program is asked for the account that the server says it got.
"""

import os
import random
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pymysql
import pytest

from mariadb_server import PROGRAM, Server, scratch_server
from support import fidelitas

pytestmark = pytest.mark.judge

ESTATES = int(os.environ.get("JUDGE_ESTATES", "20"))
# What is tried with a table, and with a routine; each leaves everything as it was.
TABLE = {
    "select": "select a, b from {t}",
    "insert": "insert into {t} values (1, 1)",
    "update": "update {t} set a = 1 where 1 = 0",
    "delete": "delete from {t} where 1 = 0",
    "index": "create index if not exists i on {t} (a)",
    "create-view": "create view if not exists {d}.v_new as select 1",
}
ROUTINE = {"execute": "call {d}.p()"}
HOSTS = ("%", "localhost", "127.0.0.1", "127.%", "___.%", "127.0.0._", "127.0.0.0/255.0.0.0", "10.%", "_______.%")
DATABASES = ("shop_a", "shop%", r"shop\_a", "s%", "%", "shop__")
GRANTED = ("select", "insert", "update", "delete", "index", "create view", "show view", "drop", "alter", "delete history")


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    if PROGRAM is None:
        pytest.skip("MariaDB is not installed (apt-get install mariadb-server)")
    with scratch_server(tmp_path_factory.mktemp("maria")) as running:
        running.run(
            "create database shop_a",
            "create table shop_a.t (a int, b int)",
            "create view shop_a.v as select a from shop_a.t",
            "create procedure shop_a.p() sql security invoker select 1",
        )
        yield running


@pytest.fixture
def ready(need: Callable[..., None]) -> None:
    need("mariadbd", root=True)


def estate(chance: random.Random) -> tuple[list[str], list[str]]:
    """Return statements that make accounts, roles and grants, and the names of their users."""
    users = ["ann", "bob", "c's"]
    made = ["create role r1", "create role r2"]
    accounts = [(user, host) for user in users for host in chance.sample(HOSTS, chance.randrange(1, 4))]
    accounts += [("", host) for host in chance.sample(HOSTS[:4], chance.randrange(2))]
    names = [f"{_text(user)}@{_text(host)}" for user, host in accounts]
    made += [f"create user {name} identified by 'made-up'" for name in names]
    for name in [*names, "r1", "r2"]:
        for _ in range(chance.randrange(3)):
            some = ", ".join(chance.sample(GRANTED, chance.randrange(1, 4)))
            kind = chance.randrange(10)
            if kind < 4:
                made.append(f"grant {some} on `{chance.choice(DATABASES)}`.* to {name}")
            elif kind < 6:
                made.append(f"grant {some.replace('drop', 'select')} on shop_a.t to {name}")
            elif kind == 6:
                made.append(f"grant select (a), update (b) on shop_a.t to {name}")
            elif kind == 7:
                made.append(f"grant execute on procedure shop_a.p to {name}")
            elif kind == 8:
                made.append(f"grant {chance.choice(('execute', 'select', 'insert'))} on {chance.choice(('*', 'shop_a'))}.* to {name}")
            else:
                role = chance.choice(("r1", "r2"))
                if name not in ("r1", "r2"):
                    made += [f"grant {role} to {name}", *([f"set default role {role} for {name}"] if chance.random() < 0.6 else [])]
    # A row of another host than any account of the user, as left behind, and one for everyone.
    if chance.random() < 0.5:
        made.append(
            f"replace into mysql.db (Host, Db, User, Select_priv, Index_priv) values ('127.%', 'shop%', '{chance.choice(users[:2])}', 'Y', 'Y')"
        )
    if chance.random() < 0.3:
        made.append("replace into mysql.db (Host, Db, User, Insert_priv) values ('%', 'shop\\\\_a', '', 'Y')")
    return [*made, "flush privileges"], users


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


@pytest.mark.usefixtures("ready")
def test_what_a_session_may_do_is_what_is_said_of_its_account(server: Server, tmp_path: Path) -> None:
    wrong: list[object] = []
    asked = 0
    for seed in range(ESTATES):
        statements, users = estate(random.Random(seed))
        for statement in statements:
            server.run(statement)
        folder = tmp_path / str(seed)
        folder.mkdir()
        fidelitas("survey", "--mariadb", server.uri, "--name", "db", cwd=folder)
        ran = fidelitas("holders", "--on", "db/shop_a/t", "--on", "db/shop_a/p", "--on", "db/shop_a", "--format", "json", cwd=folder)
        assert ran.status == 0, ran.err
        for user in users:
            for how, where in (("socket", {"unix_socket": str(server.socket)}), ("tcp", {"host": "127.0.0.1", "port": server.port})):
                for got, host, can in tried(server, user, where):
                    for privilege, real in can.items():
                        asked += 1
                        ours = said(ran.json["holdings"], got, host, privilege)
                        wrong += [] if ours == real else [(seed, user, how, got, privilege, f"real {real}")]
        clean(server)
    assert asked > 20 * ESTATES
    assert not wrong, (len(wrong), asked, wrong[:12])


def tried(server: Server, user: str, where: dict[str, Any]) -> Iterator[tuple[str, str, dict[str, bool]]]:
    """Yield the account that a connection gets, its host, and what it can do."""
    try:
        session = server.connect(**where, user=user, password="made-up")
    except pymysql.Error:
        return
    with session, session.cursor() as cursor:
        cursor.execute("select current_user()")
        got = str((cursor.fetchone() or ("",))[0])
        yield (
            got,
            "localhost" if "unix_socket" in where else "127.0.0.1",
            {name: works(cursor, statement.format(d="shop_a", t="shop_a.t")) for name, statement in {**TABLE, **ROUTINE}.items()},
        )


def works(cursor: Any, statement: str) -> bool:
    try:
        cursor.execute(statement)
        cursor.fetchall()
    except pymysql.Error as error:
        if error.args[0] in (1044, 1142, 1143, 1227, 1370):
            return False
        raise
    return True


def said(holdings: list[dict[str, Any]], account: str, host: str, privilege: str) -> bool:
    """Return whether an account has a privilege from a host, without asking for a role, by what the program said."""
    on = {"execute": "shop_a/p", "create-view": "shop_a"}.get(privilege, "shop_a/t")
    routes = [
        route
        for row in holdings
        if row["holder"]["name"] in (account, "PUBLIC") and row["right"] == f"{privilege} {on}"
        for route in row["routes"]
        if {link["kind"] for link in route["links"]} == {"has"}
    ]
    places = [condition.removeprefix("for connections from ").split(", ") for route in routes for condition in route["conditions"]]
    return any(not route["conditions"] for route in routes) or any(host in some for some in places)


def clean(server: Server) -> None:
    for user, host in server.run("select User, Host from mysql.global_priv where User not in ('root', 'mariadb.sys', 'mysql')"):
        server.run(f"drop {'role' if not host else 'user'} {_text(user)}" + (f"@{_text(host)}" if host else ""))
    server.run(
        "delete from mysql.db",
        "flush privileges",
        "drop view if exists shop_a.v_new",
        "drop index if exists i on shop_a.t",
        "delete from shop_a.t",
    )
