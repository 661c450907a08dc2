"""A tree of a million files, as PERFORMANCE tables use them, and how long the probe's search of it takes beside find alone."""

import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

FILES = 1_000_000
FOLDERS = 20_000


def grow(root: Path, files: int = FILES, folders: int = FOLDERS) -> None:
    """Make the tree: a tenth of the files may be run, some dozens have a bit or a capability."""
    chance = random.Random(1)
    places = [root]
    for number in range(folders):
        place = chance.choice(places[-2000:]) / f"d{number}"
        place.mkdir()
        places.append(place)
    for number in range(files):
        path = f"{places[number % len(places)]}/f{number}"
        os.close(os.open(path, os.O_CREAT | os.O_WRONLY, 0o755 if number % 10 == 0 else 0o644))
        if number % 20_011 == 0:
            os.chmod(path, 0o4755)  # noqa: PTH101
        if number % 50_020 == 0 and os.geteuid() == 0:
            os.setxattr(path, "security.capability", bytes.fromhex("0100000200040000000000000000000000000000"))


def seconds(command: list[str | Path]) -> float:
    begun = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - begun


def measure(root: Path, probe: Path, rounds: int = 5) -> None:
    """Print the ratio of the probe's search to find, and what each part of it costs."""
    plain: list[str | Path] = ["find", root, "-xdev", "-perm", "/6000"]
    ours: list[str | Path] = ["sh", probe, "--root", root]
    rest: list[str | Path] = ["sh", probe, "--root", root, "--no-file-scan"]
    for command in (plain, ours):
        seconds(command)  # warm
    triples = [(seconds(plain), seconds(ours), seconds(rest)) for _ in range(rounds)]
    whole = median(two / one for one, two, _ in triples)
    search = median((two - three) / one for one, two, three in triples)
    find = median(one for one, _, _ in triples)
    print(
        f"probe of {FILES:,} files / find -xdev -perm /6000: {whole:.2f}, the search alone {search:.2f} (wanted: <= 1.3; find {find:.2f} s)"
    )


def main(folder: str | None = None) -> None:
    from fidelitas.evidence import probe_script  # noqa: PLC0415

    with tempfile.TemporaryDirectory(dir=folder) as made:
        root = Path(made) / "root"
        root.mkdir()
        grow(root)
        probe = Path(made) / "probe.sh"
        probe.write_text(probe_script())
        measure(root, probe)
        shutil.rmtree(root)


if __name__ == "__main__":
    main(*sys.argv[1:])
