"""Ninety days of logs of the made-up hosts, as syslog writes them: everyday use of privilege, and a few things that are out of order.

tern writes traditional stamps, which have no year, and packs what it rotates; dunlin and curlew write ISO 8601.
"""

import gzip
import os
import random
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from fidelitas.demo.host import HostBuilder
from fidelitas.demo.people import Person

__all__ = ["write_logs"]

Groups = Mapping[str, Sequence[Person]]
# A line: when, and the text after the host's name.
Line = tuple[datetime, str]

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


def write_logs(folder: Path, people: Sequence[Person], hosts: Sequence[HostBuilder], end: datetime, seed: int) -> None:
    """Write the logs of each host into a folder of its name, up to a time; equal seeds give equal logs."""
    known = {person.name: person for person in people}
    contractor = next(person for person in people if person.team == "contractors")
    for host in hosts:
        groups = {name: [known[member] for member in members if member in known] for name, _, members in host.groups}
        chance = random.Random(f"{seed} {host.name}")
        lines = [*_everyday(host.name, groups, end, chance), *_odd(host.name, groups, contractor, end)]
        _write(folder / host.name, host.name, sorted(line for line in lines if line[0] <= end), end)


def _everyday(host: str, groups: Groups, end: datetime, chance: random.Random) -> Iterator[Line]:
    for back in range(_DAYS):
        day = (end - timedelta(days=back)).replace(hour=0, minute=0, second=0, microsecond=0)
        if day.weekday() < 5:
            for group, mean, target, commands in _HABITS[host]:
                for _ in range(int(mean) + (chance.random() < mean % 1)):
                    at = day + timedelta(seconds=int(chance.gauss(12.5, 2.2) * 3600))
                    yield from _use(at, chance.choice(groups[group]), target, chance.choice(commands), mistyped=chance.random() < 0.04)


def _use(at: datetime, who: Person, target: str, command: str, *, mistyped: bool) -> Iterator[Line]:
    uid = f"uid={who.uid}"
    if mistyped:
        failure = f"authentication failure; logname={who.name} {uid} euid=0 tty=/dev/pts/1 ruser={who.name} rhost=  user={who.name}"
        yield at - timedelta(seconds=4), f"sudo: pam_unix(sudo:auth): {failure}"
    yield at, f"sudo: {who.name:>8} : TTY=pts/1 ; PWD=/home/{who.name} ; USER={target} ; COMMAND={command}"
    yield at, f"sudo: pam_unix(sudo:session): session opened for user {target}(uid=0) by {who.name}({uid})"
    yield at + timedelta(seconds=2), f"sudo: pam_unix(sudo:session): session closed for user {target}"


def _refused(at: datetime, who: Person, command: str, why: str) -> Line:
    return at, f"sudo: {who.name:>8} : {why} ; TTY=pts/3 ; PWD=/home/{who.name} ; USER=root ; COMMAND={command}"


def _odd(host: str, groups: Groups, contractor: Person, end: datetime) -> Iterator[Line]:
    """A contractor who tries doors at night, a root shell in which somebody is put into a group, a line that imitates another."""
    administrator = groups["wheel" if host == "curlew" else "sudo"][1]
    night = (end - timedelta(days=9)).replace(hour=2, minute=11, second=0)
    if host == "dunlin":
        for number, path in enumerate(("/etc/shadow", "/root/.ssh/id_ed25519", "/etc/sudoers", "/var/log/auth.log")):
            yield _refused(night + timedelta(seconds=40 * number), contractor, f"/usr/bin/cat {path}", "command not allowed")
    if host == "tern":
        at = (end - timedelta(days=30)).replace(hour=17, minute=2, second=0)
        yield at, f"sudo: {administrator.name:>8} : TTY=pts/2 ; PWD=/home/{administrator.name} ; USER=root ; COMMAND=/usr/bin/bash"
        yield at, f"sudo: pam_unix(sudo:session): session opened for user root(uid=0) by {administrator.name}(uid={administrator.uid})"
        joined = groups["docker"][0]
        yield at + timedelta(minutes=6), f"usermod[4811]: add '{joined.name}' to group 'docker'"
        yield at + timedelta(minutes=6), f"usermod[4811]: add '{joined.name}' to shadow group 'docker'"
        yield at + timedelta(minutes=44), "sudo: pam_unix(sudo:session): session closed for user root"
    if host == "curlew":
        folder = "/tmp/a ; USER=modelrun ; COMMAND=/opt/surge/bin/run"  # noqa: S108
        operator = groups["operators"][0]
        yield night, f"sudo: {operator.name:>8} : TTY=pts/4 ; PWD={folder} ; USER=root ; COMMAND=/usr/bin/dnf update"
        yield night + timedelta(minutes=3), "sshd[7012]: Accepted password for root from 203.0.113.9 port 51122 ssh2"


def _write(folder: Path, host: str, lines: Sequence[Line], end: datetime) -> None:
    """Write the lines as a log that is rotated every week."""
    folder.mkdir(parents=True, exist_ok=True)
    name = "secure" if host == "curlew" else "auth.log"
    weeks: dict[int, list[Line]] = {}
    for line in lines:
        weeks.setdefault((end - line[0]).days // 7, []).append(line)
    for back, kept in weeks.items():
        if back >= _WEEKS_KEPT:
            continue
        rotated = end - timedelta(days=7 * back)
        turn = "" if not back else f"-{rotated:%Y%m%d}" if host == "curlew" else f".{back}"
        content = "".join(f"{_stamp(host, at)} {host} {text}\n" for at, text in kept).encode()
        path = folder / (f"{name}{turn}.gz" if host == "tern" and back > 1 else f"{name}{turn}")
        path.write_bytes(gzip.compress(content, mtime=0) if path.suffix == ".gz" else content)
        os.utime(path, (rotated.timestamp(), rotated.timestamp()))


def _stamp(host: str, at: datetime) -> str:
    return f"{at:%b} {at.day:2} {at:%H:%M:%S}" if host == "tern" else at.astimezone(UTC).isoformat()
