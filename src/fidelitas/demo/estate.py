"""The estate as a whole: hosts made from a seed, written as the bundles that a probe would have printed, and the truth list."""

import json
import random
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path

from fidelitas.demo.host import File, HostBuilder
from fidelitas.demo.hosts import HOSTS, Planted
from fidelitas.demo.logs import write_logs
from fidelitas.demo.people import draw_people
from fidelitas.errors import ReadError
from fidelitas.evidence import Item, Listing, Manifest, make_bundle

__all__ = ["Estate", "bundle_of", "make_estate", "write_estate"]

# The day of the survey: fixed, so that equal seeds give equal bytes.
TAKEN = datetime(2026, 11, 20, 6, 0, tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class Estate:
    """The hosts, and what was planted in them."""

    hosts: tuple[HostBuilder, ...]
    planted: tuple[Planted, ...]


def make_estate(seed: int = 1) -> Estate:
    """Return the estate of a seed; equal seeds give equal estates."""
    people = draw_people(random.Random(seed))
    teams = {person.team: [other for other in people if other.team == person.team] for person in people}
    planted: list[Planted] = []
    hosts = tuple(make(teams, planted) for make in HOSTS)
    return Estate(hosts, tuple(planted))


def bundle_of(host: HostBuilder) -> bytes:
    """Return the bundle that the probe would print on a host."""
    files = host.files()
    contents = {path: file.text.encode() for path, file in files.items() if file.text is not None}
    manifest = Manifest(
        subject=host.name,
        platform="linux",
        taken=TAKEN,
        kernel="Linux 6.1.0 x86_64",
        live=True,
        probe=2,
        uid=0,
        items=tuple(_item(path, file) for path, file in files.items()),
        gaps=(),
        listings=tuple(Listing(name=name, member=f"listings/{name}", tool=name) for name in sorted(host.listings)),
    )
    return make_bundle(manifest, contents, {name: text.encode() for name, text in host.listings.items()})


def _item(path: str, file: File) -> Item:
    kind, size = (file.kind, 4096) if file.text is None else ("file", len(file.text.encode()))
    return Item(path=path, kind=kind, mode=file.mode, uid=file.uid, gid=file.gid, size=size, mtime=int(TAKEN.timestamp()))


def write_estate(folder: Path, seed: int = 1) -> list[Path]:
    """Write the bundles of all hosts, their logs and the truth list into a folder, and return the bundles' paths."""
    estate = make_estate(seed)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        paths = []
        for host in estate.hosts:
            path = folder / f"{host.name}.tar"
            path.write_bytes(bundle_of(host))
            paths.append(path)
        people = draw_people(random.Random(seed))
        write_logs(folder / "logs", people, estate.hosts, TAKEN, seed)
        truth = {"schema": "fidelitas/truth/1", "seed": seed, "planted": [asdict(planted) for planted in estate.planted]}
        (folder / "truth.json").write_text(json.dumps(truth, indent=1) + "\n", encoding="utf-8")
    except OSError as error:
        raise ReadError(f'could not write the demo estate to "{folder}": {error.strerror or error}', hint="Name another folder.") from error
    return paths
