"""The words of this program, and its checks, explained."""

import tomllib
from collections.abc import Mapping
from functools import cache
from importlib import resources

from fidelitas.findings import CheckText
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table

__all__ = ["glossary_report", "terms"]

_LABELS = len("Not a case")
Words = Mapping[str, tuple[str, str | None]]
Checks = Mapping[str, CheckText]


@cache
def terms() -> Words:
    """Return what each word means, and what more there is to say."""
    stated = tomllib.loads(resources.files("fidelitas").joinpath("glossary.toml").read_text(encoding="utf-8"))
    return {word: (row["means"], row.get("more")) for word, row in stated.items()}


def glossary_report(words: Words, checks: Checks, word: str | None) -> Report:
    """Return the meaning of one of the `words` or `checks`, or a table of all words."""
    table = Table(
        columns=("word", "meaning"), rows=tuple((name, means) for name, (means, _) in words.items()), may_fold=frozenset({"meaning"})
    )
    document = {
        "schema": "fidelitas/glossary/1",
        "words": {name: {"meaning": means, "more": more} for name, (means, more) in words.items() if word in (None, name)},
        "checks": {name: one._asdict() for name, one in checks.items() if word in (None, name)},
    }
    return Report(parts=lambda: [table] if word is None else [_block(word, words, checks)], document=lambda: document)


def _block(word: str, words: Words, checks: Checks) -> Block:
    if word in words:
        means, more = words[word]
        return Block(word, (Row(means), *([Row(more)] if more else [])))
    check = checks[word]
    texts = (("Why", check.why), ("Fix", check.fix), ("Example", check.example), ("Not a case", check.unlike), ("Evidence", check.needs))
    rows = [Row(check.title)]
    for label, text in texts:
        first, *further = text.split("\n")
        rows += [Row(first, label=f"{label:<{_LABELS}}"), *(Row(line, indent=_LABELS + 3) for line in further)]
    return Block(f"{word} ({check.severity})", tuple(rows))
