"""Measures what an estate costs by its size: one process, all cores, and a cluster of two workers, on one ledger of PostgreSQL.

Everything runs here: the server, a scheduler of Dask and its workers, on the loopback.  Whole commands are measured, each engine with a
copy of the same ledger: the first judgement, the same after a second survey of which 3 in 100 hosts changed, a holder, changes.  Bytes are
those over the loopback: to and from the server, the scheduler and the workers.

    scale.py                        10,000 hosts, of which some 638, some 3,000 and all are distinct
    scale.py --demo                 2,000 hosts; the answers of both engines are held against each other
    scale.py --only-local 100000    one engine, a ledger in a file: what 100,000 hosts take of memory
    scale.py --logs 100             logs of 100, 200 and 400 MB, and what follows for 100 GB
"""

import argparse
import os
import random
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from datetime import datetime, timedelta
from pathlib import Path

from msgspec import Struct

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from estate import Estate
from ledger import FIRST, later, ldif
from logs import dense, lines

from cluster import Cluster, cluster
from fidelitas.evidence import Bundle, make_bundle
from fidelitas.ledger import Ledger
from fidelitas.sources.directory import from_ldif
from postgresql_server import Server, scratch_server

PROGRAM = Path(sys.executable).with_name("fidelitas")
PEOPLE, GROUPS = 2_000, 500
# One part in so many of the smallest log is made; all further ones have the same lines, on later days.
PARTS = 4
# How many roles give about so many distinct hosts of 10,000; none makes all differ.
ROLES = {"638": 60, "3000": 2_600, "all": 0}


class Cost(Struct, frozen=True, dict=True):
    """What a command took: seconds, its most memory and that of all workers and the scheduler in MB, and bytes over the loopback."""

    seconds: float
    client: float
    others: tuple[float, ...]
    moved: int
    said: str


def bundles(hosts: int, roles: int, *, second: bool = False) -> Iterator[Bundle]:
    """Yield an estate one subject at a time; the second time 3 hosts in 100 have another policy."""
    estate = Estate(random.Random(7), PEOPLE, GROUPS, roles)
    directory = from_ldif(ldif(estate.directory()), "saltmarsh").bundle
    yield directory
    for number, host in enumerate(estate.hosts(hosts)):
        if not second:
            yield host
        else:
            yield later(host, 0 if number % 100 < 3 else 1)


def loopback() -> int:
    """Return how many bytes have gone over the loopback."""
    line = next(one for one in Path("/proc/net/dev").read_text().splitlines() if one.strip().startswith("lo:"))
    return int(line.split()[1])


def most_memory(process: subprocess.Popen[bytes]) -> float:
    """Return the most memory that a process had, in MB."""
    found = re.search(r"VmHWM:\s+(\d+)", Path(f"/proc/{process.pid}/status").read_text())
    return int(found[1]) / 1024 if found else 0.0


def run(place: str, engine: str, arguments: Sequence[str], running: Cluster | None = None) -> Cost:
    """Run a command on a ledger by an engine: "one" is one process, "two" all cores, else the name of a cluster."""
    named = [] if engine in ("one", "two") else ["--engine", engine]
    alone = ["taskset", "-c", "0"] if engine == "one" else []
    command = [*alone, "/usr/bin/time", "-f", "%M", str(PROGRAM), *arguments, "--ledger", place, *named]
    moved, begins = loopback(), time.perf_counter()
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    took = time.perf_counter() - begins
    if done.returncode not in (0, 1, 3) or "not done by the cluster" in done.stderr:
        sys.exit(done.stderr[-2000:])
    others = tuple(most_memory(one) for one in (running.scheduler, *running.workers)) if running is not None else ()
    return Cost(took, int(done.stderr.split()[-1]) / 1024, others, loopback() - moved, done.stdout)


COMMANDS = {
    "findings, first": ["findings", "--severity", "high"],
    "findings, again": ["findings", "--severity", "high"],
    "holders --account": ["holders", "--account", "person7"],
}
AFTER = {
    "findings, 3 % changed": ["findings", "--severity", "high"],
    "changes": ["changes"],
}


