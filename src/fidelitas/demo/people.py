"""The people of the observatory, drawn from a seed."""

import random

from msgspec import Struct

__all__ = ["Person", "draw_people"]

_FIRST = (
    "Noor Ines Tomas Rada Vesna Kofi Maren Idris Sanna Pavel Lucia Hamid Greta Otto Amara Joren Lena Mirko Thandi Yusuf Elke Dario Freya "
    "Nils Oana Piet Rosa Selim Tuva Ulla Viggo Wanda Xenia Ylva Zora Anouk Bram Caspar Delia Emre"
).split()
_FAMILY = (
    "Aldermoor Brakwater Cordgrass Driftwood Eelgrass Fenwick Glasswort Halloran Inlet Jettison Kelderman Lowtide Marram Neap Oyster "
    "Plover Quay Reedmace Samphire Tidewell Underhill Vlieland Wrack Yarrow Zeewier Ashmarsh Bittern Creek Dyke Estuary"
).split()

# How many people each team has, and from which user ID on they are numbered; some thirty in all.
TEAMS = {"administrators": 4, "scientists": 8, "technicians": 9, "operators": 6, "contractors": 3}


class Person(Struct, frozen=True):
    """A member of the observatory."""

    name: str  # of the account
    full_name: str
    team: str
    uid: int


def draw_people(chance: random.Random) -> list[Person]:
    """Return the people, team by team; the first technician is always Noor, whom the documentation follows."""
    firsts = ["Noor", *chance.sample(_FIRST[1:], sum(TEAMS.values()) - 1)]
    families = [chance.choice(_FAMILY) for _ in firsts]
    teams = [team for team, count in TEAMS.items() for _ in range(count)]
    first_technician = teams.index("technicians")
    firsts[0], firsts[first_technician] = firsts[first_technician], firsts[0]
    return [
        Person(name=first.lower(), full_name=f"{first} {family}", team=team, uid=1001 + index)
        for index, (first, family, team) in enumerate(zip(firsts, families, teams, strict=True))
    ]
