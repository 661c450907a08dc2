"""Makes logs of many hosts from a seed with incidents planted in them, each labelled, and measures what the built program finds of them.

Everyday life is made to be untidy: habits differ by person, people are away, some work late now and then, all mistype; hosts differ in how
much they log.  Whatever is found beyond the labels, of any severity, counts as a false alarm.
"""

import argparse
import json
import random
import subprocess
import sys
import tempfile
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from msgspec import Struct, field

START = datetime(2026, 3, 2, tzinfo=UTC)
DAYS = 60
NAMES = ("apt", "systemctl", "journalctl", "docker", "rsync", "lsof", "ss", "tcpdump", "mount", "dmesg", "ip", "lvs", "nginx")
SUBJECTS = ("ingest", "tides", "gauges", "surge", "archive")


class Person(Struct, dict=True):
    """Someone with habits: when they work, how much, and with which commands."""

    name: str
    hour: float
    spread: float
    rate: float
    commands: list[str]
    target: str
    late: float = 0.0


class Host(Struct, dict=True):
    """A host under construction: lines, and the labels of what was planted: a check, and what its message must hold."""

    name: str
    lines: list[tuple[datetime, str]] = field(default_factory=list)
    labels: list[tuple[str, str]] = field(default_factory=list)


def people(chance: random.Random, count: int) -> list[Person]:
    """Return people of three kinds: daily administrators, occasional users, and those with one task."""
    made = []
    for number in range(count):
        kind = chance.random()
        commands = [f"/usr/bin/{name}" for name in chance.sample(NAMES, 6 if kind < 0.3 else 3 if kind < 0.7 else 1)]
        rate = chance.uniform(1.5, 5) if kind < 0.3 else chance.uniform(0.3, 1.5) if kind < 0.7 else chance.uniform(0.8, 2)
        target = "root" if kind < 0.7 else chance.choice(("tides", "modelrun"))
        hour, spread = chance.gauss(11.5, 1.2), chance.uniform(1.0, 2.4)
        made.append(Person(f"user{number:02}", hour, spread, rate, commands, target, chance.choice((0, 0, 0.03))))
    return made


def days_at_work(chance: random.Random) -> Iterator[datetime]:
    """Yield the days on which someone works: not on week-ends, not in a week or two of holidays."""
    begin, length = chance.randrange(DAYS), chance.choice((0, 5, 10))
    for number in range(DAYS):
        day = START + timedelta(days=number)
        if day.weekday() < 5 and not begin <= number < begin + length:
            yield day


def everyday(host: Host, staff: Sequence[Person], chance: random.Random) -> None:
    """Write what nobody need look at."""
    for number in range(DAYS * 24):
        at = START + timedelta(hours=number, minutes=17, seconds=1)
        host.lines.append((at, f"CRON[{number + 900}]: pam_unix(cron:session): session opened for user root(uid=0) by (uid=0)"))
        for _ in range(chance.choice((0, 0, 1, 3))):
            later = at + timedelta(minutes=chance.randrange(42))
            host.lines.append((later, "CRON[7]: pam_unix(cron:session): session closed for user root"))
    for person in staff:
        for day in days_at_work(chance):
            login = day + timedelta(seconds=int(max(chance.gauss(person.hour - 2, 0.5), 5.5) * 3600))
            key = f"publickey for {person.name} from 10.20.0.{chance.randrange(9)} port 5022 ssh2"
            host.lines.append((login, f"sshd[{chance.randrange(9000)}]: Accepted {key}"))
            for _ in range(int(person.rate) + (chance.random() < person.rate % 1)):
                hour = chance.gauss(person.hour, person.spread) + (chance.uniform(3, 6) if chance.random() < person.late else 0)
                at = day + timedelta(seconds=int(min(max(hour, 5.5), 22.5) * 3600))
                use(host, at, person, f"{chance.choice(person.commands)} {chance.choice(SUBJECTS)}", chance)


def use(host: Host, at: datetime, who: Person, command: str, chance: random.Random) -> None:
    """One use of sudo, now and then with a password mistyped before."""
    for number in range(chance.choice((1, 1, 1, 2)) if chance.random() < 0.04 else 0):
        failure = f"logname={who.name} uid=1 euid=0 tty=/dev/pts/1 ruser={who.name} rhost=  user={who.name}"
        host.lines.append((at - timedelta(seconds=4 + 3 * number), f"sudo: pam_unix(sudo:auth): authentication failure; {failure}"))
    host.lines.append((at, sudo(who.name, command, who.target)))
    host.lines.append((at, f"sudo: pam_unix(sudo:session): session opened for user {who.target}(uid=0) by {who.name}(uid=1001)"))
    host.lines.append((at + timedelta(seconds=2), f"sudo: pam_unix(sudo:session): session closed for user {who.target}"))


