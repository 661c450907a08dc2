"""Text that is safe to show."""

import sys
import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.reports.forms.columns import laid_out
from fidelitas.reports.table import Table
from fidelitas.text import Place, byte_column, clipped, decode, escape_control


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("noor", "noor"),
        ("Zoë – 潮", "Zoë – 潮"),
        ("a\x1b[2Jb", "a\\x1b[2Jb"),
        ("two\nlines", "two\\x0alines"),
        ("\u202egnp.exe", "\\u202egnp.exe"),
        ("zero\u200bwidth", "zero\\u200bwidth"),
        ("\u2028", "\\u2028"),
        ("\x9b31m", "\\x9b31m"),
        (decode(b"caf\xe9"), "caf\\xe9"),
        ("\U000e0041", "\\U000e0041"),
    ],
)
def test_what_a_terminal_would_obey_is_shown_instead(text: str, shown: str) -> None:
    assert escape_control(text) == shown


def test_every_character_that_acts_is_shown_and_no_other() -> None:
    """By the categories of Unicode; the blank that everyone types is one of none that acts."""
    acting = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp", "Zs"}
    every = (chr(code) for code in range(sys.maxunicode + 1))
    wrong = [one for one in every if (escape_control(one) != one) is not (one != " " and unicodedata.category(one) in acting)]
    assert wrong == []


@given(st.binary())
def test_every_byte_string_comes_out_printable(content: bytes) -> None:
    assert escape_control(decode(content)).isprintable()


@given(st.text())
def test_making_text_plain_twice_changes_nothing_more(text: str) -> None:
    assert escape_control(escape_control(text)) == escape_control(text)


def test_columns_count_bytes() -> None:
    assert byte_column("é=x", 1) == 3
    assert byte_column("abc", 2) == 3


def test_places_are_written_as_far_as_they_are_known() -> None:
    place = Place(subject="tern", path="/etc/passwd")
    assert str(place) == "tern:/etc/passwd"
    assert str(place.at(3)) == "tern:/etc/passwd:3"
    assert str(place.at(3, 7)) == "tern:/etc/passwd:3:7"


def test_clipped_text_says_so() -> None:
    assert clipped("abcdef", 4) == "abc…"
    assert clipped("abc", 4) == "abc"


@given(st.integers(20, 60), st.sampled_from([frozenset(), frozenset({"command"})]))
def test_what_finds_no_room_beside_stands_behind_its_title(width: int, may_fold: frozenset[str]) -> None:
    table = Table(columns=("who", "times", "command", "changes"), rows=(("pavel", "17", "/usr/bin/apt update", "3"),), may_fold=may_fold)
    head, *below = [line.text for line in laid_out(table, width)]
    shown = " ".join(" ".join(below).split())
    for title, cell in (("times", "17"), ("changes", "3")):
        assert cell in shown.split() if title.upper() in head.split() else f"{title}: {cell}" in shown
