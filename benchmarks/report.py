"""Measures the report of an estate: how large the file is, how long it takes to write, and how long a real browser takes to open it.

Hosts with many people of different rights each: by default some ten thousand holdings and two thousand findings.  The time to open is
printed against that of an empty page in the same run.
"""

import argparse
import os
import random
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

from estate import Estate as Generated
from msgspec.structs import replace

from fidelitas.evidence import Bundle
from fidelitas.ledger import Ledger

PROGRAM = Path(sys.executable).with_name("fidelitas")
NOW = datetime(2026, 11, 20, tzinfo=UTC)
RISKY = tuple(
    f"/usr/bin/{name}"
    for name in [
        "less",
        "vim",
        "find",
        "tar",
        "python3",
        "perl",
        "ruby",
        "awk",
        "ed",
        "emacs",
        "nano",
        "man",
        "git",
        "rsync",
        "zip",
        "tcpdump",
        "strace",
        "gdb",
        "env",
        "xargs",
    ]
)


def bundles(hosts: int, people: int, risky: float) -> Iterator[Bundle]:
    """Yield hosts on which every person has a rule, a share of them risky."""
    chance = random.Random(1)
    base = next(iter(Generated(random.Random(1), 1, 1, 1).hosts(1)))
    files = {path: content for path, content in base.files.items() if not path.startswith("/etc/sudoers")}
    names = [f"person{number}" for number in range(people)]
    passwd = "root:x:0:0::/root:/bin/bash\n" + "".join(
        f"{name}:x:{2000 + n}:{2000 + n}::/home/{name}:/bin/bash\n" for n, name in enumerate(names)
    )
    shadow = "root:{locked yescrypt}:20000:0:99999:7:::\n" + "".join(f"{name}:{{usable yescrypt}}:20000:0:99999:7:::\n" for name in names)
    for number in range(hosts):
        rules = [
            f"{name} ALL=(root) {chance.choice(RISKY) if chance.random() < risky else f'/usr/bin/uptime {n}'}"
            for n, name in enumerate(names)
        ]
        own = {
            **files,
            "/etc/passwd": passwd.encode(),
            "/etc/shadow": shadow.encode(),
            "/etc/group": b"root:x:0:\n",
            "/etc/sudoers": "".join(f"{rule}\n" for rule in rules).encode(),
            "/etc/nsswitch.conf": b"passwd: files\ngroup: files\nshadow: files\nsudoers: files\n",
        }
        yield replace(base, name=f"host{number}", files=own, manifest=replace(base.manifest, taken=NOW))


def opened(file: Path) -> float:
    """Return in how many seconds a browser has loaded a file and laid it out, start of the browser included."""
    script = (
        "chromium --headless=new --no-sandbox --disable-gpu --no-first-run --disable-background-networking --disable-dev-shm-usage "
        f"--user-data-dir={file.parent}/profile --screenshot={file.parent}/shot.png --window-size=1280,800 file://{file}"
    )
    begins = time.perf_counter()
    subprocess.run(script.split(), capture_output=True, check=True, timeout=120)
    return time.perf_counter() - begins


def main() -> None:
    """Make the estate, write the report, open it, print."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--hosts", type=int, default=100)
    options.add_argument("--people", type=int, default=100)
    options.add_argument("--risky", type=float, default=0.9, help="the share of rules that give root")
    chosen = options.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        where = Path(folder)
        Ledger(where / "ledger").add(bundles(chosen.hosts, chosen.people, chosen.risky), NOW)
        env = {**os.environ, "FIDELITAS_LEDGER": str(where / "ledger")}
        begins = time.perf_counter()
        subprocess.run([PROGRAM, "report", "--out", where / "report.html"], env=env, cwd=where, check=False, capture_output=True)
        written = time.perf_counter() - begins
        text = (where / "report.html").read_text()
        (where / "empty.html").write_text("<!DOCTYPE html><title>empty</title>")
        empty, whole = (min(opened(where / name) for _ in range(3)) for name in ("empty.html", "report.html"))
        print(f"{text.count(' data-strength='):,} holdings, {len(re.findall('id=.f[0-9]+.', text)):,} findings")
        print(f"file {len(text.encode()) / 1e6:.1f} MB, written in {written:.1f} s")
        print(f"opened in {whole:.2f} s with the start of the browser, an empty page in {empty:.2f} s: {whole - empty:.2f} s more")


if __name__ == "__main__":
    main()
