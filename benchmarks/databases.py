"""Measures a database server with very many roles and tables: survey, one object asked about, findings; the whole commands.

A real PostgreSQL server in a scratch folder, which this makes.  Each size is printed with its growth over the size before: times over the
same command on an empty server in the same run, so that the speed of the machine counts for less.
"""

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from postgresql_server import Server, scratch_server

PROGRAM = Path(sys.executable).with_name("fidelitas")
# Locks are held for each table that is made until the transaction ends.
MANY = 2000


def grow(server: Server, roles: tuple[int, int], tables: tuple[int, int]) -> None:
    """Make roles, most in one group each, and tables with two grants each, numbered from and up to."""
    with server.connect() as connection:
        connection.execute("set synchronous_commit = off")
        for start in range(roles[0], roles[1], MANY):
            stop = min(start + MANY, roles[1])
            connection.execute(
                f"do $$ begin for n in {start}..{stop - 1} loop execute format('create role r%s', n);"
                " if n % 10 > 0 then execute format('grant r%s to r%s', n - n % 10, n); end if; end loop; end $$".encode()
            )
        for start in range(tables[0], tables[1], MANY):
            stop = min(start + MANY, tables[1])
            connection.execute(
                f"do $$ begin for n in {start}..{stop - 1} loop execute format('create table t%s ()', n);"
                f" execute format('grant select on t%s to r%s', n, n % {roles[1]});"
                f" execute format('grant insert on t%s to r%s', n, (n * 7) % {roles[1]}); end loop; end $$".encode()
            )


def measured(*arguments: str | Path, ledger: Path) -> tuple[float, float]:
    """Return the seconds and the MB at most that a command took."""
    before = time.perf_counter()
    command = ["/usr/bin/time", "-f", "%M", PROGRAM, *arguments]
    done = subprocess.run(command, env={**os.environ, "FIDELITAS_LEDGER": str(ledger)}, capture_output=True, text=True, check=False)
    if done.returncode > 1:
        sys.exit(done.stderr)
    return time.perf_counter() - before, int(done.stderr.split()[-1]) / 1024


def commands(server: Server, table: int) -> dict[str, tuple[str | Path, ...]]:
    uri = f"postgresql://postgres@/postgres?host={server.socket}&port={server.port}"
    asked = f"tides-db/postgres/public.t{table}"
    return {
        "survey": ("survey", "--postgresql", uri, "--name", "tides-db"),
        "holders --on": ("holders", "--on", asked),
        "holders --on, again": ("holders", "--on", asked),
        "findings": ("findings",),
    }


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("--tables", type=int, default=200_000)
    asked.add_argument("--roles", type=int, default=20_000)
    sizes = asked.parse_args()
    steps = [(1, 1), (sizes.roles // 10, sizes.tables // 10), (sizes.roles, sizes.tables)]
    with tempfile.TemporaryDirectory() as folder, scratch_server(Path(folder)) as server:
        base: dict[str, float] = {}
        earlier = (0, 0)
        for roles, tables in steps:
            grow(server, (earlier[0], roles), (earlier[1], tables))
            earlier = roles, tables
            ledger = Path(folder) / f"ledger{tables}"
            print(f"{roles:,} roles, {tables:,} tables", flush=True)
            for name, command in commands(server, tables - 1).items():
                seconds, megabytes = measured(*command, ledger=ledger)
                base.setdefault(name, seconds)
                ratio = seconds / base[name]
                print(f"  {name:20} {seconds:6.2f} s {ratio:6.1f} times an empty server's {megabytes:6.0f} MB", flush=True)


if __name__ == "__main__":
    main()
