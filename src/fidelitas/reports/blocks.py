"""Blocks: a headline with indented lines under it, for what does not fit a row."""

from msgspec import Struct

__all__ = ["Block", "Row"]


class Row(Struct, frozen=True):
    """One line of a block: a label, text, and how far it is indented; `style` is a style of Rich for the whole line."""

    text: str
    label: str = ""
    indent: int = 2
    style: str = ""


class Block(Struct, frozen=True):
    """A headline and the rows under it."""

    headline: str
    rows: tuple[Row, ...]
    style: str = "bold"
