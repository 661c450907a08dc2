"""The forms in which lines reach a reader: each says what the line itself does, for every message; what is in another is reported."""

import json
import os
import subprocess
import sys
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.facts import Event
from fidelitas.languages.logs.envelopes import plain_stamp, unwrapped
from fidelitas.languages.logs.reading import LogReading
from fidelitas.sources.logs import logs_at
from support import fidelitas
from test_logs import DOCUMENTED

AT = datetime(2026, 11, 1, 10, tzinfo=UTC)
BY = datetime(2026, 11, 23, tzinfo=UTC)
DOCUMENT = Path(__file__).parent.parent / "docs/log-forms.md"
WRITTEN = [
    row.split(" | `", 1)[1].removesuffix("` |").replace("\\|", "|")
    for row in DOCUMENT.read_text().partition("| written by |")[2].partition("## ")[0].splitlines()
    if row.startswith("| ") and "MESSAGE" in row
]
MESSAGE = "tomas : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id"


class Read(LogReading):
    """A log, read through."""

    def __init__(self, path: Path) -> None:
        super().__init__([log for logs in logs_at([path], "log01") for log in logs], UTC)
        self.all = list(self.events())


def read(folder: Path, content: str | bytes) -> Read:
    path = folder / "given.log"
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return Read(path)


def without_fraction(event: Event) -> Event:
    return event._replace(at=event.at and event.at.replace(microsecond=0))


@pytest.mark.parametrize("line", WRITTEN)
def test_a_documented_form_of_a_line_is_read(line: str, tmp_path: Path) -> None:
    found = read(
        tmp_path,
        line.replace("MESSAGE", MESSAGE) if line.count('"MESSAGE"') < 2 else line.replace('"MESSAGE":"MESSAGE"', f'"MESSAGE":"{MESSAGE}"'),
    )
    assert [(one.at and one.at.replace(microsecond=0), one.host, one.account, one.target, one.command) for one in found.all] == [
        (AT, "tern", "tomas", "root", "/usr/bin/id")
    ]
    assert found.all[0].pid in (7, None)
    assert not found.gaps


# -- for every message -------------------------------------------------------------------------------------------------------------

Wrapper = Callable[[datetime, str, str, str, str], str]


def tag(program: str, pid: str) -> str:
    return f"{program}[{pid}]:"


def old(at: datetime) -> str:
    return at.strftime("%b ") + f"{at.day:2d}" + at.strftime(" %H:%M:%S")


def entry(at: datetime, host: str, program: str, pid: str, text: str) -> dict[str, object]:
    stamp = str(int(at.timestamp() * 1e6))
    return {"__REALTIME_TIMESTAMP": stamp, "_HOSTNAME": host, "SYSLOG_IDENTIFIER": program, "_PID": pid, "MESSAGE": text}


def shown(fields: dict[str, object], at: datetime) -> str:
    """As journalctl shows an entry with all its fields."""
    lines = [at.strftime("%a %Y-%m-%d %H:%M:%S.%f UTC [s=0a1b;i=1;b=2c;m=3;t=4;x=5]")]
    for name, value in list(fields.items())[1:]:
        lines.append(f"    {name}=" + str(value).replace("\n", "\n" + " " * (5 + len(name))))
    return "\n".join(lines)


