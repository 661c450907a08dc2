"""Measures suggestions of whose an account is: 300 people of several naming cultures on four systems, of which the map names one.

Prints recall and precision for three seeds; accounts of services and of people who are not in the map are among them.
"""

import argparse
import random
import time
from collections.abc import Callable, Sequence

from fidelitas.people import MappedPerson
from fidelitas.people.spellings import fold
from fidelitas.people.suggestions import AccountSigns, Guesser

CULTURES: dict[str, tuple[Sequence[str], Sequence[str]]] = {
    "north": (
        [
            "Åse",
            "Jørgen",
            "Søren",
            "Łukasz",
            "Zoë",
            "Håkon",
            "Pål",
            "Šárka",
            "Ægir",
            "Þóra",
            "Björn",
            "Jürgen",
            "Käthe",
            "Øyvind",
            "Małgorzata",
        ],
        [
            "Sørensen",
            "Müller",
            "Ångström",
            "Łukasiewicz",
            "Þórsdóttir",
            "Bjørnstad",
            "Weiß",
            "Grünwald",
            "Åkesson",
            "Dvořák",
            "Kovářová",
            "Østergård",
            "Nußbaum",
        ],
    ),
    "west": (
        [
            "John",
            "Mary",
            "Peter",
            "Anna",
            "Michael",
            "Emma",
            "David",
            "Laura",
            "Robert",
            "Alice",
            "Sarah",
            "James",
            "Helen",
            "Oliver",
            "Grace",
        ],
        [
            "Smith",
            "Jones",
            "Brown",
            "Taylor",
            "Wilson",
            "Davies",
            "Evans",
            "Thomas",
            "Roberts",
            "O'Neill",
            "McDonald",
            "Walker",
            "Wright",
            "Green",
            "Hall",
        ],
    ),
    "particles": (
        ["Jan", "Pieter", "Sofie", "Luc", "Maria", "Johan", "Eva", "Ruud", "Ingrid", "Joost"],
        [
            "van der Berg",
            "de Vries",
            "von Humboldt",
            "van Dijk",
            "de la Cruz",
            "ter Horst",
            "du Pont",
            "van den Heuvel",
            "da Silva",
            "di Marco",
        ],
    ),
    "double": (
        ["José María", "Juan Carlos", "Ana Lucía", "Luis Miguel", "Marie-Claire", "Jean-Pierre", "Ana Sofía", "Carlos Andrés"],
        ["García López", "Martínez Ruiz", "Hernández Peña", "Dupont-Moreau", "Núñez Ibáñez", "Ramírez Soto", "Fernández Gil"],
    ),
    "east": (
        ["Иван", "Ольга", "Дмитрий", "Наталья", "Юрий", "Светлана", "Алексей", "Мария", "Сергей", "Екатерина"],
        ["Петров", "Смирнова", "Кузнецов", "Попова", "Соколов", "Жукова", "Волков", "Щербаков", "Чехова", "Фёдоров"],
    ),
    "family-first": (
        ["Wei", "Xiaoming", "Yuki", "Hiroshi", "Minjun", "Lan", "Thuy", "Bao", "Haruka", "Jing"],
        ["Zhang", "Wang", "Tanaka", "Suzuki", "Kim", "Nguyen", "Tran", "Li", "Yamamoto", "Park"],
    ),
}

