"""Names of people as accounts have them: folded to letters that accounts are made of, and put together in the usual ways.

Pure text: knows no account and no person but the name that is given.
"""

import re
import unicodedata
from collections.abc import Iterator
from functools import lru_cache

__all__ = ["account_names", "bare_account", "fold", "is_near", "words_of"]

# Letters that are not a base letter with a mark; what is written for them where only a to z may stand.
_LATIN = {"ß": "ss", "æ": "ae", "œ": "oe", "ø": "o", "đ": "d", "ð": "d", "þ": "th", "ł": "l", "ı": "i", "ħ": "h", "ŋ": "ng"}
_SILENT = dict.fromkeys("ʻ’'ъь", "")
_CYRILLIC = zip(
    "абвгдеёжзийклмнопрстуфхцчшщыэюяєіїґ",
    "a b v g d e e zh z i i k l m n o p r s t u f kh ts ch sh shch y e yu ya ye i i g".split(),
    strict=True,
)
_GREEK = zip("αβγδεζηθικλμνξοπρσςτυφχψω", "a v g d e z i th i k l m n x o p r s s t y f ch ps o".split(), strict=True)
_LETTERS = str.maketrans({**_LATIN, **_SILENT, **dict(_CYRILLIC), **dict(_GREEK)})
# How some write a mark out: Müller as mueller, Sørensen as soerensen, Åse as aase.
_WRITTEN_OUT = str.maketrans({"ä": "ae", "ö": "oe", "ü": "ue", "ø": "oe", "å": "aa"})
# Words before a family name that accounts often leave out, or write together with it.
_PARTICLES = frozenset(
    [
        "van",
        "von",
        "der",
        "den",
        "de",
        "del",
        "della",
        "di",
        "da",
        "dos",
        "das",
        "du",
        "la",
        "le",
        "ter",
        "ten",
        "af",
        "av",
        "zu",
        "zur",
        "el",
        "al",
        "bin",
        "ibn",
        "ben",
        "o",
        "mc",
        "mac",
        "st",
    ]
)
# What is put before or behind an account's name for its owner's second account, and for people from outside.
_AFFIXES = "adm|admin|administrator|priv|root|super|sa|da|ea|t0|t1|t2|tier0|tier1|ext|extern|x|c|svc"
_BEFORE = re.compile(rf"(?:{_AFFIXES}|a)[-_.](?=..)|adm(?=[a-z]{{4}})")
_BEHIND = re.compile(rf"[-_.](?:{_AFFIXES}|a)\Z|(?<=[a-z]{{4}})adm\Z")


@lru_cache(maxsize=1 << 16)
def fold(text: str) -> str:
    """Return a text in small letters a to z as far as they stand for its letters; blanks, digits and signs stay."""
    decomposed = unicodedata.normalize("NFKD", unicodedata.normalize("NFC", text).lower().translate(_LETTERS))
    return "".join(sign for sign in decomposed if not unicodedata.combining(sign)).translate(_LETTERS)


def _variants(text: str) -> list[str]:
    """Return the ways in which a text is folded: marks left out, or written out."""
    plain, out = fold(text), fold(unicodedata.normalize("NFC", text).lower().translate(_WRITTEN_OUT))
    return [plain] if plain == out else [plain, out]


def words_of(name: str) -> list[str]:
    """Return the words of a name, folded; one that is written family name first, behind a comma, in the usual order."""
    family, comma, given = name.partition(",")
    return re.findall(r"[a-z0-9]+", fold(f"{given} {family}" if comma else name))


def account_names(name: str) -> dict[str, float]:
    """Return account names that are made of a person's, each with how telling it is: from 0, anyone's, to 1."""
    found: dict[str, float] = {}
    for folded in _variants(name):
        words = re.findall(r"[a-z0-9]+", folded)
        for given, family in _splits(words):
            for made, weight in _made(given, family):
                if len(made) > 1:
                    found[made] = max(weight, found.get(made, 0))
    return found


def _splits(words: list[str]) -> Iterator[tuple[list[str], str]]:
    """Yield given names and a family name, in either order, with particles and double names."""
    if len(words) < 2:
        return
    families = [(index, index + 1) for index in range(1, len(words))] + [(index, len(words)) for index in range(1, len(words) - 1)]
    for begin, end in families:
        family = words[begin:end]
        given = [word for word in words[:begin] if word not in _PARTICLES] or words[:1]
        yield given, "".join(family)
        if family[0] in _PARTICLES and len(family) > 1:
            yield given, "".join(word for word in family if word not in _PARTICLES)
    yield words[1:], words[0]  # family name first


def _made(given: list[str], family: str) -> Iterator[tuple[str, float]]:
    first = given[0]
    initials = "".join(word[0] for word in given)
    for joint in ("", ".", "_", "-"):
        yield f"{first}{joint}{family}", 0.96
        yield f"{family}{joint}{first}", 0.95
        yield f"{first[0]}{joint}{family}", 0.86
        yield f"{family}{joint}{first[0]}", 0.86
        yield f"{first}{joint}{family[0]}", 0.82
        if len(given) > 1:
            yield f"{''.join(given)}{joint}{family}", 0.96
            yield f"{first}{joint}{given[1][0]}{joint}{family}", 0.95
            yield f"{initials}{joint}{family}", 0.88
    for length in (6, 7, 8):  # names of old systems are short
        yield f"{first[0]}{family}"[:length], 0.8
        yield f"{family[: length - 1]}{first[0]}", 0.8
        yield f"{family[: length - 2]}{first[:2]}", 0.8
        yield f"{first}{family}"[:length], 0.8
    yield f"{first[:3]}{family[:3]}", 0.78
    yield f"{family[:3]}{first[:3]}", 0.78
    yield f"{first[:2]}{family[:4]}", 0.76
    yield f"{family[:4]}{first[:2]}", 0.76
    yield first, 0.62
    yield family, 0.66
    yield f"{initials}{family[0]}", 0.3


def bare_account(account: str) -> tuple[str, bool]:
    """Return the name of an account without its domain, affixes and number, folded; and whether it is a second account by its affix."""
    name = account.rpartition("\\")[2].partition("@")[0]
    folded = fold(name)
    shorter = _BEHIND.sub("", _BEFORE.sub("", folded, count=1))
    without_number = re.sub(r"(?<=[a-z])[-_.]?\d{1,4}\Z", "", shorter)
    return (without_number if len(without_number) > 1 else shorter), shorter != folded


def is_near(one: str, other: str) -> bool:
    """Return whether two texts differ by one typing mistake: a letter more, less, or another, or two exchanged."""
    if abs(len(one) - len(other)) > 1:
        return False
    at = next((index for index, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))
    rest, rests = one[at:], other[at:]
    return rest[1:] == rests[1:] or rest[1:] == rests or rest == rests[1:] or (rest[:2] == rests[1::-1] and rest[2:] == rests[2:])
