"""A MariaDB or MySQL server, read over its own protocol: rows of the grant tables, with passwords reduced to their kind.

The account is named as a URI without a password; that comes from an option file, the environment or a prompt.  TLS is verified unless the
server is on this machine or the URI says otherwise.  Everything is read in a read-only transaction, with limits of time.
"""

import json
import os
import ssl
import struct
from collections.abc import Iterator, Mapping
from configparser import ConfigParser, Error
from contextlib import suppress
from datetime import date, datetime
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

import pymysql
from pymysql.cursors import SSDictCursor

from fidelitas.errors import ReadError, RequestError
from fidelitas.evidence import MissingItem
from fidelitas.sources.bounded import cut_at
from fidelitas.sources.collected import DEADLINE, Answers, Collected, ConnectionLost, queries, sealed

__all__ = ["WITHOUT_PASSWORD", "from_mariadb", "kind_of_password", "with_edges"]

_SECONDS = 15
_QUERY_SECONDS = 120
_MOST_ROWS = 500_000
_LARGEST_LISTING = 64 << 20
# Ways to log in by which a server reads the password itself, or can: not over a connection that is neither encrypted nor local.
_READABLE = ("mysql_clear_password", "dialog", "sha256_password", "caching_sha2_password")
_MISSING = frozenset({1146, 1109})  # no such table
# Ways to log in that take no password of the server's.
WITHOUT_PASSWORD = frozenset({"unix_socket", "auth_socket", "gssapi", "pam", "auth_pam"})
# Each tells what the other does, on a server of the other make.
_INSTEAD = {"global_priv": "user", "user": "global_priv", "roles_mapping": "role_edges", "role_edges": "roles_mapping"}


class _Refusal:
    """Refuses a way to log in."""

    def __init__(self, connection: object) -> None:
        """Take what the driver gives."""

    def authenticate(self, packet: object) -> object:
        """Raise: the password is not sent."""
        raise pymysql.err.OperationalError(
            2061, "the server asks for the password in a form that could be read on the network; use TLS, or the server's socket"
        )


def kind_of_password(plugin: str, text: str) -> str:
    """Return what kind of password an authentication string is: empty, none, plain, outdated or current."""
    if plugin in WITHOUT_PASSWORD:
        return "none"
    if not text:
        return "empty"
    if plugin == "mysql_old_password" or len(text) == 16:
        return "outdated"
    if plugin in ("mysql_native_password", ""):
        return "current" if text.startswith("*") and len(text) == 41 else "none"  # "invalid" and its like let nobody in
    return "plain" if plugin == "mysql_clear_password" else "current"


def from_mariadb(uri: str, name: str | None = None, password: str | None = None, deadline: float = DEADLINE) -> Collected:
    """Return the evidence of the server at ``mariadb://user@host:port``, or ``mariadb://user@/?socket=PATH``.

    Raises `RequestError` for a URI that cannot be meant, `ReadError` where the server cannot be reached.  What the account may not see is a
    gap; so is what was not read `deadline` seconds later.
    """
    options = _options(uri)
    given = password if password is not None else _password()
    connection = pymysql.connect(
        **options,
        password=given,
        autocommit=True,
        charset="utf8mb4",
        cursorclass=SSDictCursor,
        local_infile=False,
        auth_plugin_map={} if "ssl" in options or "unix_socket" in options else dict.fromkeys(_READABLE, _Refusal),
        defer_connect=True,
    )
    read = Answers()
    with cut_at(deadline, lambda: connection._sock.fileno()):  # type: ignore[attr-defined]  # noqa: PLW0108, SLF001 there is no other way to it
        try:
            connection.connect()
        except (pymysql.Error, OSError, ValueError, RuntimeError, IndexError, struct.error) as error:
            text = " ".join(str(part) for part in error.args)
            raise ReadError(f'could not read database server "{uri}": {text}', hint="See docs/databases.md for what it takes.") from error
        try:
            for listing, stated in queries("mariadb").items():
                _take(connection, listing, stated["query"], stated.get("weakens", ""), read)
        except ConnectionLost as gone:
            read.broken_off(gone)
        finally:
            if connection.open:
                with suppress(pymysql.Error, OSError):
                    connection.close()
    for listing, other in _INSTEAD.items():
        if listing in read.listings or other in read.listings or listing == "role_edges":
            continue
        lost = "roles" if "role" in listing else "accounts"
        read.gaps.append(MissingItem(path=f"listing {listing}", reason=f"could not be read; not known: {lost}"))
    return sealed(
        name or f"{options.get('host') or 'localhost'}:{options.get('port', 3306)}",
        "mariadb",
        with_edges(read.listings),
        "grant table",
        read.gaps,
    )


def _options(uri: str) -> dict[str, Any]:
    parts = urlsplit(uri)
    if parts.scheme not in ("mariadb", "mysql"):
        hint = "Such as mariadb://auditor@db.example, or mariadb://root@/?socket=/run/mysqld/mysqld.sock."
        raise RequestError(f'"{uri}" names no database server', hint=hint)
    if parts.password is not None:
        raise RequestError(
            "a password on the command line can be read by every user of this machine",
            hint="Put it into the [client] part of ~/.my.cnf, or use --ask-password.",
        )
    asked = parse_qs(parts.query)
    seconds = _seconds(asked.get("timeout", [""])[0])
    options: dict[str, Any] = {"user": unquote(parts.username or "root"), "connect_timeout": seconds or _SECONDS}
    options["read_timeout"] = seconds or _QUERY_SECONDS
    if "socket" in asked:
        return {**options, "unix_socket": asked["socket"][0]}
    try:
        options |= {"host": parts.hostname or "localhost", "port": parts.port or 3306}
    except ValueError as error:
        raise RequestError(f'"{uri}" has no usable port: {error}') from error
    if asked.get("tls", [""])[0] != "off" and options["host"] not in ("localhost", "127.0.0.1", "::1"):
        options["ssl"] = ssl.create_default_context(cafile=asked["ca"][0] if "ca" in asked else None)
    return options


