"""No expression takes time out of proportion to a text: who writes files, logs and names on a host must not be able to stop the reader."""

import ast
import importlib
import pkgutil
import re
import sys
import time
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from re import _parser  # type: ignore[attr-defined]

import pytest

import fidelitas
from fidelitas.languages.logs import messages

SMALL, LARGE = 1000, 4000
FILLS = ("x", "", " ", "12", "'", "/")
SINGLE = ("a", " ", "0", "/", "\\", '"', "'", "=", "-", "(", "[", "a ", "a.", "'x")
# An expression of the demo is applied to the demo alone.
MODULES = [
    one.name for one in pkgutil.walk_packages(fidelitas.__path__, "fidelitas.") if not re.search(r"__main__|\.demo|\.migrations", one.name)
]
Used = Callable[[str | bytes], object]


def literals(pattern: str, flags: int) -> list[str]:
    """Return the texts that an expression names, in their order, parted where it takes any."""
    found = [""]

    def walk(parts: object) -> None:
        for code, value in parts:  # type: ignore[attr-defined]
            name = str(code)
            if name == "LITERAL":
                found[-1] += chr(value)
            elif name in ("SUBPATTERN", "ATOMIC_GROUP"):
                walk(value[-1] if name == "SUBPATTERN" else value)
            elif name == "BRANCH":
                walk(value[1][0])
            elif name.endswith("REPEAT"):
                inner = list(value[2])
                if "DIGIT" in str(inner):
                    found[-1] += "12"
                elif len(inner) == 1 and str(inner[0][0]) in ("IN", "ANY", "NOT_LITERAL", "CATEGORY"):
                    found.append("")
                else:
                    walk(inner)
            elif name == "IN":
                found[-1] += "'" if "39" in str(value) else "x"

    walk(_parser.parse(pattern, flags & ~re.UNICODE))
    return found


def hostile(pattern: str, flags: int, size: int) -> Iterator[str]:
    """Yield texts that nearly fit: the beginning of what an expression takes, a part of it over and over, and an end that does not fit."""
    texts = literals(pattern, flags)[:6]
    for begin in range(len(texts)):
        for end in range(begin + 1, len(texts) + 1):
            for fill in FILLS:
                head, part, rest = fill.join(texts[:begin]), fill.join(texts[begin:end]) + fill, fill.join(texts[end:])
                for tail in ("", rest, rest + "\x01"):
                    yield head + part * (size // max(len(part), 1)) + tail
    for begin in range(len(texts)):
        for one in SINGLE:
            yield "".join(texts[: begin + 1]) + one * (size // len(one)) + "\x01"
        for other in texts[begin:]:
            yield (
                "".join(texts[:begin])
                + f"{texts[begin]}x" * (size // 2 // (len(texts[begin]) + 1))
                + f"{other}x" * (size // 2 // (len(other) + 1))
            )


def seconds(used: Used, text: str | bytes, rounds: int = 1) -> float:
    took = []
    for _ in range(rounds):
        begin = time.perf_counter()
        used(text)
        took.append(time.perf_counter() - begin)
    return min(took)


def patterns_in(value: object, depth: int = 0) -> Iterator[re.Pattern[str] | re.Pattern[bytes]]:
    if isinstance(value, re.Pattern):
        yield value
    elif depth < 3 and isinstance(value, (tuple, list, frozenset, set, dict)):
        for one in [*value, *value.values()] if isinstance(value, dict) else value:
            yield from patterns_in(one, depth + 1)


@cache
def source_of(module: str) -> str:
    return Path(sys.modules[module].__file__ or "").read_text()


@cache
def text_of_all() -> str:
    return "\n".join(source_of(name) for name in MODULES if name in sys.modules)


def uses(module: str, name: str, pattern: re.Pattern[str] | re.Pattern[bytes]) -> list[Used]:
    """Return how an expression is applied: from the begin of a text, to the whole of it, or anywhere in it."""
    text = source_of(module) if name.startswith("_") else text_of_all()
    ways = set(re.findall(rf"\b{re.escape(name)}\.(match|fullmatch|search|sub|subn|split|finditer|findall)\b", text)) or {"match"}
    methods: dict[str, Used] = {"match": pattern.match, "fullmatch": pattern.fullmatch}  # type: ignore[dict-item]
    return [methods.get(way, pattern.search) for way in ways]  # type: ignore[arg-type]


def inline(module: str) -> Iterator[tuple[str, re.Pattern[str] | re.Pattern[bytes], list[Used]]]:
    """Yield the expressions that a module states where it applies them: ``re.search("…", text)``."""
    for node in ast.walk(ast.parse(source_of(module))):
        if not (isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and ast.unparse(node.func.value) == "re" and node.args):
            continue
        text, way = node.args[0], node.func.attr
        if isinstance(text, ast.Constant) and way in ("match", "fullmatch", "search", "sub", "split", "findall", "finditer"):
            pattern: re.Pattern[str] = re.compile(str(text.value))
            ways: dict[str, Used] = {"match": pattern.match, "fullmatch": pattern.fullmatch, "": pattern.search}  # type: ignore[dict-item]
            yield f"{module}:{node.lineno}", pattern, [ways.get(way, ways[""])]


def expressions() -> list[tuple[str, re.Pattern[str] | re.Pattern[bytes], list[Used]]]:
    """Return every expression of the program by its name, with how it is applied."""
    found: dict[tuple[object, int], tuple[str, re.Pattern[str] | re.Pattern[bytes], list[Used]]] = {}
    for module in MODULES:
        for name, value in vars(importlib.import_module(module)).items():
            for pattern in patterns_in(value):
                found.setdefault((pattern.pattern, pattern.flags), (f"{module}.{name}", pattern, uses(module, name, pattern)))
        for name, pattern, ways in inline(module):
            found.setdefault((pattern.pattern, -1), (name, pattern, ways))
    rows = [(f"messages.toml: {name}", row.pattern, [row.pattern.fullmatch]) for name, rows in messages._table().items() for row in rows]
    silent = [("messages.toml: silent", pattern, [pattern.match]) for pattern in messages._silent()]
    return [*found.values(), *rows, *silent]  # type: ignore[list-item]


@pytest.mark.parametrize("part", range(8))
def test_no_expression_takes_time_out_of_proportion(part: int) -> None:
    """Four times the text takes no more than ten times as long, where it takes long at all: of a square it would be sixteen."""
    slow = []
    for name, pattern, ways in expressions()[part::8]:
        text, flags = pattern.pattern, pattern.flags
        is_bytes = isinstance(text, bytes)
        made = text.decode("latin-1") if isinstance(text, bytes) else text
        for used in ways:
            worst, number = 0.0, 0
            for at, one in enumerate(hostile(made, flags, SMALL)):
                took = seconds(used, one.encode("latin-1", "replace") if is_bytes else one)
                if took > worst:
                    worst, number = took, at
                if worst > 0.05:
                    break
            if worst < 0.0003:
                continue
            small, large = (next(one for at, one in enumerate(hostile(made, flags, size)) if at == number) for size in (SMALL, LARGE))
            given = [one.encode("latin-1", "replace") if is_bytes else one for one in (small, large)]
            short = seconds(used, given[0], 3)
            if short > 0.05 or (long := seconds(used, given[1], 3)) > max(10 * short, 0.003):
                slow.append(
                    f"{name}: {made[:80]} on {small[:100]!r}: {short * 1000:.1f} ms for {SMALL} characters"
                    + ("" if short > 0.05 else f", {long * 1000:.1f} for {LARGE}")
                )
    assert not slow, "\n".join(slow)
