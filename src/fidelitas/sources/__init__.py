"""How evidence is reached.  The only room besides `cli` and `ledger` that touches the world.

A source copies and never judges.  It returns what it got as it came: the archive's own bytes, which the ledger keeps, and the bundle
read from them.
"""

from fidelitas.sources.file import from_file
from fidelitas.sources.local import FileScan, LogScan, from_this_machine
from fidelitas.sources.policy_file import POLICY, from_policy_file
from fidelitas.sources.root_files import RootFiles

__all__ = ["POLICY", "FileScan", "LogScan", "RootFiles", "from_file", "from_policy_file", "from_this_machine"]
