"""A MariaDB or MySQL server by a script for its own client: the same rows as over a connection, carried here in a file.

What the client prints in batch mode is read back: fields apart by tabs, the names of columns first.  Passwords are reduced to their kind by
the server, before anything is printed.
"""

import json
import re
from collections.abc import Iterator, Mapping

from fidelitas.errors import ReadError
from fidelitas.evidence import MissingItem
from fidelitas.sources.collected import Answers, Collected, queries, sealed
from fidelitas.sources.mariadb import WITHOUT_PASSWORD, with_edges

__all__ = ["dump_script", "from_mariadb_dump", "is_mariadb_dump"]

_HEAD = b"fidelitas-mariadb 1"
_LISTING = "#listing "
_ESCAPES = {"n": "\n", "t": "\t", "0": "\0", "\\": "\\"}
# Without one of these there is nothing to say of accounts or roles.
_EITHER = (("global_priv", "user"), ("roles_mapping", "role_edges"))
_SOCKETS = ", ".join(f"'{plugin}'" for plugin in sorted(WITHOUT_PASSWORD))
_KIND = (
    f"case when plugin in ({_SOCKETS}) then 'none' when authentication_string = '' then 'empty' "
    "when plugin = 'mysql_old_password' or length(authentication_string) = 16 then 'outdated' "
    "when plugin in ('mysql_native_password', '') "
    "then if(authentication_string like '*%' and length(authentication_string) = 41, 'current', 'none') "
    "when plugin = 'mysql_clear_password' then 'plain' else 'current' end"
)
# How a password is kept, put in the place of what is kept; the order decides.
_KINDS_IN_JSON = (
    ('""', "empty"),
    (r'"invalid"', "none"),
    (r'"[*][0-9A-Fa-f]{40}"', "current"),
    (r'"[^"]{16}"', "outdated"),
    (r'"([^"\\\\\\\\]|\\\\\\\\.)*"', "current"),
)


def dump_script() -> str:
    """Return a script for mariadb(1) or mysql(1) that prints the rows; ``--force`` passes over a query that a server does not know."""
    parts = [
        "-- The Fidelitas probe of a MariaDB or MySQL server: prints rows of the grant tables, and changes nothing.",
        "--   mariadb --batch --force < probe.sql > server.txt",
        "set session transaction read only;",
        "set session group_concat_max_len = 1000000;",
        f"select '{_HEAD.decode()}' as `#`;",
    ]
    for name, stated in queries("mariadb").items():
        parts.append(f"select '{_LISTING}{name}' as `#`;\n{_asked(name, str(stated['query']))}")
    return "\n".join(parts) + "\n"


def _asked(name: str, query: str) -> str:
    if name == "global_priv":
        expression = "Priv"
        for pattern, kind in _KINDS_IN_JSON:
            expression = f"""regexp_replace({expression}, '"authentication_string" *: *{pattern}', '"password": "{kind}"')"""
        return f"select Host, User, {expression} as Priv from mysql.global_priv order by User, Host;"  # noqa: S608 our own text
    if name != "user":
        return f"{query};"
    # Of the columns, which differ between versions, those that hold passwords are told apart and the others taken as they are.
    known = f"case column_name when 'authentication_string' then \"{_KIND} as password\" else concat('`', column_name, '`') end"
    statement = f"concat('select ', group_concat({known} order by ordinal_position), ' from mysql.user order by User, Host')"  # noqa: S608
    where = "table_schema = 'mysql' and table_name = 'user' and column_name not in ('Password', 'User_attributes')"
    made = f"set @asked = (select {statement} from information_schema.columns where {where});"  # noqa: S608 our own text
    return f"{made}\nprepare asked from @asked;\nexecute asked;\ndeallocate prepare asked;"


def is_mariadb_dump(content: bytes) -> bool:
    """Return whether a file is what the script printed."""
    return content.startswith((b"#\n" + _HEAD, b"#\r\n" + _HEAD))


def from_mariadb_dump(content: bytes, name: str) -> Collected:
    """Return the evidence that the script printed; what a query could not tell is a gap."""
    read = Answers()
    for listing, rows in _listings(content.decode("utf-8", "surrogateescape")):
        if rows:
            read.listings[listing] = b"".join(json.dumps(_without_sockets(listing, row)).encode() + b"\n" for row in rows)
    if not read.listings:
        raise ReadError("the dump of the server is empty", hint="Run the script again: fidelitas probe --mariadb.")
    for one, other in _EITHER:
        if one not in read.listings and other not in read.listings:
            read.gaps.append(MissingItem(path=f"listing {one}", reason="the dump has nothing of it; not known: accounts or roles"))
    for listing in ("server", "user_privileges"):
        if listing not in read.listings:
            reason = f"the dump has nothing of it; not known: {queries('mariadb')[listing]['weakens']}"
            read.gaps.append(MissingItem(path=f"listing {listing}", reason=reason))
    return sealed(name, "mariadb", with_edges(read.listings), "grant table", read.gaps)


def _listings(text: str) -> Iterator[tuple[str, list[dict[str, str | int | None]]]]:
    """Yield each listing with its rows; the first line of a result is the names of its columns."""
    listing, lines = "", list[str]()
    for line in [*text.replace("\r\n", "\n").split("\n"), f"{_LISTING}end"]:
        if line.startswith(_LISTING):
            if listing:
                yield listing, _rows(lines[:-1] if lines and lines[-1] == "#" else lines)
            listing, lines = line.removeprefix(_LISTING), []
        else:
            lines.append(line)


def _rows(lines: list[str]) -> list[dict[str, str | int | None]]:
    told = [line for line in lines if line]
    names = told[0].split("\t") if told else []
    return [dict(zip(names, map(_field, line.split("\t")), strict=False)) for line in told[1:]]


def _field(text: str) -> str | int | None:
    return None if text == "NULL" else re.sub(r"\\(.)", lambda found: _ESCAPES.get(found[1], found[1]), text)


def _without_sockets(listing: str, row: Mapping[str, str | int | None]) -> dict[str, str | int | None]:
    """Return a row in which a way to log in that takes no password has none, as its kind cannot be told from its text."""
    if listing == "server":
        return {**row, "skip_name_resolve": int(str(row.get("skip_name_resolve") or 0))}
    if listing != "global_priv":
        return dict(row)
    try:
        stated = json.loads(str(row.get("Priv")))
    except ValueError:
        return dict(row)
    parts = (stated, *(stated.get("auth_or") or ())) if isinstance(stated, dict) else ()
    for part in (one for one in parts if isinstance(one, dict)):
        if part.get("plugin") in WITHOUT_PASSWORD:
            part["password"] = "none"  # noqa: S105
    return {**row, "Priv": json.dumps(stated)}