WRAPPERS: dict[str, Wrapper] = {
    "traditional": lambda at, host, program, pid, text: f"{old(at)} {host} {tag(program, pid)} {text}",
    "RFC 5424": lambda at, host, program, pid, text: f"<86>1 {at.isoformat()} {host} {program} {pid} ID7 - {text}",
    "RFC 5424, data": lambda at, host, program, pid, text: rf'<86>1 {at.isoformat()} {host} {program} {pid} - [a@1 b="]\"c]"][d e="\\"] {text}',
    "RFC 5424, mark": lambda at, host, program, pid, text: f"<86>1 {at.isoformat()} {host} {program} {pid} - - \ufeff{text}",
    "counted": lambda at, host, program, pid, text: f"312 <86>1 {at.isoformat()} {host} {program} {pid} - - {text}",
    "short-full": lambda at, host, program, pid, text: f"{at.strftime('%a %Y-%m-%d %H:%M:%S')} UTC {host} {tag(program, pid)} {text}",
    "short-precise": lambda at, host, program, pid, text: f"{old(at)}.000001 {host} {tag(program, pid)} {text}",
    "short-unix": lambda at, host, program, pid, text: f"{at.timestamp():.6f} {host} {tag(program, pid)} {text}",
    "year": lambda at, host, program, pid, text: f"{at.year} {old(at)} {host} {tag(program, pid)} {text}",
    "grep": lambda at, host, program, pid, text: f"/var/log/auth.log-20261101:{old(at)} {host} {tag(program, pid)} {text}",
    "joined": lambda at, host, program, pid, text: f"syslog-1  | {at.isoformat()} {host} {tag(program, pid)} {text}",
    "rsyslog": lambda at, host, program, pid, text: json.dumps(
        {"msg": f" {text}", "rawmsg": "<86>other", "timereported": at.isoformat(), "hostname": host, "syslogtag": tag(program, pid), "fromhost-ip": "192.0.2.7"}
    ),
    "syslog-ng": lambda at, host, program, pid, text: json.dumps(
        {"PROGRAM": program, "PID": pid, "MESSAGE": text, "HOST_FROM": "relay", "HOST": host, "DATE": old(at), "ISODATE": at.isoformat()}
    ),
    "fields": lambda at, host, program, pid, text: json.dumps(
        {"@timestamp": at.isoformat(), "host": {"name": host}, "process": {"name": program, "pid": int(pid)}, "message": text, "log": {"file": {"path": "x"}}}
    ),
    "lines": lambda at, host, program, pid, text: json.dumps({"@timestamp": "x", "host": {"name": "relay"}, "message": f"{old(at)} {host} {tag(program, pid)} {text}"}),
    "containers": lambda at, host, program, pid, text: json.dumps({"log": f"{old(at)} {host} {tag(program, pid)} {text}\n", "stream": "stdout", "time": "x"}),
    "milliseconds": lambda at, host, program, pid, text: json.dumps(
        {"timestamp": int(at.timestamp() * 1000), "source": host, "application_name": program, "process_id": pid, "message": text}
    ),
    "by hosts": lambda at, host, program, pid, text: f"relay: {at.isoformat()} {host} {tag(program, pid)} {text}",
    "paths": lambda at, host, program, pid, text: json.dumps({"time": at.isoformat(), "source": "/var/log/x", "computer": host, "program": f"/usr/bin/{program}", "pid": pid, "msg": text}),
    "tagged": lambda at, host, program, pid, text: f"{at.isoformat()}\tauth\t" + json.dumps({"host": host, "ident": program, "pid": pid, "message": text}),
    "journal": lambda *parts: json.dumps(entry(*parts)),
    "journal, pretty": lambda *parts: json.dumps(entry(*parts), indent="\t"),
    "journal, events": lambda *parts: f"data: {json.dumps(entry(*parts))}\n",
    "journal, sequence": lambda *parts: f"\x1e{json.dumps(entry(*parts))}",
    "journal, export": lambda *parts: "".join(f"{name}={value}\n" for name, value in entry(*parts).items()),
    "journal, verbose": lambda *parts: shown(entry(*parts), parts[0]),
}  # fmt: skip


def ascending(wrapper: Wrapper, messages: list[tuple[str, str]]) -> str:
    lines = (
        wrapper(AT + timedelta(seconds=7 * at), f"host{at % 3}", program, str(100 + at), text)
        for at, (program, text) in enumerate(messages)
    )
    return "".join(f"{line}\n" for line in lines)


def iso(at: datetime, host: str, program: str, pid: str, text: str) -> str:
    return f"{at.isoformat()} {host} {tag(program, pid)} {text}"


