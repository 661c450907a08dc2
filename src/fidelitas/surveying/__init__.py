"""One survey: what is to be read (`asked`), reading all of it (`reading`), and keeping what arrives (`keeping`); and what the
ledger knew at two times (`states`).

Knows sources and the ledger; nothing of options or of a terminal.  What is to be said goes to the functions that are given.
"""

from fidelitas.surveying.asked import Asked, with_access_rules, with_names
from fidelitas.surveying.keeping import Keeping
from fidelitas.surveying.reading import Manner, Reading
from fidelitas.surveying.states import States, states_of

__all__ = ["Asked", "Keeping", "Manner", "Reading", "States", "states_of", "with_access_rules", "with_names"]
