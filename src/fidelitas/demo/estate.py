"""The estate as a whole: hosts made from a seed, written as the bundles that a probe would have printed, and the truth list."""

import gzip
import json
import os
import random
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path

from msgspec import Struct
from msgspec.structs import asdict

from fidelitas.demo.charter import charter_text
from fidelitas.demo.database import SERVER, database_bundle
from fidelitas.demo.directory import DIRECTORY, directory_bundle
from fidelitas.demo.earlier import earlier_evidence, planted_changes, planted_notices
from fidelitas.demo.host import File, HostBuilder
from fidelitas.demo.hosts import HOSTS
from fidelitas.demo.logs import LogFile, logs_of
from fidelitas.demo.mariadb import CATALOGUE, catalogue_bundle
from fidelitas.demo.people import Person, draw_people
from fidelitas.demo.planted import Planted
from fidelitas.demo.policy import commits_of, estate_text
from fidelitas.demo.review import PlannedDecision, planned_decisions, planted_oddities
from fidelitas.demo.windows import MACHINES, windows_bundle
from fidelitas.errors import ReadError
from fidelitas.evidence import Bundle, CopiedLog, Item, Listing, Manifest, make_bundle

__all__ = ["TAGS", "TAKEN", "Estate", "bundle_of", "earlier_surveys", "make_estate", "policy_commits", "review_decisions", "write_estate"]

# What the file of the estate would say of its subjects.
TAGS = {
    "tern": ("role=database", "production"),
    "curlew": ("role=web", "production"),
    "dunlin": ("role=web", "test"),
    "tides-db": ("role=database", "production"),
    "catalogue-db": ("role=database", "test"),
    "avocet": ("workstation",),
    "godwit": ("workstation",),
    "saltmarsh-ad": ("role=directory", "production"),
}
# The day of the survey: fixed, so that equal seeds give equal bytes.
TAKEN = datetime(2026, 11, 20, 6, 0, tzinfo=UTC)


class Estate(Struct, frozen=True):
    """The hosts, and what was planted in them."""

    hosts: tuple[HostBuilder, ...]
    planted: tuple[Planted, ...]


def make_estate(seed: int = 1) -> Estate:
    """Return the estate of a seed; equal seeds give equal estates."""
    people = draw_people(random.Random(seed))
    teams = _teams(people)
    planted: list[Planted] = []
    hosts = tuple(make(teams, planted) for make in HOSTS)
    return Estate(hosts, tuple(planted))


def bundle_of(host: HostBuilder, logs: Sequence[LogFile] = ()) -> bytes:
    """Return the bundle that the probe would print on a host with these logs."""
    files = host.files()
    contents = {path: file.text.encode() for path, file in files.items() if file.text is not None}
    manifest = Manifest(
        subject=host.name,
        platform="linux",
        taken=TAKEN,
        kernel="Linux 6.1.0 x86_64",
        live=True,
        probe=3,
        uid=0,
        items=(*(_item(path, file) for path, file in files.items()), *(_log_item(log) for log in logs)),
        gaps=(),
        logs=tuple(_copied(log) for log in logs),
        zone="Etc/UTC",
        listings=tuple(Listing(name=name, member=f"listings/{name}", tool=name) for name in sorted(host.listings)),
    )
    copies = {log.path: gzip.compress("".join(f"{line}\n" for line in log.lines).encode(), mtime=0) for log in logs}
    return make_bundle(manifest, contents, {name: text.encode() for name, text in host.listings.items()}, copies)


def _log_item(log: LogFile) -> Item:
    written = int(log.written.timestamp())
    return Item(path=log.path, kind="file", mode=0o640, uid=0, gid=4, size=len(log.content), mtime=written)


def _copied(log: LogFile) -> CopiedLog:
    count = len(log.lines)
    return CopiedLog(path=log.path, member=f"logs{log.path}.gz", lines=count, kept=count, begins=log.lines[0][:40], ends=log.lines[-1][:40])


def _item(path: str, file: File) -> Item:
    kind, size = (file.kind, 4096) if file.text is None else ("file", len(file.text.encode()))
    return Item(path=path, kind=kind, mode=file.mode, uid=file.uid, gid=file.gid, size=size, mtime=int(TAKEN.timestamp()))


