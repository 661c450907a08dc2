"""The estate: everything under audit, as the file ``estate.toml`` declares it."""

from fidelitas.estate.entries import Elevation, Estate, HostEntry, PolicySource, ServerEntry, Shell, has_tag
from fidelitas.estate.read import DEFAULT_POLICY_FILES, read_estate

__all__ = ["DEFAULT_POLICY_FILES", "Elevation", "Estate", "HostEntry", "PolicySource", "ServerEntry", "Shell", "has_tag", "read_estate"]
