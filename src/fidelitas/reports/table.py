"""A table: rows of text under titles."""

from dataclasses import dataclass

__all__ = ["Table"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Table:
    """A table: column titles and rows of text.  Columns in `may_fold` give way first where the terminal is narrow."""

    columns: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    may_fold: frozenset[str] = frozenset()
    styles: tuple[str, ...] = ()  # one a row, or none at all
    empty: str = "nothing"
