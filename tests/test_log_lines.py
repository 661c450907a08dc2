"""How lines of syslog are found fast, held against the one expression that defines them; logs divided among readers, against the whole."""

import json
import random
import re
from collections import Counter, deque
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from itertools import product
from operator import itemgetter
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.facts import EventKind, Place
from fidelitas.languages.logs.clock import Clock
from fidelitas.languages.logs.entries import BEGINNINGS, Line, is_stamped, lines_that_matter
from fidelitas.languages.logs.envelopes import unwrapped
from fidelitas.languages.logs.line_columns import Columns, Lines, blocks_that_matter
from fidelitas.languages.logs.line_heads import heads_of
from fidelitas.languages.logs.messages import read_message
from fidelitas.languages.logs.pulse import Pulse
from fidelitas.languages.logs.shares import Share, shares_of
from fidelitas.languages.logs.stamps import NO_TIME, at_of, microseconds, times_of
from fidelitas.languages.logs.syslog import SyslogReader
from fidelitas.languages.logs.texts import Known, Texts
from fidelitas.languages.logs.thinning import thinned
from fidelitas.languages.logs.told import without_port
from fidelitas.logbook import HostLogs, Logbook, read_logbook
from fidelitas.recorded import PROGRAMS
from fidelitas.reports.report import Listed
from fidelitas.reports.usage import usage_document
from fidelitas.sources.logs import logs_at
from fidelitas.usage import AttributedEvent
from fidelitas.usage.sessions import name_of_record

# docs/log-forms.md: an optional priority, a stamp, a host, a program, a process or the fields of RFC 5424, and the message.
STAMP = r"(?:[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?)"
PROGRAM = "|".join(sorted(map(re.escape, PROGRAMS), key=len, reverse=True))
LINE = re.compile(
    rf"(?:<\d{{1,3}}>(?:1 )?)?({STAMP}) ([^ \n]*[^ :\n]) (?:(?:auth|authpriv|cron|daemon|user|local)\d?\.[a-z]{{3,7}} )?({PROGRAM})(?: ?\[(\d+)\])?(?: (\d+|-) - (?:-|(?:\[[^\]\n]*\])+) ?|: ?| +)([^\n]*)".encode()
)
FIELDS = re.compile(  # RFC 5424
    rf"(?:<\d{{1,3}}>)?1 ({STAMP}) ([^ \n]*[^ :\n]) ({PROGRAM}) (?:(\d+)|[^ \n]+)(\b\B)? [^ \n]+ ".encode()
    + rb'(?:-|(?:\[(?:[^\]"\\\n]|\\.|"(?:[^"\\\n]|\\.)*")*\])+) ?(?:\xef\xbb\xbf)?([^\n]*)'
)
WITHOUT_HOST = re.compile(rf"({STAMP})() ({PROGRAM})(?: ?\[(\d+)\])?:(\b\B)? ?([^\n]*)".encode())  # busybox's syslogd -S

pieces = st.sampled_from(
    (
        "2026-11-01T04:05:06.123456+01:00", "2026-11-01 04:05:06", "2026-11-01T04:05", "Nov  1 04:05:06", "Nov 11 04:05:06", "nov  1 04:05:06",
        "Nov  1 4:05:06", "knot", "", "sudo:", "sudo[12]:", "sudo[x]:", "sudo", "sudoku:", "su:", "su", "sshd[7]: ", "CRON[1]:", "kernel:", "[7]", "[7]:",
        "sudo.ws:", "sudo-ws:", "-", "auth.info", "local7.err", "auth.", "sshd(pam_google_authenticator)[7]:", "gdm-password][7]:", "<86>", "<86>1", "12", "ID47", '[a b="c"]', "ines : TTY=pts/0", "pam_unix(sudo:session):", "\t", "T-",
    )
)  # fmt: skip
other_forms = st.sampled_from(
    (
        "Sun 2026-11-01 04:05:06 CET knot sudo[7]: x", '{"message":"Nov  1 04:05:06 knot sudo: x"}', "a:Nov  1 04:05:06 knot su: x", "1793527200.5 knot su[7]: x",
        '2026-11-01T04:05:06Z\tauth\t{"host": "knot", "ident": "sudo", "message": "x"}', '{"time": "2026-11-01T04:05:06Z", "program": "su", "msg": "x"}',
        '<86>1 2026-11-01T04:05:06Z knot su 7 ID [a b="\\"]"] x', "2026-11-01T04:05:06Z\tauth sudo: x", "{", "Nov 1 04:05:06.5 knot su: x",
    )
)  # fmt: skip
written = st.lists(pieces, min_size=1, max_size=8).map(" ".join)


