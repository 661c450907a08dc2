"""NumPy, where it is installed: what works in columns of numbers asks for it here, and does without where it is not there."""

from typing import Any

__all__ = ["columns"]


def columns() -> Any:
    """Return NumPy, or ``None`` where it is not installed."""
    try:
        import numpy as np  # noqa: PLC0415 takes as long as reading some megabytes does
    except ImportError:
        return None
    return np
