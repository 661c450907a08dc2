"""What the program says of rights on PostgreSQL servers, held against the servers themselves: versions 15, 16 and 18, estates at random.

Asked is the built program (`holders --on`, JSON), and the server by its own functions: what a role has now, what it may use, what a session of
it can come to by SET ROLE.
"""

import os
import random
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import psycopg
import pytest

from postgresql_estates import Estate, Question, estate, quoted
from postgresql_server import BINARIES, Server, installations, scratch_server
from support import fidelitas

pytestmark = pytest.mark.judge

# Random estates, of versions other than the system's half as many; JUDGE_ESTATES makes more of them.
ESTATES = int(os.environ.get("JUDGE_ESTATES", "20"))
_ROUND = 10


@pytest.fixture(scope="module", params=list(installations()), ids=lambda name: f"version {name}")
def server(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    with scratch_server(tmp_path_factory.mktemp("pg"), installations()[request.param]) as running:
        yield running


def made(server: Server, database: str, seeds: range) -> list[Estate]:
    found = []
    with server.connect() as cluster, server.connect(database) as inside:
        version = cluster.info.server_version // 10000
        for seed in seeds:
            one = estate(random.Random(seed), f"e{seed}", database, version)
            for connection, statements in ((cluster, one.cluster), (inside, one.inside)):
                for statement in statements:
                    connection.execute(statement.encode())
            found.append(one)
    return found


@pytest.mark.parametrize("seeds", [range(first, first + _ROUND) for first in range(0, ESTATES, _ROUND)], ids=str)
def test_who_has_what_is_what_the_server_says(server: Server, seeds: range, tmp_path: Path, need: Callable[..., None]) -> None:
    need("runuser", root=True)
    if seeds.start >= ESTATES // 2 and server.binaries != BINARIES:
        return
    database = f"tides/{seeds.start}" if seeds.start % 20 else f"t{seeds.start}"
    server.run(f"create database {quoted(database)}")
    estates = made(server, database, seeds)
    server.run(f"alter database {quoted(database)} owner to {quoted(estates[0].roles[2])}")
    fidelitas("survey", "--postgresql", server.parameters(), "--name", "db", cwd=tmp_path)
    wrong: list[object] = []
    with server.connect(database) as connection:

        def judge(question: str, *values: object) -> Any:
            (answer,) = connection.execute(question.encode(), values).fetchone() or (None,)
            return answer

        for one in estates:
            paths = list(dict.fromkeys(question.path for question in one.questions))
            ran = fidelitas("holders", *(word for path in paths for word in ("--on", f"db/{path}")), "--format", "json", cwd=tmp_path)
            assert ran.status == 0, ran.err
            said = Said(ran.json["holdings"])
            become = {role: [*_set_role(judge, role, one.roles)] for role in one.roles}
            for question in one.questions:
                wrong += _differences(judge, said, question, one.roles, become)
    server.run(f"drop database {quoted(database)} with (force)")
    assert not wrong, (len(wrong), wrong[:6])


def _set_role(judge: Callable[..., Any], role: str, roles: list[str]) -> Iterator[str]:
    """Yield the roles that a session of a role can become."""
    way = "SET" if judge("select current_setting('server_version_num')::int") >= 160000 else "MEMBER"
    predefined = ("pg_read_all_data", "pg_write_all_data", "pg_maintain", "pg_database_owner")
    known = [name for name in (*roles, *predefined) if judge("select exists (select from pg_roles where rolname = %s)", name)]
    yield from (other for other in known if judge(f"select pg_has_role(%s, %s, '{way}')", role, other))


def _differences(
    judge: Callable[..., Any], said: "Said", question: Question, roles: list[str], become: dict[str, list[str]]
) -> Iterator[object]:
    for privilege in question.privileges:
        has: dict[str, bool] = {}
        use: dict[str, bool] = {}
        for role in dict.fromkeys((*roles, *(other for some in become.values() for other in some))):
            has[role] = judge(f"select {question.asked}", role, privilege)
            use[role] = has[role] and (not question.schema or judge("select has_schema_privilege(%s, %s, 'USAGE')", role, question.schema))
        for role in roles:
            asked = any(use[other] for other in become[role])
            truth = (has[role], use[role], asked)
            ours = said.of(role, question, privilege)
            if truth != ours:
                yield question.path, question.column, privilege, role, f"has, can use, on asking: {truth}, said {ours}"


ATTEMPTS = (
    # (what is planted, as whom, what is tried, whether it comes off, what is asked: holder and right, the strength that is said)
    ("create role su superuser; create role x; grant su to x; create role maker login createrole", "maker", "grant x to maker; set role su", "maker db-superuser"),
    ("create role writer login; grant pg_write_server_files to writer", "writer", "copy (select 1) to '/tmp/made-by-copy'", "writer db-host-escape"),
    ("create role runner noinherit login; create role deeper; grant pg_execute_server_program to deeper; grant deeper to runner", "runner",
     "set role deeper; copy (select 1) to program 'cat > /dev/null'", "runner db-host-escape"),
    ("create role reader login; create role g noinherit; grant pg_read_all_data to g; grant g to reader", "reader", "set role pg_read_all_data; select * from pg_authid", "reader db-read-all"),
)  # fmt: skip


@pytest.mark.parametrize(("planted", "role", "tried", "said"), ATTEMPTS, ids=[said for *_, said in ATTEMPTS])
def test_who_is_said_to_reach_the_host_or_everything_does(
    tmp_path_factory: pytest.TempPathFactory, tmp_path: Path, need: Callable[..., None], planted: str, role: str, tried: str, said: str
) -> None:
    need("runuser", root=True)
    with scratch_server(tmp_path_factory.mktemp("pga")) as running:
        running.run(planted.replace("; ", ";\n"))
        fidelitas("survey", "--postgresql", running.parameters(), "--name", "db", cwd=tmp_path)
        held = fidelitas("holders", "--account", role, "--format", "json", cwd=tmp_path).json["holdings"]
        assert said in {f"{row['holder']['name']} {row['right']}" for row in held}
        with running.connect(role=role) as session:
            for statement in tried.split("; "):
                session.execute(statement.encode())


_TRIGGER = "create or replace function tf() returns trigger language plpgsql as $$ begin if (select rolsuper from pg_roles where rolname = current_user) then alter role {name} superuser; end if; return new; end $$"
FUNCTIONS = {
    "mal db-superuser certain": (
        ["create role mal login", "grant create on schema public to mal",
         "create function ev() returns event_trigger language plpgsql as 'begin end'", "alter function ev() owner to mal",
         "create event trigger e on ddl_command_end execute function ev()"],
        ["create or replace function ev() returns event_trigger language plpgsql as $$ begin if (select rolsuper from pg_roles where rolname = current_user) then alter role mal superuser; end if; end $$"],
        "create table anything (a int)",
        "select rolsuper from pg_roles where rolname = 'mal'",
    ),
    "caller db-host-escape conditional": (
        ["set check_function_bodies = off", "create role caller login", "create role files", "grant pg_write_server_files to files", "create schema app", "create schema own authorization caller",
         "grant usage on schema app, own to public", "create table app.stock (a int)", "grant select on app.stock to files",
         "create function app.f() returns bigint language sql security definer as 'select count(*) from stock'", "alter function app.f() owner to files"],
        ["set search_path = own",
         "create function own.made() returns int language plpgsql as $$ begin copy (select 1) to '/tmp/made-by-f'; return 1; end $$",
         "create view own.stock as select own.made() as a", "grant all on own.stock to public", "select app.f()"],
        "",
        "select true",
    ),
    "tom db-superuser conditional": (
        ["create role tom login", "grant create on schema public to tom", "create table public.t (a int)", "grant trigger on public.t to tom"],
        [_TRIGGER.format(name="tom"), "create trigger x before insert on t for each row execute function tf()"],
        "insert into public.t values (1)",
        "select rolsuper from pg_roles where rolname = 'tom'",
    ),
    "mel db-superuser conditional": (
        ["create role mel login", "grant create on schema public to mel", "create table public.t (a int)", "set role mel",
         "create function public.tf() returns trigger language plpgsql as 'begin return new; end'", "reset role",
         "create trigger x before insert on public.t for each row execute function public.tf()"],
        [_TRIGGER.format(name="mel")],
        "insert into public.t values (1)",
        "select rolsuper from pg_roles where rolname = 'mel'",
    ),
    "setter db-host-escape conditional": (
        ["set check_function_bodies = off", "create role setter login", "create role files", "grant pg_write_server_files to files", "create schema app", "create schema own authorization setter",
         "grant usage on schema app, own to public", "create table app.stock (a int)", "grant select on app.stock to files", "grant insert on app.stock to setter",
         "create function app.tf() returns trigger language plpgsql security definer as 'begin perform count(*) from stock; return new; end'", "alter function app.tf() owner to files",
         "create trigger x before insert on app.stock for each row execute function app.tf()"],
        ["set search_path = own",
         "create function own.made() returns int language plpgsql as $$ begin copy (select 1) to '/tmp/made-by-t'; return 1; end $$",
         "create view own.stock as select own.made() as a", "grant all on own.stock to public", "insert into app.stock values (1)"],
        "",
        "select true",
    ),
}  # fmt: skip


@pytest.mark.parametrize("said", FUNCTIONS)
def test_a_function_gives_what_is_said(
    tmp_path_factory: pytest.TempPathFactory, tmp_path: Path, need: Callable[..., None], said: str
) -> None:
    """Owners of functions that others run, and callers of functions that act as their owner; a fixed search_path ends the second."""
    need("runuser", root=True)
    planted, tried, later, proof = FUNCTIONS[said]
    role = said.partition(" ")[0]
    with scratch_server(tmp_path_factory.mktemp("pgf")) as running:
        running.run(";\n".join(planted))
        assert said in held(running, role, tmp_path / "before")
        with running.connect(role=role) as session:
            for statement in tried:
                session.execute(statement.encode())
        if later:
            running.run(later)
        assert running.ask(proof) is True
        if "app.f()" in tried[-1]:
            running.run("alter function app.f() set search_path = app")
            assert said not in held(running, role, tmp_path / "after")


THROUGH = (
    "create role o", "create role p", "create role q", "create schema s", "grant usage on schema s to public", "create table s.t (a int)", "alter table s.t owner to o",
    "create view s.v1 as select a from s.t", "alter view s.v1 owner to o", "grant select on s.v1 to p",
    "create view s.v2 as select a from s.v1", "alter view s.v2 owner to p",
    "create view s.asker with (security_invoker = true) as select a from s.t", "alter view s.asker owner to o",
    "create view s.poor as select a from s.t", "alter view s.poor owner to q",
    "create view s.count as select count(*) as a from s.t", "alter view s.count owner to o",
    "create table s.door (a int)", "alter table s.door owner to o", "create rule r as on insert to s.door do also insert into s.t values (new.a)",
    "create materialized view s.copy as select a from s.t", "alter materialized view s.copy owner to o",
)  # fmt: skip
# (what is granted, what is tried, the privilege on s.t that it uses, whether the server lets it)
VIEWS = (
    ("select on s.v1", "select * from s.v1", "select", True),
    ("insert on s.v1", "insert into s.v1 values (1)", "insert", True),
    ("delete on s.v1", "delete from s.v1", "delete", True),
    ("select on s.v2", "select * from s.v2", "select", True),
    ("insert on s.v2", "insert into s.v2 values (1)", "insert", False),
    ("select on s.asker", "select * from s.asker", "select", False),
    ("select on s.poor", "select * from s.poor", "select", False),
    ("insert on s.count", "insert into s.count values (1)", "insert", False),
    ("insert on s.door", "insert into s.door values (1)", "insert", True),
    ("select on s.copy", "select * from s.copy", "select", True),
)


def test_who_reaches_a_table_through_views_and_rules_is_who_the_server_lets(
    tmp_path_factory: pytest.TempPathFactory, tmp_path: Path, need: Callable[..., None]
) -> None:
    """Each way for a role of its own; to have it through a view is never to have it now."""
    need("runuser", root=True)
    with scratch_server(tmp_path_factory.mktemp("pgv")) as running:
        roles = [f"r{number}" for number in range(len(VIEWS))]
        grants = [f"grant {granted} to {role}" for role, (granted, *_) in zip(roles, VIEWS, strict=True)]
        running.run(";\n".join((*THROUGH, *(f"create role {role} login" for role in roles), *grants)))
        fidelitas("survey", "--postgresql", running.parameters(), "--name", "db", cwd=tmp_path)
        held = fidelitas("holders", "--on", "db/postgres/s.t", "--format", "json", cwd=tmp_path).json["holdings"]
        said = {(row["holder"]["name"], row["right"].split()[0]): (row["strength"], row["now"]) for row in held}
        for role, (granted, tried, privilege, lets) in zip(roles, VIEWS, strict=True):
            with running.connect(role=role) as session:
                came_off = _comes_off(session, tried)
            assert came_off == lets, granted
            assert said.get((role, privilege)) == (("conditional", False) if lets else None), granted


def _comes_off(session: psycopg.Connection[Any], statement: str) -> bool:
    try:
        session.execute(statement.encode())
    except psycopg.Error:
        return False
    return True


def held(server: Server, role: str, folder: Path) -> set[str]:
    folder.mkdir()
    fidelitas("survey", "--postgresql", server.parameters(), "--name", "db", cwd=folder)
    rows = fidelitas("holders", "--format", "json", cwd=folder).json["holdings"]
    return {f"{role} {row['right']} {row['strength']}" for row in rows if row["holder"]["name"] in (role, "any account")}


class Said:
    """What the program said of each holder and right."""

    def __init__(self, holdings: list[dict[str, Any]]) -> None:
        self._rows: dict[tuple[str, str], list[dict[str, Any]]] = {}
        for row in holdings:
            self._rows.setdefault((row["holder"]["name"], _bare(row["right"])), []).append(row)

    def of(self, role: str, question: Question, privilege: str) -> tuple[bool, bool, bool]:
        """Return whether a role has a privilege, can use it, and whether a session of it can come to use it."""
        words = [privilege.lower(), *([f"{privilege.lower()}({question.column.lower()})"] if question.column else [])]
        rows = [
            row for name in (role, "any account") for word in words for row in self._rows.get((name, f"{word} {_bare(question.path)}"), ())
        ]
        kinds = [({link["kind"] for link in route["links"]}, route["strength"] == "direct") for row in rows for route in row["routes"]]
        use = any(sure and found == {"has"} for found, sure in kinds)
        return any(row["now"] for row in rows), use, any(sure and "may grant" not in found for found, sure in kinds)


def _bare(text: str) -> str:
    """Return a right or a path without quotation marks, letters' case, and the kind of object that may stand before its name."""
    for kind in ("foreign-data wrapper ", "foreign server "):
        text = text.replace(f"/{kind}", "/")
    return text.replace("(integer, text)", "(integer,text)").replace('"', "").lower()
