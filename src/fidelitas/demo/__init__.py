"""The Saltmarsh Tide Observatory: a made-up estate, generated from a seed, with a list of everything that was planted in it.

People, hosts and data are invented; the domain is saltmarsh.example.
"""

from fidelitas.demo.estate import TAGS, TAKEN, Estate, earlier_surveys, make_estate, policy_commits, write_estate

__all__ = ["TAGS", "TAKEN", "Estate", "earlier_surveys", "make_estate", "policy_commits", "write_estate"]
