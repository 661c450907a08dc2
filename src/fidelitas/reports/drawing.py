"""Routes as something to draw: rows of boxes with arrows between them."""

from msgspec import Struct

__all__ = ["DrawnRoute", "Step"]


class Step(Struct, frozen=True):
    """An arrow: from which box to which, why, by which place; `sure` is false where a condition belongs to it."""

    source: str
    target: str
    because: str
    place: str
    sure: bool = True


class DrawnRoute(Struct, frozen=True):
    """A route under its title, such as "root on tern (certain)"."""

    title: str
    steps: tuple[Step, ...]
