"""Puts the same questions to the rights that we compute from this machine's own evidence; prints one JSON line each."""

import json
import sys

from fidelitas.languages.linux.host import read_host
from fidelitas.rights import rights_of
from fidelitas.rights.linux.sudo import Asks, grants
from fidelitas.sources import FileScan, from_this_machine

host = rights_of(read_host(from_this_machine(scan=FileScan.NOWHERE).bundle))
people = host.population.by_name
for line in sys.stdin:
    account, target = line.split()
    everything = [grant for grant in grants(host.policy, people[account], people[target], host.facts.taken) if grant.leaf.everything]
    first = everything[0] if everything else None
    password = None if first is None else first.asks is not Asks.NOTHING
    rule = None if first is None else str(first.rule.place)
    said = {"account": account, "target": target, "allowed": first is not None, "password": password, "rule": rule}
    print(json.dumps(said))
