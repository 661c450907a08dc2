"""Real sudo and su, logged by a real journald and a real rsyslogd: what was done is what `usage` says, whichever log it reads."""

import json
import subprocess
from collections.abc import Callable
from datetime import UTC
from itertools import combinations
from pathlib import Path

import pytest

from fidelitas.facts import EventKind
from fidelitas.logbook import HostLogs, Logbook, read_logbook
from fidelitas.sources.logs import logs_at
from fidelitas.usage import AttributedEvent, AttributionBasis
from support import fidelitas, open_up
from test_judge_sudo import ACCOUNTS, HERE, Writer, write

pytestmark = pytest.mark.judge

POLICY = """\
Defaults !lecture, passwd_tries=3, logfile={place}/logs/daemons/sudo.log, {form}
root, ines, rada ALL=(ALL) ALL
tomas ALL=(root) NOPASSWD: /usr/bin/true, /usr/bin/su -, sudoedit {place}/motd, /bin/sh, /bin/bash
"""
LOGS = ("auth.log", "traditional.log", "journal.json", "journal.export", "sudo.log")
# What sudo's own file knows nothing of is what su does; it is read by itself in the tests of the languages.
FORMS = [names for count in range(1, 6) for names in combinations(LOGS, count) if names != ("sudo.log",)]
# What else rsyslogd and journalctl write, each read alone, and with another that has the same.
OTHERS = ("protocol.log", "objects.log", "json-pretty.log", "json-sse.log", "json-seq.log", "verbose.log")
OF_JOURNALCTL = ("short-iso.log", "short-full.log", "short-precise.log", "short-unix.log", "short-iso-precise.log")
FORMS += [names for other in (*OTHERS, *OF_JOURNALCTL) for names in ((other,), (other, "journal.json"), ("auth.log", other))]
# Person, kind, account that it was done as, and what the command holds, in the order of judges/actions.py.
DONE = [
    ("ines", EventKind.USED, "root", "/usr/bin/id -u"),
    ("tomas", EventKind.USED, "root", "/usr/bin/true"),
    ("tomas", EventKind.REFUSED, "root", "/usr/bin/false"),
    ("rada", EventKind.FAILED, "root", "/usr/bin/id"),
    ("kofi", EventKind.REFUSED, "root", "/usr/bin/id"),
    ("tomas", EventKind.USED, "root", "--login -c"),
    ("tomas", EventKind.USED, "root", "/usr/bin/true"),
    ("tomas", EventKind.USED, "root", "/usr/bin/true ; EXIT=0"),
    ("tomas", EventKind.USED, "root", "a b"),
    ("tomas", EventKind.USED, "root", f"{' '.join(map(str, range(600)))} {'x' * 1500} end"),
    ("tomas", EventKind.USED, "root", "/usr/bin/su -"),
    ("tomas", EventKind.USED, "root", ""),  # su itself
    ("tomas", EventKind.USED, "rada", "of-root"),  # root's own sudo, in the shell that tomas opened
    ("tomas", EventKind.USED, "root", "/motd"),
    ("vesna", EventKind.FAILED, "root", ""),
    ("vesna", EventKind.USED, "tomas", ""),
]


@pytest.fixture(scope="module", params=["log_format=sudo", "log_exit_status", "log_format=json"])
def logs(tmp_path_factory: pytest.TempPathFactory, request: pytest.FixtureRequest) -> Path:
    place = tmp_path_factory.mktemp("logging")
    Writer(1).etc(place)
    for extra in (place / "etc/sudoers.d").iterdir():
        extra.unlink()
    write(place / "etc/sudoers", POLICY.format(place=place, form=request.param), 0o440)
    shadow = (place / "etc/shadow").read_text()
    for name in ACCOUNTS:
        made = subprocess.run(["perl", "-e", f'print crypt("{name}-pw", "\\$6\\$salt\\$")'], capture_output=True, text=True, check=True)
        shadow = shadow.replace(f"{name}:$6$salt$hash:", f"{name}:{made.stdout}:")
    write(place / "etc/shadow", shadow, 0o640)
    (place / "motd").write_text("x\n")
    (place / "logs").mkdir()
    open_up(place)
    world: list[str | Path] = ["unshare", "--mount", "--propagation", "private", "bash", HERE / "logging_world.sh"]
    surroundings = {"DEEDS_PLACE": str(place), "PATH": "/usr/sbin:/usr/bin:/sbin:/bin"}
    arguments: list[str | Path] = [*world, place / "etc", place / "logs", HERE / "actions.py"]
    ran = subprocess.run(arguments, env=surroundings, capture_output=True, text=True, check=False, timeout=120)
    assert ran.returncode == 0, ran.stderr
    return place / "logs"


@pytest.fixture
def ready(need: Callable[..., None]) -> None:
    need("sudo", "su", "rsyslogd", "journalctl", "unshare", "setpriv", "perl", root=True)


def told(logs: Path, *names: str) -> tuple[Logbook, list[AttributedEvent]]:
    records: list[AttributedEvent] = []
    (found,) = logs_at([logs / name for name in names], "vm")
    book = read_logbook([HostLogs(subject="vm", logs=found, zone=UTC)], take=records.append)
    return book, records


def summed(records: list[AttributedEvent]) -> list[tuple[str, EventKind, str, str]]:
    """Return what was done; a failure that PAM tells before sudo or su do is a part of theirs."""
    own = [
        record
        for record in records
        if record.event.kind not in (EventKind.OPENED, EventKind.CLOSED) and record.event.reason != "wrong password"
    ]
    return [(record.person, record.event.kind, record.event.target, record.event.command) for record in own]


