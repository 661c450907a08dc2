"""Where work on many subjects is done: in processes of this machine, or by workers of a cluster that read and keep in the same ledger.

Collecting is not among it: the keys to hosts stay on the auditor's machine.
"""

from fidelitas.engines.engine import Engine
from fidelitas.engines.local import LocalEngine, cores, on_all_cores

__all__ = ["Engine", "LocalEngine", "cores", "on_all_cores"]
