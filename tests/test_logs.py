"""Logs: every form of them, hostile lines, and who stood behind what; with real sudo as a judge of what its log says."""

import bz2
import gzip
import json
import lzma
import os
import struct
import sys
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.errors import ReadError
from fidelitas.facts import Event, EventKind, Place
from fidelitas.languages.logs.audit_log import AuditReader
from fidelitas.languages.logs.clock import Clock
from fidelitas.languages.logs.deduplication import Deduplication, Sourced
from fidelitas.languages.logs.journal import JournalForm, JournalReader
from fidelitas.languages.logs.journal_fields import Names, impostor
from fidelitas.languages.logs.login_records import LoginReader
from fidelitas.languages.logs.reading import LogReading
from fidelitas.languages.logs.sudo_file import SudoFileReader
from fidelitas.languages.logs.sudo_lines import read_sudo_line
from fidelitas.languages.logs.syslog import SyslogReader
from fidelitas.masking import mask, masked
from fidelitas.sources.logs import logs_at
from fidelitas.usage import AttributedEvent, Attribution, AttributionBasis, People, PersonUse
from support import fidelitas
from test_cli import check_schema
from test_judge_sudo import ACCOUNTS, Writer, in_world, write

SAMPLES = Path(__file__).parent / "samples" / "logs"
MASK = mask("hunter2")
HERE = Place(subject="knot", path="/var/log/auth.log")
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


class Read(LogReading):
    """Logs of one host, read through."""

    def __init__(self, *paths: Path) -> None:
        super().__init__([log for logs in logs_at(paths, "log01") for log in logs], UTC)
        self.all = list(self.events())


def read(*paths: Path) -> Read:
    return Read(*paths)


def told(text: str, by: datetime = NOW, zone: str = "UTC") -> list[Event]:
    """Return the events of lines of syslog."""
    samples = [line[:15] for line in text.splitlines() if line]
    return list(SyslogReader(Clock(ZoneInfo(zone), by, *samples), HERE).events([text.encode()]))


def essence(event: Event) -> tuple[object, ...]:
    return event.kind, event.account, event.target, event.group, event.terminal, event.folder, event.command, event.reason


# -- forms -------------------------------------------------------------------------------------------------------------------------


def test_three_forms_of_syslog_tell_the_same() -> None:
    whole, *others = (read(SAMPLES / name) for name in ("auth.log", "auth.traditional.log", "auth.rfc5424.log"))
    assert len(whole.all) == 229
    assert not whole.unknown
    for other in others:
        assert [essence(event) for event in other.all] == [essence(event) for event in whole.all]
        assert [event.at.replace(microsecond=0) for event in other.all if event.at] == [
            event.at.replace(microsecond=0) for event in whole.all if event.at
        ]
        assert [event.place.line for event in other.all] == [event.place.line for event in whole.all]


def test_the_forms_of_sudos_own_log_tell_the_same() -> None:
    wrapped, long, in_json = (read(SAMPLES / f"sudo-{form}.log") for form in ("wrapped", "long", "json"))
    assert not wrapped.gaps + long.gaps + in_json.gaps
    short = [(event.kind, event.account, event.target, event.group) for event in wrapped.all]
    assert len(short) == 18
    for other in (long, in_json):
        assert [
            (event.kind, event.account, event.target, event.group) for event in other.all if event.kind is not EventKind.CLOSED
        ] == short
    assert [event.command for event in wrapped.all] == [event.command for event in long.all if event.kind is not EventKind.CLOSED]
    assert {event.reason for event in long.all if event.kind is EventKind.CLOSED} == {"exit 0", "exit 1"}


def test_events_of_sudo_in_json_within_syslog_and_the_journal_in_both_its_forms() -> None:
    assert {event.command for event in read(SAMPLES / "auth-json.log").all if event.program == "sudo"} >= {
        "/usr/bin/id",
        "/usr/bin/id -un",
    }
    journal, export = read(SAMPLES / "journal.json"), read(SAMPLES / "journal.export")
    assert [essence(event) for event in journal.all] == [essence(event) for event in export.all]
    assert [(event.kind, event.account, event.command) for event in journal.all if event.program == "sudo" and event.command] == [
        (EventKind.USED, "ines", "/usr/bin/id"),
        (EventKind.REFUSED, "vesna", "/usr/bin/cat /etc/shadow"),
        (EventKind.USED, "root", "/usr/bin/true"),
    ]


def test_the_audit_log_with_and_without_names_tells_the_same() -> None:
    raw, enriched = read(SAMPLES / "audit-raw.log"), read(SAMPLES / "audit-enriched.log")
    assert [essence(event) for event in raw.all] == [essence(event) for event in enriched.all]
    uses = [(event.account, event.command) for event in raw.all if event.kind is EventKind.USED]
    assert uses[:3] == [("ines", "/usr/bin/id"), ("ines", "/usr/bin/id -un"), ("ines", r"/usr/bin/env LC_ALL=C printf a b\tc; d")]
    assert {event.reason for event in raw.all if event.account == "" and event.kind is EventKind.CHANGED} <= {
        "audit: set",
        "audit: add_rule",
        "audit: remove_rule",
    }


DOCUMENTED = [
    tuple(cell.strip().strip("`") for cell in row.split("|")[1:4])
    for row in (Path(__file__).parent.parent / "docs/log-forms.md").read_text().partition("| program | message |")[2].splitlines()
    if row.startswith("| ") and "`" in row
]


@pytest.mark.parametrize(("program", "message", "expected"), DOCUMENTED)
def test_a_documented_message_is_understood_as_it_says(program: str, message: str, expected: str) -> None:
    """In syslog and in the journal: the first event that comes of it, or that none does and the message is known."""
    syslog = SyslogReader(Clock(UTC, NOW, "", ""), HERE)
    journal = JournalReader(HERE)
    entry = {"SYSLOG_IDENTIFIER": program, "_HOSTNAME": "knot", "_PID": "7", "MESSAGE": message}
    for reader, text in ((syslog, f"2026-11-23T06:00:00Z knot {program}[7]: {message}\n"), (journal, json.dumps(entry) + "\n")):
        events = list(reader.events([text.encode()]))
        assert not reader.unknown
        if expected == "nothing":
            assert not events
            continue
        kind, *fields = expected.split("; ")
        assert events[0].kind.value == kind
        assert not events[0].doubt
        stated = dict(field.split("=", 1) for field in fields)
        assert {name: str(getattr(events[0], name)) for name in stated} == stated


ASKED = "request by system-bus-name::1.66 [{} pid:1800 uid:1000]: {}"


