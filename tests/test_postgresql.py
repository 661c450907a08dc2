"""PostgreSQL servers: the server itself judges who has which privilege; what is read, what is risky, and what cannot be had."""

import io
import json
import random
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.audit import audit
from fidelitas.checks.postgresql import CHECKS
from fidelitas.evidence import Bundle, Listing, Manifest, make_bundle, read_bundle
from fidelitas.languages.postgresql import read_postgresql
from fidelitas.platforms import findings_on
from fidelitas.rights import DatabaseRights, database_rights_of
from fidelitas.sources.postgresql import dump_script, from_postgresql, from_postgresql_dump
from postgresql_server import BINARIES, Server, scratch_server
from support import NOW, fidelitas

ROOT = Path(__file__).parent.parent


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    if not BINARIES.exists():
        pytest.skip("PostgreSQL is not installed (apt-get install postgresql-15)")
    with scratch_server(tmp_path_factory.mktemp("pg")) as running:
        yield running


@pytest.fixture
def ready(need: Callable[..., None]) -> None:
    need("runuser", root=True)


def rights(server: Server) -> DatabaseRights:
    return database_rights_of(read_postgresql(from_postgresql(server.parameters(), "db").bundle))


# -- the judge -----------------------------------------------------------------------------------------------------------------------

TABLE = ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER")


def estate(chance: random.Random, prefix: str) -> list[str]:
    """Return statements that make roles, memberships of any shape, objects and grants."""
    roles = [f'"{prefix} {name}"' for name in ("Ann", "bob", "c''est", "d.d", "eve", "fay", "gus")]
    made = []
    for role in roles:
        words = [word if chance.random() < 0.5 else f"NO{word}" for word in ("LOGIN", "INHERIT", "CREATEROLE")]
        superuser = " SUPERUSER" if chance.random() < 0.1 else ""
        made.append(f"create role {role} {' '.join(words)}{superuser}")
    for number, member in enumerate(roles):
        for other in roles[:number]:
            if chance.random() < 0.3:
                made.append(f"grant {other} to {member}{' with admin option' if chance.random() < 0.3 else ''}")
        for own in ("pg_read_all_data", "pg_write_all_data", "pg_execute_server_program"):
            if chance.random() < 0.06:
                made.append(f"grant {own} to {member}")
    schema, owner = f'"{prefix} s"', chance.choice(roles)
    made += [f"create schema {schema} authorization {chance.choice(roles)}", f"create table {schema}.t (a int, b int)"]
    made += [f"create function {schema}.f() returns int language sql as 'select 1'", f"create sequence {schema}.q"]
    made += [f"alter table {schema}.t owner to {owner}", f"alter function {schema}.f() owner to {chance.choice(roles)}"]
    grantees = [*roles, "public"]
    for _ in range(chance.randrange(3, 12)):
        who, option = chance.choice(grantees), chance.random() < 0.3
        what = chance.choice(
            [f"{chance.choice(TABLE)} on {schema}.t", f"{chance.choice(('select', 'update'))} (a) on {schema}.t", f"usage on schema {schema}",
             f"create on schema {schema}", f"execute on function {schema}.f()", f"{chance.choice(('usage', 'select', 'update'))} on sequence {schema}.q"]
        )  # fmt: skip
        made.append(f"grant {what} to {who}{' with grant option' if option and who != 'public' else ''}")
    for _ in range(chance.randrange(4)):
        made.append(f"revoke {chance.choice(TABLE)} on {schema}.t from {chance.choice([owner, *grantees])} cascade")
    if chance.random() < 0.4:
        made.append(f"revoke execute on function {schema}.f() from public")
    return made


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
@pytest.mark.parametrize("seeds", [range(number, number + 25) for number in range(0, 50, 25)], ids=str)
def test_the_server_decides_the_same(server: Server, seeds: range) -> None:
    """Roles, memberships and grants of any shape: memberships, and every privilege on a table, column, schema, function and sequence."""
    for seed in seeds:
        for statement in estate(random.Random(seed), f"g{seed}"):
            with server.connect() as connection:
                connection.execute(statement.encode())
    found = rights(server).privileges
    wrong: list[object] = []
    with server.connect() as connection:

        def judge(question: str, *values: object) -> Any:
            (answer,) = connection.execute(question.encode(), values).fetchone() or (None,)
            return answer

        for seed in seeds:
            names = [name for name in found.roles if name.startswith(f"g{seed} ")]
            schema = f"g{seed} s"
            for role in names:
                for other in names:
                    asked = judge("select (pg_has_role(%s, %s, 'MEMBER'), pg_has_role(%s, %s, 'USAGE'))::text", role, other, role, other)
                    ours = (other in found.is_member(role), other in found.inherits(role) or found.is_superuser(role))
                    wrong += [] if asked == f"({str(ours[0])[0].lower()},{str(ours[1])[0].lower()})" else [(seed, role, other, asked, ours)]
                for privilege in TABLE:
                    key = ("postgres", "table", schema, "t")
                    for grantable in (False, True):
                        words = privilege + (" WITH GRANT OPTION" if grantable else "")
                        asked = judge("select has_table_privilege(%s, %s, %s)", role, f'"{schema}".t', words)
                        ours_has = found.has(role, key, privilege, grantable=grantable)
                        wrong += [] if asked == ours_has else [(seed, role, words, asked)]
                for kind, name, privilege, question in (
                    ("schema", schema, "USAGE", f"has_schema_privilege(%s, '{schema}', %s)"),
                    ("schema", schema, "CREATE", f"has_schema_privilege(%s, '{schema}', %s)"),
                    ("function", f'"{schema}".f()', "EXECUTE", f"has_function_privilege(%s, '\"{schema}\".f()', %s)"),
                    ("sequence", "q", "USAGE", f"has_sequence_privilege(%s, '\"{schema}\".q', %s)"),
                    ("sequence", "q", "SELECT", f"has_sequence_privilege(%s, '\"{schema}\".q', %s)"),
                    ("sequence", "q", "UPDATE", f"has_sequence_privilege(%s, '\"{schema}\".q', %s)"),
                ):
                    key = ("postgres", kind, "" if kind == "schema" else schema, name)
                    shown = found.facts.objects if kind == "function" else ()
                    if kind == "function":
                        key = next(
                            (one.database, one.object_kind, one.schema, one.name)
                            for one in shown
                            if one.schema == schema and one.object_kind == kind
                        )
                    asked = judge(f"select {question}", role, privilege)
                    wrong += [] if asked == found.has(role, key, privilege) else [(seed, role, kind, privilege, asked)]
                asked = judge(f"select has_column_privilege(%s, '\"{schema}\".t', 'a', 'SELECT')", role)
                ours_has = found.has(role, ("postgres", "table", schema, "t"), "SELECT", column="a")
                wrong += [] if asked == ours_has else [(seed, role, "column", asked)]
    assert not wrong, wrong[:5]


