"""What is out of order in the logs of the made-up hosts, each line that a check must find marked with its name."""

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from fidelitas.demo.people import Person

__all__ = ["Groups", "Line", "incidents", "silence", "use_of_sudo"]

Groups = Mapping[str, Sequence[Person]]


class Line(NamedTuple):
    """A line of a log: when, the text after the host's name, and the check that must cite it."""

    at: datetime
    text: str
    check: str = ""


def use_of_sudo(at: datetime, who: Person, target: str, command: str, *, mistyped: bool) -> Iterator[Line]:
    """Yield what sudo and PAM log of one use."""
    uid = f"uid={who.uid}"
    if mistyped:
        failure = f"authentication failure; logname={who.name} {uid} euid=0 tty=/dev/pts/1 ruser={who.name} rhost=  user={who.name}"
        yield Line(at - timedelta(seconds=4), f"sudo: pam_unix(sudo:auth): {failure}")
    yield Line(at, f"sudo: {who.name:>8} : TTY=pts/1 ; PWD=/home/{who.name} ; USER={target} ; COMMAND={command}")
    yield Line(at, f"sudo: pam_unix(sudo:session): session opened for user {target}(uid=0) by {who.name}({uid})")
    yield Line(at + timedelta(seconds=2), f"sudo: pam_unix(sudo:session): session closed for user {target}")


def silence(host: str, end: datetime) -> tuple[datetime, datetime] | None:
    """Return from when to when lines are missing from a host's log."""
    begin = (end - timedelta(days=16)).replace(hour=9, minute=30, second=0)
    return (begin, begin + timedelta(hours=29)) if host == "tern" else None


def incidents(host: str, groups: Groups, contractor: Person, end: datetime) -> Iterator[Line]:
    """Yield what happened on a host that should not have."""
    yield from {"tern": _shell, "curlew": _stranger, "dunlin": _night}[host](groups, contractor, end)


def _day(end: datetime, back: int, hour: int, minute: int) -> datetime:
    return (end - timedelta(days=back)).replace(hour=hour, minute=minute, second=0)


def _used(at: datetime, who: str, terminal: str, command: str, folder: str = "", check: str = "") -> Line:
    return Line(at, f"sudo: {who:>8} : TTY={terminal} ; PWD={folder or f'/home/{who}'} ; USER=root ; COMMAND={command}", check)


def _shell(groups: Groups, _: Person, end: datetime) -> Iterator[Line]:
    """A root shell, in which someone is put into a group that amounts to root."""
    administrator, joined, at = groups["sudo"][1], groups["docker"][0], _day(end, 30, 17, 2)
    yield _used(at, administrator.name, "pts/2", "/usr/bin/bash")
    yield Line(at, f"sudo: pam_unix(sudo:session): session opened for user root(uid=0) by {administrator.name}(uid={administrator.uid})")
    yield Line(at + timedelta(minutes=6), f"usermod[4811]: add '{joined.name}' to group 'docker'")
    yield Line(at + timedelta(minutes=6), f"usermod[4811]: add '{joined.name}' to shadow group 'docker'")
    yield Line(at + timedelta(minutes=44), "sudo: pam_unix(sudo:session): session closed for user root")


def _stranger(groups: Groups, _: Person, end: datetime) -> Iterator[Line]:
    """A line that imitates another, a log-in as root from afar, and a membership that lasted for an afternoon."""
    operator, night = groups["operators"][0], _day(end, 9, 2, 11)
    folder = "/tmp/a ; USER=modelrun ; COMMAND=/opt/surge/bin/run"  # noqa: S108
    yield _used(night, operator.name, "pts/4", "/usr/bin/dnf update", folder, "use.suspected-forgery")
    yield Line(night + timedelta(minutes=3), "sshd[7012]: Accepted password for root from 203.0.113.9 port 51122 ssh2", "use.root-login")
    administrator, at = groups["wheel"][0], _day(end, 12, 13, 20)
    brief = groups["operators"][1].name
    yield _used(at, administrator.name, "pts/1", f"/usr/bin/gpasswd -a {brief} wheel")
    yield Line(at, f"gpasswd[8125]: user {brief} added by root to group wheel", "use.brief-membership")
    yield _used(at + timedelta(hours=3), administrator.name, "pts/1", f"/usr/bin/gpasswd -d {brief} wheel")
    yield Line(at + timedelta(hours=3), f"gpasswd[8311]: user {brief} removed by root from group wheel")


def _night(groups: Groups, contractor: Person, end: datetime) -> Iterator[Line]:
    """A contractor who tries doors at night, guesses at someone's password, and an administrator who reads password hashes."""
    night = _day(end, 9, 2, 11)
    for number, path in enumerate(("/etc/shadow", "/root/.ssh/id_ed25519", "/etc/sudoers", "/var/log/auth.log")):
        refused = f"command not allowed ; TTY=pts/3 ; PWD=/home/{contractor.name} ; USER=root ; COMMAND=/usr/bin/cat {path}"
        check = "use.refused-probe" if not number else ""
        yield Line(night + timedelta(seconds=40 * number), f"sudo: {contractor.name:>8} : {refused}", check)
    guessed, at = groups["calibration"][0].name, _day(end, 21, 15, 40)
    for number in range(24):
        text = f"sshd[{9100 + number}]: Failed password for {guessed} from 198.51.100.23 port {40000 + number} ssh2"
        yield Line(at + timedelta(seconds=7 * number), text, "" if number else "use.failure-burst")
    yield _used(_day(end, 40, 11, 5), groups["sudo"][0].name, "pts/1", "/usr/bin/cat /etc/shadow", check="use.secret-read")