@pytest.mark.parametrize(
    ("lines", "expected"),
    [
        ([("adduser", "Adding user `vesna' ..."), ("adduser", "Adding new user `vesna' (1009) with group `vesna' ..."), ("useradd", "new user: name=vesna, UID=1009, GID=1009, home=/home/vesna, shell=/bin/sh, from=/dev/pts/0")],
         [("useradd", "", "vesna", "pts/0")]),
        ([("adduser", "Adding user `vesna' to group `sudo' ..."), ("sudo", "rada : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/bin/id"), ("gpasswd", "user vesna added by root to group sudo")],
         [("sudo", "rada", "root", "pts/1"), ("gpasswd", "root", "vesna", "")]),
        ([("deluser", "Removing user `vesna' from group `sudo' ..."), ("gpasswd", "user vesna removed by root from group adm")],
         [("deluser", "", "vesna", ""), ("gpasswd", "root", "vesna", "")]),
        ([("useradd", "new user: name=vesna, UID=1009, GID=1009, home=/home/vesna, shell=/bin/sh"), ("userdel", "delete user 'vesna'")],
         [("useradd", "", "vesna", ""), ("userdel", "", "vesna", "")]),
        ([("sudo", "pam_unix(sudo:session): session opened for user root(uid=0) by rada(uid=1000)"), ("accounts-daemon", ASKED.format("gnome-control-c", "create user 'vesna'")), ("useradd", "new user: name=vesna, UID=1009, GID=1009, home=/home/vesna, shell=/bin/sh")],
         [("sudo", "rada", "root", ""), ("useradd", "rada", "vesna", "")]),
        # who asks has a command line that another's number stands in
        ([("accounts-daemon", ASKED.format("x uid:0]: create user 'mallory'", "create user 'vesna'"))], []),
        ([("accounts-daemon", ASKED.format("x", "change real name of user 'vesna' (1009) to 'y pid:1 uid:0]: delete user 'rada' (1000)"))], []),
    ],
)  # fmt: skip
def test_a_change_that_one_program_has_another_make_is_one(lines: list[tuple[str, str]], expected: list[tuple[str, ...]]) -> None:
    stamped = [f"2026-11-23T06:00:0{at}Z knot {program}[7]: {message}\n" for at, (program, message) in enumerate(lines)]
    entries = [
        json.dumps(
            {"SYSLOG_IDENTIFIER": program, "_HOSTNAME": "knot", "MESSAGE": message, "__REALTIME_TIMESTAMP": f"{1795413600 + at}000000"}
        )
        for at, (program, message) in enumerate(lines)
    ]
    for reader, text in ((SyslogReader(Clock(UTC, NOW, "", ""), HERE), "".join(stamped)), (JournalReader(HERE), "\n".join(entries))):
        events = list(reader.events([text.encode()]))
        assert [(one.program, one.account, one.target, one.terminal) for one in events] == expected


def test_a_process_that_stands_apart_from_its_program_is_one() -> None:
    """As some relays write it: ``sudo [7]:``."""
    line = "2026-11-23T06:00:00Z knot sudo [7]:    tomas : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id\n"
    (event,) = SyslogReader(Clock(UTC, NOW, "", ""), HERE).events([line.encode()])
    assert (event.account, event.pid, event.command) == ("tomas", 7, "/usr/bin/id")


def test_a_message_that_no_row_fits_is_counted_by_program() -> None:
    reader = SyslogReader(Clock(UTC, NOW, "", ""), HERE)
    lines = [f"2026-11-23T06:00:00Z knot {program}: a new wording\n" for program in ("su", "usermod", "su")]
    assert not list(reader.events(["".join(lines).encode()]))
    assert dict(reader.unknown) == {"su": 2, "usermod": 1}


AUDIT = "type={} msg=audit(1795400000.102:{}): {}\n"


@pytest.mark.parametrize(
    ("record", "fields", "expected"),
    [
        ("USER_CMD", "pid=1 uid=0 auid=1001 ses=3 msg='cwd=\"/\" cmd=636174202F6574632F736861646F77 exe=\"/usr/bin/sudo\" terminal=pts/0 res=success'",
         (EventKind.USED, "#1001", "", "cat /etc/shadow")),
        ("USER_CMD", "pid=1 uid=1001 auid=1001 ses=3 msg='cwd=\"/\" cmd=\"id\" exe=\"/usr/bin/sudo\" terminal=pts/0 res=failed'\x1dUID=\"ines\" AUID=\"ines\"",
         (EventKind.REFUSED, "ines", "", "id")),
        ("ADD_GROUP", "pid=1 uid=0 auid=1001 msg='op=add-user-to-group grp=\"sudo\" acct=\"rada\" exe=\"/usr/sbin/usermod\" res=success'\x1dAUID=\"ines\"",
         (EventKind.CHANGED, "ines", "rada", "")),
        ("CONFIG_CHANGE", 'auid=1001 op=remove_rule key="x" list=4 res=1\x1dAUID="ines"', (EventKind.CHANGED, "ines", "", "")),
        ("USER_LOGIN", "uid=0 auid=4294967295 msg='op=login acct=\"mallory\" exe=\"/usr/sbin/sshd\" addr=192.0.2.7 res=failed'",
         (EventKind.LOGIN_FAILED, "root", "mallory", "")),
    ],
)  # fmt: skip
def test_records_of_the_audit_log(tmp_path: Path, record: str, fields: str, expected: tuple[object, ...]) -> None:
    (tmp_path / "audit.log").write_text(AUDIT.format(record, 1, fields))
    (event,) = read(tmp_path).all
    assert (event.kind, event.account, event.target, event.command) == expected


def test_a_setuid_program_is_a_use_by_the_log_in_user(tmp_path: Path) -> None:
    call = 'arch=c000003e syscall=59 success=yes auid=1002 uid=1002 euid=0 tty=pts1 comm="find" exe="/opt/find" key="x"'
    text = (
        AUDIT.format("SYSCALL", 7, call)
        + AUDIT.format("EXECVE", 7, 'argc=3 a0="/opt/find" a1=2F726F6F74 a2="DEAD"')
        + AUDIT.format("EXECVE", 8, 'argc=1 a0="/x"')
    )
    (tmp_path / "audit.log").write_text(text)
    assert [(one.program, one.account, one.target, one.command) for one in read(tmp_path).all] == [
        ("find", "#1002", "root", "/opt/find /root DEAD")
    ]


