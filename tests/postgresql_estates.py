"""Random estates on a PostgreSQL server: roles, memberships of any shape, objects of every kind and grants on them, with odd names.

An estate is the statements that make it, and the questions about it: an object as the program is asked for it, the privileges on it, and how
the server itself is asked.
"""

import random

from msgspec import Struct, field

TABLE = ("SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER")
COLUMN = ("SELECT", "INSERT", "UPDATE", "REFERENCES")
_NAMES = ("Ann", "bob", "c'est", 'd.d "q"', "eve/l", "fáy", "gus %", "Hal")
_PREDEFINED = ("pg_read_all_data", "pg_write_all_data", "pg_execute_server_program", "pg_monitor", "pg_signal_backend")


def quoted(name: str) -> str:
    """Return an identifier in the server's quoting."""
    return '"' + name.replace('"', '""') + '"'


def text(value: str) -> str:
    """Return a text in the server's quoting."""
    return "'" + value.replace("'", "''") + "'"


class Question(Struct, frozen=True):
    """An object: how the program is asked, which privileges there are, the server's function that says who has one, and its schema."""

    path: str
    privileges: tuple[str, ...]
    asked: str  # an expression of the role (%s) and the privilege (%s), in that order
    schema: str = ""
    column: str = ""


class Estate(Struct):
    """What is made, and asked."""

    roles: list[str]
    cluster: list[str] = field(default_factory=list)
    inside: list[str] = field(default_factory=list)
    questions: list[Question] = field(default_factory=list)


def estate(chance: random.Random, prefix: str, database: str, version: int) -> Estate:
    """Return an estate of a prefix, whose objects are in a database."""
    made = Estate([f"{prefix} {name}" for name in _NAMES])
    _roles(made, chance, version)
    schema = f"{prefix} s.x"
    _objects(made, chance, prefix, schema, database)
    _grants(made, chance, prefix, schema, version)
    return made


def _roles(made: Estate, chance: random.Random, version: int) -> None:
    for role in made.roles:
        words = [word if chance.random() < 0.5 else f"NO{word}" for word in ("LOGIN", "INHERIT", "CREATEROLE", "BYPASSRLS")]
        words += ["SUPERUSER"] if chance.random() < 0.1 else []
        made.cluster.append(f"create role {quoted(role)} {' '.join(words)}")
    for number, member in enumerate(made.roles):
        groups = [quoted(other) for other in made.roles[:number] if chance.random() < 0.3]
        groups += [name for name in _PREDEFINED if chance.random() < 0.05]
        if version >= 17 and chance.random() < 0.1:
            groups.append("pg_maintain")
        for group in groups:
            options = [f"{word} {chance.choice(('true', 'false'))}" for word in ("inherit", "set", "admin") if chance.random() < 0.5]
            if version < 16:
                options = ["admin option"] if chance.random() < 0.3 else []
            made.cluster.append(f"grant {group} to {quoted(member)}{' with ' + ', '.join(options) if options else ''}")


def _objects(made: Estate, chance: random.Random, prefix: str, schema: str, database: str) -> None:
    s = quoted(schema)
    where = quoted(database) if "/" in database else database

    def ask(name: str, privileges: tuple[str, ...], asked: str, **more: str) -> None:
        made.questions.append(Question(f"{where}/{name}", privileges, asked, **more))

    made.inside.append(f"create schema {s}")
    ask(s, ("USAGE", "CREATE"), f"has_schema_privilege(%s, {text(schema)}, %s)")
    made.inside += [f"create table {s}.{quoted('t/1')} (a int, {quoted('b c')} int)", f"create view {s}.v as select 1 as a"]
    for name in ("t/1", "v"):
        table = f"{s}.{quoted(name)}"
        ask(table, TABLE, f"has_table_privilege(%s, {text(table)}, %s)", schema=schema)
    for column in ("a", "b c"):
        table = f"{s}.{quoted('t/1')}"
        ask(table, COLUMN, f"has_column_privilege(%s, {text(table)}, {text(column)}, %s)", schema=schema, column=column)
    made.inside += [f"create sequence {s}.q", f"create function {s}.f(int, text) returns int language sql as 'select 1'"]
    ask(f"{s}.q", ("USAGE", "SELECT", "UPDATE"), f"has_sequence_privilege(%s, {text(f'{s}.q')}, %s)", schema=schema)
    ask(f"{s}.f(integer, text)", ("EXECUTE",), f"has_function_privilege(%s, {text(f'{s}.f(int, text)')}, %s)", schema=schema)
    made.inside += [f"create type {s}.mood as enum ('low', 'high')", f"create domain {s}.depth as int"]
    for name in ("mood", "depth"):
        ask(f"{s}.{name}", ("USAGE",), f"has_type_privilege(%s, {text(f'{s}.{name}')}, %s)", schema=schema)
    wrapper, server = f"{prefix} w", f"{prefix} srv"
    made.inside += [
        f"create foreign data wrapper {quoted(wrapper)}",
        f"create server {quoted(server)} foreign data wrapper {quoted(wrapper)}",
    ]
    ask(f"foreign-data wrapper {quoted(wrapper)}", ("USAGE",), f"has_foreign_data_wrapper_privilege(%s, {text(wrapper)}, %s)")
    ask(f"foreign server {quoted(server)}", ("USAGE",), f"has_server_privilege(%s, {text(server)}, %s)")
    owners = [f"table {s}.{quoted('t/1')}", f"view {s}.v", f"sequence {s}.q", f"function {s}.f(int, text)", f"type {s}.mood",
              f"domain {s}.depth", f"schema {s}", f"server {quoted(server)}"]  # fmt: skip
    for what in owners:
        owner = "pg_database_owner" if what.startswith("schema") and chance.random() < 0.2 else quoted(chance.choice(made.roles))
        made.inside.append(f"alter {what} owner to {owner}")


def _grants(made: Estate, chance: random.Random, prefix: str, schema: str, version: int) -> None:
    s, grantees = quoted(schema), [*map(quoted, made.roles), "public", "pg_database_owner"]
    tables = (*TABLE, "MAINTAIN") if version >= 17 else TABLE

    def target() -> str:
        kind = chance.randrange(9)
        if kind < 3:
            return f"{chance.choice(tables)} on {s}.{chance.choice((quoted('t/1'), 'v'))}"
        if kind == 3:
            return f"{chance.choice(COLUMN)} ({chance.choice(('a', quoted('b c')))}) on {s}.{quoted('t/1')}"
        return [
            f"{chance.choice(('usage', 'create'))} on schema {s}",
            f"{chance.choice(('usage', 'select', 'update'))} on sequence {s}.q",
            f"execute on function {s}.f(int, text)",
            f"usage on type {s}.mood",
            f"usage on foreign server {quoted(f'{prefix} srv')}",
        ][kind - 4]

    for _ in range(chance.randrange(4, 18)):
        who = chance.choice(grantees)
        option = " with grant option" if chance.random() < 0.3 and who != "public" else ""
        made.inside.append(f"grant {target()} to {who}{option}")
    for _ in range(chance.randrange(6)):
        made.inside.append(f"revoke {target()} from {chance.choice(grantees)} cascade")
    for what in (f"table {s}.{quoted('t/1')}", f"function {s}.f(int, text)", f"domain {s}.depth", f"sequence {s}.q"):
        if chance.random() < 0.2:  # nothing is left in its list
            made.inside.append(f"revoke all on {what} from public" + "".join(f", {quoted(role)}" for role in made.roles) + " cascade")
