"""Makes an auth log from a seed and measures how long its events take; the yardstick is a search for one word in the same file."""

import argparse
import random
import resource
import subprocess
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from statistics import median

from fidelitas.languages.logs.reading import LogReading
from fidelitas.sources.logs import logs_at

OTHERS = (
    "sshd[{n}]: Connection closed by 10.20.0.{d} port {n} [preauth]",
    "systemd[1]: Started Session {n} of user ines.",
    "kernel: [{n}.1] usb 1-1: new high-speed USB device number {d}",
    "CRON[{n}]: pam_unix(cron:session): session opened for user root(uid=0) by (uid=0)",
    "dbus-daemon[612]: [system] Successfully activated service 'org.freedesktop.hostname1' {n}",
)
USE = "sudo: {who:>8} : TTY=pts/{n} ; PWD=/home/{who} ; USER=root ; COMMAND=/usr/bin/systemctl restart unit{n}"


def write_log(path: Path, size: int, share: float, *, traditional: bool) -> int:
    """Write a log of some size in MB, a share of its lines sudo's, and return how many of those there are."""
    chance, at, uses, written = random.Random(3), datetime(2026, 3, 1, tzinfo=UTC), 0, 0
    with path.open("w") as out:
        while written < size << 20:
            at += timedelta(seconds=chance.randrange(3))
            stamp = f"{at:%b} {at.day:2} {at:%H:%M:%S}" if traditional else f"{at:%Y-%m-%dT%H:%M:%S}.{chance.randrange(10**6):06}+00:00"
            number = chance.randrange(1000, 32000)
            if chance.random() < share:
                uses += 1
                text = USE.format(who=f"person{chance.randrange(60)}", n=number % 50)
            else:
                text = chance.choice(OTHERS).format(n=number, d=number % 250)
            written += out.write(f"{stamp} tern {text}\n")
    return uses


def measured(path: Path, uses: int) -> tuple[float, float]:
    """Return the median ratio to the search over three pairs, and the seconds of ours."""
    pairs = []
    for _ in range(3):
        begun = time.perf_counter()
        told = sum(event.program == "sudo" and bool(event.command) for event in LogReading(logs_at([path], "tern")[0], UTC).events())
        ours = time.perf_counter() - begun
        begun = time.perf_counter()
        subprocess.run(["grep", "-c", "sudo", path], check=True, capture_output=True)
        pairs.append((ours, time.perf_counter() - begun))
        if told != uses:
            raise AssertionError(f"{told} uses were told, {uses} were written")
    return median(one / other for one, other in pairs), median(one for one, _ in pairs)


def main() -> None:
    """Print the ratios for both stamps and two shares of sudo's lines."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--size", type=int, default=60, help="MB")
    size = options.parse_args().size
    with tempfile.TemporaryDirectory() as folder:
        for kind in ("ISO 8601", "traditional"):
            for share in (0.12, 0.01):
                path = Path(folder) / "auth.log"
                ratio, taken = measured(path, write_log(path, size, share, traditional=kind == "traditional"))
                print(f"{size} MB, {kind} stamps, {share:.0%} sudo lines: {ratio:.1f} x grep -c, {size / taken:.0f} MB/s")
    print(f"{resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB at most")


if __name__ == "__main__":
    main()