# Lines of the frequent forms, among which the others stand.
LONG_BEGIN = b"".join(
    b"%s knot sudo: ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls %d\n" % (stamp, number)
    for number, stamp in enumerate((b"2026-11-01T04:05:06.123456+01:00", b"2026-11-01T04:05:06Z", b"Nov  1 04:05:06") * 9)
)


def defined(line: bytes, within: int = 0) -> re.Match[bytes] | None:
    """Return the parts of a line, which another program can have wrapped."""
    found = FIELDS.match(line) or LINE.match(line) or WITHOUT_HOST.match(line)
    plain = unwrapped(line) if found is None and within < 2 and not is_stamped(line) else None
    return found if plain is None else defined(plain, within + 1)


def all_of(lines: Lines) -> list[Line]:
    """Return lines in columns, and the others, in their order."""
    return sorted([*(in_columns(lines.columns) if lines.columns is not None else ()), *lines.others])


def in_columns(columns: Columns) -> Iterator[Line]:
    block = columns.texts.block
    for row, number in enumerate(columns.numbers.tolist()):
        begin, process = int(columns.stamps[row]), int(columns.processes[row])
        stamp = columns.stamp(row) if columns.times[row] == NO_TIME else block[begin : block.index(b" ", begin)]
        host, program = columns.hosts[int(columns.host_of[row])], columns.programs[int(columns.program_of[row])]
        yield Line(number, stamp, host, program, b"" if process < 0 else b"%d" % process, columns.message(row))


def parted_in_columns(block: bytes) -> list[tuple[object, ...]]:
    """Return the lines that matter of a block that is taken for a long one."""
    with pytest.MonkeyPatch.context() as patch:
        for limit in ("_WORTH", "_SHORT_BLOCK"):
            patch.setattr(f"fidelitas.languages.logs.line_columns.{limit}", 0)
        return [tuple(line) for lines in blocks_that_matter([block]) for line in all_of(lines)]


@given(st.lists(st.one_of(written, other_forms, st.text(alphabet=" :[]-TNov2609sudo\x85\r", max_size=40)), max_size=6))
def test_lines_are_those_of_their_definition(lines: list[str]) -> None:
    block = "".join(f"{line}\n" for line in lines).encode()
    expected = [
        (number, found[1], found[2], found[3], found[4] or (b"" if found[5] in (None, b"-") else found[5]), found[6])
        for number, line in enumerate(block.split(b"\n"), 1)
        if (found := defined(line)) is not None
    ]
    assert [tuple(line) for line in lines_that_matter([block])] == expected
    for begin in (LONG_BEGIN, LONG_BEGIN + b"odd\n", b""):  # many lines at once, where they are of a frequent form
        parted_lines = parted_in_columns(begin + block)
        before = begin.count(b"\n")
        assert parted_lines[before - begin.count(b"odd") :] == [(before + number, *line) for number, *line in expected]
    if block:  # where few lines of a long log matter, those that can are found by columns of numbers
        parted = block.split(b"\n")
        heads = heads_of(np, np.frombuffer(block, np.uint8), BEGINNINGS)
        assert {number - 1 for number, *_ in expected} <= set(heads.places.tolist())
        assert all(block[begin:end] == parted[at] for at, begin, end in zip(heads.places, heads.begins, heads.ends, strict=True))


