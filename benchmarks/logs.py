"""Measures the whole command `usage --log` on logs made from a seed: dense ones of forty hosts, sparse ones, journal, audit log.

Prints MB and events a second, the ratio to `grep -c` on the same file in the same run, the peak of memory, and for each form ten times the
size against the size: 1.00 is linear.  Then `usage` by a ledger after a survey of a log, asked again, after another survey with a fiftieth
of its lines added, and after that survey alone.  With --file any log is measured in their place, with
--days surveys of so many days.
"""

import argparse
import json
import random
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

from msgspec.structs import replace

from fidelitas.evidence import CopiedLog, Manifest, make_bundle

_A_DAY = 500_000
NAMES = [f"person{number}" for number in range(300)]
HOSTS = [f"{kind}-{number:02}" for number, kind in enumerate(["web", "db", "build", "jump", "ws"] * 8)]
COMMANDS = (
    "/usr/bin/systemctl restart nginx", "/usr/bin/apt-get update", "/bin/cat /var/log/syslog", "/bin/su -", "/bin/bash",
    "/usr/bin/docker ps", "/usr/bin/vim /etc/hosts", "/usr/bin/journalctl -u ssh --since today", "/usr/sbin/useradd -m -G wheel tmp1",
    "list",
    "/usr/bin/rsync -a /srv/ /backup/", "/usr/bin/find / -name *.conf -exec ls -l {} ;", "/usr/bin/tee -a /etc/sudoers.d/x",
    "/usr/bin/less /etc/shadow",
    "sudoedit /etc/nginx/nginx.conf",
)  # fmt: skip


def dense(chance: random.Random) -> tuple[str, str]:
    """Return the program, with its process, and the message of a line; seven of ten concern privilege."""
    who, number, host = (
        chance.choices(NAMES, weights=WEIGHTS)[0],
        chance.randrange(300, 99999),
        f"10.{chance.randrange(256)}.0.{chance.randrange(1, 255)}",
    )
    kind = chance.randrange(100)
    if kind < 12:
        command = chance.choice(COMMANDS) + (f" --id {chance.randrange(10**6)}" if chance.random() < 0.5 else "")
        why = chance.choices(("", "command not allowed ; ", "2 incorrect password attempts ; "), (96, 2, 2))[0]
        return "sudo", f"{who:>8} : {why}TTY=pts/{number % 40} ; PWD=/home/{who} ; USER={chance.choice(AS)} ; COMMAND={command}"
    table: tuple[tuple[int, str, str], ...] = (
        (23, "sudo", f"pam_unix(sudo:session): session opened for user root(uid=0) by {who}(uid={1000 + number % 300})"),
        (34, "sudo", "pam_unix(sudo:session): session closed for user root"),
        (43, f"sshd[{number}]", f"Accepted publickey for {who} from {host} port {number} ssh2: ED25519 SHA256:{number:043}"),
        (51, f"sshd[{number}]", f"pam_unix(sshd:session): session opened for user {who}(uid={1000 + number % 300}) by (uid=0)"),
        (59, f"sshd[{number}]", f"pam_unix(sshd:session): session closed for user {who}"),
        (64, f"sshd[{number}]", f"Failed password for invalid user admin from {host} port {number} ssh2"),
        (72, f"sshd[{number}]", f"Disconnected from user {who} {host} port {number}"),
        (92, f"CRON[{number}]", "pam_unix(cron:session): session opened for user root(uid=0) by (uid=0)"),
        (95, f"su[{number}]", f"(to root) {who} on pts/{number % 40}"),
        (100, f"systemd-logind[{number}]", f"New session {number} of user {who}."),
    )
    return next((program, message) for limit, program, message in table if kind < limit)


def sparse(chance: random.Random) -> tuple[str, str]:
    """Return one of which one in a hundred is sudo's, and most of the others concern no privilege."""
    if chance.random() < 0.01:
        return "sudo", f"{chance.choice(NAMES):>8} : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND={chance.choice(COMMANDS)}"
    return (
        f"kernel[{chance.randrange(9999)}]",
        f"[{chance.random() * 1e6:.6f}] usb 1-1: new high-speed USB device number {chance.randrange(250)}",
    )


WEIGHTS = [1 / (number + 1) ** 0.8 for number in range(300)]
AS = ["root"] * 20 + ["postgres", "www-data", "deploy"]
Line = Callable[[random.Random], tuple[str, str]]


