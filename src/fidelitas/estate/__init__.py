"""The estate: everything under audit, as the file ``estate.toml`` declares it."""

from fidelitas.estate.entries import Elevation, Estate, HostEntry, ServerEntry, Shell, has_tag
from fidelitas.estate.read import read_estate

__all__ = ["Elevation", "Estate", "HostEntry", "ServerEntry", "Shell", "has_tag", "read_estate"]
