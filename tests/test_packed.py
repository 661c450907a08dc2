"""Things that are kept packed come back as they were, and documents that are written piece by piece are those of one piece."""

import json
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.reports.forms import Screen
from fidelitas.reports.forms.documents import render
from fidelitas.reports.report import Listed, Report
from fidelitas.text import Place
from fidelitas.usage import Packed, Session

AT = datetime(2026, 3, 1, 4, 5, 6, 789, tzinfo=UTC)


def session(person: str, number: int = 1) -> Session:
    return Session(person, "root", "tern", "sudo", AT, Place("tern", "/var/log/auth.log", number), command=f"/bin/sh {number}")


@given(st.lists(st.one_of(st.text(max_size=9), st.just("not \udce9 text")), max_size=90))
def test_what_is_packed_comes_back_as_it_was(names: list[str]) -> None:
    things = [session(name, number) for number, name in enumerate(names)]
    kept: Packed[Session] = Packed(Session, things)
    assert (list(kept), len(kept)) == (things, len(things))
    assert kept == Packed(Session, things)
    chunks = kept.chunks()
    assert (chunks is None) == any("\udce9" in name for name in names)
    if chunks is not None:
        again: Packed[Session] = Packed.of_chunks(Session, *chunks)
        assert again == kept
        assert again.is_sound()


def test_what_is_no_such_thing_is_not_sound() -> None:
    count, chunks = Packed(Session, [session("rada", number) for number in range(40)]).chunks() or (0, [])
    others = Packed(tuple[str, int], [("rada", 1)]).chunks() or (0, [])
    assert len(chunks) == 2
    for content in ((count + 1, chunks), (count, chunks[:1]), (count, [chunks[0], b"x"]), (count, [chunks[0], chunks[1][:-1]]), others):
        assert not Packed.of_chunks(Session, *content).is_sound()


parts = st.recursive(
    st.one_of(st.none(), st.booleans(), st.integers(-9, 9), st.text(max_size=6), st.just("a\nb\x1b\u202e")),
    lambda inner: st.one_of(st.lists(inner, max_size=4), st.dictionaries(st.text(max_size=4), inner, max_size=4)),
    max_leaves=20,
)


@given(parts)
def test_a_document_is_written_as_the_library_writes_it(document: Any) -> None:
    written = "".join(render(Report(parts=list, document=lambda: document), Screen(None, None, colour=False)))
    assert written == json.dumps(document, indent=2) + "\n"


@pytest.mark.parametrize("count", [0, 1, 199, 200, 401])
def test_a_list_that_is_made_while_it_is_written_is_a_list(count: int) -> None:
    whole = [{"number": number, "text": "x\n"} for number in range(count)]
    for document in ({"schema": "x", "all": Listed(lambda: iter(whole))}, {"inner": {"all": Listed(lambda: iter(whole)), "two": 2}}):
        stated = json.loads(json.dumps(document, default=list))
        written = "".join(render(Report(parts=list, document=lambda document=document: document), Screen(None, None, colour=False)))  # type: ignore[misc]
        assert written == json.dumps(stated, indent=2) + "\n"


@pytest.mark.parametrize("size", [1, 1000, 100_000])
def test_what_is_listed_is_written_in_pieces_however_long_each_thing_is(size: int) -> None:
    whole = [{"text": "x" * size} for _ in range(5 << 20 >> size.bit_length())]
    pieces = list(render(Report(parts=list, document=lambda: {"all": Listed(lambda: iter(whole))}), Screen(None, None, colour=False)))
    assert json.loads("".join(pieces)) == {"all": whole}
    assert max(map(len, pieces)) < 2 * max(size, 1 << 18)
    if size == 1:
        assert len(pieces) * 100 < len(whole)
