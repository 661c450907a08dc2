"""The Saltmarsh Tide Observatory: a made-up estate, generated from a seed, with a list of everything that was planted in it.

People, hosts and data are invented; the domain is saltmarsh.example.
"""

from fidelitas.demo.estate import Estate, make_estate, write_estate

__all__ = ["Estate", "make_estate", "write_estate"]