# -- a server with faults ------------------------------------------------------------------------------------------------------------

SEED = """\
create role grp_dba nologin superuser;
create role grp_ops nologin;
create role grp_oncall nologin;
create role app_owner nologin;
create role ines login password 'made-up-1';
create role tomas login password 'made-up-2' valid until '2024-01-31';
create role svc_backup login replication password 'made-up-3';
create role svc_web login password 'made-up-4';
create role rada login createrole noinherit password 'made-up-5';
create role auditor login;
set password_encryption = 'md5';
create role legacy login password 'made-up-6';
grant grp_dba to grp_ops;
grant grp_ops to grp_oncall with admin option;
grant grp_oncall to tomas;
grant pg_read_server_files to svc_backup;
grant pg_read_all_data to ines;
grant app_owner to svc_web;
grant alter system on parameter archive_command to svc_web;
create database tides owner app_owner
"""
TIDES = """\
create schema app authorization app_owner;
create table app.gauges (id int, secret text);
alter table app.gauges owner to app_owner;
create table app.notes (id int);
grant select, update on app.gauges to ines;
grant all on app.notes to public;
create function app.reset_pw(u text) returns int language sql security definer as 'select 1';
create function app.safe() returns int language sql security definer set search_path = pg_catalog as 'select 1';
create extension if not exists postgres_fdw;
create server archive foreign data wrapper postgres_fdw;
alter default privileges for role app_owner in schema app grant insert on tables to public;
create user mapping for ines server archive options (user 'ines', password 'made-up-7')
"""
ACCESS = """\
host all legacy 10.0.0.0/8 trust
host all +grp_dba 0.0.0.0/0 reject
host tides svc_web 10.20.0.0/16 password
host tides svc_web 10.20.7.0/24 md5
local replication svc_backup scram-sha-256
local all legacy reject
"""
PLANTED = {
    ("databases.extra-superuser", "grp_dba"), ("databases.superuser-by-membership", "tomas"), ("databases.superuser-by-membership", "rada"),
    ("databases.host-access", "svc_backup"), ("databases.login-without-password", "1"), ("databases.cleartext-password", "3"),
    ("databases.weak-password-hash", "legacy"), ("databases.definer-function", "tides app.reset_pw(text)"),
    ("databases.public-write", "tides app.notes"), ("databases.expired-password", "tomas"),
    ("databases.host-access", "svc_web"), ("databases.public-default-privileges", "INSERT"), ("databases.risky-extension", "postgres_fdw"),
    ("databases.stored-password", "tides archive ines"), ("databases.trigger-of-other", "any account"), ("databases.definer-function", "tides app.safe()"),
}  # fmt: skip