class Measured:
    """Ledgers of one estate, a copy for each engine."""

    def __init__(self, server: Server, running: Cluster, hosts: int, roles: int) -> None:
        self._server, self._running, self._hosts, self._roles = server, running, hosts, roles
        self._engines = {"one": "one", "two": "two", "cluster": running.engine}

    def place(self, name: str) -> str:
        return f"postgresql://postgres@127.0.0.1:{self._server.port}/{name}"

    def survey(self, *, second: bool) -> float:
        """Add a survey to a ledger, and make a copy for each engine; return how many seconds it took.

        The second is added to the first engine's copy, in which the answers are that all have: the others are copies of it.
        """
        first, *others = self._engines
        if not second:
            self._server.run(f"drop database if exists {first} with (force)")
            self._server.run(f"create database {first}")
        begins = time.perf_counter()
        ledger = Ledger(self.place(first))
        ledger.add(bundles(self._hosts, self._roles, second=second), FIRST + timedelta(days=int(second)))
        ledger.database.close()
        took = time.perf_counter() - begins
        for name in others:
            self._server.run(f"drop database if exists {name} with (force)")
            self._server.run(f"create database {name} template {first}")
        return took

    def ask(self, commands: dict[str, list[str]], tell: Callable[[str, str, Cost], None]) -> None:
        for title, command in commands.items():
            said = {}
            for name, engine in self._engines.items():
                cost = run(self.place(name), engine, command, self._running if name == "cluster" else None)
                tell(title, name, cost)
                said[name] = cost.said
            if len(set(said.values())) != 1:
                sys.exit(f"{title}: the engines do not say the same")


def measure(server: Server, running: Cluster, hosts: int, distinct: str) -> None:
    measured = Measured(server, running, hosts, ROLES[distinct])
    print(f"{hosts:,} hosts, distinct: {distinct}")
    print(f"  {'survey, first':24} {measured.survey(second=False):7.1f} s", flush=True)
    base: dict[str, float] = {}

    def tell(title: str, name: str, cost: Cost) -> None:
        base.setdefault(title, cost.seconds)
        memory = " + ".join(f"{one:.0f}" for one in (cost.client, *cost.others))
        ratio, moved = cost.seconds / base[title], cost.moved / hosts
        print(f"  {title:24} {name:8} {cost.seconds:7.1f} s {ratio:5.2f} of one {memory:>24} MB {moved:9,.0f} bytes a host", flush=True)

    measured.ask(COMMANDS, tell)
    print(f"  {'survey, second':24} {measured.survey(second=True):7.1f} s", flush=True)
    measured.ask(AFTER, tell)


def only_local(hosts: int) -> None:
    """Measure one engine with a ledger in a file: the evidence is made as it is stored."""
    with tempfile.TemporaryDirectory() as folder:
        begins = time.perf_counter()
        Ledger(Path(folder)).add(bundles(hosts, ROLES["638"]), FIRST)
        print(f"{hosts:,} hosts: survey {time.perf_counter() - begins:.0f} s", flush=True)
        for title, command in COMMANDS.items():
            cost = run(folder, "two", command)
            print(f"  {title:24} {cost.seconds:7.1f} s {cost.client:6.0f} MB (wanted: at most 2,000 MB)", flush=True)


def again(part: Path, number: int) -> Iterator[bytes]:
    """Yield the lines of a part of a log as a later one has them: the same is done once more, from the day on after the last."""
    with part.open("rb") as lines:
        dates = list(dict.fromkeys(line[:10] for line in lines))
        later = timedelta(days=number * len(dates))
        moved = {date: (datetime.fromisoformat(date.decode()) + later).date().isoformat().encode() for date in dates}
        lines.seek(0)
        yield from (moved[line[:10]] + line[10:] for line in lines)


