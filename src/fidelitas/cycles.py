"""How often Python looks for cycles among objects: seldom, in a program that makes many lasting ones and ends soon."""

import gc

__all__ = ["look_seldom"]


def look_seldom() -> None:
    """Have cycles looked for after 100,000 new objects; after every 700, as Python does by itself, it is a third of the time."""
    gc.set_threshold(100_000, 20, 20)
