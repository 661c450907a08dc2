"""Use of privilege: events tied to the persons behind them, and what they amount to."""

from fidelitas.usage.persons import Deed, Ground, deeds_of
from fidelitas.usage.summary import PersonUse, summed_up

__all__ = ["Deed", "Ground", "PersonUse", "deeds_of", "summed_up"]
