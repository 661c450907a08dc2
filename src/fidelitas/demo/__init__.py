"""The Saltmarsh Tide Observatory: a made-up estate, generated from a seed, with a list of everything that was planted in it.

People, hosts and data are invented; the domain is saltmarsh.example.
"""

from fidelitas.demo.estate import TAKEN, Estate, earlier_surveys, make_estate, write_estate

__all__ = ["TAGS", "TAKEN", "Estate", "earlier_surveys", "make_estate", "write_estate"]

# What the file of the estate would say of its subjects.
TAGS = {
    "tern": ("role=database", "production"),
    "curlew": ("role=web", "production"),
    "dunlin": ("role=web", "test"),
    "tides-db": ("role=database", "production"),
    "catalogue-db": ("role=database", "test"),
    "avocet": ("workstation",),
    "godwit": ("workstation",),
    "saltmarsh-ad": ("role=directory", "production"),
}
