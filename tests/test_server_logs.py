"""Logs of database servers and directories as use of privilege: what a real server logs in each of its forms, and hostile lines."""

import contextlib
import json
from collections.abc import Callable
from pathlib import Path

import psycopg
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.facts import EventKind, Place
from fidelitas.languages.logs.directory_log import DirectoryLogReader
from fidelitas.languages.logs.postgresql_log import PostgresqlLogReader, is_postgresql_log
from postgresql_server import BINARIES, Server
from support import fidelitas

HERE = Place("db", "postgresql.log")
Told = tuple[EventKind, str, str, str, str]

# What is done on the server, by whom, and what is to be told of it.
DONE: list[tuple[str, str, Told | None]] = [
    ("postgres", "create role ines login password 'made-up'", (EventKind.CHANGED, "postgres", "ines", "", "account made")),
    ("postgres", 'create role "Odd, ""one"""', (EventKind.CHANGED, "postgres", 'Odd, "one"', "", "account made")),
    ("postgres", "create role keepers", (EventKind.CHANGED, "postgres", "keepers", "", "account made")),
    ("postgres", "grant keepers\n  to ines", (EventKind.CHANGED, "postgres", "ines", "keepers", "added to the group")),
    ("postgres", "create table gauges (a int)", None),
    ("postgres", "grant select on gauges to keepers", (EventKind.CHANGED, "postgres", "keepers", "", "privileges granted")),
    ("ines", "set role keepers", (EventKind.USED, "ines", "keepers", "", "")),
    ("ines", "delete from gauges", (EventKind.REFUSED, "ines", "", "", "permission denied for table gauges")),
    ("postgres", "alter role ines with password 'it''s made-up'", (EventKind.CHANGED, "postgres", "ines", "", "password changed")),
    ("postgres", "copy gauges from program 'echo 1'", (EventKind.USED, "postgres", "", "", "a program of the server's host")),
    ("postgres", "revoke keepers from ines", (EventKind.CHANGED, "postgres", "ines", "keepers", "removed from the group")),
    ("postgres", 'drop role "Odd, ""one"""', (EventKind.CHANGED, "postgres", 'Odd, "one"', "", "account removed")),
]  # fmt: skip


@pytest.fixture
def ready(need: Callable[..., None]) -> None:
    need("runuser", root=True)
    if not (BINARIES / "initdb").exists():
        pytest.skip("PostgreSQL is not installed (apt-get install postgresql-15)")


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
@pytest.mark.parametrize(("form", "suffix"), [("jsonlog", "json"), ("csvlog", "csv"), ("stderr", "log")])
def test_what_was_done_on_a_real_server_is_what_its_log_tells(form: str, suffix: str, tmp_path: Path) -> None:
    server = Server(tmp_path)
    with (tmp_path / "data" / "postgresql.conf").open("a") as settings:
        settings.write(
            f"logging_collector = on\nlog_directory = 'own'\nlog_destination = '{form}'\nlog_statement = 'all'\nlog_connections = on\nlog_timezone = 'Etc/UTC'\n"
            "log_filename = 'postgresql.log'\nlog_line_prefix = '%m [%p] %q%u@%d '\n"
        )
    with server:
        for role, statement, _ in DONE:
            # What is refused is logged, too.
            with contextlib.suppress(psycopg.errors.InsufficientPrivilege), server.connect(role=role) as connection:
                connection.execute(statement.encode())
        with pytest.raises(Exception, match="nobody"):
            server.connect(role="nobody")
    (log,) = (path for path in (tmp_path / "data" / "own").iterdir() if path.suffix == f".{suffix}")
    content = log.read_bytes()
    assert is_postgresql_log(content[:4096])
    reader = PostgresqlLogReader(HERE)
    events = [event for event in reader.events([content]) if event.reason != "database postgres" or event.kind is not EventKind.LOGIN]
    told = [(one.kind, one.account, one.target, one.group, one.reason) for one in events]
    expected = [one for _, _, one in DONE if one] + [(EventKind.LOGIN_FAILED, "", "nobody", "", "no such role")]
    assert told == expected
    assert not reader.gaps
    assert all(event.at is not None for event in events)
    assert not any("made-up" in event.command for event in events)
    ran = fidelitas("usage", "--log", str(log), "--name", "tides-db", "--events", cwd=tmp_path)
    assert ran.status == 0, ran.err
    assert "postgresql as keepers" in ran.out or "keepers" in ran.out
    assert "made-up" not in ran.out


@given(
    st.lists(
        st.sampled_from(
            [
                "2026-11-20 05:00:00.1 UTC [7] a@b LOG:  statement: grant x to y",
                '2026-11-20 05:00:00 UTC,"a","b",7,',
                '"',
                "\t",
                '{"error_severity": 1',
                "{}",
                "x",
            ]
        ),
        max_size=12,
    )
)
def test_any_lines_are_survived_as_a_database_log(lines: list[str]) -> None:
    list(PostgresqlLogReader(HERE).events(["\n".join(lines).encode()]))


def directory(kind: str, **told: object) -> str:
    return (
        "  JSON: "
        + json.dumps(
            {"timestamp": "2026-11-23T06:28:56.295308+0000", "type": kind, kind: {"remoteAddress": "ipv4:10.20.1.7:48913", **told}}
        )
        + "\n"
    )


def test_a_domain_controller_tells_log_ons_and_changes_of_groups() -> None:
    admin = "S-1-5-21-1-2-3-500"
    text = (
        directory("Authentication", eventId=4624, status="NT_STATUS_OK", becameAccount="ines", authDescription="simple bind")
        + directory("Authentication", eventId=4624, status="NT_STATUS_OK", becameAccount="DC1$")
        + directory("Authentication", eventId=4625, status="NT_STATUS_WRONG_PASSWORD", becameAccount=None, mappedAccount="vesna")
        + directory("groupChange", eventId=4728, status="Success", action="Added", userSid=admin, group="CN=Domain Admins,CN=Users,DC=x", user="CN=O\\, Rada,CN=Users,DC=x")
        + directory("groupChange", eventId=4729, status="Success", action="Removed", userSid="S-1-5-21-1-2-3-7", group="CN=Domain Admins,DC=x", user="CN=ines,DC=x")
        + directory("groupChange", eventId=4728, status="insufficient access rights", action="Added", userSid=admin, group="CN=a", user="CN=b")
        + directory("passwordChange", eventId=4724, status="Success", action="Reset", userSid=admin, dn="CN=tomas,CN=Users,DC=x")
        + directory("groupChange", eventId=1, status="Success") + '{"timestamp": "x", "type": "Authentication"\n'
    )  # fmt: skip
    reader = DirectoryLogReader(HERE, {admin: "Administrator"})
    told = [(one.kind, one.account, one.target, one.group, one.reason) for one in reader.events([text.encode()])]
    assert told == [
        (EventKind.LOGIN, "", "ines", "", "simple bind"), (EventKind.LOGIN_FAILED, "", "vesna", "", "wrong password"),
        (EventKind.CHANGED, "Administrator", "O, Rada", "Domain Admins", "added to the group"),
        (EventKind.CHANGED, "S-1-5-21-1-2-3-7", "ines", "Domain Admins", "removed from the group"),
        (EventKind.CHANGED, "Administrator", "tomas", "", "password set by another"),
    ]  # fmt: skip
    assert [gap.place.line for gap in reader.gaps] == [8, 9]
