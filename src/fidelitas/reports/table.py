"""A table: rows of text under titles."""

from msgspec import Struct

__all__ = ["Table"]


class Table(Struct, frozen=True, kw_only=True):
    """A table: column titles and rows of text.

    Columns in `may_fold` hold prose, which is folded where the terminal is narrow; where that is not enough, those in `least` move to a
    second line of their row, in this order.
    """

    columns: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    may_fold: frozenset[str] = frozenset()
    least: tuple[str, ...] = ()
    styles: tuple[str, ...] = ()  # one a row, or none at all
    first_only: bool = False  # whether a style is for the first cell of its row alone
    empty: str = "nothing"
