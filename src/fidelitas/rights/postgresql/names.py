"""Names of objects as a person writes them, in the server's own quoting (PostgreSQL manual, 4.1.1 Identifiers and Key Words).

`schema.table`, `"a.b"."c/d"`, `app.f(integer)`, `app.f` where there is one of that name; before it the kind, where a name can mean several:
`language plpgsql`, `type app.mood`.  Unlike the server an unquoted name is taken as it is written: who copies it copies its letters.
"""

import re
from collections.abc import Iterator

from fidelitas.facts import DatabaseFacts, DatabaseObject, Rows
from fidelitas.rights.postgresql.privileges import Key

__all__ = ["objects_named", "parts_of", "quoted", "shown_name", "split_path"]

_KINDS = (
    "table", "sequence", "schema", "function", "type", "domain", "language", "foreign-data wrapper", "foreign server", "large object",
    "tablespace", "parameter", "database",
)  # fmt: skip
_PART = re.compile(r'\s*(?:"((?:[^"]|"")*)"|([^".(]+))\s*(\.|\Z|(?=\())')
_PLAIN = re.compile(r"[^\s\"./()]+")


def parts_of(text: str) -> tuple[list[str], str] | None:
    """Return the identifiers of a name and the arguments behind them, "" without any; ``None`` where it is no name."""
    parts: list[str] = []
    at = 0
    while at < len(text):
        found = _PART.match(text, at)
        if found is None:
            return None
        parts.append(found[1].replace('""', '"') if found[1] is not None else found[2].strip())
        at = found.end()
        if found[3] != ".":
            break
    return (parts, text[at:].strip()) if parts and (at == len(text) or text[at] == "(") else None


def split_path(path: str) -> tuple[str, str]:
    """Return the database and the object of ``DATABASE/OBJECT``; a database whose name holds a slash is quoted."""
    found = re.match(r'"((?:[^"]|"")+)"(?:/|\Z)', path)
    if found:
        return found[1].replace('""', '"'), path[found.end() :]
    database, _, name = path.partition("/")
    return database, name


def shown_name(key: Key) -> str:
    """Return an object as it is shown and can be asked for: database/schema.name, quoted where it must be."""
    database, kind, schema, name = key
    if kind == "database":
        return quoted(name) if "/" in name else name
    prefix = f"{quoted(database) if '/' in database else database}/" if database else ""
    if kind == "function":
        return prefix + name
    return prefix + (f"{quoted(schema)}.{quoted(name)}" if schema else quoted(name))


def quoted(name: str) -> str:
    """Return an identifier, in quotation marks where it must be."""
    return name if _PLAIN.fullmatch(name) else '"' + name.replace('"', '""') + '"'


def objects_named(facts: DatabaseFacts, database: str, name: str) -> list[Key]:
    """Return the objects that a name can mean in a database; without a name the database itself, or what is the whole server's."""
    kind, rest = _kind_of(name or database)
    if not name:
        keys = [("", "database", "", database)] if database in facts.databases else []
        return keys or sorted(key for key in _of_server(facts) if key[3] == rest and kind in ("", key[1]))
    if database not in facts.databases:
        return []
    found = {key for key in _of_database(facts, database, rest) if kind in ("", key[1]) and _is_named(key, rest)}
    if not found and not kind:
        found = {key for key in _of_database(facts, database, name) if _is_named(key, name)}
    return sorted(found) or sorted(key for key in _of_server(facts) if key[3] == rest and kind in ("", key[1]))


def _kind_of(text: str) -> tuple[str, str]:
    """Return the kind that stands before a name, "" where none does, and the name."""
    for kind in _KINDS:
        if text.lower().startswith(f"{kind} "):
            return kind, text[len(kind) :].strip()
    return "", text


def _of_database(facts: DatabaseFacts, database: str, text: str) -> Iterator[Key]:
    """Yield the objects of a database that a text may name, and perhaps others."""
    for one in _candidates(facts.objects, text):
        if one.database == database:
            yield one.database, one.object_kind, one.schema, one.name


def _candidates(objects: Rows[DatabaseObject], text: str) -> Iterator[DatabaseObject]:
    stated = parts_of(text)
    behind_dots = (text[found.end() :] for found in re.finditer(r"\.", text))
    for name in dict.fromkeys((text, *behind_dots, *(stated[0][-1:] if stated else ()))):
        yield from objects.named(name)
    if stated:  # a function's name is kept as the server writes it, with its arguments
        function = stated[0][-1].replace('"', '""')
        yield from objects.containing(f"{function}(")
        yield from objects.containing(f'{function}"(')


def _of_server(facts: DatabaseFacts) -> Iterator[Key]:
    yield from (("", one.object_kind, "", one.name) for one in facts.server_objects if one.object_kind == "tablespace")
    yield from {("", "parameter", "", one.name) for one in facts.server_grants if one.object_kind == "parameter"}


def _is_named(key: Key, text: str) -> bool:
    kind, schema, name = key[1:]
    if kind == "function":
        return _is_function(schema, name, text)
    if text in (name, f"{schema}.{name}"):
        return True
    stated = parts_of(text)
    if stated is None or stated[1]:
        return False
    return stated[0] == [name] or (bool(schema) and stated[0] == [schema, name])


def _is_function(schema: str, name: str, text: str) -> bool:
    """Return whether a function, written with its arguments as the server writes it, is meant; also without schema or arguments."""
    known, stated = parts_of(name), parts_of(text)
    if text == name or known is None or stated is None:
        return text == name
    (names, arguments), (wanted, given) = known, stated
    full = names if len(names) > 1 else [schema, *names]
    return wanted in (full, full[1:]) and (not given or _plain(given) == _plain(arguments))


def _plain(arguments: str) -> str:
    return re.sub(r"\s+", "", arguments)
