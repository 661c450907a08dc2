"""The charter: what access is sanctioned.  For now its musts and nevers: "account X must, or must never, be able to run C as R on H".

`read` takes the file, `check` holds a host's policy against it.
"""

from fidelitas.charter.check import Outcome, Result, check_charter
from fidelitas.charter.read import Clause, Kind, read_charter
from fidelitas.charter.sanction import sanctions

__all__ = ["Clause", "Kind", "Outcome", "Result", "check_charter", "read_charter", "sanctions"]
