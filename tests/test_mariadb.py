"""MariaDB servers: the server itself judges grants and which account a connection gets; what is risky, and tables that are not in force."""

import io
import json
import random
import re
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pymysql
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.audit import audit
from fidelitas.checks.mariadb import CHECKS
from fidelitas.evidence import Bundle, make_rows_bundle, read_bundle
from fidelitas.facts import DatabaseAccount, Place
from fidelitas.languages.mariadb import PRIVILEGES, read_mariadb
from fidelitas.platforms import findings_on
from fidelitas.reports.subjects import words_of
from fidelitas.rights import MariadbRights, mariadb_rights_of
from fidelitas.rights.mariadb.server import account_for, database_fits, host_fits
from fidelitas.sources.mariadb import from_mariadb, kind_of_password
from fidelitas.sources.mariadb_dump import from_mariadb_dump
from mariadb_server import PROGRAM, Server, scratch_server
from support import NOW, fidelitas
from support import bundle as host_bundle
from test_postgresql import bundle_of

HERE = Place("db", "mysql.global_priv", 1)


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    if PROGRAM is None:
        pytest.skip("MariaDB is not installed (apt-get install mariadb-server)")
    with scratch_server(tmp_path_factory.mktemp("maria")) as running:
        yield running


@pytest.fixture
def ready(need: Callable[..., None]) -> None:
    need("mariadbd", "mariadb-install-db", root=True)


def rights(server: Server) -> MariadbRights:
    return mariadb_rights_of(read_mariadb(from_mariadb(server.uri, "db").bundle))


# -- judges ------------------------------------------------------------------------------------------------------------------------------

GLOBAL = ("SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "FILE", "SUPER", "PROCESS", "RELOAD", "CREATE USER", "SHOW DATABASES",
          "REPLICATION SLAVE", "EVENT", "TRIGGER", "EXECUTE", "LOCK TABLES", "CREATE VIEW", "SET USER", "BINLOG ADMIN", "DELETE HISTORY")  # fmt: skip
