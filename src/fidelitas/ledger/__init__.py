"""The ledger: where surveys live, and what was found of each subject at each time.

A database, of SQLite in one file or of PostgreSQL for a team (`connection`); evidence item by item, each content once (`records`, `pieces`,
`packing`).  The rest of the program knows `Ledger` and nothing of the tables.
"""

from fidelitas.ledger.heads import Head
from fidelitas.ledger.ledger import History, Ledger, Stored, StoredEvidence, Survey

__all__ = ["Head", "History", "Ledger", "Stored", "StoredEvidence", "Survey"]
