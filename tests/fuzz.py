"""Seeded mutation of what every reader reads: ``make fuzz``, or ``python tests/fuzz.py [SECONDS] [SEED] [READER]...``.

Each reader has the same share of the time, so that none is thinly tested.  An input that raises is kept under ``tests/samples/crashers``
with the reader's name, and read again by the tests ever after.
"""

import hashlib
import random
import signal
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from readers import READERS
from test_growth import FRAGMENTS

CRASHERS = Path(__file__).parent / "samples" / "crashers"
# No input of this size may take longer: 5 seconds for a megabyte, and the rest is start-up.
_SECONDS = 5
_LONGEST = 20_000
_NUMBERS = (b"0", b"-1", b"4294967295", b"4294967296", b"18446744073709551616", b"9" * 400, b"1e999", b"0x", b"\xc2\xb2", b"10" * 8)


class TooSlowError(Exception):
    """An input took longer than any may."""


@contextmanager
def limited() -> Iterator[None]:
    def stop(_number: int, _frame: object) -> None:
        raise TooSlowError(f"more than {_SECONDS} seconds")

    before = signal.signal(signal.SIGALRM, stop)
    signal.alarm(_SECONDS)
    try:
        yield
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)


def seeds(folder: Path) -> list[bytes]:
    """Return the samples of all languages, cut to a length that is mutated quickly."""
    files = [path for path in sorted(folder.rglob("*")) if path.is_file() and path.stat().st_size < 400_000]
    return [path.read_bytes()[:_LONGEST] for path in files] + [fragment.encode("utf-8", "surrogateescape") for fragment in FRAGMENTS]


def mutated(chance: random.Random, pool: Sequence[bytes]) -> bytes:
    """Return an input: samples cut, joined, repeated, with bytes and numbers changed."""
    content = bytearray(chance.choice(pool))
    for _ in range(chance.choice((1, 1, 2, 3, 6, 12))):
        at = chance.randrange(len(content) + 1)
        end = min(len(content), at + chance.choice((0, 1, 1, 4, 40, 400)))
        kind = chance.randrange(7)
        if kind == 0:
            content[at:end] = bytes(chance.randrange(256) for _ in range(chance.choice((1, 2, 8))))
        elif kind == 1:
            other = chance.choice(pool)
            begin = chance.randrange(len(other) + 1)
            content[at:end] = other[begin : begin + chance.choice((1, 10, 100, 1000))]
        elif kind == 2:
            content[at:at] = bytes(content[at:end]) * chance.choice((2, 10, 100))
        elif kind == 3:
            content[at:end] = b""
        elif kind == 4:
            content[at:end] = chance.choice(_NUMBERS)
        elif kind == 5:
            content[at:end] = chance.choice(FRAGMENTS).encode("utf-8", "surrogateescape") * chance.choice((1, 3, 50))
        else:
            lines = bytes(content).split(b"\n")
            chance.shuffle(lines)
            content = bytearray(b"\n".join(lines))
    return bytes(content[:_LONGEST])


def tried(name: str, content: bytes) -> str:
    """Return what an input raises from a reader, or nothing."""
    try:
        with limited():
            READERS[name](content)
    except Exception as error:  # noqa: BLE001 that is what is looked for
        return f"{type(error).__name__}: {str(error)[:200]}"
    return ""


def kept(name: str, content: bytes) -> Path:
    """Keep an input as a sample of the tests."""
    CRASHERS.mkdir(parents=True, exist_ok=True)
    path = CRASHERS / f"{name.replace(' ', '_')}-{hashlib.sha256(content).hexdigest()[:12]}"
    path.write_bytes(content)
    return path


def main(seconds: float, seed: int, names: Sequence[str]) -> int:
    pool, total, faults = seeds(CRASHERS.parent), 0, 0
    share = seconds / len(names)
    for name in names:
        chance, ends, count = random.Random(f"{seed} {name}"), time.monotonic() + share, 0
        known: set[str] = set()
        while time.monotonic() < ends and len(known) < 5:
            content = mutated(chance, pool)
            count += 1
            fault = tried(name, content)
            if fault and fault[:60] not in known:
                known.add(fault[:60])
                print(f"{name}: {fault}: {kept(name, content)}", flush=True)
        total, faults = total + count, faults + len(known)
        print(f"{name}: {count} inputs", flush=True)
    print(f"{total} inputs, {faults} faults, seed {seed}")
    return 1 if faults else 0


if __name__ == "__main__":
    chosen = sys.argv[3:] or list(READERS)
    sys.exit(main(float(sys.argv[1]) if len(sys.argv) > 1 else 3600, int(sys.argv[2]) if len(sys.argv) > 2 else 1, chosen))