def test_log_in_records_of_wtmp_and_btmp(tmp_path: Path) -> None:
    record = struct.Struct("<hxxi32s4s32s256shhiii16s20x")
    rows = [(7, b"ines", b"pts/0", b"192.0.2.7"), (7, b"root", b"tty1", b""), (8, b"", b"pts/0", b""), (2, b"reboot", b"~", b"")]
    content = b"".join(
        record.pack(kind, 9, line, b"id", user, host, 0, 0, 9, 1795400000 + n, 0, bytes(16))
        for n, (kind, user, line, host) in enumerate(rows)
    )
    (tmp_path / "wtmp").write_bytes(content + b"cut")
    assert [(one.kind, one.target, one.terminal, one.address, one.place.line) for one in read(tmp_path).all] == [
        (EventKind.LOGIN, "ines", "pts/0", "192.0.2.7", 1), (EventKind.LOGIN, "root", "tty1", "", 2), (EventKind.CLOSED, "ines", "pts/0", "", 3)
    ]  # fmt: skip
    (tmp_path / "wtmp").rename(tmp_path / "btmp")
    assert {one.kind for one in read(tmp_path).all} == {EventKind.LOGIN_FAILED}


@pytest.mark.parametrize(
    ("stamps", "by", "times"),
    [
        (["Nov 22 23:59:59"], NOW, ["2026-11-22T23:59:59"]),
        (["Dec 31 23:59:59", "Jan  1 00:00:00"], NOW, ["2025-12-31T23:59:59", "2026-01-01T00:00:00"]),
        (["Dec 24 10:00:00"], NOW, ["2025-12-24T10:00:00"]),
        (["Nov 24 11:00:00"], NOW, ["2026-11-24T11:00:00"]),  # a clock that is a little fast
        (["Feb 29 10:00:00", "Mar  1 10:00:00"], NOW, ["2024-02-29T10:00:00", "2024-03-01T10:00:00"]),
        (
            ["Jan  2 10:00:01", "Jan  2 10:00:00", "Jan  3 00:00:00"],
            NOW,
            ["2026-01-02T10:00:01", "2026-01-02T10:00:00", "2026-01-03T00:00:00"],
        ),
        # a boot before the time was set, with and without lines after it
        (
            ["Nov 20 10:00:00", "Jan  1 00:00:09", "Nov 20 10:01:00"],
            NOW,
            ["2026-11-20T10:00:00", "2026-01-01T00:00:09", "2026-11-20T10:01:00"],
        ),
        (
            ["Nov 20 10:00:00", "Jan  1 00:00:09", "Nov 20 10:01:00", "Feb  1 10:00:00"],
            NOW,
            ["2025-11-20T10:00:00", "2026-01-01T00:00:09", "2025-11-20T10:01:00", "2026-02-01T10:00:00"],
        ),
        # gaps of months: a line before the one above it is of the next year, unless that is in the future
        (["Mar  1 10:00:00", "Feb 20 10:00:00"], NOW, ["2025-03-01T10:00:00", "2026-02-20T10:00:00"]),
        (
            ["Mar  1 10:00:00", "Feb 20 10:00:00", "Dec  1 10:00:00", "Jun  1 10:00:00"],
            NOW,
            ["2024-03-01T10:00:00", "2025-02-20T10:00:00", "2025-12-01T10:00:00", "2026-06-01T10:00:00"],
        ),
        (
            ["Dec 30 10:00:00", "Feb 29 10:00:00", "Mar  2 10:00:00"],
            NOW.replace(year=2025),
            ["2023-12-30T10:00:00", "2024-02-29T10:00:00", "2024-03-02T10:00:00"],
        ),
        (
            ["Nov 20 10:00:00", "Nov 19 22:00:00", "Nov 20 10:05:00"],
            NOW,
            ["2026-11-20T10:00:00", "2026-11-19T22:00:00", "2026-11-20T10:05:00"],
        ),
        (["2026-03-01T10:00:00.5+02:00", "2026-03-01 10:00:00"], NOW, ["2026-03-01T08:00:00.500000", "2026-03-01T10:00:00"]),
    ],
)
def test_the_year_of_a_line_follows_from_its_neighbours(stamps: list[str], by: datetime, times: list[str]) -> None:
    events = told("".join(f"{stamp} knot su: (to root) ines on pts/0\n" for stamp in stamps), by)
    assert [event.at.isoformat().removesuffix("+00:00") for event in events if event.at] == times


def test_the_hour_that_comes_twice_at_the_end_of_summer_time_is_two_hours() -> None:
    stamps = ["01:59:59", "02:10:00", "02:50:00", "02:05:00", "02:40:00", "03:00:00"]
    clock = Clock(ZoneInfo("Europe/Berlin"), NOW, "Oct 25 01:59:59", "Oct 25 03:00:00")
    times = [clock.read(f"Oct 25 {stamp}") for stamp in stamps]
    assert [f"{at:%H:%M:%S}" for at in times if at] == ["23:59:59", "00:10:00", "00:50:00", "01:05:00", "01:40:00", "02:00:00"]


def test_stamps_without_an_offset_are_of_the_hosts_zone() -> None:
    (event,) = told("Jul  1 10:00:00 knot su: (to root) ines on pts/0\n", zone="Europe/Lisbon")
    assert event.at == datetime(2026, 7, 1, 9, tzinfo=UTC)


def line(message: str) -> Event | None:
    event = read_sudo_line(message)
    return None if event is None else event.stamped(NOW, HERE, None, "knot")


@pytest.mark.parametrize(
    ("message", "account", "target", "command", "doubtful"),
    [
        ("ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls", "ines", "root", "/bin/ls", False),
        ("web app : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls", "web app", "root", "/bin/ls", False),
        ("ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/echo 'x ; COMMAND=/bin/fake ; USER=y'", "ines", "root", None, False),
        ("ines : TTY=pts/0 ; PWD=/t ; USER=rada ; COMMAND=/bin/ok ; USER=root ; COMMAND=/bin/sh", "ines", "rada", None, True),
        ("ines : TTY=pts/0 ; PWD=/t ; TTY=pts/9 ; USER=root ; COMMAND=/bin/sh", "ines", "root", "/bin/sh", True),
        ("ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/sh -c x ; USER=y", "ines", "root", None, True),
    ],
)
def test_a_line_that_imitates_sudos_fields_is_doubted(message: str, account: str, target: str, command: str | None, doubtful: bool) -> None:
    event = line(message)
    assert event is not None
    assert (event.account, event.target, bool(event.doubt)) == (account, target, doubtful)
    assert command is None or event.command == command


def test_a_command_that_sudo_cut_into_several_lines_is_one() -> None:
    head = "2026-11-23T06:00:00Z knot sudo: "
    text = (
        f"{head}    ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/echo aaa\n{head}    ines : (command continued) bbb\n"
        f"{head}   rada : (command continued) ccc\n{head}    ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls\n"
    )
    assert [event.command for event in told(text)] == ["/bin/echo aaa bbb", "/bin/ls"]