@pytest.fixture(scope="module")
def faulty(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    if not BINARIES.exists():
        pytest.skip("PostgreSQL is not installed (apt-get install postgresql-15)")
    with scratch_server(tmp_path_factory.mktemp("pgf")) as running:
        running.run(SEED)
        running.run(TIDES, "tides")
        running.access(ACCESS)
        yield running


@pytest.fixture
def surveyed(faulty: Server, tmp_path: Path, need: Callable[..., None]) -> Path:
    need("runuser", root=True)
    ran = fidelitas("survey", "--postgresql", faulty.parameters(), "--name", "db.saltmarsh.example", cwd=tmp_path)
    assert ran.status == 0, ran.err
    assert "PostgreSQL 1" in ran.out
    return tmp_path


def test_what_is_risky_on_a_server_is_found_and_nothing_else(surveyed: Path) -> None:
    found = fidelitas("findings", "--format", "json", "--fail-on", "never", cwd=surveyed).json["findings"]
    assert {(one["check"], about(one)) for one in found} == {(check, what) for check, what in PLANTED}
    assert all(one["subject"] == "db.saltmarsh.example" for one in found)


def about(finding: dict[str, Any]) -> str:
    """Return what a finding is about, by its message and places."""
    message, words = finding["message"], finding["message"].split()
    if finding["check"] in ("databases.login-without-password", "databases.cleartext-password"):
        return str(words[1])
    if finding["check"] == "databases.trigger-of-other":
        return str(message.partition(" can come")[0])
    if finding["check"] == "databases.definer-function":
        return f"{words[2]} {words[0]}"
    if finding["check"] == "databases.public-write":
        return f"{words[-1]} {words[-3]}"
    if finding["check"] == "databases.stored-password":
        return f"{words[-1]} {words[6]} {words[1]}"
    if finding["check"] in ("databases.weak-password-hash", "databases.expired-password"):
        return str(words[3])
    if finding["check"] == "databases.public-default-privileges":
        return str(words[3])
    return str(words[1] if message.startswith("role ") else words[0])


def test_routes_ways_in_and_who_may_read_a_table(surveyed: Path) -> None:
    tomas = fidelitas("why", "tomas", cwd=surveyed).out
    assert "tomas → grp_oncall: is a member of grp_oncall and has its grants, and may become it (SET ROLE)" in tomas
    assert "grp_dba → db-superuser: is a superuser" in tomas
    web = fidelitas("why", "svc_web", cwd=surveyed).out
    assert "svc_web to tides from 10.20.0.0/16: password  (pg_hba.conf:3)" in web
    assert ":4)" not in web  # a narrower rule behind it never decides
    rows = fidelitas("holders", "--on", "db.saltmarsh.example/tides/app.gauges", "--format", "json", cwd=surveyed).json["holdings"]
    readers = {row["holder"]["name"]: row["strength"] for row in rows if row["right"] == "select tides/app.gauges"}
    # rada makes roles, and so can give itself pg_read_all_data.
    assert readers.keys() == {"ines", "app_owner", "svc_web", "postgres", "grp_dba", "grp_ops", "grp_oncall", "tomas", "rada"}
    assert readers["ines"] == "direct"
    assert not [row for row in rows if row["right"].startswith("delete") and row["holder"]["name"] == "ines"]
    refused = fidelitas("holders", "--on", "db.saltmarsh.example/tides/app.nowhere", cwd=surveyed)
    assert (refused.status, refused.err.count("\n")) == (2, 1)
    compared = fidelitas("compare", "tomas", "ines", "--format", "csv", cwd=surveyed).out
    assert "db-superuser" in compared


def test_no_password_leaves_the_server_and_a_dump_tells_the_same(surveyed: Path, faulty: Server, need: Callable[..., None]) -> None:
    need("psql")
    collected = from_postgresql(faulty.parameters(), "db")
    assert b"made-up" not in collected.archive
    assert b"SCRAM-SHA-256$" not in collected.archive
    script = surveyed / "probe.sql"
    script.write_text(dump_script())
    texts = [
        subprocess.run(["psql", "-X", "-q", "-A", "-t", "-f", script, faulty.parameters(name)], capture_output=True, check=True).stdout
        for name in ("postgres", "tides", "template1")
    ]
    dumped = from_postgresql_dump(b"".join(texts), "db")
    mine, theirs = (database_rights_of(read_postgresql(one.bundle)) for one in (collected, dumped))
    assert [str(one.right) + str(one.principal) for one in mine.holdings] == [
        str(one.right) + str(one.principal) for one in theirs.holdings
    ]
    assert set(mine.facts.grants) == set(theirs.facts.grants)
    assert not mine.gaps + theirs.gaps


def test_an_account_with_the_documented_grants_sees_all_but_passwords(faulty: Server, tmp_path: Path, need: Callable[..., None]) -> None:
    need("runuser", root=True)
    before = read_postgresql(from_postgresql(faulty.parameters(role="auditor"), "db").bundle)
    known = {"listing passwords", "listing access-quotes"}
    known.add("user-mappings tides")  # whose options only superusers see
    assert {gap.place.path for gap in before.gaps} == {*known, "listing access-rules", "listing identity-maps"}
    documented = (ROOT / "docs/databases.md").read_text().partition("```sql\n")[2].partition("```")[0]
    faulty.run(documented.replace("CREATE ROLE auditor LOGIN;\n", ""))
    after = read_postgresql(from_postgresql(faulty.parameters(role="auditor"), "db").bundle)
    assert {gap.place.path for gap in after.gaps} == known
    whole = read_postgresql(from_postgresql(faulty.parameters(), "db").bundle)
    assert set(after.grants) == set(whole.grants)
    assert after.access == whole.access


@pytest.mark.parametrize(
    ("arguments", "status", "message"),
    [
        (["--postgresql", "postgresql://ines:secret@db/x"], 2, "a password on the command line can be read by every user of this machine"),
        (["--postgresql", "nonsense=1"], 2, "cannot understand the connection parameters"),
        (["--postgresql", "host=/nowhere-at-all"], 4, 'could not read database server "host=/nowhere-at-all"'),
        (["--postgresql", "host=/a", "--postgresql", "host=/b", "--name", "db"], 2, "does not say which subject it is for"),
    ],
)
def test_servers_that_cannot_be_read_are_one_clear_line(tmp_path: Path, arguments: list[str], status: int, message: str) -> None:
    ran = fidelitas("survey", *arguments, cwd=tmp_path)
    assert (ran.status, ran.err.count("\n")) == (status, 1), ran.err
    assert message in ran.err
    assert "secret" not in ran.err.partition("Put it")[0].replace("a password", "")


# -- rows that are not as expected -----------------------------------------------------------------------------------------------------


def bundle_of(**listings: str) -> Bundle:
    names = {name.replace("_", "-"): text.encode("utf-8", "surrogatepass") for name, text in listings.items()}
    manifest = Manifest(
        subject="db", platform="postgresql", taken=NOW, kernel="", live=True, probe=3, uid=0, items=(), gaps=(),
        listings=tuple(Listing(name=name, member=f"listings/{number}", tool="x") for number, name in enumerate(names)),
    )  # fmt: skip
    return read_bundle(io.BytesIO(make_bundle(manifest, {}, names)))


ROLE = {
    "name": "a", "superuser": False, "inherit": True, "create_role": False, "create_database": False, "log_in": True, "replication": False,
    "bypass_row_security": False,
}  # fmt: skip


def test_a_catalogue_of_another_shape_is_a_gap_and_costs_only_itself() -> None:
    good, hostile = json.dumps(ROLE), json.dumps({**ROLE, "name": 'x"\n\x1b[2J; drop'})
    broken = json.dumps({name: value for name, value in ROLE.items() if name != "superuser"})
    facts = read_postgresql(bundle_of(roles=f"{good}\n{broken}\nno json\n{hostile}\n[1]\n"))
    assert [role.name for role in facts.roles] == ["a", 'x"\n\x1b[2J; drop']
    assert [gap.place.line for gap in facts.gaps] == [2, 3, 5]


@given(st.lists(st.tuples(st.integers(0, 6), st.integers(0, 6), st.booleans(), st.booleans()), max_size=20), st.text(max_size=40))
def test_memberships_of_any_shape_end_and_names_of_any_kind_are_survived(edges: list[tuple[int, int, bool, bool]], name: str) -> None:
    roles = "".join(json.dumps({**ROLE, "name": f"{name}{number}", "superuser": number == 6}) + "\n" for number in range(7))
    memberships = "".join(
        json.dumps({"role": f"{name}{role}", "member": f"{name}{member}", "admin": admin, "inherit": inherit, "set": True}) + "\n"
        for role, member, admin, inherit in edges
    )
    (server,) = audit([bundle_of(roles=roles, memberships=memberships)]).subjects
    up = {member: {role for role, other, *_ in edges if other == member} for member in range(7)}
    reached, agenda = {6}, [6]
    for node in agenda:
        new = {member for member in range(7) if node in up[member]} - reached
        reached |= new
        agenda += new
    assert {str(holding.principal) for holding in server.holdings if str(holding.right) == "db-superuser"} == {
        f"{name}{one}" for one in reached
    }


def test_ten_thousand_nested_roles_are_followed() -> None:
    roles = "".join(json.dumps({**ROLE, "name": f"r{number}", "superuser": number == 9999}) + "\n" for number in range(10_000))
    chain = "".join(
        json.dumps({"role": f"r{number + 1}", "member": f"r{number}", "admin": False, "inherit": True, "set": True}) + "\n"
        for number in range(9_999)
    )
    privileges = database_rights_of(read_postgresql(bundle_of(roles=roles, memberships=chain))).privileges
    assert len(privileges.inherits("r0")) == 10_000


def test_every_check_of_servers_has_a_case() -> None:
    assert {check.name for check in CHECKS} == {check for check, _ in PLANTED} | {
        "databases.untrusted-function",
        "databases.session-after-expiry",
    }


def test_connections_that_outlived_their_rights() -> None:
    late = {**ROLE, "name": "late", "valid_until": "2026-01-01T00:00:00+00:00"}
    shut, fine = {**ROLE, "name": "shut", "log_in": False}, {**ROLE, "name": "fine"}
    sessions = [{"role": role, "database": "tides", "address": "10.1.1.1", "since": None} for role in ("late", "shut", "fine", "gone")]
    rows = ["".join(json.dumps(row) + "\n" for row in some) for some in ((late, shut, fine), sessions)]
    found = database_rights_of(read_postgresql(bundle_of(roles=rows[0], sessions=rows[1])))
    told = {finding.about for finding in findings_on(found) if finding.check == "databases.session-after-expiry"}
    assert told == {"late", "shut", "gone"}


def server_with(
    method: str, options: list[str], maps: list[tuple[str, str, str]], version: int = 150000, roles: str = "fine rada"
) -> DatabaseRights:
    """Return a server with one rule of access for its roles."""
    rule = {"line": 1, "type": "local" if method == "peer" else "host", "database": ["all"], "role": ["all"], "method": method}
    where = {} if method == "peer" else {"address": "10.0.0.0", "netmask": "255.0.0.0"}
    shape = {"kind": "database", "schema": "", "name": "tides", "column": "", "owner": "fine", "grantee": ""}
    listings: dict[str, list[dict[str, Any]]] = {
        "server": [{"version": version, "version_text": "", "taken_by": "postgres", "ssl": "on"}],
        "roles": [{**ROLE, "name": name, "log_in": True} for name in roles.split()],
        "access-rules": [{**rule, **where, "options": options, "error": None}],
        "identity-maps": [{"map": name, "account": account, "role": role} for name, account, role in maps],
        "databases": [{"name": "tides", "owner": "fine", "connectable": True, "connection_limit": -1}],
        "cluster-grants": [{**shape, "privileges": {"CONNECT": False}}],
    }
    return database_rights_of(
        read_postgresql(bundle_of(**{name: "".join(json.dumps(row) + "\n" for row in rows) for name, rows in listings.items()}))
    )


MAPS: tuple[tuple[list[tuple[str, str, str]], int, str], ...] = (
    # (lines of pg_ident.conf, version, who gets what)
    ([], 15, "fine:fine rada:rada"),
    ([("ops", "tomas", "fine"), ("other", "rada", "fine"), ("ops", "ines", "gone")], 15, "tomas:fine"),
    ([("ops", "/^(.*)$", "fine")], 15, "tomas:fine db-rada:fine fine:fine"),
    ([("ops", "/^db-(.*)$", r"\1")], 15, "db-rada:rada"),
    ([("ops", "/^db-", r"\1")], 15, ""),  # no group to take a name from
    ([("ops", "/^(t", "fine")], 15, ""),  # which the server does not take either
    ([("ops", "tomas", "all")], 15, ""),
    ([("ops", "tomas", "all")], 16, "tomas:fine tomas:rada"),
    ([("ops", "tomas", "/^r")], 15, ""),
    ([("ops", "tomas", "/^r")], 16, "tomas:rada"),
    ([("ops", "/((a*)*)*x$", "fine")], 15, ""),
)


@pytest.mark.parametrize(("maps", "version", "expected"), MAPS)
def test_maps_say_which_account_of_the_host_gets_a_role_by_the_socket(
    maps: list[tuple[str, str, str]], version: int, expected: str
) -> None:
    read = server_with("peer", ["map=ops"] if maps else [], maps, version * 10000)
    known = ["tomas", "db-rada", "fine", "a" * 60][: 4 if "a*" in str(maps) else 3]
    assert {f"{account}:{role}" for account, role, _ in read.socket_logins(known)} == {*expected.split()}


DIRECTORY = {
    "fine": "uid=fine,ou=people,dc=saltmarsh,dc=example",
    "tomas": "uid=tomas, ou=people, dc=saltmarsh, dc=example",
    "rada": "cn=Rada,ou=guests,dc=saltmarsh,dc=example",
}
LOGINS: tuple[tuple[str, list[str], list[tuple[str, str, str]], str], ...] = (
    # (method, options, lines of pg_ident.conf, who gets what)
    ("ldap", ["ldapserver=d", "ldapprefix=uid=", "ldapsuffix=,ou=people,dc=saltmarsh,dc=example"], [], "fine:fine"),
    ("ldap", ["ldapserver=d", "ldapbasedn=dc=saltmarsh,dc=example"], [], "fine:fine rada:rada"),
    ("ldap", ["ldapserver=d", "ldapbasedn=ou=people,dc=saltmarsh,dc=example"], [], "fine:fine"),
    ("ldap", ["ldapserver=d", "ldapprefix=SALTMARSH\\"], [], "fine:fine rada:rada"),
    ("ldap", ["ldapserver=d", "ldapsuffix=@saltmarsh.example"], [], "fine:fine rada:rada"),
    ("gss", ["include_realm=0"], [], "fine:fine rada:rada"),
    ("gss", [], [], ""),  # the name holds the realm, and no role is called so
    ("gss", ["map=ops"], [("ops", "/^(.*)@SALTMARSH\\.EXAMPLE$", r"\1")], "fine:fine rada:rada"),
    ("gss", ["map=ops", "krb_realm=TIDES"], [("ops", "tomas@TIDES", "rada")], "tomas:rada"),
    ("scram-sha-256", [], [], ""),
)  # fmt: skip


@pytest.mark.parametrize(("method", "options", "maps", "expected"), LOGINS)
def test_accounts_of_a_directory_that_a_server_lets_in(
    method: str, options: list[str], maps: list[tuple[str, str, str]], expected: str
) -> None:
    read = server_with(method, options, maps)
    assert {f"{account}:{role}" for account, role, _, _ in read.directory_logins(DIRECTORY)} == {*expected.split()}