def test_where_few_lines_of_a_long_log_matter_the_same_are_found(monkeypatch: pytest.MonkeyPatch) -> None:
    other = b"2026-11-01T04:05:06+01:00 knot kernel: usb 1-1: new device\n" * 2000
    one = b"Nov  1 04:05:07 knot sudo: ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls\n<86>1 2026-11-01T04:05:06Z knot su - - - (to root) ines on pts/0"
    blocks = [other + one + b"\n" + other, other + one, one + b"\n" + other, (one + b"\n") * 2000, other + one + b"\n", other[:-1]]
    every = [tuple(line) for line in lines_that_matter(blocks)]
    monkeypatch.setattr("fidelitas.languages.logs.line_columns._WORTH", 0)
    assert every == [tuple(line) for lines in blocks_that_matter(blocks) for line in all_of(lines)]
    assert len(every) == 4 * 2 + 4000


def test_a_log_of_which_few_lines_matter_is_the_same_without_the_others(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("fidelitas.sources.logs._LONG", 0)
    path = tmp_path / "auth.log"
    use = "Nov  1 04:05:07 knot sudo: ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/ls {}"
    odd = ("", "\u00e9 odd", "2026-11-01T04:05:06Z knot", "<86>1 2026-11-01T04:05:06Z knot su - - - (to root) ines on pts/0")
    lines = [
        use.format(n) if n % 97 == 0 else odd[n // 53 % 4] if n % 53 == 0 else f"Nov  1 04:05:06 knot kernel: usb {n}"
        for n in range(60_000)
    ]
    for end in ("\n", ""):
        path.write_text("\n".join(lines) + end, encoding="utf-8")
        (log,) = logs_at([path], "knot")[0]
        assert len(log.parts(3)) == 3
        assert b"".join(block for part in log.parts(3) for block in part()) == path.read_bytes()
        (short,) = thinned([log], map, 3)
        assert sum(map(len, short.blocks())) * 8 < path.stat().st_size
        assert len(list(short.blocks())) == sum(1 for part in log.parts(3) for _ in part())
        assert list(lines_that_matter(short.blocks())) == list(lines_that_matter(log.blocks()))
    for content in ("\n".join([use.format(1)] * 20_000), '{"__REALTIME_TIMESTAMP": "1"}\n' * 20_000, "x" * 3_000_000, ""):
        path.write_text(content, encoding="utf-8")
        logs = logs_at([path], "knot")[0]
        assert thinned(logs, map, 3) == logs


@given(
    st.lists(
        st.binary(max_size=40) | st.sampled_from((b"", b"\0", b"a", b"a\0", b"x" * 8, b"x" * 9, b"sudo: x" * 50)), min_size=1, max_size=30
    )
)
def test_texts_are_distinguished_by_their_sums_and_known_again(parts: list[bytes]) -> None:
    ends = np.cumsum([len(part) for part in parts])
    texts = Texts(np, b"".join(parts))
    sums = texts.sums(ends - [len(part) for part in parts], np.array([len(part) for part in parts])).tolist()
    assert all(
        (one == other) == (part == other_part)
        for one, part in zip(sums, parts, strict=True)
        for other, other_part in zip(sums, parts, strict=True)
    )
    met: Known[bytes] = Known(2)  # so few are remembered: what is known is the same
    for _ in range(3):
        found, which = met.of(np, texts, ends - [len(part) for part in parts], np.array([len(part) for part in parts]), bytes)
        assert [found[number] for number in which.tolist()] == parts


stamp_parts = st.tuples(
    st.sampled_from(("2026", "1969", "9999", "0000", "2024", "20x6")), st.sampled_from(("-02-29", "-12-31", "-13-01", "-00-10", "-02-30", " 02-01")),
    st.sampled_from(("T00:00:00", "T23:59:59", "T24:00:00", "T12:60:00", "T12:00:60", "t01:02:03")), st.sampled_from(("", ".000001", ".12345x", ",999999")),
    st.sampled_from(("Z", "+00:00", "-23:59", "+24:00", "+01:60", "+0100", "", "*01:00")),
)  # fmt: skip


@given(st.lists(stamp_parts.map("".join), min_size=1, max_size=30))
def test_times_in_columns_are_those_of_a_clock(stamps: list[str]) -> None:
    def times(stamps: list[str]) -> list[int]:
        ends = np.cumsum([len(stamp) for stamp in stamps])
        content = np.frombuffer("".join(stamps).encode(), np.uint8)
        found: list[int] = times_of(np, content, np.append(0, ends[:-1]), np.diff(ends, prepend=0)).tolist()
        return found

    clock = Clock(UTC, BEGIN)
    for stamp, number in zip(stamps, times(stamps), strict=True):
        if number != NO_TIME:
            assert at_of(number) == clock.read(stamp)
            assert microseconds(at_of(number)) == number
    frequent = [f"2026-02-28T{clock_time}{zone}" for clock_time in ("23:59:59", "00:00:00.000001") for zone in ("Z", "-23:59", "+01:00")]
    assert NO_TIME not in times(frequent)


BEGIN = datetime(1970, 1, 1, tzinfo=UTC)
ISO = ("%Y-%m-%dT%H:%M:%S.%f+00:00", "%Y-%m-%dT%H:%M:%S+01:00", "%Y-%m-%dT%H:%M:%SZ", "%Y-%m-%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S,%f-02:00")


@given(
    st.sampled_from((ISO[:1], ISO[2:3], ISO, ("%b %e %H:%M:%S",))),
    st.lists(st.tuples(st.integers(-130, 200), st.integers(0, 4), st.booleans()), min_size=1, max_size=80),
    st.sampled_from((-1, 1 << 30)),
)
def test_what_a_log_covers_is_told_of_many_lines_as_of_single_ones(
    forms: tuple[str, ...], steps: list[tuple[int, int, bool]], worth: int
) -> None:
    at, stamps = datetime(2026, 3, 1, 4, 50, tzinfo=UTC), list[str]()
    for step, form, _ in steps:
        at += timedelta(seconds=step / 3)
        stamps.append(f"{at:{forms[form % len(forms)]}}")
    says = [("Disconnected from" if idle else "Accepted password for") + " ines from 192.0.2.1 port 2" for *_, idle in steps]
    block = "".join(f"{stamp} knot sshd[7]: {says}\n" for stamp, says in zip(stamps, says, strict=True)).encode()
    by, read, singly = at + timedelta(days=1), Pulse(), Pulse()
    with pytest.MonkeyPatch.context() as patch:
        limits = {"line_columns._WORTH": worth, "line_columns._SHORT_BLOCK": 0, "syslog_rows._WORTH_COLUMNS": worth}
        for limit, value in limits.items():
            patch.setattr(f"fidelitas.languages.logs.{limit}", value)
        deque(SyslogReader(Clock(UTC, by, stamps[0], stamps[-1]), Place("knot", "auth.log"), read).events([block]))
    clock = Clock(UTC, by, stamps[0], stamps[-1])
    for number, stamp in enumerate(stamps, 1):
        singly.beat(clock.read(stamp), number)
    assert (read.first, read.last, read.hours, read.jumps) == (singly.first, singly.last, singly.hours, singly.jumps)


def log_of_many_hosts(path: Path, size: int, *, naming: bool = True) -> Path:
    """Shells, uses, wrong passwords and names of five hosts in one file; sudo names its host itself now and then."""
    lines: list[str] = []
    number = 0
    while 90 * number < size:
        at = datetime.fromtimestamp(1_700_000_000 + 7 * number, UTC)
        host, who = f"h{number % 5}" + (".saltmarsh.example" if number % 3 else ""), ("ines", "rada", "tomas")[number % 7 % 3]
        named = f"HOST=h{number % 4} ; " if naming and number % 11 == 0 else ""
        message = (
            f"sudo: {who} : {named}TTY=pts/{number % 3} ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id {number % 50}",
            f"sudo: pam_unix(sudo:session): session opened for user root(uid=0) by {who}(uid={1000 + number % 3})",
            f"su[{number}]: (to root) {who} on pts/{number % 4}",
            "sudo: pam_unix(sudo:session): session closed for user root",
            f"sshd[{number}]: Failed password for invalid user tide{number % 9} from 192.0.2.{number % 200} port 22 ssh2",
            f"useradd[{number}]: new user: name=x{number}, UID=1{number}, GID=1{number}, home=/home/x, shell=/bin/sh",
            f"kernel: [{number}] nothing",
        )[number * number % 7]
        lines.append(f"{at:%Y-%m-%dT%H:%M:%S}+00:00 {host} {message}\n")
        number += 1
    path.write_text("".join(lines), encoding="utf-8")
    return path


def answer(book: Logbook) -> dict[str, object]:
    """What the command shows of a logbook, in an order of its own."""
    return {
        "document": {name: list(part) if isinstance(part, Listed) else part for name, part in usage_document(book, [], None).items()},
        "notable": {name: {sort.value: list(map(str, kept)) for sort, kept in use.notable.items()} for name, use in book.hosts.items()},
        "covers": [(cover.path, cover.pulse.first, cover.pulse.last, cover.pulse.hours, cover.pulse.jumps) for cover in book.covers],
        "found": sorted(str(found) for found in book.findings()),
    }


@pytest.mark.parametrize("naming", [True, False])
def test_a_log_in_shares_says_what_it_says_as_a_whole(naming: bool, tmp_path: Path) -> None:
    log = log_of_many_hosts(tmp_path / "auth.log", 5 << 20, naming=naming)
    (logs,) = logs_at([log], "loghost")
    assert [share.of for share in shares_of(logs, 3)] == [3, 3, 3]
    hosts = [HostLogs(subject="loghost", logs=logs)]
    whole, divided = answer(read_logbook(hosts)), answer(read_logbook(hosts, readers=3))
    assert whole["found"]
    assert json.dumps(whole, default=str, sort_keys=True) == json.dumps(divided, default=str, sort_keys=True)


def test_short_logs_and_those_of_one_host_are_not_divided(tmp_path: Path) -> None:
    short = log_of_many_hosts(tmp_path / "auth.log", 1 << 20)
    one = tmp_path / "secure"
    one.write_text(re.sub(r" h\d\S*", " knot", log_of_many_hosts(tmp_path / "auth.log.1", 5 << 20).read_text()))
    for path in (short, one):
        (logs,) = logs_at([path], "loghost")
        assert shares_of(logs, 3) == [Share()]


@pytest.mark.parametrize(
    ("recording", "name"),
    [
        ("000001", "1"),
        ("/var/log/sudo-io/00/00/01", "1"),
        ("00/01/00", "100"),
        ("000100", "100"),
        ("/x/00/00/1A", "1A"),
        ("/x/ines", "ines"),
        ("", ""),
    ],
)
def test_a_record_has_one_name_in_a_line_and_as_a_folder(recording: str, name: str) -> None:
    assert name_of_record(recording) == name


def crossing(seed: int, count: int) -> str:
    """Return a log in which logins, sudo, su and shells of few accounts, with few processes, cross on two hosts."""
    chance = random.Random(seed)
    names, at = ["anna", "bob", "root", "dora"], datetime(2026, 3, 1, tzinfo=UTC)
    lines = []
    for _ in range(count):
        at += timedelta(seconds=chance.choice((0.01, 0.3, 2, 60, 900)))
        who, whom, pid = chance.choice(names), chance.choice(names), chance.randrange(100, 108)
        terminal, command = (
            chance.choice(("pts/0", "pts/1")),
            chance.choice(("/bin/bash", "/usr/bin/id", "/usr/bin/id", "/usr/bin/ls ; EXIT=0", "/usr/bin/cat /etc/shadow", "/bin/su -")),
        )
        message = chance.choice((
            f"sudo[{pid}]: {who} : TTY={terminal} ; PWD=/ ; USER={whom} ; COMMAND={command}",
            f"sudo: {who} : TTY={terminal} ; PWD=/ ; USER={whom} ; {chance.choice(('', '', 'TSID=00000A ; '))}COMMAND={command}",
            f"sudo: {who} : command not allowed ; TTY={terminal} ; PWD=/ ; USER={whom} ; COMMAND={command}",
            f"sudo: pam_unix(sudo:session): session opened for user {whom}(uid=0) by {who}(uid={names.index(who)})",
            f"sudo: pam_unix(sudo:session): session closed for user {whom}",
            f"sudo[{pid}]: pam_unix(sudo:session): session opened for user {whom}(uid=0) by {who}(uid={names.index(who)})",
            f"sudo[{pid}]: pam_unix(sudo:session): session closed for user {whom}",
            f"sshd[{pid}]: Accepted publickey for {who} from 10.0.0.{pid} port 5 ssh2: ED25519 SHA256:x",
            f"sshd[{pid}]: pam_unix(sshd:session): session opened for user {who}(uid={names.index(whom)}) by (uid=0)",
            f"sshd[{pid}]: pam_unix(sshd:session): session closed for user {who}",
            f"sshd[{pid}]: Failed password for invalid user {chance.choice(('hunter2', who))} from 10.0.0.{pid} port 4 ssh2",
            f"sshd[{pid}]: message repeated 2 times: [ Accepted password for {who} from 10.0.0.1 port 5 ssh2]",
            f"login[{pid}]: LOGIN ON tty1 BY {who}",
            f"su[{pid}]: (to {whom}) {who} on {terminal}",
            f"su[{pid}]: pam_unix(su:session): session opened for user {whom}(uid=0) by {who}(uid=1)",
            f"su[{pid}]: pam_unix(su-l:session): session closed for user {whom}",
            f"useradd[{pid}]: new user: name=eve, UID=1009, GID=1009, home=/home/eve, shell=/bin/bash",
        ))  # fmt: skip
        lines.append(f"{at.isoformat()} {chance.choice(('tern', 'curlew'))} {message}")
    return "\n".join(lines) + "\n"


def as_journal(lines: str) -> str:
    """Return lines of syslog as entries of a journal."""
    found = []
    for line in lines.splitlines():
        stamp, host, tag, message = line.split(" ", 3)
        program, _, pid = tag.rstrip("]:").partition("[")
        at = f"{datetime.fromisoformat(stamp).timestamp() * 1e6:.0f}"
        entry = {"__REALTIME_TIMESTAMP": at, "_HOSTNAME": host, "SYSLOG_IDENTIFIER": program, "_PID": pid, "_UID": "0", "_COMM": program}
        found.append(json.dumps({**entry, "MESSAGE": message}))
    return "\n".join(found) + "\n"


@pytest.mark.parametrize("seed", range(6))
@pytest.mark.parametrize("form", [str, as_journal])
def test_what_is_counted_or_taken_aside_changes_nothing(form: Callable[[str], str], seed: int, tmp_path: Path) -> None:
    """A summary looks at few of the usual lines one by one; who asks for every event gets each, and the same summary."""
    (tmp_path / "auth.log").write_text(form(crossing(seed, 4000)), encoding="utf-8")
    hosts = [HostLogs(subject=logs[0].subject, logs=logs) for logs in logs_at([tmp_path / "auth.log"], "tern")]
    every: list[AttributedEvent] = []
    summed, single = read_logbook(hosts), read_logbook(hosts, take=every.append)
    assert summed.records == single.records == len(every)
    for name, use in single.hosts.items():
        other = summed.hosts[name]
        assert (other.sessions, other.notable, other.counted, other.users) == (use.sessions, use.notable, use.counted, use.users)
        assert other.unusual == use.unusual
    assert (summed.people.by_name, summed.everyone) == (single.people.by_name, single.everyone)
    assert summed.people.causes.by_reason == single.people.causes.by_reason
    assert [one.key for one in summed.findings()] == [one.key for one in single.findings()]
    assert summed.latest == single.latest
    events = [(one.event, one.event.at or BEGIN) for one in every]
    of_kind = {
        kind: sorted(((at, event) for event, at in events if event.kind is kind), key=itemgetter(0))
        for kind in (EventKind.LOGIN, EventKind.USED)
    }
    assert summed.latest["tern"].logins == {event.target: at for at, event in of_kind[EventKind.LOGIN]}
    assert summed.latest["tern"].uses == {event.account: at for at, event in of_kind[EventKind.USED]}
    assert summed.latest["tern"].quarters == Counter(int(at.timestamp()) // 900 for at, _ in of_kind[EventKind.USED])


def test_a_login_is_its_own_account_s_and_not_of_who_has_a_root_shell_open(tmp_path: Path) -> None:
    lines = (
        "sudo[7]: rada : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/bash",
        "sudo[7]: pam_unix(sudo:session): session opened for user root(uid=0) by rada(uid=1003)",
        "sshd[8]: pam_unix(sshd:session): session opened for user tomas(uid=1002) by (uid=0)",
        "sshd[9]: pam_unix(sshd:session): session opened for user root(uid=0) by (uid=0)",
        "sshd[8]: pam_unix(sshd:session): session closed for user tomas",
        "sudo[7]: pam_unix(sudo:session): session closed for user root",
    )
    text = "".join(f"2026-03-01T10:{number:02}:00+00:00 tern {line}\n" for number, line in enumerate(lines))
    (tmp_path / "auth.log").write_text(text, encoding="utf-8")
    every: list[AttributedEvent] = []
    (host,) = [HostLogs(subject=logs[0].subject, logs=logs) for logs in logs_at([tmp_path / "auth.log"], "tern")]
    book = read_logbook([host], take=every.append)
    assert [record.persons for record in every] == [("rada",), ("rada",), ("tomas",), (), ("tomas",), ("rada",)]
    assert [(one.person, one.records) for one in book.hosts["tern"].sessions if one.shell and one.program == "sudo"] == [("rada", 0)]


def test_hosts_are_divided_by_how_much_they_write(tmp_path: Path) -> None:
    chance = random.Random(2)
    hosts = ["busy"] * 50 + [f"quiet{number}" for number in range(50)]
    use = "sudo: x : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/id"
    lines = [f"2026-03-01T10:00:00+00:00 {chance.choice(hosts)} {use}\n" for _ in range(60_000)]
    (tmp_path / "auth.log").write_text("".join(lines), encoding="utf-8")
    (logs,) = logs_at([tmp_path / "auth.log"], "loghost")
    counts = [sum(share.has(line.split(" ", 2)[1]) for line in lines) for share in shares_of(logs, 2)]
    assert sum(counts) == len(lines)
    assert max(counts) / len(lines) < 0.55


NAMES = ["rada", "x from 192.0.2.1 port 1", "x port 5", "x port 5 ssh2", "x from 192.0.2.1 port 1 ssh2: A B"]
BEHIND_PORT = [
    "",
    " ssh2",
    " ssh2: ED25519 SHA256:abc+/d",
    " ssh2 [preauth]",
    " ssh2: ED25519-CERT SHA256:a ID x port 6 (serial 1) CA RSA SHA256:b",
]
BEFORE = [
    "Accepted publickey for {}",
    "Failed password for invalid user {}",
    "Invalid user {}",
    "PAM 2 more authentication failures; user={}",
]


@pytest.mark.parametrize("before", BEFORE)
def test_a_message_of_sshd_is_the_same_from_any_port(before: str) -> None:
    """Whatever name was typed: the event of one without its port is that of the message, and names stay apart."""
    for name, behind in product(NAMES, BEHIND_PORT):
        message = f"{before.format(name)} from 203.0.113.9 port 40022{behind}"
        short = without_port(message)
        assert without_port(message.encode()) == short.encode()
        assert read_message("sshd", short) == read_message("sshd", message), message
        assert (short != message) == (not before.startswith("PAM") and behind in BEHIND_PORT[:3]), message
        assert without_port(message.replace("40022", "1")) == short or short == message
    typed = [f"{before.format(name)} from 203.0.113.9 port 40022" for name in NAMES]
    assert len(set(map(without_port, typed))) == len(NAMES)
