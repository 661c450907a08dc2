"""Laws of listings whose facts are made when they are asked for: a search finds what going through all of them finds."""

import io
import json
import signal
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.evidence import Listing, Manifest, make_bundle, make_rows_bundle, read_bundle
from fidelitas.facts import DatabaseFacts
from fidelitas.languages.postgresql import read_postgresql

NOW = datetime(2026, 1, 5, 12, 0, tzinfo=UTC)

# Names that look like parts of a row, that are parts of others, and with characters that JSON writes in two ways.
NAMES = st.sampled_from(
    ["t", "t1", "public", "name", '"', '"t"', "\\", "a\\u0041", "é", "\u2028", "a.b", "f(integer)", 'we"ird', "\x7f", "  ", "{"]
)
NAME = NAMES | st.text(min_size=1, max_size=4)
ROWS = st.lists(st.tuples(NAME, NAME, st.booleans(), st.sampled_from([(", ", ": "), (",", ":"), (" , ", " : ")])), max_size=12)


def listing(rows: list[tuple[str, str, bool, tuple[str, str]]]) -> str:
    """Return rows of objects, as different writers of JSON write them."""
    shape = {"kind": "table", "owner": "postgres"}
    made = ({**shape, "schema": schema, "name": name} for name, schema, _, _ in rows)
    return "".join(
        json.dumps(row, ensure_ascii=escaped, separators=how) + "\n" for row, (_, _, escaped, how) in zip(made, rows, strict=True)
    )


def facts_of(name: str, content: str) -> DatabaseFacts:
    archive = make_rows_bundle("db", "postgresql", NOW, {name: content.encode()}, "query")
    return read_postgresql(read_bundle(io.BytesIO(archive)))


@given(ROWS, NAME)
def test_a_search_by_name_finds_what_is_there_with_its_line(rows: list[Any], name: str) -> None:
    objects = facts_of("objects tides", listing(rows)).objects
    every = [(one, one.place.line) for one in objects]
    assert len(objects) == len(every) == len(rows)
    for wanted in {name, *(one[0] for one in rows)}:
        found = [(one, one.place.line) for one in objects.named(wanted)]
        assert found == [pair for pair in every if pair[0].name == wanted]
        assert {one for one, _ in every if wanted in one.name} <= {*objects.containing(wanted)}


def test_after_many_searches_the_answers_are_the_same() -> None:
    rows = [(f"t{number % 90}", "public", False, (", ", ": ")) for number in range(300)]
    objects = facts_of("objects tides", listing(rows)).objects
    first = {number: [*objects.named(f"t{number}")] for number in range(60)}
    again = {number: [*objects.named(f"t{number}")] for number in range(90)}
    assert all(again[number] == found and len(found) >= 3 for number, found in first.items())
    assert [len(again[number]) for number in (29, 89)] == [4, 3]


@pytest.mark.parametrize(
    "row",
    [
        '{"kind": "table", "schema": "public", "name": 7, "owner": "postgres"}',
        '{"kind": "table", "schema": "public", "owner": "postgres"}',
        '{"kind": "table", "schema": "public", "name": "\\ud800", "owner": "postgres"}',
        '["kind", "table"]',
        "table public.t",
        "[" * 3000,
    ],
)
def test_a_row_that_is_not_as_expected_is_a_gap_before_anything_is_asked(row: str) -> None:
    good = listing([("t1", "public", False, (", ", ": "))])
    facts = facts_of("objects tides", good + row + "\n" + good)
    assert [(gap.place.path, gap.place.line) for gap in facts.gaps] == [("objects tides", 2)]
    assert [one.place.line for one in facts.objects.named("t1")] == [1, 3]


def test_grants_in_the_older_form_count() -> None:
    shape = {"kind": "table", "schema": "public", "name": "t1", "column": "", "owner": "postgres", "grantee": "tomas"}
    rows = [{**shape, "privilege": "SELECT", "grantable": True}, {**shape, "privileges": {"INSERT": False, "UPDATE": True}}, shape]
    facts = facts_of("grants tides", "".join(json.dumps(row) + "\n" for row in rows))
    found = [(one.privilege, one.grantable, one.place.line) for one in facts.grants.named("t1")]
    assert found == [("SELECT", True, 1), ("INSERT", False, 2), ("UPDATE", True, 2)]
    assert [gap.place.line for gap in facts.gaps] == [3]


