"""What is known of the place where a report will be read."""

from dataclasses import dataclass

__all__ = ["Screen"]


@dataclass(frozen=True, slots=True)
class Screen:
    """A terminal: its width in columns, its height in lines, and whether it has colours; without width, a pipe or a file."""

    width: int | None = None
    height: int | None = None
    colour: bool = False
