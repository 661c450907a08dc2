"""Measures a ledger of many hosts, by the whole program: what a survey costs, what an unchanged second one adds, how long answers take.

The estate is that of `estate.py`: 10,000 hosts of which 638 are distinct, and a directory.  For the second survey every host has another
time and other processes, and one in a hundred another policy.  Each command is run on its own, with its time and most memory; the first
judges everything, what comes after has its stored answers.  At the end 200 hosts that are all different, without a directory.

With --surveys, 200 hosts with logs are surveyed so often, a day apart, and asked after the first survey and after the last.
"""

import argparse
import os
import random
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from estate import Estate
from msgspec.structs import replace

from fidelitas.evidence import Bundle, CopiedLog
from fidelitas.facts import Directory
from fidelitas.ledger import Ledger
from fidelitas.ledger.verify import extent
from fidelitas.sources.directory import from_ldif

PROGRAM = Path(sys.executable).with_name("fidelitas")
SUFFIX = "dc=saltmarsh,dc=example"
FIRST = datetime(2026, 11, 20, tzinfo=UTC)


def ldif(directory: Directory) -> bytes:
    """Return a directory as an export of it."""
    head = f"dn: {SUFFIX}\nobjectClass: dcObject\nobjectClass: organization\ndc: saltmarsh\no: Saltmarsh\n"
    accounts = (
        f"dn: uid={one.name},{SUFFIX}\nobjectClass: posixAccount\nuid: {one.name}\ncn: {one.name}\nuidNumber: {one.uid}\n"
        f"gidNumber: {one.gid}\nhomeDirectory: /home/{one.name}\n"
        for one in directory.accounts
    )
    groups = (
        f"dn: cn={group.name},{SUFFIX}\nobjectClass: posixGroup\nobjectClass: groupOfNames\ncn: {group.name}\ngidNumber: {group.gid}\n"
        + "".join(f"member: {'cn' if one.is_group else 'uid'}={one.name},{SUFFIX}\n" for one in group.members)
        for group in directory.groups
    )
    return "\n".join([head, *accounts, *groups]).encode()


def later(bundle: Bundle, number: int) -> Bundle:
    """Return the evidence of a host a day later."""
    processes = bundle.listings["processes"].replace(b"\tsh\n", b"\tsleep\n")
    files = dict(bundle.files)
    if number % 100 == 0:
        files["/etc/sudoers"] += b"local01 ALL=(root) /usr/bin/id\n"
    manifest = replace(bundle.manifest, taken=bundle.taken + timedelta(days=1))
    return replace(bundle, manifest=manifest, files=files, listings={**bundle.listings, "processes": processes})


def run(ledger: Path, *arguments: str) -> tuple[float, float, str]:
    """Return the seconds that a command takes, its most memory in MB, and the first line of what it prints."""
    begins, env = time.perf_counter(), {**os.environ, "FIDELITAS_LEDGER": str(ledger)}
    done = subprocess.run(["/usr/bin/time", "-f", "%M", PROGRAM, *arguments], env=env, capture_output=True, text=True, check=False)
    took = time.perf_counter() - begins
    if done.returncode not in (0, 1, 3):
        sys.exit(done.stderr)
    return took, int(done.stderr.split()[-1]) / 1024, done.stdout.partition("\n")[0][:90]


def ask(ledger: Path, title: str, *arguments: str, wanted: str = "") -> float:
    took, memory, first = run(ledger, *arguments)
    print(f"{title:<46} {took:7.2f} s {memory:6.0f} MB   {f'(wanted: {wanted})' if wanted else '':<20} {first}", flush=True)
    return took


def surveyed(ledger: Ledger, bundles: Iterator[Bundle], at: datetime) -> float:
    begins = time.perf_counter()
    ledger.add(bundles, at)
    return time.perf_counter() - begins