def lines(line: Line, form: str, size: int) -> Iterator[str]:
    """Yield the lines of a log of some bytes in the order of time, about one a second."""
    chance, at, written = random.Random(3), datetime(2026, 3, 1, tzinfo=UTC), 0
    while written < size:
        at += timedelta(seconds=chance.expovariate(1))
        program, message = line(chance)
        host = chance.choice(HOSTS)
        if form == "journal":
            name, _, pid = program.partition("[")
            fields = {
                "__REALTIME_TIMESTAMP": f"{at.timestamp() * 1e6:.0f}",
                "_HOSTNAME": host,
                "SYSLOG_IDENTIFIER": name,
                "MESSAGE": message,
            }
            text = (
                json.dumps({**fields, **({"_PID": pid.rstrip("]")} if pid else {}), "_COMM": name, "_TRANSPORT": "syslog", "PRIORITY": "5"})
                + "\n"
            )
        elif form == "audit":
            text = audited(chance, at, host)
        elif form == "traditional":
            text = f"{at:%b} {at.day:2} {at:%H:%M:%S} {host} {program}: {message}\n"
        else:
            text = f"{at:%Y-%m-%dT%H:%M:%S.%f}+00:00 {host} {program}: {message}\n"
        written += len(text)
        yield text


def audited(chance: random.Random, at: datetime, host: str) -> str:
    """Return a record of the audit log; two of ten concern privilege."""
    uid, pid = 1000 + chance.randrange(300), chance.randrange(300, 99999)
    head = f"node={host} type={{}} msg=audit({at.timestamp():.3f}:{pid}): pid={pid} uid={uid} auid={uid} ses={pid % 90}"
    kind = chance.randrange(100)
    if kind < 12:
        command = chance.choice(COMMANDS).encode().hex().upper()
        return f'{head.format("USER_CMD")} msg=\'cwd="/home" cmd={command} exe="/usr/bin/sudo" terminal=pts/{pid % 40} res=success\'\n'
    if kind < 20:
        acct = f'op=PAM:session_open grantors=pam_unix acct="root" exe="/usr/bin/sudo" terminal=pts/{pid % 40} res=success'
        return f"{head.format('USER_START')} msg='{acct}'\n"
    call = f"arch=c000003e syscall=59 success=yes exit=0 a0=55d a1=55e a2=55f items=2 ppid={pid}"
    return f'{head.format("SYSCALL")} {call} gid={uid} euid={uid} tty=pts1 comm="ls" exe="/usr/bin/ls" key="exec"\n'


_AT = re.compile(r'"__REALTIME_TIMESTAMP": "(\d{10})|audit\((\d{10})|(\d{4}-\S{12}\d\d)|(\w{3} [ \d]\d \d\d:\d\d:\d\d)')


def last_time(log: bytes) -> datetime:
    """Return when the last line of a log was written: those without a year in this one."""
    found = _AT.search(log[log.rfind(b"\n", 0, -1) + 1 :].decode())
    seconds, audit, iso, traditional = found.groups() if found is not None else (None, None, None, None)
    if seconds or audit:
        return datetime.fromtimestamp(int(seconds or audit), UTC)
    if traditional:
        return datetime.strptime(f"2026 {traditional}", "%Y %b %d %H:%M:%S").replace(tzinfo=UTC)
    return datetime.fromisoformat(f"{iso}+00:00") if iso else datetime.now(UTC)


