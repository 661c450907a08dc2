"""Routes as something to draw: rows of boxes with arrows between them."""

from dataclasses import dataclass

__all__ = ["DrawnRoute", "Step"]


@dataclass(frozen=True, slots=True)
class Step:
    """An arrow: from which box to which, why, by which place; `sure` is false where a condition belongs to it."""

    source: str
    target: str
    because: str
    place: str
    sure: bool = True


@dataclass(frozen=True, slots=True)
class DrawnRoute:
    """A route under its title, such as "root on tern (certain)"."""

    title: str
    steps: tuple[Step, ...]