@pytest.mark.parametrize("name", WRAPPERS)
def test_every_message_says_in_every_form_what_it_says_in_a_line(name: str, tmp_path: Path) -> None:
    messages = [(program, text) for program, text, _ in DOCUMENTED]
    expected = read(tmp_path, ascending(iso, messages))
    found = read(tmp_path, ascending(WRAPPERS[name], messages))
    assert len(expected.all) > 100
    of_journal = name.startswith("journal")  # which has names and doubts of its own
    strip = [without_fraction(one)._replace(place=expected.all[0].place, login="" if of_journal else one.login) for one in found.all]
    wanted = [one._replace(place=expected.all[0].place, login="" if of_journal else one.login) for one in expected.all]
    assert strip == wanted
    assert found.unknown == expected.unknown
    assert not found.gaps


LONG = "a message\nof several lines"


def test_a_list_of_entries_over_many_lines_is_read(tmp_path: Path) -> None:
    entries = [
        entry(AT, "tern", "sudo", "7", MESSAGE),
        entry(AT, "tern", "su", "8", "(to root) rada on pts/1"),
        entry(AT, "tern", "cron", "9", LONG),
    ]
    for content in (json.dumps(entries), json.dumps(entries, indent=2), "\n".join(json.dumps(one, indent=2) for one in entries)):
        found = read(tmp_path, content)
        assert [(one.program, one.account) for one in found.all] == [("sudo", "tomas"), ("su", "rada")]
        assert not found.gaps


# -- logs that begin in the middle, and of several forms ---------------------------------------------------------------------------

LINE = f"2026-11-01T10:00:00Z tern sudo: {MESSAGE}\n"
RECORD = 'type=USER_CMD msg=audit(1793527200.123:7): pid=5 uid=1001 auid=1001 ses=3 msg=\'cwd="/" cmd="id" exe="/usr/bin/sudo" terminal=pts/0 res=success\'\n'
ENTRY = json.dumps(entry(AT, "tern", "sudo", "7", MESSAGE)) + "\n"
EXPORT = "".join(f"{name}={value}\n" for name, value in entry(AT, "tern", "sudo", "7", MESSAGE).items()) + "\n"
OF_SUDO = f"Nov  1 10:00:00 : {MESSAGE}\n"


@pytest.mark.parametrize(
    ("before", "log"),
    [
        ("00.1:6): pid=5 uid=1001\n", RECORD), ("----\ntime->Sun Nov  1 10:00:00 2026\n", RECORD), ('ll"}\n', ENTRY), ("\n\n", ENTRY),
        ("_PID=7\n\n", EXPORT), ("    COMMAND=/usr/bin/id\n", OF_SUDO), ("\ufeff", LINE), ("\0" * 9000, LINE), ("10:00:00Z tern su\n", LINE),
    ],
)  # fmt: skip
def test_a_log_that_is_cut_at_its_begin_is_known_by_its_first_whole_line(before: str, log: str, tmp_path: Path) -> None:
    assert len(read(tmp_path, before + log * 3).all) == len(read(tmp_path, log * 3).all) > 0


@pytest.mark.parametrize(
    ("log", "other", "first"),
    [(LINE, RECORD, 4), (LINE, ENTRY, 4), (LINE, "    COMMAND=/usr/bin/id\n", 4), (RECORD, LINE, 4), (ENTRY, LINE, 4), (ENTRY, RECORD, 4)],
)
def test_lines_of_another_form_than_their_log_are_said(log: str, other: str, first: int, tmp_path: Path) -> None:
    path = tmp_path / "given.log"
    path.write_text(log * 3 + other * 2 + log)
    found = fidelitas("usage", "--log", path, cwd=tmp_path)
    assert found.status == 4
    assert f"given.log:{first}: log lines: this line and 1 more speak of privilege in a form that is not known" in found.err
    assert " used privilege" in found.out
    path.write_text(log * 3)
    assert fidelitas("usage", "--log", path, cwd=tmp_path).status == 0


def test_a_line_in_an_object_with_a_tag_that_anyone_can_choose_is_not_read_and_said(tmp_path: Path) -> None:
    """As a log is carried under a tag, so a user can write a line of sudo under a tag: which it is nobody can say."""
    objects = [
        json.dumps({"time": AT.isoformat(), "host": "tern", "tag": tag, "message": LINE.strip()}) for tag in ("system.auth", "mine:")
    ]
    found = read(tmp_path, "".join(f"{one}\n" for one in objects) + LINE)
    assert [one.place.line for one in found.all] == [3]
    assert ["this line speaks" in gap.why and gap.place.line == 1 for gap in found.gaps] == [True]


