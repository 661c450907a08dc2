"""The charter of the observatory: who may do what, a storm that is over, and a finding that is accepted for three weeks more."""

from collections.abc import Mapping, Sequence

from fidelitas.demo.people import Person

__all__ = ["charter_text"]


def charter_text(team: Mapping[str, Sequence[Person]]) -> str:
    """Return the text of the charter for these people."""
    keeper, deputy = (person.name for person in team["administrators"][:2])
    technicians = [person.name for person in team["technicians"]]
    duty = ", ".join(f'"{name}"' for name in technicians[2:5])
    return f"""\
# The charter of the Saltmarsh Tide Observatory.  It is checked each night:
#   fidelitas charter check charter.toml --people people.csv

format = 1

[[warrant]]
who = "team:administrators"
right = "root"
on = ["tern", "curlew", "dunlin"]
why = "they run the observatory"
owner = "{keeper}"
review-by = 2026-12-31
conditions = ["with password"]

[[warrant]]
who = "team:administrators"
right = ["db-superuser", "directory-admin", "admin"]
on = "*"
why = "the same for databases, the directory and the workstations"
owner = "{keeper}"

[[warrant]]
who = [{duty}]
right = "command:/usr/bin/systemctl restart tide-ingest"
on = "tern"
why = "those on duty restart the ingest"
owner = "{deputy}"
ticket = "OPS-118"

[[warrant]]
who = "%modellers"
right = "run-as:modelrun"
on = "curlew"
why = "they run the surge model"
owner = "{keeper}"

[[warrant]]                       # the surge of last winter: should have ended with it
who = "{technicians[0]}"
right = "root"
on = "tern"
why = "storm surge"
owner = "{deputy}"
from = 2026-01-12
until = 2026-04-30

[[must]]
account = "{technicians[2]}"
on = "tern"
command = "/usr/bin/systemctl restart tide-ingest"
why = "on duty"

[[never]]
account = "{team["operators"][0].name}"
on = "curlew"
right = "root"
why = "operators restart the model, and no more"

[[segregation]]
rights = ["db-superuser", "root"]
within = "estate"
why = "the databases and their hosts are run by different people"

[[exception]]
check = "running.writable"
on = "tern"
reason = "the script moves to another host with the new gauges"
owner = "{keeper}"
until = 2026-12-10
"""
