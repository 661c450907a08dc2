"""Texts of Windows as characters: by the mark at their beginning, else by what the bytes look like in each code page of a console.

A console of Windows writes in the code page of its country and says so nowhere (437, 850, 852, 866, 932, 936).  In a wrong one letters come
out as signs, as capitals within a word, or as letters of another script beside Latin ones.
"""

import unicodedata
from itertools import pairwise

__all__ = ["Decoded", "decoded", "decoded_as"]

Decoded = tuple[str, str]  # the text, and the code page where it was guessed; empty where it is stated
_MARKS = ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be"), (b"\xef\xbb\xbf", "utf-8"))
# In the order in which they are taken where several fit as well.
_CODE_PAGES = ("cp850", "cp437", "cp852", "cp866", "cp932", "cp936", "cp1252")
_LONGEST = 1 << 16


def decoded(content: bytes) -> str:
    """Return a text of Windows."""
    return decoded_as(content)[0]


def decoded_as(content: bytes) -> Decoded:
    """Return a text of Windows, and the code page that it was taken to be in: as its mark says, else UTF-8, else what fits best."""
    for mark, name in _MARKS:
        if content.startswith(mark):
            return content[len(mark) :].decode(name, "replace"), ""
    try:
        return content.decode("utf-8"), ""
    except UnicodeDecodeError:
        best = max(_CODE_PAGES, key=lambda name: _fitness(content[:_LONGEST], name))
        return content.decode(best, "replace"), best


def _fitness(content: bytes, code_page: str) -> float:
    """Return how much a text looks like one in a code page: its letters less its faults."""
    text = content.decode(code_page, "replace")
    return sum(_worth(one) for one in text if ord(one) > _ASCII) - 6 * sum(_clash(one, other) for one, other in pairwise(text))


_ASCII = 127
_WORTH = {"HIRAGANA": 3.0, "KATAKANA": 3.0, "CJK": 2.0, "CYRILLIC": 1.0, "LATIN": 1.0}


def _worth(sign: str) -> float:
    """Return what a character speaks for: letters of the scripts of these code pages for, signs and other letters against."""
    name = unicodedata.name(sign, "")
    if name.startswith("HALFWIDTH") or not unicodedata.category(sign).startswith("L"):
        return 0.0 if unicodedata.category(sign) in ("Pd", "Pi", "Pf", "Po") else -4.0
    return _WORTH.get(name.partition(" ")[0], -4.0)


def _clash(one: str, other: str) -> bool:
    """Return whether two characters do not stand beside each other in a word: of two scripts, or a capital after a small letter."""
    if not (one.isalpha() and other.isalpha()) or ord(one) <= _ASCII >= ord(other):
        return False
    scripts = {unicodedata.name(sign, "").partition(" ")[0] for sign in (one, other)} - {"HIRAGANA", "KATAKANA", "CJK"}
    east = any(unicodedata.east_asian_width(sign) == "W" for sign in (one, other))
    if east:
        return ord(one) <= _ASCII or ord(other) <= _ASCII
    return len(scripts) > 1 or (one.islower() and other.isupper())