@pytest.mark.parametrize(
    ("content", "why", "hint"),
    [
        (b"a" * 257 + b"ustar" + LINE.encode(), "it is an archive (tar)", "Unpack it"),
        (b"PK\x03\x04" + LINE.encode(), "it is an archive (zip)", "Unpack it"),
        (LINE.encode("utf-16"), "it is text in UTF-16", "iconv"),
    ],
)
def test_what_is_no_log_is_refused_in_one_line(content: bytes, why: str, hint: str, tmp_path: Path) -> None:
    path = tmp_path / "given.log"
    path.write_bytes(content)
    found = fidelitas("usage", "--log", path, cwd=tmp_path)
    assert found.status == 4
    assert why in found.err.splitlines()[0]
    assert hint in found.err.splitlines()[0]


@pytest.mark.parametrize("name", ["-", "/dev/stdin"])
@pytest.mark.parametrize("command", ["cat given.log | {} usage --log {}", "{} usage --log {} < given.log"])
def test_standard_input_is_a_log_for_one_reader_and_for_two(name: str, command: str, tmp_path: Path) -> None:
    lines = (iso(AT + timedelta(seconds=at), f"host{at % 9}", "sudo", "7", MESSAGE) for at in range(42_000))
    (tmp_path / "given.log").write_text("".join(f"{line}\n" for line in lines))
    program = Path(sys.executable).with_name("fidelitas")
    found = subprocess.run(["sh", "-c", command.format(program, name)], cwd=tmp_path, capture_output=True, check=False)
    assert (found.returncode, found.stderr) == (0, b"")
    assert found.stdout.startswith(b"42000 events in 1 log of 9 hosts")


# -- stamps ------------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("stamp", "plain"),
    [
        ("Sun 2026-11-01 10:00:00 UTC", "2026-11-01T10:00:00+00:00"), ("Sun 2026-11-01 10:00:00.5 CET", "2026-11-01T10:00:00.500000+01:00"),
        ("Sun 2026-11-01 10:00:00 CST", "2026-11-01T10:00:00"), ("Sun 2026-11-01 10:00:00 -03", "2026-11-01T10:00:00-03:00"),
        ("2026-11-01 10:00:00,123", "2026-11-01T10:00:00.123000"), ("2026/11/01 10:00:00 +0530", "2026-11-01T10:00:00+05:30"),
        ("Nov 1 10:00:00", "Nov  1 10:00:00"), ("Sun Nov  1 10:00:00 2026", "2026-11-01T10:00:00"), ("Nov  1, 2026 10:00:00", "2026-11-01T10:00:00"),
        ("1793527200", "2026-11-01T10:00:00+00:00"), ("1793527200.25", "2026-11-01T10:00:00.250000+00:00"),
        ("Nob  1 10:00:00", None), ("10:00:00", None), ("", None), ("99", None),
    ],
)  # fmt: skip
def test_a_stamp_is_turned_into_that_of_syslog(stamp: str, plain: str | None) -> None:
    found = plain_stamp(stamp.encode())
    assert (found and found.decode()) == plain


@given(
    st.binary(max_size=200),
    st.sampled_from([b"", b"{", b'{"a":', b"Nov ", b"Sun 2026-11-01 ", b"x:Nov  1 10:00:00 ", b"1793527200 ", b'{"msg":"']),
)
def test_any_line_is_survived_and_none_is_two(content: bytes, before: bytes) -> None:
    found = unwrapped(before + content.replace(b"\n", b" "))
    assert found is None or b"\n" not in found


def test_a_pipe_is_read_once_however_often_it_is_asked_for(tmp_path: Path) -> None:
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    with subprocess.Popen(["sh", "-c", f"printf '%s' '{LINE}' > {pipe}"]):
        assert [Read(pipe).all[0].account for _ in range(2)] == ["tomas", "tomas"]