def test_a_command_goes_on_in_the_next_block_of_a_log() -> None:
    head = b"2026-11-23T06:00:00Z knot sudo: "
    uses = head + b"    ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/echo a\n"
    rest = head + b"    ines : (command continued) b\n"
    for blocks in ([uses, rest], [uses + rest], [uses, rest, uses], [uses, uses + rest]):
        reader = SyslogReader(Clock(UTC, NOW), Place("knot", "auth.log"))
        assert sum(event.command == "/bin/echo a b" for event in reader.events(blocks)) == 1, blocks
    noise = [b"2026-11-23T06:00:00Z knot logger: x\n" * 100] * 100  # short blocks, as of a packed log
    reader = SyslogReader(Clock(UTC, NOW), Place("knot", "auth.log"))
    assert [event.command for event in reader.events([uses, *noise, rest])] == ["/bin/echo a b"]


def test_a_line_of_a_time_beyond_all_others_costs_no_other_line() -> None:
    use = "knot sudo: ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls"
    for stamp in ("9999-12-31T23:59:59Z", "9999-12-31T23:59:59-10:00", "0001-01-01T00:00:00+10:00", "2026-11-23T06:00:6x+00:00"):
        assert len(told(f"{stamp} {use}\n2026-11-23T06:00:00+00:00 {use}\n")) >= 1, stamp
        assert len(told(f"2026-11-23T06:00:00+00:00 {use}\n{stamp} {use}\n2026-11-23T06:00:01+00:00 {use}\n")) >= 2, stamp


def test_what_comes_before_the_damage_of_a_log_counts() -> None:
    use = b"2026-11-23T06:00:00Z knot sudo: ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls\n"

    def damaged() -> Iterator[bytes]:
        yield from [use] * 3
        raise ReadError("it ends here")

    events = SyslogReader(Clock(UTC, NOW), HERE).events(damaged())
    assert len([next(events) for _ in range(3)]) == 3
    with pytest.raises(ReadError):
        next(events)


def test_bytes_that_are_no_text_where_a_stamp_belongs_cost_no_other_line() -> None:
    use = b" knot sudo: ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls\n"
    reader = SyslogReader(Clock(UTC, NOW), HERE)
    lines = [stamp + use for stamp in (b"2026-11-23T06:00:00+00:00", b"2026-11-23T06:\xff0:00+00:00", b"2026-11-23T06:00:01+00:00")]
    assert len(list(reader.events([b"".join(lines)]))) == 2


CUT = [
    f"    ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/echo {'a b ' * 9}c",
    "    ines : (command continued) d e",
    "    ines : (command continued) f",
]
OPENED = "pam_unix(sudo:session): session opened for user root(uid=0) by ines(uid=1001)"
CLOSED = "pam_unix(sudo:session): session closed for user root"
ECHO = "    ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/echo"
STREAMS: tuple[tuple[list[str], list[str], list[str]], ...] = (
    # (lines of sudo, what was used, what ended)
    ([ECHO, OPENED, f"{ECHO} ; EXIT=0", CLOSED], ["/bin/echo"], ["/bin/echo"]),
    ([ECHO, OPENED, CLOSED, f"{ECHO} ; EXIT=0", OPENED, CLOSED], ["/bin/echo", "/bin/echo ; EXIT=0"], []),
    ([f"{ECHO} ; EXIT=0", OPENED, CLOSED], ["/bin/echo ; EXIT=0"], []),
    ([f"{ECHO} ; EXIT=0"], ["/bin/echo ; EXIT=0"], []),  # nothing was begun
    ([ECHO, f"{ECHO} ; SIGNAL=TERM"], ["/bin/echo"], ["/bin/echo"]),
    ([ECHO, f"{ECHO} ; SIGNAL=TERM ; EXIT=143"], ["/bin/echo"], ["/bin/echo"]),
    ([ECHO, f"{ECHO} ; EXIT=0", f"{ECHO} ; EXIT=0"], ["/bin/echo", "/bin/echo ; EXIT=0"], ["/bin/echo"]),
    # Of a user who runs what looks like its own end, both lines and both ends.
    ([ECHO, OPENED, f"{ECHO} ; EXIT=0", CLOSED, f"{ECHO} ; EXIT=0", OPENED, f"{ECHO} ; EXIT=0 ; EXIT=1", CLOSED],
     ["/bin/echo", "/bin/echo ; EXIT=0"], ["/bin/echo", "/bin/echo ; EXIT=0"]),
    ([ECHO, ECHO.replace("ines", "rada") + " ; EXIT=0"], ["/bin/echo", "/bin/echo ; EXIT=0"], []),
    ([ECHO.replace("TTY", "command not allowed ; TTY") + " ; EXIT=0"], [], []),  # refused, whatever its arguments
    (CUT, [f"/bin/echo {'a b ' * 9}c d e f"], []),
    ([CUT[0], CUT[1].replace("d e", "d" * 900), CUT[2]], [f"/bin/echo {'a b ' * 9}c {'d' * 900}f"], []),
    ([*CUT, CUT[0], CUT[1], CUT[2] + " ; EXIT=0"], [f"/bin/echo {'a b ' * 9}c d e f"], [f"/bin/echo {'a b ' * 9}c d e f"]),
    ([CUT[1]], [], []),
)  # fmt: skip


@pytest.mark.parametrize(("messages", "used", "ended"), STREAMS)
@pytest.mark.parametrize("form", ["syslog", "crosstalk", "journal"])
def test_no_use_hides_behind_what_a_user_typed(messages: list[str], used: list[str], ended: list[str], form: str) -> None:
    """A command and what ends it; lines of another host between them change nothing."""
    if form == "journal":
        entries = [{"SYSLOG_IDENTIFIER": "sudo", "_HOSTNAME": "knot", "_PID": "7", "MESSAGE": message} for message in messages]
        events = list(JournalReader(HERE).events("".join(json.dumps(one) + "\n" for one in entries).encode() for _ in "1"))
    else:
        other = ECHO.replace("ines", "rada").replace("/bin/echo", "/bin/other")
        lines = [
            f"2026-11-23T06:00:00Z {host} sudo: {text}\n" for message in messages for host, text in (("knot", message), ("tern", other))
        ]
        events = [one for one in told("".join(lines if form == "crosstalk" else lines[::2])) if one.host == "knot"]
    assert [one.command for one in events if one.kind is EventKind.USED] == used
    assert [one.command for one in events if one.kind is EventKind.CLOSED and one.command] == ended
    if "not allowed" in messages[0]:
        assert [(one.kind, one.command) for one in events] == [(EventKind.REFUSED, "/bin/echo ; EXIT=0")]