def sudo(who: str, command: str, target: str = "root", why: str = "", folder: str = "/") -> str:
    """Return sudo's line of a use or, with a reason, of a refusal."""
    return f"sudo: {who:>8} : {why}TTY=pts/3 ; PWD={folder} ; USER={target} ; COMMAND={command}"


# -- incidents ---------------------------------------------------------------------------------------------------------------------


def moment(chance: random.Random) -> datetime:
    """Return a time on a working day after the first month, by which habits are known."""
    while True:
        day = START + timedelta(days=chance.randrange(32, DAYS - 2))
        if day.weekday() < 5:
            return day + timedelta(seconds=int(chance.uniform(9, 16) * 3600))


def failed_logins(whom: Callable[[int], str], address: str, count: int) -> list[tuple[float, str]]:
    """Return lines of so many failed log-ins, some seconds apart."""
    return [(6.0 * n, f"sshd[{n}]: Failed password for {whom(n)} from {address} port {4000 + n} ssh2") for n in range(count)]


def incident(kind: str, staff: Sequence[Person], chance: random.Random) -> tuple[list[tuple[float, str]], str] | None:
    """Return the lines of an incident, each with the seconds since it began, and the label; nothing where none is written."""
    who, other = chance.choice(staff).name, f"guest{chance.randrange(90)}"
    settled = max(staff, key=lambda person: person.rate / len(person.commands))
    own = {person.name: person for person in staff}[who]
    pick = chance.choice
    one_liners = {
        "use.refused-outsider": (sudo(other, "/usr/bin/systemctl stop tides", why="user NOT in sudoers ; "), other),
        "use.refused-probe": (sudo(who, "/usr/bin/cat /etc/shadow", why="command not allowed ; "), who),
        "use.unusual-hour": (sudo(who, f"{own.commands[0]} tides", own.target), who),
        "use.first-use-of-right": (sudo(settled.name, f"{settled.commands[0]} tides", "postgres"), settled.name),
        "use.first-use-of-command": (sudo(settled.name, "/usr/sbin/tcpreplay eth0", settled.target), settled.name),
        "use.root-shell": (sudo(who, pick(("/bin/bash", "/usr/bin/su -", "/usr/bin/env zsh"))), who),
        "use.secret-read": (sudo(who, pick(("/usr/bin/cat /etc/shadow", "/usr/bin/cp /root/.ssh/id_ed25519 /tmp/x"))), who),
        "use.policy-edit": (sudo(who, pick(("/usr/sbin/visudo", "/usr/bin/tee -a /etc/sudoers.d/x", "/usr/bin/vi /etc/group"))), who),
        "use.log-edit": (sudo(who, pick(("/usr/bin/truncate -s 0 /var/log/auth.log", "/usr/bin/rm /var/log/wtmp"))), who),
        "use.audit-edit": (sudo(who, pick(("/usr/sbin/auditctl -D", "/usr/bin/systemctl stop rsyslog"))), who),
        "use.root-login": ("sshd[4]: Accepted password for root from 203.0.113.77 port 4000 ssh2", "203.0.113.77"),
        "use.suspected-forgery": (sudo(who, "/bin/sh -c id", folder="/tmp/x ; USER=tides ; COMMAND=/usr/bin/id"), who),
    }
    if kind in one_liners:
        line, label = one_liners[kind]
        return [(0.0, line)], label
    if kind == "use.failure-burst":
        return failed_logins(lambda _: who, "203.0.113.5", chance.randrange(12, 40)), who
    if kind == "use.password-spraying":
        return failed_logins(lambda n: f"invalid user name{n}", "198.51.100.7", chance.randrange(6, 20)), "198.51.100.7"
    if kind == "use.brief-membership":
        taken = f"gpasswd[6]: user {other} removed by root from group sudo"
        return [(0.0, f"usermod[5]: add '{other}' to group 'sudo'"), (chance.uniform(0.5, 9) * 3600, taken)], other
    return None


