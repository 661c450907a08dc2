"""Ninety days of logs of the made-up hosts, as syslog writes them: everyday use of privilege, and what was planted.

tern writes traditional stamps, which have no year, and packs what it rotates; dunlin and curlew write ISO 8601.
"""

import gzip
import random
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta

from msgspec import Struct

from fidelitas.demo.host import HostBuilder
from fidelitas.demo.incidents import Groups, Line, incidents, silence, use_of_sudo
from fidelitas.demo.people import Person
from fidelitas.demo.planted import Planted

__all__ = ["LogFile", "logs_of"]

_DAYS = 90
_WEEKS_KEPT = 13
# What groups do by sudo on which host: group, uses a working day, run-as account, commands.
_HABITS: Mapping[str, Sequence[tuple[str, float, str, tuple[str, ...]]]] = {
    "tern": (
        ("sudo", 2.0, "root", ("/usr/bin/apt update", "/usr/bin/systemctl restart tide-ingest", "/usr/bin/journalctl -u tides")),
        ("dataops", 0.6, "tideingest", ("/opt/tide/bin/ingest --replay yesterday",)),
    ),
    "curlew": (
        ("wheel", 1.0, "root", ("/usr/bin/dnf check-update", "/usr/bin/systemctl status surge-model")),
        ("modellers", 3.0, "modelrun", ("/opt/surge/bin/run --grid north", "/opt/surge/bin/run --grid south")),
    ),
    "dunlin": (
        ("sudo", 0.7, "root", ("/usr/bin/apt update", "/usr/sbin/exportfs -ra")),
        ("calibration", 1.5, "root", ("/usr/local/sbin/calibrate-gauge 3", "/usr/local/sbin/calibrate-gauge 7 --zero")),
    ),
}


class LogFile(Struct, frozen=True):
    """One file of a host's logs, as it lies on the host."""

    path: str
    content: bytes
    written: datetime
    lines: tuple[str, ...]


def logs_of(host: HostBuilder, people: Sequence[Person], end: datetime, seed: int) -> tuple[list[LogFile], list[Planted]]:
    """Return the logs of a host up to a time, the newest first, and what was planted in them; equal seeds give equal logs."""
    known = {person.name: person for person in people}
    contractor = next(person for person in people if person.team == "contractors")
    groups = {name: [known[member] for member in members if member in known] for name, _, members in host.groups}
    chance = random.Random(f"{seed} {host.name}")
    everyday = [*_everyday(host.name, groups, end, chance), *_heartbeat(end)]
    silent = silence(host.name, end)
    kept = [line for line in everyday if silent is None or not silent[0] <= line.at < silent[1]]
    lines = [*kept, *incidents(host.name, groups, contractor, end)]
    return _files(host.name, sorted((line for line in lines if line.at <= end), key=lambda line: line.at), end)


def _heartbeat(end: datetime) -> Iterator[Line]:
    """What cron does every hour: the steadiest thing in a log."""
    for back in range(_DAYS * 24):
        at = (end - timedelta(hours=back)).replace(minute=17, second=1, microsecond=0)
        yield Line(at, f"CRON[{3000 + back % 20000}]: pam_unix(cron:session): session opened for user root(uid=0) by (uid=0)")
        yield Line(at, f"CRON[{3000 + back % 20000}]: pam_unix(cron:session): session closed for user root")


def _everyday(host: str, groups: Groups, end: datetime, chance: random.Random) -> Iterator[Line]:
    for back in range(_DAYS):
        day = (end - timedelta(days=back)).replace(hour=0, minute=0, second=0, microsecond=0)
        if day.weekday() < 5:
            for group, mean, target, commands in _HABITS[host]:
                for _ in range(int(mean) + (chance.random() < mean % 1)):
                    at = day + timedelta(seconds=int(chance.gauss(12.5, 2.2) * 3600))
                    who, command = chance.choice(groups[group]), chance.choice(commands)
                    yield from use_of_sudo(at, who, target, command, mistyped=chance.random() < 0.04)


def _files(host: str, lines: Sequence[Line], end: datetime) -> tuple[list[LogFile], list[Planted]]:
    """Return the lines as a log that is rotated every week, and where in it is what was planted."""
    name = "secure" if host == "curlew" else "auth.log"
    weeks: dict[int, list[Line]] = {}
    for line in lines:
        weeks.setdefault((end - line.at).days // 7, []).append(line)
    found: list[LogFile] = []
    planted: list[Planted] = []
    for back, kept in sorted(weeks.items()):
        if back >= _WEEKS_KEPT:
            continue
        rotated = end - timedelta(days=7 * back)
        turn = "" if not back else f"-{rotated:%Y%m%d}" if host == "curlew" else f".{back}"
        texts = tuple(f"{_stamp(host, at)} {host} {text}" for at, text, _ in kept)
        content = "".join(f"{text}\n" for text in texts).encode()
        packed = host == "tern" and back > 1
        path = f"/var/log/{name}{turn}.gz" if packed else f"/var/log/{name}{turn}"
        found.append(LogFile(path, gzip.compress(content, mtime=0) if packed else content, rotated, texts))
        planted += [Planted(line.check, host, path, number) for number, line in enumerate(kept, 1) if line.check]
        silent = silence(host, end)
        if silent is not None and kept[0].at <= silent[1] <= kept[-1].at:
            planted.append(Planted("logs.gap", host, path, None))
    return found, planted


def _stamp(host: str, at: datetime) -> str:
    return f"{at:%b} {at.day:2} {at:%H:%M:%S}" if host == "tern" else at.astimezone(UTC).isoformat()
