"""The ledger: where surveys live, and what was found of each subject at each time.

For now a folder: every bundle once, under the digest of its bytes, and one small file a survey that says which subject has which.  The
rest of the program knows `Ledger` and nothing of the folder.
"""

from fidelitas.ledger.folder import Draft, Ledger, Stored, StoredEvidence, Survey
from fidelitas.ledger.verify import Damage, Extent, damages, extent

__all__ = ["Damage", "Draft", "Extent", "Ledger", "Stored", "StoredEvidence", "Survey", "damages", "extent"]