def plant(host: Host, kind: str, staff: Sequence[Person], chance: random.Random) -> None:
    """Write one incident, or take lines away."""
    at = moment(chance)
    told = incident(kind, staff, chance)
    if told is not None:
        at = at.replace(hour=chance.choice((1, 2, 3))) if kind == "use.unusual-hour" else at
        host.lines += [(at + timedelta(seconds=after), line) for after, line in told[0]]
        host.labels.append((kind, told[1]))
    elif kind == "logs.time-backwards":
        host.labels.append((kind, f"{at:%Y-%m-%d %H:%M}"))
    else:
        cut = START + timedelta(days=DAYS - chance.uniform(1.2, 3))
        begin, end = (at, at + timedelta(hours=chance.uniform(10, 40))) if kind == "logs.gap" else (cut, START + timedelta(days=DAYS))
        host.lines = [line for line in host.lines if not begin <= line[0] < end]
        host.labels.append((kind, "auth.log"))


KINDS = (
    "use.failure-burst", "use.password-spraying", "use.refused-outsider", "use.refused-probe", "use.unusual-hour", "use.first-use-of-right",
    "use.first-use-of-command", "use.root-shell", "use.secret-read", "use.policy-edit", "use.log-edit", "use.audit-edit", "use.root-login",
    "use.brief-membership", "use.suspected-forgery", "logs.gap", "logs.silent", "logs.time-backwards",
)  # fmt: skip


def write(host: Host, folder: Path) -> None:
    """Write a host's log; where time was to run backwards a line comes two hours late."""
    lines = sorted(host.lines, key=lambda line: line[0])
    for kind, label in host.labels:
        if kind == "logs.time-backwards":
            at = datetime.fromisoformat(f"{label}+00:00")
            late = next((number for number, line in enumerate(lines) if line[0] >= at + timedelta(hours=2)), len(lines))
            lines.insert(late, (at, "sudo: pam_unix(sudo:session): session closed for user root"))
    path = folder / host.name / "auth.log"
    path.parent.mkdir()
    path.write_text("".join(f"{at.isoformat(timespec='microseconds')} {host.name} {text}\n" for at, text in lines))


def main() -> None:
    """Print, for each kind, how many were planted and found, and the false alarms per host and month."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--hosts", type=int, default=60)
    options.add_argument("--seed", type=int, default=1)
    asked = options.parse_args()
    chance = random.Random(asked.seed)
    hosts = []
    for number in range(asked.hosts):
        host, staff = Host(f"host{number:02}"), people(chance, chance.randrange(6, 20))
        everyday(host, staff, chance)
        # Every third host has had nothing.  What takes lines away comes first, so that it does not take an incident.
        for kind in sorted(chance.sample(KINDS, 4) if number % 3 else ()):
            plant(host, kind, staff, chance)
        hosts.append(host)
    with tempfile.TemporaryDirectory() as folder:
        for host in hosts:
            write(host, Path(folder))
        program = [str(Path(sys.executable).with_name("fidelitas")), "usage", "--log", folder, "--zone", "UTC", "--format", "json"]
        document = json.loads(subprocess.run(program, check=True, capture_output=True).stdout)
    report(hosts, document["findings"])


def report(hosts: Sequence[Host], findings: Sequence[dict[str, str]]) -> None:
    """Print the table."""
    planted, found, false = Counter[str](), Counter[str](), Counter[str]()
    by_host: dict[str, list[dict[str, str]]] = defaultdict(list)
    for finding in findings:
        by_host[finding["subject"]].append(finding)
    missed = []
    for host in hosts:
        explained = set()
        for kind, label in host.labels:
            planted[kind] += 1
            hits = [one for one in by_host[host.name] if one["check"] == kind and label in one["message"]]
            found[kind] += bool(hits)
            explained |= {one["key"] for one in hits}
            missed += [] if hits else [f"{host.name}: {kind} {label}"]
        names = {label for _, label in host.labels}
        for one in by_host[host.name]:  # what an incident shows besides, such as the hour of it, is no false alarm
            if one["key"] not in explained and not any(name in one["message"] for name in names):
                false[one["check"]] += 1
    print(f"{'check':24} planted found false alarms")
    for kind in KINDS:
        print(f"{kind:24} {planted[kind]:7} {found[kind]:5} {false[kind]:5}")
    months = len(hosts) * DAYS / 30
    share = sum(found.values()) / max(sum(planted.values()), 1)
    print(f"{'all':24} {sum(planted.values()):7} {sum(found.values()):5} {sum(false.values()):5}")
    print(f"found {share:.1%}; {sum(false.values()) / months:.2f} false alarms per host and month ({len(hosts)} hosts, {DAYS} days)")
    for one in missed:
        print(f"missed {one}")


if __name__ == "__main__":
    main()