def _seconds(text: str) -> int:
    """Return the limit of time that a URI states, zero where it states none."""
    if text and not (text.isdecimal() and 0 < int(text[:6]) <= 3600):
        raise RequestError(f'"{text}" is not a time limit', hint="A number of seconds, from 1 to 3600.")
    return int(text or 0)


def _password() -> str:
    """Return the password of an option file or of the environment."""
    for path in (Path.home() / ".my.cnf", Path("/etc/mysql/my.cnf")):
        parser = ConfigParser(allow_no_value=True, strict=False, interpolation=None)
        try:
            parser.read(path, encoding="utf-8")
        except (Error, OSError, UnicodeError):  # a file that is not for us: the server will ask
            continue
        found = parser.get("client", "password", fallback=None)
        if found:
            return found.strip("\"'")
    return os.environ.get("MYSQL_PWD", "")


def _take(connection: "pymysql.Connection[SSDictCursor]", listing: str, query: str, weakens: str, read: Answers) -> None:
    try:
        with connection.cursor() as cursor:
            cursor.execute(query)
            read.listings[listing] = b"".join(_lines(cursor, listing, read))
    except (RuntimeError, IndexError, ValueError, TypeError, AttributeError, struct.error) as error:
        # What is no answer to a query: a request for a file of ours, packets of a wrong shape.
        connection._force_close()  # type: ignore[attr-defined]  # noqa: SLF001 a polite end would wait for more of them
        raise ConnectionLost(f"the server answered {listing} with something else than rows ({error}), and was left") from error
    except pymysql.Error as error:
        if error.args and error.args[0] in _MISSING:
            return
        if weakens:
            reason = " ".join(str(part) for part in error.args)
            read.gaps.append(MissingItem(path=f"listing {listing}", reason=f"{reason}; not known: {weakens}"))
        if not connection.open:
            raise ConnectionLost(f"the server went away while {listing} was read") from error


def _lines(cursor: SSDictCursor, listing: str, read: Answers) -> Iterator[bytes]:
    size = 0
    for number, row in enumerate(cursor.fetchall_unbuffered()):
        if number >= _MOST_ROWS:
            read.gaps.append(MissingItem(path=f"listing {listing}", reason=f"has more than {_MOST_ROWS} rows"))
            return
        try:
            line = json.dumps(_reduced(listing, dict(row)), default=_plain).encode() + b"\n"
        except (KeyError, TypeError, ValueError, AttributeError, RecursionError):
            read.gaps.append(MissingItem(path=f"listing {listing}", reason="a row is not as expected; not known: what it states"))
            continue
        size += len(line)
        if size > _LARGEST_LISTING:
            read.gaps.append(MissingItem(path=f"listing {listing}", reason=f"is larger than {_LARGEST_LISTING} bytes"))
            return
        yield line


def _plain(value: object) -> object:
    if isinstance(value, (bytes, bytearray)):
        return bytes(value).decode("utf-8", "surrogateescape")
    return value.isoformat() if isinstance(value, (date, datetime)) else str(value)


def _reduced(listing: str, row: dict[str, Any]) -> dict[str, Any]:
    """Return a row without password hashes: each is replaced by its kind."""
    if listing == "global_priv":
        stated = json.loads(row["Priv"])
        for part in (stated, *stated.get("auth_or", ())):
            if "plugin" in part or "authentication_string" in part:
                part["password"] = kind_of_password(str(part.get("plugin", "")), str(part.pop("authentication_string", "")))
        stated.pop("password_history", None)
        return {**row, "Priv": json.dumps(stated)}
    if listing == "user":
        text = row.pop("authentication_string", None) or row.pop("Password", None) or ""
        row.pop("Password", None)
        text = bytes(text).decode("latin-1") if isinstance(text, (bytes, bytearray)) else str(text)
        return {
            **{name: value for name, value in row.items() if name != "User_attributes"},
            "password": kind_of_password(str(row.get("plugin") or ""), text),
        }
    return row


def with_edges(listings: Mapping[str, bytes]) -> dict[str, bytes]:
    """Return the listings with MySQL's table of role grants, where it is there, in the form of MariaDB's."""
    found = dict(listings)
    if "role_edges" in found and "roles_mapping" not in found:
        found["roles_mapping"] = _edges(found.pop("role_edges"))
    return found


_EDGE = frozenset({"TO_USER", "TO_HOST", "FROM_USER", "FROM_HOST", "WITH_ADMIN_OPTION"})


def _edges(rows: bytes) -> bytes:
    """Return MySQL's table of role grants in the form of MariaDB's: a role is an account there, with a host of its own."""
    stated = [json.loads(line) for line in rows.splitlines()]
    found: list[Mapping[str, Any]] = [row for row in stated if isinstance(row, dict) and row.keys() >= _EDGE]
    return b"".join(
        json.dumps(
            {
                "User": row["TO_USER"],
                "Host": row["TO_HOST"],
                "Role": f"{row['FROM_USER']}@{row['FROM_HOST']}",
                "Admin_option": row["WITH_ADMIN_OPTION"],
            }
        ).encode()
        + b"\n"
        for row in found
    )
