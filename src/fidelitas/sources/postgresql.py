"""A PostgreSQL server, read over its own protocol: rows of its catalogue, as they are, one JSON object each.

Connection parameters are libpq's own (a URI, or ``service=NAME``); passwords come from its password file, its service file, its environment
or a prompt, never from the command line.  TLS is verified unless the parameters say otherwise, or the server is on a socket of this
machine.
Everything is read only and stops after a time.
"""

import io
import json
import os
import time
from collections.abc import Iterator, Mapping
from configparser import ConfigParser
from configparser import Error as ConfigError
from contextlib import contextmanager, suppress
from pathlib import Path

import psycopg
from psycopg import conninfo, sql

from fidelitas.errors import ReadError, RequestError
from fidelitas.evidence import MissingItem
from fidelitas.sources.bounded import cut_at
from fidelitas.sources.collected import DEADLINE, Answers, Collected, ConnectionLost, queries, sealed

__all__ = ["dump_script", "from_postgresql", "from_postgresql_dump", "is_postgresql_dump"]

_CONNECT_SECONDS = 15
_QUERY_MILLISECONDS = 120_000
# No honest catalogue has so much in one listing; what is beyond is a gap.
_LARGEST_LISTING = 1 << 30
# What every server has some of: nothing of it is a query that failed.
_NEVER_EMPTY = frozenset({"server", "roles", "passwords", "memberships", "databases", "cluster-grants", "access-rules"})
_HEAD = b"fidelitas-postgresql 1"
_Connection = psycopg.Connection[tuple[object, ...]]


def from_postgresql(parameters: str, name: str | None = None, password: str | None = None, deadline: float = DEADLINE) -> Collected:
    """Return the evidence of the server that libpq's connection parameters name; raises `ReadError` where it cannot be reached.

    What the account may not see, or a database that does not let it in, is a gap; so is what was not read `deadline` seconds later.
    """
    stated = _stated(parameters)
    ends = time.monotonic() + deadline
    read = Answers()
    names: list[str] = []
    with _connected(stated, password, parameters, ends) as connection:
        version, host = connection.info.server_version, name or _host_of(connection)
        try:
            _take(connection, "cluster", "", version, read)
            names = [str(row[0]) for row in connection.execute("select datname from pg_database where datallowconn order by datname")]
        except (ConnectionLost, psycopg.Error) as error:
            read.broken_off(error if isinstance(error, ConnectionLost) else ConnectionLost(f"{parameters}: {' '.join(str(error).split())}"))
        if _is_here(connection):  # the server does not tell its host's name; by a socket it is this one
            rows = [{**json.loads(line), "host_name": os.uname().nodename} for line in read.listings.get("server", b"").splitlines()]
            read.listings["server"] = b"".join(json.dumps(row).encode() + b"\n" for row in rows)
    for database in names:
        try:
            with _connected({**stated, "dbname": database}, password, parameters, ends) as connection:
                _take(connection, "database", database, version, read)
        except (ReadError, ConnectionLost) as error:
            read.gaps.append(MissingItem(path=f"database {database}", reason=str(error)))
    return sealed(host, "postgresql", read.listings, "catalogue query", read.gaps)


def _stated(parameters: str) -> dict[str, str]:
    try:
        stated = {key: str(value) for key, value in conninfo.conninfo_to_dict(parameters).items() if value is not None}
    except psycopg.Error as error:
        text = str(error).strip()
        raise RequestError(
            f"cannot understand the connection parameters: {text}", hint="Such as postgresql://auditor@db.example/postgres."
        ) from error
    if "password" in stated:
        raise RequestError(
            "a password on the command line can be read by every user of this machine",
            hint="Put it into ~/.pgpass or a service file, or use --ask-password.",
        )
    return stated


@contextmanager
def _connected(stated: Mapping[str, str], password: str | None, shown: str, ends: float) -> Iterator[_Connection]:
    """Yield a connection that is cut when the time is over: a server that stays silent would be waited for without end."""
    left = ends - time.monotonic()
    if left <= 0:
        raise ReadError("there was no time left to read it")
    opened: list[_Connection] = []
    with cut_at(left, lambda: opened[0].fileno()):  # noqa: PLW0108 there is one only later
        connection = _connect(stated, password, shown, left, opened)
        try:
            yield connection
        finally:
            with suppress(psycopg.Error):
                connection.close()


def _tls(options: Mapping[str, str]) -> dict[str, str]:
    """Return what makes libpq verify the server's certificate, unless the parameters, their service or the environment say otherwise.

    However the host is named: over a socket of this machine libpq passes over it.
    """
    known = {**_service(options.get("service") or os.environ.get("PGSERVICE", "")), **options}
    if "sslmode" in known or "PGSSLMODE" in os.environ:
        return {}
    root = {} if "sslrootcert" in known or "PGSSLROOTCERT" in os.environ or psycopg.pq.version() < 160000 else {"sslrootcert": "system"}
    return {"sslmode": "verify-full", **root}


def _service(name: str) -> Mapping[str, str]:
    """Return the parameters of a service (The Connection Service File, in the manual of libpq); none where it is not found."""
    if not name:
        return {}
    folder = os.environ.get("PGSYSCONFDIR")
    files = [os.environ.get("PGSERVICEFILE") or Path.home() / ".pg_service.conf", *([Path(folder) / "pg_service.conf"] if folder else [])]
    parser = ConfigParser(interpolation=None, strict=False, delimiters=("=",))
    for file in files:
        with suppress(ConfigError, OSError, UnicodeError):
            parser.read(file, encoding="utf-8")
            if parser.has_section(name):
                return dict(parser[name])
    return {}


