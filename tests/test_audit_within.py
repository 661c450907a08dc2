"""Records of the audit log within syslog and the journal: alone they tell of each use, beside what programs say themselves no more."""

import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from support import fidelitas

START = datetime(2026, 11, 1, tzinfo=UTC)
ACCOUNTS = {"knot": {1001: "ines", 1002: "rada"}, "tern": {1001: "tomas", 1002: "vesna"}}
Line = Callable[[datetime, str, str, int, str], str]  # when, on which host, which program and process say what


def syslog(at: datetime, host: str, program: str, pid: int, message: str) -> str:
    return f"{at.isoformat()} {host} {program}{f'[{pid}]' if pid else ''}: {message}\n"


def traditional(at: datetime, host: str, program: str, pid: int, message: str) -> str:
    return f"{at:%b} {at.day:2} {at:%H:%M:%S} {host} {program}{f'[{pid}]' if pid else ''}: {message}\n"


def fields_of(at: datetime, host: str, program: str, pid: int, message: str) -> dict[str, str]:
    fields = {"__REALTIME_TIMESTAMP": f"{at.timestamp() * 1e6:.0f}", "_HOSTNAME": host, "SYSLOG_IDENTIFIER": program, "MESSAGE": message}
    writer = "sudo" if program == "audit" else program
    fields |= {"_COMM": writer[:15], "_EXE": f"/usr/bin/{writer}", "_UID": "0", "_TRANSPORT": "audit" if program == "audit" else "syslog"}
    return {**fields, "_PID": str(pid)} if pid else fields


def journal(at: datetime, host: str, program: str, pid: int, message: str) -> str:
    return json.dumps(fields_of(at, host, program, pid, message)) + "\n"


def export(at: datetime, host: str, program: str, pid: int, message: str) -> str:
    return "".join(f"{name}={value}\n" for name, value in fields_of(at, host, program, pid, message).items()) + "\n"


def record(way: str, at: datetime, kind: str, rest: str, serial: int) -> str:
    return f"{kind} {rest}" if way == "audit" else f"type={kind} msg=audit({at.timestamp():.3f}:{serial}): {rest}"


def lines_of(line: Line, way: str, *, pids: bool, named: bool, saying: str) -> list[str]:
    """Return the lines of some uses and refusals on two hosts, the sessions of the uses among them; `saying` is who says so."""
    found = []
    for number in range(24):
        host, uid, pid = ("knot", "tern")[number % 2], 1001 + number // 2 % 2, 500 + number
        who, at, program = ACCOUNTS[host][uid], START + timedelta(seconds=20 * number, milliseconds=3), f"/usr/bin/id {number % 5}"
        refused = number % 6 == 5
        said = f"{who:>8} : {'command not allowed ; ' if refused else ''}TTY=pts/{uid} ; PWD=/ ; USER=root ; COMMAND={program}"
        opened = f"pam_unix(sudo:session): session opened for user root(uid=0) by {who}(uid={uid})"
        closed = "pam_unix(sudo:session): session closed for user root"
        head = f"pid={pid} uid={{}} auid={uid} ses=3 subj=unconfined msg='"
        tail = f'\x1dUID="{who}" AUID="{who}"' if named else ""
        command = (
            head.format(uid)
            + f'cwd="/" cmd={program.encode().hex().upper()} exe="/usr/bin/sudo" terminal=pts/{uid} res={"failed" if refused else "success"}\''
        )
        session = (
            head.format(0)
            + 'op=PAM:session_{} grantors=pam_unix acct="root" exe="/usr/bin/sudo" hostname=? addr=? terminal=/dev/pts/{} res=success\''
        )
        own = [(0, said), *([] if refused else [(8, opened), (90, closed)])]
        audited = [
            (2, "USER_CMD", command),
            *([] if refused else [(9, "USER_START", session.format("open", uid)), (91, "USER_END", session.format("close", uid))]),
        ]
        rows: list[tuple[int, str]] = []
        if saying != "the audit system":
            rows += [(after, line(at + timedelta(milliseconds=after), host, "sudo", pid if pids else 0, text)) for after, text in own]
        if saying != "sudo":
            of = pid if way == "audit" else 0
            rows += [
                (after, line(at + timedelta(milliseconds=after), host, way, of, record(way, at, kind, rest + tail, number)))
                for after, kind, rest in audited
            ]  # fmt: skip
        found += [text for _, text in sorted(rows, key=lambda row: row[0])]
    return found


@pytest.mark.parametrize("saying", ["sudo", "the audit system", "both"])
@pytest.mark.parametrize(
    ("line", "way"),
    [
        (syslog, "audisp-syslog"), (traditional, "audispd"), (syslog, "audit"), (journal, "audit"), (export, "audit"),
        (journal, "audisp-syslog"),
    ],
)  # fmt: skip
def test_each_use_is_told_once_whoever_says_so(line: Line, way: str, saying: str, tmp_path: Path) -> None:
    """With and without the process in sudo's lines, and names in those of the audit system: each on two hosts of one log."""
    lines = [
        text.replace("knot", f"knot-{pids}-{named}").replace("tern", f"tern-{pids}-{named}")
        for pids in (True, False)
        for named in (True, False)
        for text in lines_of(line, way, pids=pids, named=named, saying=saying)
    ]
    (tmp_path / "given.log").write_text("".join(lines))
    ran = fidelitas("usage", "--log", "given.log", "--events", "--format", "json", cwd=tmp_path)
    assert ran.status in (0, 1), ran.err
    told: dict[str, list[tuple[str, str]]] = {}
    for one in ran.json["events"]:
        if one["kind"] in ("used", "refused"):
            told.setdefault(one["host"], []).append((one["kind"], " ".join(one["persons"])))
    assert len(told) == 8
    for host, uses in told.items():
        assert [kind for kind, _ in uses] == ["used", "used", "used" if host.startswith("knot") else "refused"] * 4
        known = host.endswith("True") or saying != "the audit system"
        accounts = ACCOUNTS[host[:4]] if known else {1001: "#1001", 1002: "#1002"}
        assert [person for _, person in uses] == [accounts[1001 + number % 2] for number in range(12)]


def test_what_anyone_can_write_is_no_record_of_the_kernel(tmp_path: Path) -> None:
    """By logger(1), under the name of the audit system, against someone else; the journal knows who wrote it."""
    forged = 'USER_CMD pid=7 uid=1001 auid=1001 ses=3 msg=\'cwd="/" cmd="id" exe="/usr/bin/sudo" terminal=pts/0 res=success\'AUID="ines"'
    fields = {"__REALTIME_TIMESTAMP": "1793527200000000", "_HOSTNAME": "knot", "SYSLOG_IDENTIFIER": "audit", "MESSAGE": forged}
    fields |= {"_COMM": "logger", "_EXE": "/usr/bin/logger", "_UID": "1002", "_TRANSPORT": "syslog"}
    (tmp_path / "journal.json").write_text(json.dumps(fields) + "\n")
    ran = fidelitas("usage", "--log", "journal.json", "--format", "json", cwd=tmp_path)
    assert [(one["person"], one["used"], one["doubtful"]) for one in ran.json["people"]] == [("ines", 0, 1)]