@pytest.mark.parametrize(
    ("command", "shown"),
    [
        ("/usr/bin/mysql -u root -phunter2 tides", f"/usr/bin/mysql -u root -p{MASK} tides"),
        ("/usr/bin/psql postgresql://ines:hunter2@db/tides", f"/usr/bin/psql postgresql://ines:{MASK}@db/tides"),
        ("/bin/tool --password=hunter2 --verbose", f"/bin/tool --password={MASK} --verbose"),
        ("/bin/tool --api-key 'hun ter2' x", f"/bin/tool --api-key '{mask('hun ter2')}' x"),
        ("/usr/bin/env PGPASSWORD=hunter2 psql", f"/usr/bin/env PGPASSWORD={MASK} psql"),
        ("/usr/bin/curl -u ines:hunter2 http://x", f"/usr/bin/curl -u ines:{MASK} http://x"),
        ("/usr/bin/curl -H 'Authorization: Bearer hunter2'", f"/usr/bin/curl -H 'Authorization: Bearer {MASK}'"),
        ("/usr/bin/passwd ines", "/usr/bin/passwd ines"),
        ("/usr/bin/cat /etc/passwd /root/token", "/usr/bin/cat /etc/passwd /root/token"),
        ("/usr/bin/mkdir -p /srv/tides", "/usr/bin/mkdir -p /srv/tides"),
    ],
)
def test_passwords_in_commands_are_masked_and_nothing_else(command: str, shown: str) -> None:
    assert masked(command) == shown


WRITERS: tuple[tuple[str, dict[str, str], bool], ...] = (
    # (identifier, trusted fields, whether the message is doubted)
    ("sudo", {"_COMM": "sudo", "_EXE": "/usr/bin/sudo", "_UID": "1001", "_CAP_EFFECTIVE": "1ffffffffff"}, False),
    ("sudo", {"_COMM": "sudoedit", "_EXE": "/usr/bin/sudo", "_UID": "1001"}, False),
    ("sudo", {"_COMM": "sudoedit", "_UID": "0"}, False),  # it had ended before the journal looked
    ("sudo", {"_COMM": "sudo-rs", "_EXE": "/usr/lib/cargo/bin/sudo-rs"}, False),
    ("sudoedit", {"_COMM": "sudoedit", "_EXE": "/usr/bin/sudo.ws"}, False),
    ("sudo", {"_COMM": "logger", "_EXE": "/usr/bin/logger", "_UID": "1001"}, True),
    ("sudo", {"_COMM": "sudo", "_EXE": "/home/mallory/sudo", "_UID": "1001"}, True),  # a name is a process's own choice
    ("sudo", {"_COMM": "sudo", "_EXE": "/usr/bin/python3.11", "_UID": "1001"}, True),
    ("sudo", {"_COMM": "sudo", "_UID": "1001", "_CAP_EFFECTIVE": "0"}, True),
    ("sudo", {"_COMM": "sudoedit", "_EXE": "/usr/bin/sudo", "_UID": "1001", "_CAP_EFFECTIVE": "0"}, False),  # it copies as its user
    ("sudo", {"_COMM": "bash", "_UID": "0"}, True),
    ("sudo", {}, False),  # nothing is known
    ("CRON", {"_COMM": "cron", "_EXE": "/usr/sbin/cron"}, False),
    ("crond", {"_COMM": "busybox", "_EXE": "/bin/busybox"}, False),
    ("su", {"_COMM": "su", "_EXE": "/usr/bin/su", "_UID": "1001"}, False),
    ("sshd", {"_COMM": "sshd-session", "_EXE": "/usr/lib/openssh/sshd-session"}, False),
    ("sshd-session", {"_COMM": "sshd-session", "_EXE": "/usr/libexec/openssh/sshd-session"}, False),
    ("sshd", {"_COMM": "sshd", "_EXE": "/usr/sbin/sshd (deleted)"}, False),  # it was updated while it ran
    ("su", {"_COMM": "unix_chkpwd", "_EXE": "/usr/sbin/unix_chkpwd"}, False),
    ("adduser", {"_COMM": "adduser", "_EXE": "/usr/bin/perl"}, False),
    ("adduser", {"_COMM": "x.pl", "_EXE": "/usr/bin/perl"}, True),
    ("adduser", {"_COMM": "adduser", "_EXE": "/usr/bin/perl", "_UID": "1001"}, True),  # anyone can run a script of that name
    ("sudo", {"_COMM": "busybox", "_EXE": "/usr/bin/busybox", "_UID": "1001", "_CAP_EFFECTIVE": "0"}, True),  # its logger
    ("su", {"_COMM": "busybox", "_EXE": "/usr/bin/busybox", "_UID": "1001", "_CAP_EFFECTIVE": "0"}, True),
    ("su", {"_COMM": "su", "_EXE": "/bin/busybox", "_UID": "1001", "_CAP_EFFECTIVE": "1ffffffffff"}, False),
    ("sudo", {"_COMM": "sudo", "_EXE": "/opt/tide/sudo", "_UID": "1001"}, True),
    ("useradd", {"_COMM": "useradd", "_EXE": "/usr/sbin/useradd"}, False),
)


@pytest.mark.parametrize(("program", "fields", "doubted"), WRITERS)
def test_a_message_is_believed_by_what_the_journal_knows_of_its_writer(program: str, fields: dict[str, str], *, doubted: bool) -> None:
    assert bool(impostor(program, *[fields.get(name, "") for name in ("_COMM", "_EXE", "_UID", "_CAP_EFFECTIVE")])) == doubted


