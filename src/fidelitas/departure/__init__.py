"""What a person who leaves still holds anywhere, and the steps that end it: printed, never run.

`removal` has the steps of each platform; `remaining` finds the accounts, the keys and the rights.
"""

from fidelitas.departure.remaining import Departure, Remaining, departure_of
from fidelitas.departure.steps import Phase, Step

__all__ = ["Departure", "Phase", "Remaining", "Step", "departure_of"]