def grown(path: Path) -> None:
    """Print how long `usage` takes by a ledger, where lines are added to a log between two surveys."""
    content, name = path.read_bytes(), f"/var/log/{path.name}"
    cut = content.rfind(b"\n", 0, len(content) * 50 // 51) + 1
    host = Manifest(subject="h", platform="linux", taken=last_time(content), kernel="", live=True, probe=1, uid=0, items=(), gaps=())
    with tempfile.TemporaryDirectory() as place:
        folder, program = Path(place), Path(sys.executable).with_name("fidelitas")
        for number, log in enumerate((content[:cut], content)):
            manifest = replace(host, taken=last_time(log) + timedelta(seconds=1), logs=(CopiedLog(path=name, member="logs/1"),))
            (folder / f"{number}.tar").write_bytes(make_bundle(manifest, {}, {}, {name: log}))

        def took(ledger: str, *asked: str) -> float:
            begun = time.perf_counter()
            env = {"PATH": "/usr/bin:/bin", "HOME": place, "FIDELITAS_LEDGER": f"{place}/{ledger}"}
            subprocess.run([program, *asked], capture_output=True, check=False, env=env, cwd=place)
            return time.perf_counter() - begun

        took("two", "survey", "0.tar")
        first, again = (took("two", "usage", "--format", "json") for _ in "12")
        took("two", "survey", "1.tar")
        took("one", "survey", "1.tar")
        more, whole = took("two", "usage", "--format", "json"), took("one", "usage", "--format", "json")
    print(
        f"{path.name}, {len(content) / 1e6:.0f} MB by a ledger: {first:.1f} s, again {again:.1f} s, with a fiftieth added {more:.1f} s, "
        f"that alone {whole:.1f} s: {more / whole:.2f} of it"
    )


def daily(days: int) -> None:
    """Print how long `usage` takes by a ledger in which a survey of a host is every day, and logs are rotated every week."""
    host = Manifest(
        subject="h", platform="linux", taken=datetime(2026, 1, 1, tzinfo=UTC), kernel="", live=True, probe=1, uid=0, items=(), gaps=()
    )
    content = re.sub(r" (?:web|db|build|jump|ws)-\d\d ", " h ", "".join(lines(dense, "iso", days * _A_DAY))).encode()
    cuts = [content.rfind(b"\n", 0, len(content) * day // days) + 1 for day in range(days + 1)]
    program = Path(sys.executable).with_name("fidelitas")
    with tempfile.TemporaryDirectory() as folder:
        for day in range(1, days + 1):
            weeks = [*range(day - day % 7, -1, -7)][:5]
            parts = {
                f"/var/log/auth.log{f'.{age}' if age else ''}": content[cuts[begin] : cuts[min(begin + 7, day)]]
                for age, begin in enumerate(weeks)
            }
            logs = {path: part for path, part in parts.items() if part}
            copied = tuple(CopiedLog(path=path, member=f"logs/{number}") for number, path in enumerate(logs))
            manifest = replace(host, taken=last_time(content[: cuts[day]]) + timedelta(seconds=1), logs=copied)
            (Path(folder) / "h.tar").write_bytes(make_bundle(manifest, {}, {}, logs))
            env = {"PATH": "/usr/bin:/bin", "HOME": folder, "FIDELITAS_LEDGER": f"{folder}/ledger"}
            subprocess.run([program, "survey", "h.tar"], capture_output=True, check=False, env=env, cwd=folder)
            begun = time.perf_counter()
            asked = ["/usr/bin/time", "-f", "%M", program, "usage", "--format", "json"]
            ran = subprocess.run(asked, capture_output=True, check=False, env=env, cwd=folder)
            took, peak = time.perf_counter() - begun, int(ran.stderr.split()[-1]) // 1024
            if day in (1, days) or day % 10 == 0:
                events = json.loads(ran.stdout)["event_count"]
                print(f"day {day}: {took:.1f} s, {peak} MB, {events:,} events of {cuts[day] / 1e6:.0f} MB in all", flush=True)


def measured(path: Path) -> tuple[float, float, int, int]:
    """Return the seconds of the whole command and of a search for one word in the same file, its events, and its peak of memory in MB."""
    program = Path(sys.executable).with_name("fidelitas")
    command = ["/usr/bin/time", "-f", "%M", program, "usage", "--log", path, "--format", "json"]
    begun = time.perf_counter()
    ran = subprocess.run(command, capture_output=True, check=False, env={"PATH": "/usr/bin:/bin", "HOME": str(path.parent)})
    ours = time.perf_counter() - begun
    begun = time.perf_counter()
    subprocess.run(["grep", "-c", "sudo", path], check=False, capture_output=True)
    search = time.perf_counter() - begun
    return ours, search, int(json.loads(ran.stdout)["event_count"]), int(ran.stderr.split()[-1]) // 1024


def report(name: str, path: Path) -> float:
    """Print what was measured of one file, and return its seconds for each MB."""
    ours, search, events, peak = measured(path)
    size = path.stat().st_size / 1e6
    rates = f"{size / ours:6.1f} MB/s, {events / ours:8.0f} events/s, {ours / search:6.0f} x grep -c, {peak} MB at most"
    print(f"{name}, {size:.0f} MB: {rates}", flush=True)
    return ours / size


def main() -> None:
    """Print the figures of each form at two sizes."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--size", type=int, default=3, help="MB of the smaller files; the larger are of ten times as many")
    options.add_argument("--days", type=int, help="of how many days a survey each is measured, in place of all else")
    options.add_argument("--file", type=Path, help="a log to measure in place of those made here")
    asked = options.parse_args()
    if asked.days:
        daily(asked.days)
        return
    if asked.file:
        report(asked.file.name, asked.file)
        grown(asked.file)
        return
    forms: tuple[tuple[str, Line, str], ...] = (
        ("dense, ISO 8601", dense, "iso"), ("dense, traditional", dense, "traditional"),
        ("sparse, ISO 8601", sparse, "iso"), ("dense, journal", dense, "journal"), ("audit", dense, "audit"),
    )  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        for name, line, form in forms:
            path = Path(folder) / {"journal": "journal.json", "audit": "audit.log"}.get(form, "auth.log")
            costs = []
            for size in (asked.size, 10 * asked.size):
                with path.open("w") as out:
                    out.writelines(lines(line, form, size * 10**6))
                costs.append(report(name, path))
            print(f"{name}: ten times the size costs {costs[1] / costs[0]:.2f} times as much for each MB")
            grown(path)


if __name__ == "__main__":
    main()