def test_persons_of_the_journal_have_names() -> None:
    """From the evidence, from what PAM says on the same host, and from the line itself; a number only where that may be another."""
    line = "{who} : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls"
    entries = [
        ("knot", "sudo", line.format(who="tomas"), "1001"),  # nothing is known of 1001: the line names the account
        ("knot", "sshd", "pam_unix(sshd:session): session opened for user rada(uid=1002) by rada(uid=0)", "1002"),
        ("knot", "sudo", line.format(who="tomas"), "1002"),  # rada by su
        ("knot", "sudo", line.format(who="rada"), "1005"),  # who has another number, and is not the one
        ("knot", "sudo", line.format(who="root") + " rada(uid=1003) x(uid=1003)", "1003"),  # a user can type a pair
        ("knot", "sudo", line.format(who="rada"), "0"),  # by rada(uid=0) makes nobody's number of 0
        ("tern", "sudo", line.format(who="tomas"), "1002"),  # another host
        ("tern", "sudo", line.format(who="tomas"), "7"),  # known by the evidence
        ("tern", "sudo", line.format(who="tomas"), "4294967295"),
        ("tern", "sudo", line.format(who="tomas"), "0"),
    ]
    rows = [
        {"SYSLOG_IDENTIFIER": program, "_HOSTNAME": host, "MESSAGE": text, "_AUDIT_LOGINUID": number}
        for host, program, text, number in entries
    ]
    events = JournalReader(HERE, Names({7: "ines"})).events(["".join(json.dumps(row) + "\n" for row in rows).encode()])
    assert [one.login for one in events if one.command] == ["", "rada", "#1005", "#1003", "", "", "ines", "", ""]


def test_one_command_without_end_is_counted_once_each_and_in_time() -> None:
    """By syslog and by sudo's own file, which waits a quarter of an hour for the others: the work must not grow with the square."""
    event = line(ECHO)
    assert event is not None
    alike = [(NOW + timedelta(milliseconds=10 * number), family) for number in range(20_000) for family in (0, 1)]
    sourced = (Sourced(at, family, event._replace(at=at), called=family == 0) for at, family in alike)
    assert sum(1 for _ in Deduplication([0, 0]).told_once(sourced)) == 20_000


@pytest.mark.parametrize("form", ["syslog", "journal"])
def test_a_session_opened_by_a_number_is_of_the_account_that_has_it(form: str) -> None:
    messages = [
        "pam_unix(sudo:session): session opened for user root(uid=0) by (uid=1013)",  # not known yet
        "pam_unix(sudo:session): session opened for user root(uid=0) by rada(uid=1013)",
        "pam_unix(sudo:session): session opened for user root(uid=0) by (uid=1013)",
        "pam_unix(sudo:session): session opened for user root(uid=0) by (uid=7)",  # by the evidence
        "pam_unix(sudo:session): session opened for user rada(uid=1013) by (uid=0)",
    ]
    if form == "journal":
        rows = [{"SYSLOG_IDENTIFIER": "sudo", "_HOSTNAME": "knot", "MESSAGE": message} for message in messages]
        events = list(JournalReader(HERE, Names({7: "ines"})).events(["".join(json.dumps(row) + "\n" for row in rows).encode()]))
    else:
        text = "".join(f"2026-11-23T06:00:00Z knot sudo: {message}\n" for message in messages)
        events = list(SyslogReader(Clock(UTC, NOW), HERE, None, Names({7: "ines"})).events([text.encode()]))
    assert [one.account for one in events] == ["", "rada", "rada", "ines", "root"]


@given(st.binary(max_size=300), st.text(max_size=80))
def test_any_log_is_survived(content: bytes, text: str) -> None:
    clock = Clock(UTC, NOW, "", "")
    for form in (b"", b"Nov 23 06:14:20 vm sudo: ", b'{\n    "accept": {\n', b'{"a":\n', b"Nov 23 06:19:03 : ines : "):
        blocks = [form + content + b"\n", text.encode("utf-8", "surrogatepass")]
        list(SyslogReader(clock, HERE).events(blocks))
        list(SudoFileReader(clock, HERE).events(blocks))
        list(JournalReader(HERE).events([b'{"SYSLOG_IDENTIFIER":"sudo","MESSAGE":' + content + b"}\n"]))
        list(AuditReader(HERE).events([b"type=USER_CMD msg=audit(1795400000.102:1): " + content + b"\n", *blocks]))
        list(LoginReader(HERE).events(blocks))
        list(JournalReader(HERE, form=JournalForm.EXPORT).events([b"__CURSOR=x\nSYSLOG_IDENTIFIER=sudo\nMESSAGE\n" + content]))
    line(text)
    masked(text)


# -- files -------------------------------------------------------------------------------------------------------------------------


def test_rotated_and_packed_logs_come_in_their_order_and_once(tmp_path: Path) -> None:
    """Traditional stamps across a year's end; the fourth file is there twice, packed and not."""

    def day(month: str, number: int) -> bytes:
        return f"{month} {number:2} 10:00:00 knot su: (to root) ines on pts/{number}\n".encode()

    files = {
        "auth.log": day("Jan", 20), "auth.log.1": day("Jan", 10), "auth.log.2.gz": gzip.compress(day("Dec", 30) + day("Jan", 3)),
        "auth.log.3.xz": lzma.compress(day("Dec", 20)), "auth.log.10.zst": zstandard.compress(day("Nov", 7)), "auth.log.9.bz2": bz2.compress(day("Nov", 9)),
        "auth.log.1.gz": gzip.compress(day("Jan", 10)), "notes.txt": day("Jan", 1),
    }  # fmt: skip
    for name, content in files.items():
        (tmp_path / name).write_bytes(content)
        os.utime(tmp_path / name, (1769000000, 1769000000))  # 2026-01-21
    found = read(tmp_path)
    assert [Path(path).name for path in (cover.path for cover in found.covers)] == [
        "auth.log.10.zst", "auth.log.9.bz2", "auth.log.3.xz", "auth.log.2.gz", "auth.log.1", "auth.log"
    ]  # fmt: skip
    assert [f"{event.at:%Y-%m-%d}" for event in found.all] == [
        "2025-11-07", "2025-11-09", "2025-12-20", "2025-12-30", "2026-01-03", "2026-01-10", "2026-01-20"
    ]  # fmt: skip


def test_a_damaged_log_is_told_in_one_line_and_a_line_of_megabytes_is_no_trouble(tmp_path: Path) -> None:
    (tmp_path / "auth.log").write_bytes(b"x" * 5_000_000 + b"\nNov 20 10:00:00 knot su: (to root) ines on pts/1\n")
    assert len(read(tmp_path).all) == 1
    (tmp_path / "auth.log.1.gz").write_bytes(gzip.compress(b"x\n" * 500_000)[:300])
    ran = fidelitas("usage", "--log", tmp_path, cwd=tmp_path)
    assert ran.status == 4
    assert ran.err.count("\n") == 1
    assert "auth.log.1.gz" in ran.err
    assert "1 event " in ran.out
    assert "ines" in ran.out


# -- who stood behind it -----------------------------------------------------------------------------------------------------------


def records_of(events: Iterable[Event]) -> list[AttributedEvent]:
    """Each event with who stood behind it, host by host."""
    hosts: dict[str, Attribution] = {}
    return [hosts.setdefault(event.host, Attribution()).attribute(event) for event in events]