def main() -> None:
    """Make the ledger, ask it, print."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--hosts", type=int, default=10_000)
    options.add_argument("--different", action="store_true", help="draw every host's policies and accounts anew")
    options.add_argument("--surveys", type=int, metavar="COUNT", help="so many daily surveys of 200 hosts with logs, in place of all else")
    options.add_argument("--keep", type=Path, help="leave the ledger in this folder")
    chosen = options.parse_args()
    if chosen.surveys:
        with tempfile.TemporaryDirectory() as scratch:
            daily(Path(scratch) / "ledger", chosen.surveys)
        return
    estate = Estate(random.Random(7), 2_000, 500, 0 if chosen.different else 60)
    directory = from_ldif(ldif(estate.directory()), "saltmarsh").bundle
    hosts = list(estate.hosts(chosen.hosts))
    with tempfile.TemporaryDirectory() as scratch:
        place = chosen.keep or Path(scratch) / "ledger"
        ledger = Ledger(place)
        took = surveyed(ledger, iter([directory, *hosts]), FIRST)
        before = extent(ledger)
        print(
            f"first survey of {len(hosts)} hosts: {took:.1f} s, {before.size / 1e6:.1f} MB packed, {len(hosts) / took:.0f} hosts/s",
            flush=True,
        )
        answers(place)
        again = iter([directory, *(later(host, number) for number, host in enumerate(hosts))])
        took = surveyed(ledger, again, FIRST + timedelta(days=1))
        after = extent(ledger)
        added, changes = after.size - before.size, after.changes - before.changes
        print(
            f"second survey: {took:.1f} s, adds {added / before.size:.1%} of the first's size: {changes / before.size:.1%} what changes at "
            f"every survey, {(added - changes) / before.size:.2%} new contents (wanted: at most 1 %)"
        )
        print("after the second survey, of which one host in a hundred changed:")
        answers(place)
        different(Path(scratch) / "different")
    print(f"this process: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB, most of it the generated evidence")


def different(place: Path) -> None:
    """Ask a ledger of 200 hosts that are all different."""
    took = surveyed(Ledger(place), Estate(random.Random(7), 2_000, 500, 0).hosts(200), FIRST)
    print(f"200 different hosts without a directory: first survey {took:.1f} s (wanted: <= 15 s)")
    for turn in ("first", "again"):
        ask(place, f"holders, {turn}", "holders", wanted="<= 2 s" if turn == "again" else "")
        ask(place, f"findings, {turn}", "findings", wanted="<= 2 s" if turn == "again" else "")


def on_day(bundle: Bundle, day: int) -> Bundle:
    """Return the evidence of a host on a day, with a log."""
    log = f"{FIRST.isoformat()} {bundle.subject} sudo: person7 : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id\n".encode()
    logs = (CopiedLog(path="/var/log/auth.log", member="logs/0"),)
    manifest = replace(bundle.manifest, taken=bundle.taken + timedelta(days=day), logs=logs)
    return replace(bundle, manifest=manifest, copies={"/var/log/auth.log": log})


def daily(place: Path, count: int) -> None:
    """Ask a ledger of 200 hosts after one survey, and after one on each of so many days."""
    estate = Estate(random.Random(7), 2_000, 500, 60)
    directory, hosts = from_ldif(ldif(estate.directory()), "saltmarsh").bundle, list(estate.hosts(200))
    costs: list[list[float]] = []
    for day in range(count):
        Ledger(place).add(iter([directory, *(on_day(host, day) for host in hosts)]), FIRST + timedelta(days=day))
        if day in (0, count - 1):
            print(f"after {day + 1} surveys of 200 hosts with logs:", flush=True)
            asked = (("holders",), ("findings", "--severity", "high"), ("accounts", "host17"), ("holders", "--account", "person7"))
            for words in asked:
                run(place, *words)
            costs.append([ask(place, " ".join(words), *words) for words in asked])
    print("the last, of the first: " + ", ".join(f"{last / first:.2f}" for first, last in zip(*costs, strict=True)))


def answers(place: Path) -> None:
    ask(place, "findings, which judges everything", "findings", wanted="<= 40 s, < 1 GB")
    ask(place, "holders --account person7", "holders", "--account", "person7")
    ask(place, "holders --account person7, again", "holders", "--account", "person7", wanted="<= 1.5 s")
    ask(place, "holders --right root --on host17", "holders", "--right", "root", "--on", "host17", wanted="<= 1 s")
    ask(place, "findings --severity high", "findings", "--severity", "high", wanted="<= 3 s")
    ask(place, "why person7", "why", "person7", wanted="<= 2 s")
    ask(place, "why person7 host17", "why", "person7", "host17", wanted="<= 2 s")
    ask(place, "accounts host17", "accounts", "host17", wanted="<= 1 s")
    ask(place, "holders, who has full control of how many", "holders")
    ask(place, "holders, again", "holders")
    ask(place, "leaver person7, which reads what is on each host", "leaver", "person7")


if __name__ == "__main__":
    main()
