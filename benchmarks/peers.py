"""Measures how many planted oddities `peers` finds, and how much of what it shows was planted, by the whole program.

An estate of teams: each has groups of its own and rights by them, sub-roles that a third of a team shares, people who lack some of
it, and hosts of one role.  Planted are rights that one person of a team holds alone, accounts copied from one of another team, and
hosts that give more than the others of their role.  Once with the teams declared in an identity map, once without.
"""

import argparse
import json
import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable
from datetime import UTC, datetime
from pathlib import Path

from estate import Estate as Generated
from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.evidence import Bundle
from fidelitas.ledger import Ledger

PROGRAM = Path(sys.executable).with_name("fidelitas")
NOW = datetime(2026, 11, 20, tzinfo=UTC)


class Made(Struct, dict=True):
    """What is in the estate: groups with members, rules by host, teams, and what was planted."""

    chance: random.Random
    teams: dict[str, list[str]] = field(default_factory=dict)
    groups: dict[str, set[str]] = field(default_factory=dict)
    rules: dict[str, list[str]] = field(default_factory=dict)
    planted: set[tuple[str, str]] = field(default_factory=set)  # holder, right
    copied: set[tuple[str, str]] = field(default_factory=set)
    odd_hosts: set[str] = field(default_factory=set)


def make(seed: int, teams: int, hosts: int) -> Made:
    """Return an estate with its oddities."""
    chance = random.Random(seed)
    made = Made(chance)
    made.rules = {f"host{number}": [] for number in range(hosts)}
    for number in range(teams):
        team = f"team{number}"
        made.teams[team] = [f"p{number}x{n}" for n in range(chance.randrange(5, 16))]
        for kind in range(chance.randrange(2, 4)):
            name = f"{team}g{kind}"
            made.groups[name] = {one for one in made.teams[team] if chance.random() > 0.07}
            for host in chance.sample(sorted(made.rules), 4):
                made.rules[host].append(f"%{name} ALL=(root) /usr/bin/tool{number}-{kind}")
        some = chance.sample(made.teams[team], max(2, len(made.teams[team]) // 3))
        made.groups[f"{team}sub"] = set(some)
        made.rules[chance.choice(sorted(made.rules))].append(f"%{team}sub ALL=(root) NOPASSWD: /usr/bin/sub{number}")
    _plant(made)
    return made


def _plant(made: Made) -> None:
    """Give rights that nobody else of the team has, copy accounts, and make hosts of a role differ."""
    chance, people = made.chance, [one for members in made.teams.values() for one in members]
    for number in range(len(made.teams) * 2):
        who, host = chance.choice(people), chance.choice(sorted(made.rules))
        command = chance.choice(["ALL", f"/usr/bin/odd{number}"])
        made.rules[host].append(f"{who} ALL=(root) {command}")
        made.planted.add((who, "root" if command == "ALL" else f"command:{command}"))
        made.odd_hosts |= {host} if command == "ALL" else set()
    names = sorted(made.teams)
    for number in range(max(2, len(names) // 3)):
        first, second = names[2 * number % len(names)], names[(2 * number + 1) % len(names)]
        like, holder = chance.choice(made.teams[first]), chance.choice(made.teams[second])
        for kind in range(3):
            made.groups[f"special{number}-{kind}"] = {like}
        for members in made.groups.values():
            if like in members:  # who made the account gave it all that the other had
                members.add(holder)
        made.copied.add((holder, like))
    for number in range(4):
        for host in sorted(made.rules)[number * 6 : number * 6 + 6]:
            made.rules[host].append(f"%team{number}g0 ALL=(root) /usr/bin/role{number}")
        odd = sorted(made.rules)[number * 6 + chance.randrange(6)]
        made.rules[odd].append("svcodd ALL=(ALL) NOPASSWD: ALL")
        made.odd_hosts.add(odd)
    made.odd_hosts &= set(sorted(made.rules)[:24])  # those that have a role


def bundles(made: Made) -> Iterable[Bundle]:
    """Yield the evidence of the hosts."""
    base = next(iter(Generated(random.Random(1), 1, 1, 1).hosts(1)))
    people = [one for members in made.teams.values() for one in members]
    passwd = "root:x:0:0::/root:/bin/bash\n" + "".join(
        f"{one}:x:{2000 + n}:{2000 + n}::/home/{one}:/bin/bash\n" for n, one in enumerate(people)
    )
    shadow = "root:{locked yescrypt}:20000:0:99999:7:::\n" + "".join(f"{one}:{{usable yescrypt}}:20000:0:99999:7:::\n" for one in people)
    group = "root:x:0:\n" + "".join(
        f"{name}:x:{9000 + n}:{','.join(sorted(members))}\n" for n, (name, members) in enumerate(made.groups.items())
    )
    group += "".join(f"{one}:x:{2000 + n}:\n" for n, one in enumerate(people))
    files = {path: content for path, content in base.files.items() if not path.startswith("/etc/sudoers")}
    for host, rules in made.rules.items():
        own = {
            **files,
            "/etc/passwd": (passwd + "svcodd:x:900:900::/:/bin/sh\n").encode(),
            "/etc/shadow": shadow.encode(),
            "/etc/group": group.encode(),
            "/etc/sudoers": "".join(f"{rule}\n" for rule in rules).encode(),
            "/etc/nsswitch.conf": b"passwd: files\ngroup: files\nshadow: files\nsudoers: files\n",
        }
        yield replace(base, name=host, files=own, manifest=replace(base.manifest, taken=NOW))


def ask(folder: Path, *options: str) -> tuple[float, dict[str, list[dict[str, object]]]]:
    """Return how long `peers` took, and its document."""
    begins, env = time.perf_counter(), {**os.environ, "FIDELITAS_LEDGER": str(folder / "ledger")}
    done = subprocess.run(
        [PROGRAM, "peers", *options, "--format", "json"], env=env, cwd=folder, capture_output=True, text=True, check=False
    )
    if done.returncode not in (0, 1, 3):
        sys.exit(done.stderr)
    return time.perf_counter() - begins, json.loads(done.stdout)


def score(title: str, found: set[object], planted: set[object]) -> None:
    """Print precision and recall."""
    right = len(found & planted)
    precision, recall = right / max(1, len(found)), right / max(1, len(planted))
    print(f"{title:<34} precision {precision:6.1%} ({right} of {len(found)})   recall {recall:6.1%} of {len(planted)}")


def main() -> None:
    """Make estates, ask, print."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--teams", type=int, default=20)
    options.add_argument("--hosts", type=int, default=40)
    options.add_argument("--seed", type=int, default=1)
    chosen = options.parse_args()
    made = make(chosen.seed, chosen.teams, chosen.hosts)
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        tags = {host: (f"role=r{number // 6}",) for number, host in enumerate(sorted(made.rules)) if number < 24}
        Ledger(folder / "ledger").add(bundles(made), NOW, tags)
        rows = [f"{one},{one},{team},active," for team, members in made.teams.items() for one in members]
        (folder / "people.csv").write_text("\n".join(["person,accounts,team,status,until", *rows]) + "\n")
        people = sum(map(len, made.teams.values()))
        print(f"{people} people in {len(made.teams)} teams, {len(made.rules)} hosts (wanted: precision >= 90 %, recall >= 80 %)")
        for title, arguments in (("declared teams", ["--people", "people.csv"]), ("by what they have", [])):
            took, document = ask(folder, *arguments)
            copied = {holder for holder, _ in made.copied}  # what they have of another team is unusual in theirs, and was planted as well
            every = {(one["holder"], one["what"]) for one in document["unusual"]}
            unusual: set[object] = {one for one in every if one in made.planted or one[0] not in copied}
            score(f"{title}: rights", unusual, set(made.planted))
            if arguments:
                score(f"{title}: copies", {(one["holder"], one["like"]) for one in document["copies"]}, set(made.copied))
                hosts: set[object] = {place for one in document["hosts"] if one["what"] == "root" for place in [one["holder"]]}
                score("hosts unlike their role: root", hosts, set(made.odd_hosts))
            print(f"  {took:.1f} s")


if __name__ == "__main__":
    main()