def summed_up(records: Iterable[AttributedEvent]) -> list[PersonUse]:
    people = People()
    for record in records:
        people.add(record)
    return people.ranked()


def behind(text: str) -> list[tuple[str, tuple[str, ...], str]]:
    lines = "".join(
        f"2026-11-23T06:{minute:02}:00Z knot {line}\n"
        for minute, line in (row.split(" ", 1) and (int(row.split(" ", 1)[0]), row.split(" ", 1)[1]) for row in text.strip().split("\n"))
    )
    return [(record.event.program, record.persons, record.basis.name) for record in records_of(told(lines))]


SHELL = "sudo: {} : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/bash"


@pytest.mark.parametrize(
    ("text", "last"),
    [
        ("0 sudo: ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/sbin/usermod -aG sudo rada\n0 usermod[9]: add 'rada' to group 'sudo'",
         ("usermod", ("ines",), "COMMAND")),
        (f"0 {SHELL.format('ines')}\n9 useradd[9]: new user: name=x, UID=1, GID=1, home=/, shell=/bin/sh, from=none", ("useradd", ("ines",), "ONLY_SHELL")),
        (f"0 {SHELL.format('ines')}\n1 {SHELL.format('rada')}\n9 usermod[9]: add 'x' to group 'y'", ("usermod", ("ines", "rada"), "SEVERAL")),
        (f"0 {SHELL.format('ines')}\n5 sudo: pam_unix(sudo:session): session closed for user root\n9 usermod[9]: add 'x' to group 'y'", ("usermod", (), "NOBODY")),
        ("0 usermod[9]: add 'x' to group 'y'", ("usermod", (), "NOBODY")),
        (f"0 {SHELL.format('ines')}\n9 su[7]: pam_unix(su:session): session closed for user tomas", ("su", (), "NOBODY")),
        ("0 su[7]: pam_unix(su:session): session opened for user tomas(uid=1002) by rada(uid=1003)\n9 su[7]: pam_unix(su:session): session closed for user tomas",
         ("su", ("rada",), "COMMAND")),
        ("0 su[7]: pam_unix(su-l:session): session opened for user tomas(uid=1002) by ines(uid=0)\n1 su[7]: (to tomas) root on pts/1", ("su", ("ines",), "LOGIN_NAME")),
        ("0 sudo: ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/su -\n0 su[7]: (to root) root on pts/1", ("su", ("ines",), "COMMAND")),
        ("0 sshd[5]: Accepted publickey for root from 192.0.2.7 port 1 ssh2: ED25519 SHA256:x", ("sshd", (), "NOBODY")),
        (f"0 {SHELL.format('ines')}\n1 CRON[5]: (root) CMD (/opt/x)", ("CRON", (), "NOBODY")),
        ("0 su[7]: (to rada) ines on pts/0\n1 sudo[8]: rada : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/id\n1 sudo[8]: pam_unix(sudo:session): session opened for user root(uid=0) by rada(uid=0)",
         ("sudo", ("ines",), "COMMAND")),
    ],
)  # fmt: skip
def test_who_stood_behind_what_root_did(text: str, last: tuple[str, tuple[str, ...], str]) -> None:
    assert behind(text)[-1] == last


def test_the_demo_logs_tell_what_was_put_into_them(demo: Path) -> None:
    document = fidelitas("usage", "--log", "estate/logs", "--zone", "UTC", "--events", "--format", "json", cwd=demo).json
    events = [event for event in document["events"] if "Security.xml" not in event["place"]["path"]]
    assert {event["host"] for event in document["events"]} > {event["host"] for event in events} | {"avocet.saltmarsh.example"}
    joined, *brief = [event for event in events if event["kind"] == "change of accounts"]
    assert [event["host"] for event in brief] == ["curlew", "curlew"]
    (shell,) = [event for event in events if event["command"] == "/usr/bin/bash"]
    assert (joined["persons"], joined["basis"]) == ([shell["account"]], "nobody else had a root shell open")
    assert joined["place"]["path"].endswith("auth.log.4.gz")
    assert [event["host"] for event in events if event["doubt"]] == ["curlew"]
    assert len([event for event in events if event["kind"] == "refused"]) == 4
    assert [event["persons"] for event in events if event["kind"] == "login"] == [[]]
    assert not document["not_recognised"]
    assert {event["time"][:4] for event in events} == {"2026"}


def test_wrong_passwords_are_counted_once() -> None:
    people = {use.person: use for use in summed_up(records_of(read(SAMPLES / "auth.log").all))}
    assert (people["ines"].failed, people["ines"].refused, people["tomas"].refused, people["vesna"].used) == (4, 0, 4, 2)
    assert people["ines"].commands["/usr/bin/id"] == 3


# -- the command -------------------------------------------------------------------------------------------------------------------


def test_usage_from_a_log_in_every_form(tmp_path: Path) -> None:
    ran = fidelitas("usage", "--log", SAMPLES / "auth.log", "--zone", "UTC", cwd=tmp_path, env={"TZ": "UTC"})
    assert ran.status == 0
    assert "229 events in 1 log of 1 host, from 2026-11-23 06:18" in ran.out
    assert "not recognised" not in ran.err
    document = fidelitas("usage", "--log", SAMPLES / "auth.log", "--events", "--format", "json", cwd=tmp_path).json
    check_schema("usage", document)
    assert len(document["events"]) == 229
    refused = fidelitas(
        "usage", "--log", SAMPLES / "auth.log", "--kind", "refused", "--person", "tomas", "--events", "--format", "csv", cwd=tmp_path
    )
    assert len(refused.out.splitlines()) == 5


@pytest.mark.parametrize(
    ("arguments", "status", "message"),
    [
        (["--log", "gone.log"], 4, 'could not read log "gone.log"'),
        (["--log", "/dev/zero"], 4, 'could not read log "/dev/zero": it is a device'),
        (["--log", ".", "--since", "0001-01-01"], 2, "Name a year from 1970 to 9998."),
        (["--zone", "Nowhere/At-All", "--log", "."], 2, 'there is no time zone "Nowhere/At-All"'),
    ],
)
def test_bad_requests_are_one_clear_line(tmp_path: Path, arguments: list[str], status: int, message: str) -> None:
    ran = fidelitas("usage", *arguments, cwd=tmp_path)
    assert (ran.status, ran.err.count("\n")) == (status, 1)
    assert message in ran.err