Scheme = Callable[[list[str], random.Random], str]
SCHEMES: dict[str, Scheme] = {
    "first.last": lambda w, _: f"{w[0]}.{w[-1]}",
    "flast": lambda w, _: f"{w[0][0]}{''.join(w[1:]) if len(w) > 2 else w[-1]}",
    "last.first": lambda w, _: f"{w[-1]}.{w[0]}",
    "lastf": lambda w, _: f"{w[-1]}{w[0][0]}",
    "short": lambda w, _: f"{w[0][0]}{w[-1]}"[:8],
    "first_last": lambda w, _: f"{w[0]}_{w[-1]}",
    "numbered": lambda w, c: f"{w[0]}.{w[-1]}{c.randrange(2, 10)}",
    "adm": lambda w, c: c.choice([f"adm-{w[0]}.{w[-1]}", f"{w[0][0]}{w[-1]}-adm", f"adm_{w[0][0]}{w[-1]}"]),
    "typo": lambda w, c: _typo(f"{w[0]}.{w[-1]}", c),
    "opaque": lambda _, c: f"u{c.randrange(10000, 99999)}",
}  # fmt: skip
SYSTEMS = [
    ("linux", ("flast", "short", "lastf", "typo")),
    ("directory", ("first.last", "numbered", "adm", "last.first")),
    ("database", ("first_last", "flast", "opaque", "adm")),
]
SERVICES = [
    "backup",
    "postgres",
    "www-data",
    "deploy",
    "jenkins",
    "nagios",
    "svc_report",
    "etl",
    "gitlab",
    "monitor",
    "ansible",
    "ldapsync",
    "printer",
    "scanner",
    "admin",
    "oracle",
]


def _typo(text: str, chance: random.Random) -> str:
    at = chance.randrange(1, len(text) - 2)
    return chance.choice(
        [text[:at] + text[at + 1 :], text[:at] + text[at + 1] + text[at] + text[at + 2 :], text[:at] + "x" + text[at + 1 :]]
    )


def people_of(chance: random.Random, count: int) -> list[str]:
    """Return the names of so many people, no two alike."""
    names: dict[str, None] = {}
    while len(names) < count:
        given, family = CULTURES[chance.choice(sorted(CULTURES))]
        names[f"{chance.choice(given)} {chance.choice(family)}"] = None
    return list(names)


def measure(seed: int, count: int) -> tuple[int, int, int, int, float]:
    """Return how many accounts there were of people of the map, how many were suggested, how many rightly; and of strangers; seconds."""
    chance = random.Random(seed)
    names = people_of(chance, count + count // 6)
    known, strangers = names[:count], names[count:]
    people = [MappedPerson(name=name, accounts=(f"p{1000 + number}",)) for number, name in enumerate(known)]
    owned = [
        (person, AccountSigns(subject="hr", account=person.accounts[0], employee=str(7000 + number), uid=20000 + number))
        for number, person in enumerate(people)
    ]
    asked: list[tuple[AccountSigns, str]] = []
    for number, name in enumerate(names):
        words = fold(name).replace("-", " ").split()
        for system, schemes in SYSTEMS:
            scheme = chance.choice(schemes)
            shown = chance.random()
            signs = AccountSigns(
                subject=system,
                account=SCHEMES[scheme](words, chance),
                comment=(name if shown < 0.35 else fold(name).title() if shown < 0.5 else "") if scheme != "opaque" else name,
                mail=f"{words[0]}.{words[-1]}@saltmarsh.example" if system == "directory" and chance.random() < 0.5 else "",
                employee=str(7000 + number) if system == "directory" and chance.random() < 0.4 else "",
                uid=20000 + number if system == "linux" and chance.random() < 0.4 else None,
            )
            asked.append((signs, name if name in known else ""))
    asked += [(AccountSigns(subject="linux", account=name, comment=chance.choice(["", "service account"])), "") for name in SERVICES]
    guesser = Guesser(people, owned)
    begun = time.perf_counter()
    guesses = [(guesser.guess(signs), name) for signs, name in asked]
    took = time.perf_counter() - begun
    mine = sum(bool(name) for _, name in asked)
    right = sum(guess is not None and guess.person == name for guess, name in guesses if name)
    made = sum(guess is not None for guess, _ in guesses)
    assert strangers
    return mine, made, right, len(asked), took


def main() -> None:
    """Print the figures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--people", type=int, default=300)
    count = parser.parse_args().people
    print(f"{'seed':>4} {'accounts':>8} {'recall':>8} {'precision':>9} {'each':>9}")
    for seed in (1, 2, 3):
        mine, made, right, every, took = measure(seed, count)
        print(f"{seed:>4} {mine:>8} {right / mine:>8.1%} {right / made:>9.1%} {took / every * 1000:>6.2f} ms")


if __name__ == "__main__":
    main()
