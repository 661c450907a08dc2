"""Tables for analysts: what is in them is what the commands say, in CSV, SQLite and Parquet alike."""

import csv
import json
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from pyarrow.parquet import read_table

from fidelitas.exporting.parquet import into_parquet
from fidelitas.exporting.tables import TABLES, ExportTable, fed_by
from fidelitas.exporting.writing import DATABASE, write_tables
from support import fidelitas


@pytest.fixture(scope="module")
def exported(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("export")
    assert fidelitas("demo", "estate", cwd=folder).status == 0
    ran = fidelitas("export", "tables", "--parquet", "--ledger", "estate/ledger", cwd=folder)
    assert ran.status == 0, ran.err
    return folder


def rows(exported: Path, query: str) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(exported / "tables" / DATABASE)) as database:
        return list(database.execute(query))


def test_all_forms_hold_the_same(exported: Path) -> None:
    for name, columns in TABLES.items():
        with (exported / "tables" / f"{name}.csv").open(newline="", encoding="utf-8") as stream:
            head, *lines = list(csv.reader(stream))
        assert head == [column for column, _ in columns]
        kept = rows(exported, f"select * from {name}")
        assert len(lines) == len(kept)
        table = read_table(exported / "tables" / f"{name}.parquet")
        assert [tuple(row.values()) for row in table.to_pylist()] == kept
        for line, row in zip(lines, kept, strict=True):
            assert [one.removeprefix("'") for one in line] == ["" if one is None else str(one).removeprefix("'") for one in row]
    assert rows(exported, "select count(*) from holdings") != [(0,)]


def test_what_is_in_them_is_what_the_commands_say(exported: Path) -> None:
    asked = ("--format", "json", "--ledger", "estate/ledger")
    holders = json.loads(fidelitas("holders", "--each", *asked, cwd=exported).out)["holdings"]
    kept = rows(exported, "select subject, holder, right_name, strength from holdings")
    assert sorted(kept) == sorted((one["subject"], one["holder"]["name"], one["right"], one["strength"]) for one in holders)
    links = sum(len(route["links"]) for one in holders for route in one["routes"])
    assert rows(exported, "select count(*) from links") == [(links,)]
    findings = json.loads(fidelitas("findings", *asked, cwd=exported).out)["findings"]
    assert rows(exported, "select key, check_name, severity from findings") == [
        (one["key"], one["check"], one["severity"]) for one in findings
    ]
    told = [json.loads(line) for line in fidelitas("usage", "--format", "jsonl", *asked[2:], cwd=exported).out.splitlines()]
    assert rows(exported, "select time, host, kind, command, persons from events") == [
        (one["time"], one["host"], one["kind"], one["command"] or "", " ".join(one["persons"])) for one in told
    ]
    # A question of an analyst: which place gives most holdings.
    assert rows(exported, "select path, count(distinct holding) n from links group by 1 order by n desc limit 1")[0][1]


def test_a_long_table_is_written_in_parts(tmp_path: Path) -> None:
    count = 25_000
    table = ExportTable("t", (("a", "TEXT"), ("b", "INTEGER")), fed_by((str(one), one) for one in range(count)))
    assert write_tables(tmp_path / "out", [table], {"parquet": into_parquet}) == {"t": count}
    assert read_table(tmp_path / "out" / "t.parquet").column("b").to_pylist() == list(range(count))


def test_a_folder_that_is_there_is_not_written_over(exported: Path) -> None:
    assert fidelitas("export", "tables", "--ledger", "estate/ledger", cwd=exported).status == 2
    assert (exported / "tables").stat().st_mode & 0o777 == 0o700
    assert (exported / "tables" / DATABASE).stat().st_mode & 0o777 == 0o600


def test_hostile_values_stay_values(tmp_path: Path) -> None:
    value = "=cmd|x'); drop table t; --\x1b[31m\udc80,\"\n"
    counts = write_tables(tmp_path / "out", [ExportTable("t", (("a", "TEXT"), ("b", "INTEGER")), fed_by([(value, 1), (None, None)]))])
    assert counts == {"t": 2}
    with closing(sqlite3.connect(tmp_path / "out" / DATABASE)) as database:
        ((first, number), second) = list(database.execute("select * from t"))
    assert (number, second) == (1, (None, None))
    assert "\x1b" not in first
    with (tmp_path / "out" / "t.csv").open(newline="", encoding="utf-8") as stream:
        assert list(csv.reader(stream))[1][0].startswith("'=cmd")