def write_estate(folder: Path, seed: int = 1) -> list[Path]:
    """Write the bundles of all hosts, their logs and the truth list into a folder, and return the bundles' paths."""
    estate = make_estate(seed)
    try:
        folder.mkdir(parents=True, exist_ok=True)
        people, paths, planted = draw_people(random.Random(seed)), [], list(estate.planted)
        for host in estate.hosts:
            path = folder / f"{host.name}.tar"
            logs, odd = logs_of(host, people, TAKEN, seed)
            planted += odd
            path.write_bytes(bundle_of(host, logs))
            paths.append(path)
            _write_logs(folder / "logs" / host.name, logs)
        others = {
            SERVER: database_bundle(people, TAKEN),
            DIRECTORY: directory_bundle(people, TAKEN),
            CATALOGUE: catalogue_bundle(people, TAKEN),
        }
        for name in MACHINES:
            content, odd, lines = windows_bundle(name, people, TAKEN)
            others[name] = content, odd
            (folder / "logs" / name).mkdir(parents=True, exist_ok=True)
            (folder / "logs" / name / "Security.xml").write_text("".join(f"{line}\n" for line in lines), encoding="utf-8")
        for name, (content, odd) in others.items():
            planted += odd
            paths.append(folder / f"{name}.tar")
            paths[-1].write_bytes(content)
        (folder / "people.csv").write_text(_people_map(people), encoding="utf-8")
        (folder / "charter.toml").write_text(charter_text(_teams(people)), encoding="utf-8")
        (folder / "estate.toml").write_text(estate_text(TAGS, [host.name for host in estate.hosts]), encoding="utf-8")
        changes = [asdict(one) for one in planted_changes(_teams(people))]
        truth = {
            "schema": "fidelitas/truth/1",
            "seed": seed,
            "planted": [asdict(one) for one in planted],
            "changes": changes,
            "notices": [asdict(one) for one in planted_notices()],
            "peers": [one._asdict() for one in planted_oddities(_teams(people))],
        }
        (folder / "truth.json").write_text(json.dumps(truth, indent=1) + "\n", encoding="utf-8")
    except OSError as error:
        raise ReadError(f'could not write the demo estate to "{folder}": {error.strerror or error}', hint="Name another folder.") from error
    return paths


def earlier_surveys(bundles: Sequence[Bundle], seed: int = 1) -> list[tuple[datetime, list[Bundle]]]:
    """Return the surveys before, the oldest first: when each was, and its evidence, from that of today."""
    return earlier_evidence(bundles, _teams(draw_people(random.Random(seed))))


def review_decisions(seed: int = 1) -> list[PlannedDecision]:
    """Return what the reviewers of the demo have decided so far."""
    return planned_decisions(_teams(draw_people(random.Random(seed))))


def policy_commits(bundles: Sequence[Bundle], seed: int = 1) -> list[tuple[str, datetime, str, Mapping[str, bytes]]]:
    """Return the commits of the repository that tern's policy is kept in, the oldest first."""
    tern = next(bundle for bundle in bundles if bundle.subject == "tern")
    return commits_of(tern.files, _teams(draw_people(random.Random(seed))))


def _teams(people: Sequence[Person]) -> dict[str, list[Person]]:
    return {person.team: [other for other in people if other.team == person.team] for person in people}


def _people_map(people: Sequence[Person]) -> str:
    """Return the identity map: everyone but the last, and one contractor who has left."""
    gone = next(person for person in people if person.team == "contractors")
    rows = [f"{one.full_name},{one.name},{one.team},{'left,2026-09-30' if one is gone else 'active,'}" for one in people[:-1]]
    return "\n".join(["person,accounts,team,status,until", *rows]) + "\n"


def _write_logs(folder: Path, logs: Sequence[LogFile]) -> None:
    """Write the logs as they would lie on the host, for commands that read files."""
    folder.mkdir(parents=True, exist_ok=True)
    for log in logs:
        path = folder / log.path.rpartition("/")[2]
        path.write_bytes(log.content)
        os.utime(path, (log.written.timestamp(), log.written.timestamp()))