@given(st.lists(st.binary(max_size=9).map(lambda line: line.replace(b"\n", b"") + b"\n"), max_size=20), st.integers(1, 30), st.booleans())
def test_a_listing_that_is_cut_into_members_comes_back_whole(lines: list[bytes], largest: int, ends: bool) -> None:
    content = b"".join(lines) + (b"" if ends else b"rest")
    manifest = Manifest(
        subject="db", platform="postgresql", taken=NOW, kernel="", live=True, probe=3, uid=0, items=(), gaps=(),
        listings=(Listing(name="objects tides", member="listings/1", tool="query"),),
    )  # fmt: skip
    archive = make_bundle(manifest, {}, {"objects tides": content}, largest=largest)
    read = read_bundle(io.BytesIO(archive))
    assert read.listings["objects tides"] == content
    assert not read.gaps


GOOD = '{"kind": "table", "schema": "public", "name": "t", "owner": "postgres"}'


@pytest.mark.parametrize(
    "odd", [f"{GOOD}{GOOD}", f"{GOOD} {GOOD}", GOOD.replace(', "name"', ',\n"name"'), GOOD.replace("{", "{\n"), f"{GOOD}\r{GOOD}"]
)
@pytest.mark.parametrize(("before", "after"), [(0, 5), (5, 0), (9000, 5), (5, 9000), (9000, 9000)])
@pytest.mark.parametrize("processes", [1, 2])
def test_a_row_that_shares_lines_with_others_is_a_gap_with_its_line(
    odd: str, before: int, after: int, processes: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Rows are looked at in blocks, those of a long listing by two processes, and a block takes what no line by itself is."""
    monkeypatch.setattr("fidelitas.languages.listed_facts._WORTH_FORKING", 1 if processes == 2 else 1 << 30)
    facts = facts_of("objects tides", f"{GOOD}\n" * before + f"{odd}\n{GOOD}{GOOD}\n" + f"{GOOD}\n" * after)
    assert len(facts.objects) == len([*facts.objects]) == before + after
    assert [gap.place.line for gap in facts.gaps] == [before + 1 + number for number in range(2 + odd.count("\n"))]


@pytest.mark.parametrize("without", ["a process", "its end"])
@pytest.mark.parametrize("odd", [1, 3])
def test_a_long_listing_is_read_where_no_process_can_be_had(without: str, odd: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """The limit of processes is reached, or this one was started to ignore the ends of others."""

    def refuse() -> int:
        raise BlockingIOError

    monkeypatch.setattr("fidelitas.languages.listed_facts._WORTH_FORKING", 1)
    before = signal.getsignal(signal.SIGCHLD)
    if without == "a process":
        monkeypatch.setattr("os.fork", refuse)
    else:
        signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    try:
        facts = facts_of("objects tides", f"{GOOD}\n" * 9000 + f"{GOOD}" * odd + "\n")
    finally:
        signal.signal(signal.SIGCHLD, before)
    assert len(facts.objects) == 9000 + (odd == 1)
    assert len(facts.gaps) == (odd > 1)


def test_a_grant_with_one_wrong_field_is_a_gap_and_not_silently_left_out() -> None:
    shape = {"kind": "table", "schema": "public", "name": "t1", "column": "", "owner": "postgres", "grantee": "tomas"}
    rows = [{**shape, "privileges": {"SELECT": False}}, {**shape, "privileges": {"INSERT": False}, "grantable": "yes"}]
    facts = facts_of("grants tides", "".join(json.dumps(row) + "\n" for row in rows))
    assert [one.privilege for one in facts.grants.named("t1")] == ["SELECT"]
    assert [(gap.place.path, gap.place.line) for gap in facts.gaps if gap.place is not None] == [("grants tides", 2)]
