"""Who holds elevated rights on servers and workstations, by which rule, and what is risky about it.

The flow is drawn in :mod:`fidelitas.audit`; the words are defined in :mod:`fidelitas.facts`.
"""

__version__ = "0.9.0"
