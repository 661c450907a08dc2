"""Logs of one host that grow: actions recorded in several forms, with what makes reading hard, and the logs as they were at some times."""

import json
import random
import struct
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

HOST = "knot"
NAMES = {1001: "ines", 1002: "rada", 1003: "tomas"}
FAMILIES = (
    "/var/log/auth.log",
    "/var/log/journal.json",
    "/var/log/sudo.log",
    "/var/log/audit/audit.log",
    "/var/log/wtmp",
    "/var/log/lastlog",
)
_UTMP = struct.Struct("<hxxi32s4s32s256shhiii16s20x")
_LAST = struct.Struct("<i32s256s")
_COMMANDS = (
    "/usr/bin/id",
    "/usr/bin/cat /etc/shadow",
    "/usr/bin/vi /etc/sudoers",
    "/bin/bash",
    "/usr/bin/systemctl restart tide",
    "/usr/bin/tee /var/log/auth.log",
)
_LONG = "/usr/bin/printf " + " ".join(f"word{number}" for number in range(200))


class Line(NamedTuple):
    """What is written to a log, and when."""

    at: datetime
    family: str
    content: bytes


class Actions:
    """Makes lines of actions at random, those of one in all logs of some families."""

    def __init__(self, rng: random.Random, families: Sequence[str], *, traditional: bool, many: bool) -> None:
        """`traditional` says that stamps have no year, `many` that some lines are of other hosts."""
        self._rng, self._families, self._traditional, self._many = rng, families, traditional, many
        self._within = rng.random() < 0.4  # whether the audit system's records are in the other logs, too
        self._host = HOST
        self._at = datetime(2026, 2, 20, 8, tzinfo=UTC)
        self._pid: int = 700
        self._open: list[tuple[str, int]] = []  # root shells: who, process

    def lines(self, count: int) -> Iterator[Line]:
        rng = self._rng
        for _ in range(count):
            self._at += timedelta(seconds=rng.choice((0, 1, 1, 2, 20, 300, 4000, 4000, -2, 90_000 if rng.random() < 0.2 else 7)))
            self._host = rng.choice((HOST, HOST, HOST, "gannet", "gannet.saltmarsh.example")) if self._many else HOST
            self._pid += rng.randint(0, 3)
            action = rng.choice(
                (
                    self._use,
                    self._use,
                    self._shell,
                    self._end,
                    self._login,
                    self._failed,
                    self._change,
                    self._refused,
                    self._continued,
                    self._noise,
                )
            )
            yield from action(rng.choice(tuple(NAMES.values())))

    # -- actions -------------------------------------------------------------------------------------------------------------------------

    def _use(self, who: str) -> Iterator[Line]:
        rng, command = self._rng, self._rng.choice(_COMMANDS) + self._rng.choice(("", "", " ; EXIT=0", f" {self._rng.randint(0, 40)}"))
        terminal = f"pts/{rng.randint(0, 2)}"
        if rng.random() < 0.3:
            yield from self._said(
                "sudo",
                f"pam_unix(sudo:auth): authentication failure; logname={who} uid=1001 euid=0 tty=/dev/{terminal} ruser={who} rhost=  user={who}",
            )
            if rng.random() < 0.6:
                self._at += timedelta(seconds=rng.choice((0, 1, 200)))
                yield from self._said(
                    "sudo",
                    f"pam_sss(sudo:auth): authentication success; logname={who} uid=1001 euid=0 tty=/dev/{terminal} ruser={who} rhost= user={who}",
                )
        line = f"{who} : TTY={terminal} ; PWD=/home/{who} ; USER=root ; COMMAND={command}"
        if "/var/log/sudo.log" in self._families:
            year = "" if self._traditional else f" {self._at.year}"
            yield Line(self._at, "/var/log/sudo.log", f"{self._at:%b %e %H:%M:%S}{year} : {line}\n".encode())
        self._at += timedelta(seconds=rng.choice((0, 0, 1, 40)))
        yield from self._said("sudo", f"   {line}")
        yield from self._audited(
            f'USER_CMD msg=audit({{at}}): pid={self._pid} uid={self._uid(who)} auid={self._uid(who)} ses=3 msg=\'cwd="/home/{who}" cmd={command.encode().hex().upper()} exe="/usr/bin/sudo" terminal={terminal} res=success\''
        )
        yield from self._said("sudo", f"pam_unix(sudo:session): session opened for user root(uid=0) by {who}(uid={self._uid(who)})")
        if rng.random() < 0.8:
            self._at += timedelta(seconds=rng.choice((0, 3, 700)))
            if rng.random() < 0.2:
                yield from self._said("sudo", f"   {line} ; EXIT=0")
            yield from self._said("sudo", "pam_unix(sudo:session): session closed for user root")

    def _shell(self, who: str) -> Iterator[Line]:
        self._pid += 1
        self._open.append((who, self._pid))
        if self._rng.random() < 0.5:
            yield from self._said("su", f"(to root) {who} on pts/{self._rng.randint(0, 3)}")
            yield from self._said("su", f"pam_unix(su-l:session): session opened for user root(uid=0) by {who}(uid={self._uid(who)})")
        else:
            yield from self._said("sudo", f"   {who} : TTY=pts/4 ; PWD=/ ; USER=root ; COMMAND=/bin/bash")
            yield from self._said("sudo", f"pam_unix(sudo:session): session opened for user root(uid=0) by (uid={self._uid(who)})")

    def _end(self, _: str) -> Iterator[Line]:
        if self._open:
            self._pid = self._open.pop(self._rng.randrange(len(self._open)))[1]
            yield from self._said("su", "pam_unix(su-l:session): session closed for user root")
            self._pid = 3000 + len(self._open) + self._rng.randint(0, 5000)

    def _login(self, who: str) -> Iterator[Line]:
        yield from self._said(
            "sshd", f"Accepted publickey for {who} from 192.0.2.{self._rng.randint(1, 9)} port 4022 ssh2: ED25519 SHA256:x"
        )
        yield from self._said("sshd", f"pam_unix(sshd:session): session opened for user {who}(uid={self._uid(who)}) by (uid=0)")
        if "/var/log/wtmp" in self._families:
            kind, name = (7, who.encode()) if self._rng.random() < 0.7 else (8, b"")
            record = _UTMP.pack(kind, self._pid, b"pts/1", b"1", name, b"192.0.2.4", 0, 0, 0, int(self._at.timestamp()), 0, b"")
            yield Line(self._at, "/var/log/wtmp", record)
        if "/var/log/lastlog" in self._families:
            yield Line(
                self._at, "/var/log/lastlog", _LAST.pack(int(self._at.timestamp()), b"pts/1", b"192.0.2.4") + self._uid(who).to_bytes(4)
            )

    def _failed(self, _: str) -> Iterator[Line]:
        name = self._rng.choice(("oracle", "tide", "ines", "Sommer2026!"))
        says = f"Failed password for invalid user {name} from 198.51.100.{self._rng.randint(1, 4)} port 52022 ssh2"
        yield from self._said("sshd", f"message repeated {self._rng.randint(2, 5)} times: [ {says}]" if self._rng.random() < 0.2 else says)

    def _change(self, who: str) -> Iterator[Line]:
        says = self._rng.choice(
            (
                f"add '{who}' to group 'adm'",
                f"delete '{who}' from group 'adm'",
                "new user: name=gale, UID=1009, GID=1009, home=/home/gale, shell=/bin/sh",
            )
        )
        yield from self._said("useradd" if says.startswith("new") else "usermod", says)

    def _refused(self, who: str) -> Iterator[Line]:
        yield from self._said(
            "sudo", f"   {who} : command not allowed ; TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND={self._rng.choice(_COMMANDS)}"
        )

    def _continued(self, who: str) -> Iterator[Line]:
        head = f"{who} : TTY=pts/2 ; PWD=/ ; USER=root ; COMMAND={_LONG}"
        yield from self._said("sudo", f"   {head[:900]}")
        yield from self._said("sudo", f"   {who} : (command continued) {head[900:]}")

    def _noise(self, who: str) -> Iterator[Line]:
        del who
        for _ in range(self._rng.randint(1, 4)):
            says = self._rng.choice(
                (
                    "Disconnected from 192.0.2.7 port 22",
                    "Received disconnect from 192.0.2.7 port 22:11: bye",
                    "Server listening on :: port 22.",
                )
            )
            yield from self._said("sshd", says)
        yield from self._said("kernel", "nothing")

    # -- forms -------------------------------------------------------------------------------------------------------------------------

    @staticmethod
    def _uid(who: str) -> int:
        return next(uid for uid, name in NAMES.items() if name == who)

    def _said(self, program: str, message: str) -> Iterator[Line]:
        at = self._at - timedelta(seconds=self._rng.choice((0, 0, 0, 0, 3)))
        stamp = f"{at:%b %e %H:%M:%S}" if self._traditional else f"{at:%Y-%m-%dT%H:%M:%S}.{self._rng.randint(0, 999_999):06}+00:00"
        yield Line(self._at, "/var/log/auth.log", f"{stamp} {self._host} {program}[{self._pid}]: {message}\n".encode())
        entry = {"__REALTIME_TIMESTAMP": str(int(at.timestamp() * 1e6)), "_HOSTNAME": self._host, "SYSLOG_IDENTIFIER": program, "_PID": str(self._pid),
                 "_COMM": program, "_UID": "0", "_EXE": f"/usr/bin/{program}", "MESSAGE": message.strip()}  # fmt: skip
        yield Line(self._at + timedelta(seconds=self._rng.choice((0, 0, 1))), "/var/log/journal.json", json.dumps(entry).encode() + b"\n")

    def _audited(self, record: str) -> Iterator[Line]:
        at = f"{int(self._at.timestamp())}.{self._rng.randint(0, 999):03}:{self._pid}"
        yield Line(self._at, "/var/log/audit/audit.log", f"type={record.format(at=at)}\n".encode())
        if self._within:
            yield from self._said("audisp-syslog", f"type={record.format(at=at)}")


def written_by(lines: Sequence[Line], family: str, at: datetime, *, begun: bool = False) -> bytes:
    """Return what a log holds at a time, perhaps with a line that is only begun."""
    there = [line.content for line in lines if line.family == family and line.at <= at]
    if family.endswith("lastlog"):
        last = {int.from_bytes(content[-4:]): content[:-4] for content in there}
        return b"".join(last.get(uid, bytes(_LAST.size)) for uid in range(max(last, default=-1) + 1))
    after = next((line.content for line in lines if line.family == family and line.at > at), b"") if begun else b""
    return b"".join(there) + after[: len(after) // 2]