def test_what_attackers_write_into_logs_is_shown_and_not_obeyed(tmp_path: Path) -> None:
    log = tmp_path / "auth.log"
    log.write_bytes(b"Nov 23 06:14:20 vm sudo: ines : TTY=pts/0 ; PWD=/\x1b[2J\xe2\x80\xae ; USER=root ; COMMAND=/bin/\x1b]0;x\x07\xff\n")
    for form in ([], ["--events"], ["--format", "json"], ["--format", "csv"]):
        out = fidelitas("usage", "--log", log, *form, cwd=tmp_path).out
        assert "ines" in out
        assert not set(out) & {"\x1b", "\x07", "\u202e"}


# -- against the policy ------------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("demo")
    assert fidelitas("demo", "estate", cwd=folder).status == 0
    return folder


def test_uses_are_held_against_the_rules_that_allow_them(demo: Path) -> None:
    arguments = ("usage", "--log", "estate/logs", "--zone", "UTC", "--against-policy", "--ledger", "estate/ledger")
    document = fidelitas(*arguments, "--format", "json", cwd=demo).json
    check_schema("replay", document)
    hosts = {one["subject"]: one for one in document["subjects"]}
    assert set(hosts) == {"tern", "curlew", "dunlin"}
    assert all(use["decision"] == "allowed" and use["rule"] for one in hosts.values() for use in one["used"])
    assert {use["decision"] for use in hosts["dunlin"]["refused"]} == {"no-rule"}
    unused = {rule["text"] for rule in hosts["dunlin"]["unused_rules"]}
    assert "%contractors GAUGES=(root) /usr/bin/tail -n 50 /var/log/gauges/*" in unused
    assert not [text for text in unused if text.startswith("%sudo")]
    rows = fidelitas(*arguments, "--format", "csv", cwd=demo).out.splitlines()
    assert len(rows) == 1 + sum(len(one["used"]) + len(one["refused"]) for one in hosts.values())


def test_a_damaged_log_is_told_also_where_uses_are_held_against_the_policy(demo: Path, tmp_path: Path) -> None:
    log = gzip.compress((demo / "estate/logs/dunlin/auth.log").read_bytes() * 50)
    (tmp_path / "auth.log.1.gz").write_bytes(log[: len(log) // 2])
    ran = fidelitas("usage", "--log", tmp_path, "--against-policy", "--ledger", demo / "estate/ledger", cwd=tmp_path)
    assert (ran.status, ran.err.count("\n")) == (4, 1)
    assert "logged uses of sudo" in ran.out


def test_a_new_policy_is_put_to_what_was_really_used(demo: Path) -> None:
    (demo / "new").write_text("root ALL=(ALL) ALL\n%sudo ALL=(ALL) /usr/bin/apt, /usr/bin/journalctl\n")
    arguments = ("rehearse", "--policy", "new", "--on", "tern", "--log", "estate/logs/tern", "--ledger", "estate/ledger")
    document = fidelitas(*arguments, "--format", "json", cwd=demo).json
    check_schema("rehearsal", document)
    (replayed,) = document["replay"]
    refused = {use["command"].split()[0] for use in replayed["used"] if use["decision"] != "allowed"}
    assert refused == {"/usr/bin/systemctl", "/usr/bin/bash", "/opt/tide/bin/ingest"}
    assert "logged uses of sudo the policy refuses" in fidelitas(*arguments, cwd=demo).out
    assert document["subjects"][0]["subject"] == "tern"


# -- the judge ---------------------------------------------------------------------------------------------------------------------

RECORDS = [
    ("ines", ["/usr/bin/id", "-u"], EventKind.USED, "root", "/usr/bin/id -u"),
    ("ines", ["-u", "rada", "/usr/bin/printf", "%s", "x ; COMMAND=/bin/fake"], EventKind.USED, "rada", None),
    ("ines", ["-i", "/usr/bin/true"], EventKind.USED, "root", None),
    ("tomas", ["/usr/bin/true"], EventKind.USED, "root", "/usr/bin/true"),
    ("tomas", ["/usr/bin/false"], EventKind.REFUSED, "root", "/usr/bin/false"),
    ("tomas", ["-e", "/etc/shadow"], EventKind.REFUSED, "root", "sudoedit /etc/shadow"),
    ("rada", ["-S", "/usr/bin/id"], EventKind.FAILED, "root", "/usr/bin/id"),
    ("kofi", ["/usr/bin/id"], EventKind.REFUSED, "root", "/usr/bin/id"),
]
POLICY = """\
Defaults !syslog, !lecture, !pam_session, logfile={log}, passwd_tries=3, {form}
Defaults:tomas, kofi !authenticate
ines ALL=(ALL) NOPASSWD: ALL
tomas ALL=(root) NOPASSWD: /usr/bin/true
rada ALL=(ALL) ALL
kofi elsewhere=(ALL) NOPASSWD: ALL
"""


@pytest.mark.judge
@pytest.mark.parametrize("form", ["loglinelen=80", "loglinelen=0, log_year, log_host", "log_format=json", "log_exit_status"])
def test_what_sudo_really_did_is_what_usage_says(tmp_path: Path, form: str, need: Callable[..., None]) -> None:
    need("sudo", "unshare", "setpriv", root=True)
    Writer(1).etc(tmp_path)
    log = tmp_path / "sudo.log"
    write(tmp_path / "etc/sudoers", POLICY.format(log=log, form=form), 0o440)
    for extra in (tmp_path / "etc/sudoers.d").iterdir():
        extra.unlink()
    script = tmp_path / "actions.py"
    rows = [(ACCOUNTS[account], words) for account, words, *_ in RECORDS]
    script.write_text(
        "import subprocess\n"
        f"for uid, words in {rows!r}:\n"
        "    ask = [] if '-S' in words else ['-n']\n"
        "    subprocess.run(['setpriv', '--reuid', str(uid), '--regid', str(uid), '--init-groups', 'sudo', *ask, *words],\n"
        "        input='a\\nb\\nc\\n', text=True, capture_output=True)\n"
    )
    in_world(tmp_path, sys.executable, script)
    found = [event for event in read(log).all if event.kind is not EventKind.CLOSED]
    assert [(event.account, event.kind, event.target) for event in found] == [(who, kind, target) for who, _, kind, target, _ in RECORDS]
    for event, (*_, command) in zip(found, RECORDS, strict=True):
        assert command is None or event.command == command or event.command.startswith("sudoedit")
        assert not event.doubt
    assert next(event.times for event in found if event.kind is EventKind.FAILED) == 3
    ran = fidelitas("usage", "--log", log, "--events", "--format", "json", cwd=tmp_path)
    assert [one["basis"] for one in json.loads(ran.out)["events"] if one["kind"] != "session closed"] == [
        AttributionBasis.NAMED.value
    ] * len(RECORDS)