ON_TABLE = ("SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "ALTER", "INDEX", "TRIGGER", "SHOW VIEW")


def shown(rows: list[str]) -> set[tuple[str, str]]:
    """Return the privileges of SHOW GRANTS, each with what it is on."""
    found: set[tuple[str, str]] = set()
    for row in rows:
        statement = re.match(r"GRANT (.*) ON (.*?) TO ", row)
        if statement is None or statement[1].startswith("PROXY"):
            continue
        target = statement[2].replace("`", "").removeprefix("PROCEDURE ")
        for word, columns in re.findall(r"([A-Z][A-Z_ ]*?)(?: \((.*?)\))?(?:, |$)", statement[1]):
            found |= {(target, f"{word} ({column})") for column in columns.replace("`", "").split(", ")} if columns else {(target, word)}
        if "WITH GRANT OPTION" in row:
            found.add((target, "GRANT OPTION"))
    return {(target, word) for target, word in found if word != "USAGE"}


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
def test_grants_are_those_that_the_server_shows(server: Server) -> None:
    """Two hundred accounts and roles with grants at random on everything, a database, tables and columns."""
    chance = random.Random(5)
    server.run(
        "create database if not exists shop",
        "create table if not exists shop.t (a int, b int)",
        "create table if not exists shop.u (a int)",
    )
    names = [f"'judge{number}'@'10.%'" for number in range(150)] + [f"jrole{number}" for number in range(50)]
    for name in names:
        server.run(f"create {'user' if '@' in name else 'role'} {name}")
        for _ in range(chance.randrange(5)):
            option = " with grant option" if chance.random() < 0.2 else ""
            what = chance.choice([
                f"{', '.join(chance.sample(GLOBAL, chance.randrange(1, 5)))} on *.*", f"{', '.join(chance.sample(ON_TABLE, 3))} on shop.*",
                f"{', '.join(chance.sample(ON_TABLE, 2))} on shop.{chance.choice('tu')}", f"{chance.choice(('SELECT', 'UPDATE'))} (a) on shop.t",
                "all privileges on *.*" if chance.random() < 0.2 else "select on shop.*",
            ])  # fmt: skip
            server.run(f"grant {what} to {name}{option}")
    found = rights(server)
    wrong = []
    for name in names:
        asked = shown([str(row[0]) for row in server.run(f"show grants for {name}")])
        key = name.replace("'", "")
        account = found.accounts[key]
        every = {("*.*", one) for one in account.privileges}
        if {("*.*", "ALL PRIVILEGES")} & asked:
            asked = {pair for pair in asked if pair != ("*.*", "ALL PRIVILEGES")} | {
                ("*.*", one) for one in PRIVILEGES if one != "GRANT OPTION"
            }
        for grant in found.facts.grants:
            if f"{grant.user}@{grant.host}" == key or (not grant.host and grant.user == key):
                target = f"{grant.database}.{grant.name or '*'}"
                every |= {(target, f"{one} ({grant.column})" if grant.column else one) for one in grant.privileges}
        asked = {(target.replace("\\", ""), word) for target, word in asked}
        if every != asked:
            wrong.append((name, every ^ asked))
    assert not wrong, wrong[:3]


HOSTS = (
    "127.0.0.1",
    "127.0.0.%",
    "127.%",
    "%",
    "127.0.0.0/255.255.255.0",
    "localhost",
    "local%",
    "127._.0.1",
    "10.%",
    "127.0.0.0/255.0.0.0",
)


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")  # the driver leaves sockets open where it is refused
def test_a_connection_gets_the_account_that_we_say(server: Server) -> None:
    """By TCP and by the socket, with accounts of one name and none for hosts at random."""
    chance, wrong = random.Random(8), []
    for turn in range(60):
        user = f"match{turn}"
        accounts = [(user, host) for host in chance.sample(HOSTS, chance.randrange(1, 5))]
        accounts += [("", host) for host in chance.sample(HOSTS, chance.randrange(3))]
        server.run(*(f"create user '{name}'@'{host}' identified by 'p'" for name, host in accounts))
        known = [account("x", user=name, host=host) for name, host in accounts]
        ways = ({"host": "127.0.0.1", "port": server.port}, "", "127.0.0.1"), ({"unix_socket": str(server.socket)}, "localhost", "")
        for way, host, address in ways:
            try:
                with server.connect(**way, user=user, password="p") as connection, connection.cursor() as cursor:
                    cursor.execute("select current_user()")
                    (got,) = cursor.fetchone() or ("",)
            except pymysql.Error:
                got = None
            ours = account_for(known, user, host, address)
            wrong += [] if got == (ours.name if ours else None) else [(accounts, host or address, got, ours and ours.name)]
        server.run(*(f"drop user '{name}'@'{host}'" for name, host in accounts))
    assert not wrong, wrong[:3]


def account(*privileges: str, user: str = "ines", host: str = "%") -> DatabaseAccount:
    return DatabaseAccount(user=user, host=host, role=False, privileges=frozenset(privileges), logins=(("", "current"),), place=HERE)


# -- a server with faults ------------------------------------------------------------------------------------------------------------------

SEED = (
    "create database tides", "create database tide_a", "create database tideXa", "create table tides.gauges (id int)",
    "create role r_dba", "create role r_ops", "grant all privileges on *.* to r_dba with grant option", "grant r_dba to r_ops",
    "create user ines@'10.20.%' identified by 'made-up-1'", "grant r_ops to ines@'10.20.%'", "set default role r_ops for ines@'10.20.%'",
    "create user tomas@'%' identified by 'made-up-2'", "grant select, update on tides.gauges to tomas@'%'",
    "create user svc_web@'%' identified by ''", "grant all on `tide_a`.* to svc_web@'%'",
    "create user svc_bak@localhost identified via unix_socket", "grant file, select on *.* to svc_bak@localhost",
    "create user ''@'%' identified by 'made-up-3'", "create user old@'%' identified via mysql_old_password using '6f8c114b58f2ce9e'",
    "create user wide@'%' identified by 'made-up-4'", "grant all privileges on *.* to wide@'%' with grant option",
    "create user prox@localhost identified by 'made-up-5'", "grant proxy on root@localhost to prox@localhost",
    "create definer=root@localhost procedure tides.close_day() sql security definer select 1",
    "create user locked@'%' identified by '' account lock",
)  # fmt: skip
FOUND = {
    ("databases.anonymous-account", "@%"), ("databases.no-password", "svc_web@%"), ("databases.weak-login-method", "old@%"),
    ("databases.administrator-from-anywhere", "wide@%"), ("databases.hidden-administrator", "wide@%"), ("databases.hidden-administrator", "ines@10.20.%"),
    ("databases.wildcard-grant", "svc_web@% tide_a"), ("databases.definer-object", "tides.close_day"), ("databases.socket-administrator", "root@localhost"),
}  # fmt: skip


@pytest.fixture(scope="module")
def faulty(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    if PROGRAM is None:
        pytest.skip("MariaDB is not installed (apt-get install mariadb-server)")
    with scratch_server(tmp_path_factory.mktemp("mariaf")) as running:
        running.run(*SEED)
        yield running


@pytest.mark.usefixtures("ready")
def test_what_is_risky_is_found_and_tables_that_are_not_in_force(faulty: Server) -> None:
    before = {(finding.check, finding.about) for finding in findings_on(rights(faulty))}
    assert before == FOUND
    assert {check.name for check in CHECKS} - {"databases.session-after-revocation"} == {check for check, _ in FOUND} | {
        "databases.pending-grants",
        "databases.pending-object-grants",
    }
    change = "update mysql.global_priv set priv = json_set(priv, '$.access', cast(json_value(priv, '$.access') as unsigned) | (1 << 15)) where user = 'tomas'"
    faulty.run(
        change,
        "insert into mysql.global_priv (host, user, priv) values ('%', 'ghost', '{\"access\": 0, \"plugin\": \"mysql_native_password\"}')",
    )
    after = {(finding.check, finding.about): finding.message for finding in findings_on(rights(faulty))}
    assert after.keys() - before >= {("databases.pending-grants", "tomas@%"), ("databases.pending-grants", "ghost@%")}
    assert after["databases.pending-grants", "tomas@%"] == "tomas@% gets SUPER at the next FLUSH PRIVILEGES or restart"
    by_hand = "insert into mysql.db (Host, Db, User, Select_priv, Drop_priv) values ('127.%', 'shop_a', 'tomas', 'Y', 'Y')"
    faulty.run(
        by_hand, "insert into mysql.tables_priv (Host, Db, User, Table_name, Table_priv) values ('%', 'shop_a', 'tomas', 't', 'Insert')"
    )
    edited = {finding.message for finding in findings_on(rights(faulty)) if finding.check == "databases.pending-object-grants"}
    assert edited == {
        "tomas@127.% gets DROP, SELECT on shop_a.* at the next FLUSH PRIVILEGES or restart",
        "tomas@% gets INSERT on shop_a.t at the next FLUSH PRIVILEGES or restart",
    }
    faulty.run("flush privileges")
    loaded = {(finding.check, finding.about) for finding in findings_on(rights(faulty))}
    assert not [one for one in loaded if one[0].startswith("databases.pending")]
    faulty.run("delete from mysql.db where Host = '127.%'", "delete from mysql.tables_priv where Table_priv = 'Insert'", "flush privileges")
    faulty.run("revoke super on *.* from tomas@'%'", "drop user ghost@'%'")


@pytest.mark.usefixtures("ready")
def test_roles_proxies_and_what_they_reach(faulty: Server, tmp_path: Path) -> None:
    ran = fidelitas("survey", "--mariadb", faulty.uri, "--name", "shop-db", cwd=tmp_path)
    assert ran.status == 0, ran.err
    why = fidelitas("why", "ines", cwd=tmp_path).out
    assert "ines@10.20.% → r_ops: has role r_ops from the start (default role)" in why
    assert "r_dba → db-superuser" in why
    assert "prox@localhost → root@localhost: may act as root@localhost (PROXY)" in fidelitas("why", "prox", cwd=tmp_path).out
    rows = fidelitas("holders", "--right", "db-host-escape", "--format", "json", cwd=tmp_path).json["holdings"]
    assert {row["holder"]["name"] for row in rows} == {
        "root@localhost",
        "prox@localhost",
        "svc_bak@localhost",
        "wide@%",
        "ines@10.20.%",
        "r_dba",
        "r_ops",
    }
    assert "r_dba" in fidelitas("compare", "ines", "tomas", "--format", "csv", cwd=tmp_path).out


@pytest.mark.usefixtures("ready")
def test_no_password_is_kept_and_what_may_not_be_seen_is_a_gap(faulty: Server) -> None:
    archive = from_mariadb(faulty.uri, "db").archive
    assert b"*" + b"0123456789ABCDEF"[:1] not in archive or not re.search(rb"\*[0-9A-F]{40}", archive)
    assert b"6f8c114b58f2ce9e" not in archive
    faulty.run("create user if not exists weak@'127.0.0.1' identified by 'made-up-9'")
    facts = read_mariadb(from_mariadb(f"mariadb://weak@127.0.0.1:{faulty.port}", "db", "made-up-9").bundle)
    assert {gap.place.path for gap in facts.gaps} >= {"listing user", "listing db", "listing tables_priv"}
    documented = re.findall(
        r"```sql\n(GRANT SELECT ON mysql.*?)```", (Path(__file__).parent.parent / "docs/databases.md").read_text(), re.DOTALL
    )[0]
    for statement in documented.replace("auditor@'10.20.%'", "weak@'127.0.0.1'").strip().split(";\n"):
        faulty.run(statement.rstrip(";"))
    seen = read_mariadb(from_mariadb(f"mariadb://weak@127.0.0.1:{faulty.port}", "db", "made-up-9").bundle)
    assert {gap.place.path for gap in seen.gaps} == {"listing definers"}  # seen in full only with SHOW VIEW, TRIGGER and EVENT
    assert len(seen.accounts) == len(read_mariadb(from_mariadb(faulty.uri, "db").bundle).accounts)
    faulty.run("drop user weak@'127.0.0.1'")


@pytest.mark.parametrize(
    ("uri", "status", "message"),
    [
        ("mariadb://ines:secret@db/", 2, "a password on the command line can be read by every user of this machine"),
        ("redis://x", 2, "names no database server"),
        ("mariadb://x@127.0.0.1:1", 4, 'could not read database server "mariadb://x@127.0.0.1:1"'),
        ("mariadb://x@127.0.0.1:99999999", 2, "has no usable port"),
    ],
)
def test_servers_that_cannot_be_read_are_one_clear_line(tmp_path: Path, uri: str, status: int, message: str) -> None:
    ran = fidelitas("survey", "--mariadb", uri, cwd=tmp_path)
    assert (ran.status, ran.err.count("\n")) == (status, 1), ran.err
    assert message in ran.err
    assert "secret" not in ran.err


# -- forms -----------------------------------------------------------------------------------------------------------------------------------


def test_the_older_layout_tells_the_same_as_the_json_one() -> None:
    access = sum(1 << PRIVILEGES.index(name) for name in ("SELECT", "FILE", "GRANT OPTION", "CREATE USER", "BINLOG MONITOR"))
    stated = {"access": access, "plugin": "mysql_native_password", "password": "current", "ssl_type": 1}
    new = bundle_of(global_priv=json.dumps({"Host": "%", "User": "ines", "Priv": json.dumps(stated)}))
    row = {"Host": "%", "User": "ines", "plugin": "mysql_native_password", "password": "current", "ssl_type": "ANY", "Select_priv": "Y",
           "File_priv": "Y", "Grant_priv": "Y", "Create_user_priv": "Y", "Repl_client_priv": "Y", "Insert_priv": "N", "is_role": "N"}  # fmt: skip
    old = bundle_of(user=json.dumps(row))
    listings = {"global_priv": new.listings["global-priv"]}
    mine = read_mariadb(_Under(new, listings)).accounts  # type: ignore[arg-type]
    assert mine == read_mariadb(old).accounts
    assert mine[0].privileges == {"SELECT", "FILE", "GRANT OPTION", "CREATE USER", "BINLOG MONITOR"}


class _Under:
    """A bundle with listings of other names."""

    def __init__(self, bundle: object, listings: dict[str, bytes]) -> None:
        self._bundle, self.listings = bundle, listings

    def __getattr__(self, name: str) -> object:
        return getattr(self._bundle, name)


@pytest.mark.parametrize(
    ("plugin", "text", "kind"),
    [
        ("mysql_native_password", "*" + "A" * 40, "current"), ("mysql_native_password", "", "empty"), ("mysql_native_password", "invalid", "none"),
        ("mysql_native_password", "6f8c114b58f2ce9e", "outdated"), ("mysql_old_password", "6f8c114b58f2ce9e", "outdated"), ("unix_socket", "", "none"),
        ("ed25519", "sRzY8A", "current"), ("caching_sha2_password", "$A$005$x", "current"), ("caching_sha2_password", "", "empty"),
    ],
)  # fmt: skip
def test_kinds_of_passwords(plugin: str, text: str, kind: str) -> None:
    assert kind_of_password(plugin, text) == kind


@pytest.mark.parametrize(
    ("pattern", "host", "address", "fits"),
    [
        ("%", "", "10.0.0.1", True), ("", "x", "", True), ("10.20.%", "", "10.20.3.4", True), ("10.20.%", "", "10.2.0.1", False),
        ("192.168.7.0/255.255.255.0", "", "192.168.7.99", True), ("192.168.7.0/255.255.255.0", "", "192.168.8.1", False),
        ("%.saltmarsh.example", "tern.saltmarsh.example", "", True), ("1/2/3", "", "10.0.0.1", False), ("10.0.0.0/x", "", "10.0.0.1", False),
    ],
)  # fmt: skip
def test_host_patterns(pattern: str, host: str, address: str, fits: bool) -> None:
    assert host_fits(pattern, host, address) is fits


@given(st.text("ab%_\\A", max_size=10), st.text("abB_%\\", max_size=10))
def test_a_pattern_takes_what_its_expression_takes(pattern: str, name: str) -> None:
    expression = re.sub(r"\\(.)|([%_])|(.)", lambda found: {"%": ".*", "_": "."}.get(found[2]) or re.escape(found[1] or found[3]), pattern)
    assert database_fits(pattern, name) is (re.fullmatch(expression, name, re.IGNORECASE) is not None)


def test_no_pattern_is_tried_in_every_way() -> None:
    assert not database_fits("%a" * 31 + "b", "a" * 64)


@given(st.text(max_size=30), st.text(max_size=30), st.binary(max_size=200))
def test_any_name_and_any_row_is_survived(name: str, other: str, content: bytes) -> None:
    host_fits(name, other, "10.0.0.1")
    database_fits(name, other)
    row = json.dumps({"Host": name, "User": other, "Priv": '{"access": 18446744073709551615}'})
    found = mariadb_rights_of(read_mariadb(_Under(bundle_of(), {"global_priv": content + b"\n" + row.encode("utf-8", "surrogatepass")})))  # type: ignore[arg-type]
    assert any(str(holding.right) == "db-superuser" for holding in found.holdings)


# -- objects, dumps, sockets ---------------------------------------------------------------------------------------------------------------

ON_OBJECT = {
    "SELECT": "select * from shop_a.t",
    "INSERT": "insert into shop_a.t values (1)",
    "UPDATE": "update shop_a.t set a = 2",
    "DELETE": "delete from shop_a.t",  # with a condition it would read, too
}


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
def test_who_may_do_what_with_a_table_is_what_the_server_lets_them_do(server: Server) -> None:
    """Grants at random on everything, on databases by name and by pattern, on tables; by roles, too: each is then tried."""
    chance = random.Random(9)
    server.run(
        "create database if not exists shop_a",
        "create table if not exists shop_a.t (a int)",
        "create table if not exists shop_a.u (a int)",
        "create role if not exists objects_role",
        "grant update on shop_a.t to objects_role",
    )
    names = [f"'o{number}'@'localhost'" for number in range(40)]
    targets = ["*.*", "shop_a.*", "`shop%`.*", "`shop\\_a`.*", "`shop_b`.*", "shop_a.t", "shop_a.u"]
    for name in names:
        server.run(f"create user {name} identified by 'made-up'")
        for target in chance.sample(targets, chance.randint(0, 3)):
            server.run(f"grant {chance.choice([*ON_OBJECT])} on {target} to {name}")
        if chance.random() < 0.3:
            server.run(f"grant objects_role to {name}", f"set default role objects_role for {name}")
    found = rights(server)
    told = {(str(one.principal), str(one.right).partition(" ")[0].upper()) for one in found.on("shop_a/t")}
    disagreements = [
        (number, privilege, target)
        for number in range(40)
        for privilege in ON_OBJECT
        if ((f"o{number}@localhost", privilege) in told) != tried(server, f"o{number}", ON_OBJECT[privilege])
        for target in [found.belongs_to(f"o{number}@localhost")]
    ]
    server.run(*(f"drop user {name}" for name in names), "drop role objects_role", "drop database shop_a")
    assert not disagreements
    assert not found.on("nowhere/t")


def tried(server: Server, user: str, statement: str) -> bool:
    """Return whether the server lets an account run a statement."""
    with server.connect(unix_socket=str(server.socket), user=user, password="made-up") as connection, connection.cursor() as cursor:
        try:
            cursor.execute(statement)
        except pymysql.err.OperationalError:
            return False
        return True


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
def test_the_script_tells_what_a_connection_tells_and_no_password(faulty: Server, tmp_path: Path) -> None:
    script = fidelitas("probe", "--mariadb", cwd=tmp_path).out
    client = ["mariadb", "--no-defaults", "-S", str(faulty.socket), "-u", "root", "--batch", "--force"]
    printed = subprocess.run(client, input=script, capture_output=True, text=True, check=False).stdout
    assert not re.search(r"\*[0-9A-F]{40}", printed)
    by_hand, direct = read_mariadb(from_mariadb_dump(printed.encode(), "db").bundle), read_mariadb(from_mariadb(faulty.uri, "db").bundle)
    for part in ("version", "host_name", "accounts", "grants", "roles", "proxies", "definers", "in_force", "databases"):
        assert getattr(by_hand, part) == getattr(direct, part), part
    (tmp_path / "db.txt").write_text(printed)
    assert fidelitas("survey", "db.txt", cwd=tmp_path).status == 0
    assert "root@localhost" in fidelitas("holders", "--right", "db-superuser", cwd=tmp_path).out
    (tmp_path / "cut.txt").write_text(printed[: printed.index("#listing db")])
    assert "2 gaps" in fidelitas("survey", "cut.txt", cwd=tmp_path).err
    assert "user_privileges" in fidelitas("coverage", cwd=tmp_path).out


def rows_of(**listings: list[dict[str, Any]]) -> Bundle:
    told = {name: "".join(json.dumps(row) + "\n" for row in rows).encode() for name, rows in listings.items()}
    return read_bundle(io.BytesIO(make_rows_bundle("db", "mariadb", NOW, told, "x")))


def account_row(user: str, host: str = "localhost", access: int = 0, **more: Any) -> dict[str, Any]:
    return {
        "User": user,
        "Host": host,
        "Priv": json.dumps({"access": access, "plugin": "mysql_native_password", "password": "current", **more}),
    }


def test_an_account_of_the_host_becomes_a_database_administrator_by_the_socket() -> None:
    everything = (1 << 39) - 1
    accounts = [
        account_row("root", access=everything, plugin="unix_socket"),
        account_row("ines", access=1, plugin="unix_socket"),
        account_row("kofi"),
    ]
    server = rows_of(server=[{"version": "10.11", "host_name": "knot.saltmarsh.example"}], global_priv=accounts)
    found = audit([server, host_bundle("tomas ALL=(ALL) ALL\nrada ALL=(ines) ALL\n")])
    mariadb = next(one for one in found.subjects if isinstance(one, MariadbRights))
    by = {(str(one.principal), str(one.right)): [str(link.target) for link in one.routes[0].links] for one in mariadb.holdings}
    assert by["tomas@knot", "db-superuser"] == ["root@knot", "root@localhost", "db-superuser"]
    assert by["rada@knot", "db-read-all"] == ["ines@knot", "ines@localhost", "db-read-all"]
    assert ("rada@knot", "db-superuser") not in by
    assert not any(name == "vesna@knot" for name, _ in by)
    alone = next(one for one in audit([server]).subjects if isinstance(one, MariadbRights))
    assert not any("@knot" in str(one.principal) for one in alone.holdings)


def test_what_mysql_keeps_in_tables_of_its_own() -> None:
    user = {"User": "ops", "Host": "%", "plugin": "caching_sha2_password", "password": "current"}
    grants: list[dict[str, Any]] = [{"USER": "ops", "HOST": "%", "PRIV": "SET_USER_ID"}, {"USER": "ops", "HOST": "%", "PRIV": 7}]
    roles = [{"USER": "ops", "HOST": "%", "DEFAULT_ROLE_USER": "reader", "DEFAULT_ROLE_HOST": "%"}]
    facts = read_mariadb(rows_of(user=[user], global_grants=grants, default_roles=roles))
    assert (set(facts.accounts[0].privileges), set(facts.accounts[0].default_roles), len(facts.gaps)) == ({"SET USER ID"}, {"reader@%"}, 1)
    assert [str(one.right) for one in mariadb_rights_of(facts).holdings] == ["db-superuser"]


def test_connections_of_accounts_that_are_gone() -> None:
    sessions = [
        {"user": user, "host": host}
        for user, host in (("gone", "10.1.1.1:33"), ("kofi", "localhost"), ("shut", "localhost"), ("system user", ""))
    ]
    facts = read_mariadb(rows_of(global_priv=[account_row("kofi"), account_row("shut", account_locked=True)], sessions=sessions))
    assert {(one.about, one.check) for one in findings_on(mariadb_rights_of(facts))} == {
        (name, "databases.session-after-revocation") for name in ("gone", "shut")
    }


def test_an_account_for_a_host_by_name_is_out_of_reach_where_no_names_are_resolved() -> None:
    accounts = [account_row("kofi", "desk.saltmarsh.example"), account_row("kofi", "10.1.1.1"), account_row("kofi", "localhost")]
    for skips, expected in (
        (1, ["account, password, its host's name is not resolved", "account, password", "account, password"]),
        (0, ["account, password"] * 3),
    ):
        facts = read_mariadb(rows_of(server=[{"version": "10.11", "skip_name_resolve": skips}], global_priv=accounts))
        found = mariadb_rights_of(facts)
        assert [words_of(found).kind(found, found.role(account.name)) for account in facts.accounts] == expected