BUSYBOX = """\
mount -t tmpfs none "$1" && cp -a /dev/null "$1/" && mount --bind "$1" /dev
busybox syslogd -n $3 -O "$2" & daemon=$!
until [ -S /dev/log ]; do :; done
logger -t sudo '    rada : TTY=pts/1 ; PWD=/home/rada ; USER=root ; COMMAND=/usr/bin/id'
logger -i -t su '+ /dev/pts/0 tomas:root'
logger -t kofi 'sudo: rada : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/bin/forged'
until grep -q forged "$2"; do :; done
kill $daemon
"""


@pytest.mark.parametrize("form", ["-S", "-l8"])
def test_what_the_syslogd_of_busybox_writes_is_understood_in_both_forms(form: str, tmp_path: Path, need: Callable[..., None]) -> None:
    """Written short it names no host, so that the tag that someone gives to a message of theirs stands where a host would."""
    need("busybox", "logger", "unshare", "mount", root=True)
    (tmp_path / "dev").mkdir()
    (tmp_path / "messages").touch()
    world: list[str | Path] = [
        "unshare",
        "--mount",
        "--propagation",
        "private",
        "sh",
        "-ec",
        BUSYBOX,
        "sh",
        tmp_path / "dev",
        tmp_path / "messages",
        form,
    ]
    subprocess.run(world, check=True, timeout=30)
    book, records = told(tmp_path, "messages")
    assert [(one.person, one.event.program, one.event.target, one.event.command) for one in records] == [
        ("rada", "sudo", "root", "/usr/bin/id"), ("tomas", "su", "root", ""),
    ]  # fmt: skip
    assert list(book.hosts) == ["vm" if form == "-S" else records[0].event.host]


@pytest.mark.usefixtures("ready")
@pytest.mark.parametrize("names", FORMS, ids=" and ".join)
def test_what_was_really_done_is_what_usage_says(logs: Path, names: tuple[str, ...]) -> None:
    """Also where several logs tell the same: every event comes once."""
    book, records = told(logs, *names)
    found = summed(records)
    assert [row[:3] for row in found] == [row[:3] for row in DONE]
    # A message in JSON that is too long for syslog is cut by its daemon.
    assert all(part[:2000] in command for (*_, command), (*_, part) in zip(found, DONE, strict=True))
    assert not [record for record in records if record.event.doubt]
    people = book.people.by_name
    assert (people["rada"].failed, people["rada"].failures) == (3, "never successful")
    assert (people["vesna"].failed, people["vesna"].failures) == (1, "mistyped")
    assert not book.gaps


@pytest.mark.usefixtures("ready")
def test_the_shell_and_what_was_done_in_it(logs: Path) -> None:
    book, records = told(logs, "auth.log")
    sessions = book.hosts["vm"].sessions
    assert all(session.closed is not None for session in sessions)
    (shell,) = [session for session in sessions if session.command == "/usr/bin/su -"]
    assert (shell.person, shell.account, shell.shell, shell.terminal != "") == ("tomas", "root", True, True)
    (within,) = [record for record in records if "printf" in record.event.command and record.event.kind is EventKind.USED]
    assert (within.basis, within.event.account) == (AttributionBasis.TERMINAL, "root")
    found = {finding.check for finding in book.findings()}
    assert {"use.refused-outsider", "use.root-shell"} <= found
    listing = fidelitas("usage", "--log", logs / "auth.log", "--sessions", cwd=logs)
    assert "/usr/bin/su -" in listing.out
    timeline = fidelitas("usage", "--log", logs / "journal.json", "--timeline", cwd=logs)
    assert "└ tomas: used  sudo as rada /usr/bin/printf of-root" in timeline.out


@pytest.mark.usefixtures("ready")
def test_the_folder_of_the_journal_is_read_as_its_export_is(logs: Path) -> None:
    """In a folder such as /var/log, and by itself; without journalctl what was not read is said."""
    export = fidelitas("usage", "--log", logs / "journal.json", "--events", "--format", "json", cwd=logs).json["events"]
    for folder in (logs / "kept", logs / "kept/journal"):
        ran = fidelitas("usage", "--log", folder, "--events", "--format", "json", cwd=logs)
        events = ran.json["events"]
        assert [(one["kind"], one["account"], one["command"]) for one in events] == [
            (one["kind"], one["account"], one["command"]) for one in export
        ]
    without = fidelitas("usage", "--log", logs / "kept", cwd=logs, env={"PATH": "/nowhere"})
    assert "journalctl" in without.err
    assert without.status == 4


@pytest.mark.usefixtures("ready")
def test_a_line_that_another_program_wrote_is_doubted_by_what_the_journal_knows(logs: Path) -> None:
    line = (logs / "journal.json").read_text().splitlines()
    use = next(one for one in line if "/usr/bin/id" in one and "-u" in one)
    forged = json.loads(use) | {"_COMM": "logger", "_EXE": "/usr/bin/logger"}
    (logs / "forged.json").write_text(json.dumps(forged) + "\n")
    book, records = told(logs, "forged.json")
    assert [record.event.doubt for record in records] == ["it was written by /usr/bin/logger of user ID 4101, not by sudo"]
    assert [finding.check for finding in book.findings()] == ["use.suspected-forgery"]


@pytest.mark.usefixtures("ready")
@pytest.mark.parametrize("form", ["cat", "short-monotonic"])
def test_what_leaves_out_the_date_or_the_program_is_not_taken_for_an_empty_log(form: str, logs: Path) -> None:
    ran = fidelitas("usage", "--log", logs / f"{form}.log", cwd=logs)
    assert ran.status in (3, 4)
    assert "no line that concerns privilege was recognised" in ran.err