def _connect(stated: Mapping[str, str], password: str | None, shown: str, left: float, opened: list[_Connection]) -> _Connection:
    options = {**stated, **_tls(stated)}
    options.setdefault("connect_timeout", str(_CONNECT_SECONDS))
    options.setdefault("dbname", "postgres")
    options["application_name"] = "fidelitas"
    if password is not None:
        options["password"] = password
    try:
        connection = psycopg.connect(**options, autocommit=True)  # type: ignore[arg-type]
        opened.append(connection)
        connection.execute("set default_transaction_read_only = on")
        connection.execute("set search_path = pg_catalog")
        connection.execute(sql.SQL("set statement_timeout = {}").format(sql.Literal(min(_QUERY_MILLISECONDS, int(left * 1000) + 1))))
    except psycopg.Error as error:
        text = " ".join(str(error).split())
        raise ReadError(f'could not read database server "{shown}": {text}', hint="See docs/databases.md for what it takes.") from error
    return connection


def _is_here(connection: _Connection) -> bool:
    host = connection.info.host
    return not host or host.startswith("/") or host in ("localhost", "127.0.0.1", "::1")


def _host_of(connection: _Connection) -> str:
    info = connection.info
    host = info.host if info.host and not info.host.startswith("/") else "localhost"
    return f"{host}:{info.port}"


def _take(connection: _Connection, scope: str, database: str, version: int, read: Answers) -> None:
    for name, query in queries("postgresql").items():
        if query["scope"] != scope or version < int(str(query.get("since", 0))):
            continue
        listing = name if scope == "cluster" else f"{name} {database}"
        try:
            read.listings[listing] = _rows(connection, str(query["query"]), listing, read)
        except psycopg.Error as error:
            reason = " ".join(str(error).split())
            read.gaps.append(MissingItem(path=f"listing {listing}", reason=f"{reason}; not known: {query['weakens']}"))
            if connection.closed:
                raise ConnectionLost(f"the server went away while {listing} was read") from error


def _rows(connection: _Connection, query: str, listing: str, read: Answers) -> bytes:
    """Return the rows of a query as JSON lines; they are streamed, and cut at a limit."""
    read_rows = io.BytesIO()
    with connection.transaction(), connection.cursor("fidelitas") as cursor:
        cursor.itersize = 10_000
        cursor.execute(sql.SQL("select to_jsonb(q)::text from ({}) q").format(sql.SQL(query)))
        for (row,) in cursor:
            line = str(row).encode("utf-8", "surrogateescape") + b"\n"
            if read_rows.tell() + len(line) > _LARGEST_LISTING:
                read.gaps.append(MissingItem(path=f"listing {listing}", reason=f"is larger than {_LARGEST_LISTING} bytes"))
                break
            read_rows.write(line)
    return read_rows.getvalue()


# -- without a connection from here ------------------------------------------------------------------------------------------------


def dump_script() -> str:
    """Return a script for psql(1) that prints the same rows; run once for the server, it asks every database in turn."""
    parts = [
        "-- The Fidelitas probe of a PostgreSQL server: prints rows of the catalogue, and changes nothing.",
        "--   psql -X -q -A -t -v ON_ERROR_STOP=0 -f probe.sql DATABASE > server.txt      once for each database; join the files",
        "set default_transaction_read_only = on; set search_path = pg_catalog;",
        f"\\echo {_HEAD.decode()}",
    ]
    for name, query in queries("postgresql").items():
        shown = name if query["scope"] == "cluster" else f"{name} ':DBNAME'"
        ask = f"\\echo '#listing {shown}'\nselect to_jsonb(q)::text from ({query['query']}) q;"
        since = query.get("since")
        known = f"select current_setting('server_version_num')::int >= {since} as known \\gset"
        parts.append(f"{known}\n\\if :known\n{ask}\n\\endif" if since else ask)
    return "\n".join(parts) + "\n"


def is_postgresql_dump(content: bytes) -> bool:
    """Return whether a file is what the script printed."""
    return content.startswith(_HEAD)


def from_postgresql_dump(content: bytes, name: str) -> Collected:
    """Return the evidence that the script printed, of one run or of several joined; what a query could not tell is a gap."""
    rows: dict[str, dict[bytes, None]] = {}
    listing = ""
    for line in content.splitlines():
        if line.startswith(b"#listing "):
            listing = line[9:].decode("utf-8", "surrogateescape").strip()
            rows.setdefault(listing, {})
        elif line.startswith(b"{") and listing:
            rows[listing][line] = None  # runs that are joined tell of the server each
    read = Answers({name: b"".join(line + b"\n" for line in lines) for name, lines in rows.items()})
    for query, stated in queries("postgresql").items():
        if query in _NEVER_EMPTY and not read.listings.get(query):
            read.gaps.append(MissingItem(path=f"listing {query}", reason=f"the dump has nothing of it; not known: {stated['weakens']}"))
    if not rows:
        raise ReadError("the dump of the server is empty", hint="Run the script again: fidelitas probe --postgresql.")
    return sealed(name, "postgresql", read.listings, "catalogue query", read.gaps)
