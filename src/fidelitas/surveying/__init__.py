"""One survey: what is to be read (`asked`), reading all of it (`reading`), and keeping what arrives (`keeping`).

Knows sources and the ledger; nothing of options or of a terminal.  What is to be said goes to the functions that are given.
"""

from fidelitas.surveying.asked import Asked, with_names
from fidelitas.surveying.keeping import Keeping
from fidelitas.surveying.reading import Manner, Reading

__all__ = ["Asked", "Keeping", "Manner", "Reading", "with_names"]