def logs(megabytes: int) -> None:
    """Measure logs of three sizes, and say what follows for 100 GB."""
    rates: list[float] = []
    with tempfile.TemporaryDirectory() as folder:
        part, path = Path(folder) / "part", Path(folder) / "auth.log"
        with part.open("w") as log:
            log.writelines(lines(dense, "iso", megabytes * 1_000_000 // PARTS))
        written = 0
        for size in (megabytes, 2 * megabytes, 4 * megabytes):
            with path.open("ab") as log:
                for number in range(written, PARTS * size // megabytes):
                    log.writelines(again(part, number))
                    written += 1
            begins = time.perf_counter()
            done = subprocess.run(
                ["/usr/bin/time", "-f", "%M", PROGRAM, "usage", "--log", path], capture_output=True, text=True, check=False
            )
            rates.append(size / (time.perf_counter() - begins))
            peak = int(done.stderr.split()[-1]) / 1024
            print(f"  {size:6} MB {size / rates[-1]:7.1f} s {rates[-1]:6.1f} MB/s {peak:6.0f} MB of memory", flush=True)
    hours = 100_000 / rates[-1] / 3600
    print(
        f"  growth {rates[0] / rates[-1]:.2f} from the smallest to the largest; 100 GB at the last rate: {hours:.1f} hours on this machine"
    )


def demo(server: Server, running: Cluster, hosts: int) -> None:
    """Survey an estate and ask it, by this machine and by the cluster, and hold what they say against each other."""
    said: dict[str, dict[str, str]] = {}
    with tempfile.TemporaryDirectory() as folder:
        files = [written(one, Path(folder)) for one in bundles(hosts, ROLES["638"])]
        commands = {"survey": ["survey", *files], **COMMANDS}
        for engine in ("two", running.engine):
            place = f"postgresql://postgres@127.0.0.1:{server.port}/{'here' if engine == 'two' else 'there'}"
            server.run(f"create database {place.rpartition('/')[2]}")
            name = "this machine" if engine == "two" else "the cluster"
            print(f"\nby {name}")
            for title in ("survey", "findings, first", "findings, again", "holders --account"):
                cost = run(place, engine, commands[title], running if engine != "two" else None)
                said.setdefault(title, {})[name] = re.sub(r"\d{4}-\d\d-\d\d(T\d{6}Z| \d\d:\d\d UTC)", "TIME", cost.said)
                print(f"  {title:24} {cost.seconds:7.1f} s", flush=True)
    for title, answers in said.items():
        print(f"\n{title}")
        print("\n".join(f"  {line[:150]}" for line in next(iter(answers.values())).splitlines()[:8]))
        if len(set(answers.values())) != 1:
            sys.exit(f"{title}: this machine and the cluster do not say the same")
    print("\nThis machine and the cluster say the same.")


def written(bundle: Bundle, folder: Path) -> str:
    """Write evidence as a collector does, and return the path."""
    path = folder / f"{bundle.subject}.tar"
    path.write_bytes(make_bundle(bundle.manifest, bundle.files, bundle.listings))
    return str(path)


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("--hosts", type=int, default=10_000)
    options.add_argument("--distinct", default=",".join(ROLES))
    options.add_argument("--demo", action="store_true")
    options.add_argument("--only-local", type=int, metavar="HOSTS")
    options.add_argument("--logs", type=int, metavar="MB")
    chosen = options.parse_args()
    os.environ.pop("FIDELITAS_ENGINE", None)
    if chosen.only_local:
        only_local(chosen.only_local)
    elif chosen.logs:
        logs(chosen.logs)
    else:
        with ExitStack() as stack:
            folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
            (folder / "cluster").mkdir()
            server = stack.enter_context(scratch_server(folder))
            server.listen()
            running = stack.enter_context(cluster(folder / "cluster", 2))
            print("a server of PostgreSQL, a scheduler of Dask and two workers run on the loopback", flush=True)
            if chosen.demo:
                demo(server, running, 2_000)
            else:
                for distinct in chosen.distinct.split(","):
                    measure(server, running, chosen.hosts, distinct)


if __name__ == "__main__":
    main()
