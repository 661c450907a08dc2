"""What is known of the place where a report will be read."""

from msgspec import Struct

__all__ = ["Screen"]


class Screen(Struct, frozen=True):
    """A terminal: its width in columns, its height in lines, and whether it has colours; without width, a pipe or a file."""

    width: int | None = None
    height: int | None = None
    colour: bool = False
