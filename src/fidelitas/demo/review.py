"""The demo's review, half done: what its reviewers have decided, and when."""

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from fidelitas.demo.people import Person

__all__ = ["REVIEW", "PlannedDecision", "PlantedOddity", "planned_decisions", "planted_oddities", "started"]

REVIEW = "2026-autumn"


class PlannedDecision(NamedTuple):
    """What someone decided about what a holder has on a subject, or about all on a work list where `holder` is empty."""

    holder: str
    right: str
    subject: str
    decision: str
    reason: str
    reviewer: str
    on_list_of: str = ""


class PlantedOddity(NamedTuple):
    """A right that few peers of a person have."""

    holder: str
    right: str
    subject: str


def started(taken: datetime) -> datetime:
    """Return when the review began: on the day after the survey, in the morning."""
    return (taken + timedelta(days=1)).replace(hour=9, minute=0)


def planned_decisions(team: Mapping[str, Sequence[Person]]) -> list[PlannedDecision]:
    """Return what was decided so far: the administrators' list whole, by one of them, and a few of the technicians'."""
    technicians, deputy = [one.name for one in team["technicians"]], team["administrators"][1].full_name
    return [
        PlannedDecision("", "", "", "keep", "runs the observatory", deputy, "administrators"),
        PlannedDecision(technicians[0], "root", "tern", "revoke", "the storm surge is over", deputy),
        PlannedDecision(technicians[2], "root", "dunlin", "ask", "does calibration still need every command?", deputy),
        PlannedDecision(technicians[7], "command:/usr/local/sbin/flash-gauge", "dunlin", "keep", "flashes gauges until March", deputy),
    ]


def planted_oddities(team: Mapping[str, Sequence[Person]]) -> list[PlantedOddity]:
    """Return what must be shown as unusual among peers."""
    technicians, operators, administrators = team["technicians"], team["operators"], team["administrators"]
    return [
        PlantedOddity(technicians[5].full_name, 'command:/usr/local/sbin/calibrate-gauge ""', "dunlin"),
        PlantedOddity(technicians[7].full_name, "command:/usr/local/sbin/flash-gauge", "dunlin"),
        PlantedOddity(operators[0].full_name, "db-superuser", "tides-db"),
        PlantedOddity(operators[0].full_name, "db-host-escape", "tides-db"),
        PlantedOddity(operators[0].full_name, "read-secrets", "godwit"),
        PlantedOddity(operators[1].full_name, "admin", "avocet"),
        PlantedOddity(operators[1].full_name, "directory-admin", "saltmarsh-ad"),
        PlantedOddity(administrators[1].full_name, "read-evidence", "avocet"),
    ]
