"""Who is said to have stood behind what logs record, by the built program: each case is a host of its own in one log."""

from pathlib import Path
from typing import Any

import pytest

from support import fidelitas

SUDO = "rada : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND={}"
SHELL = ["sudo[5]: " + SUDO.format("/bin/bash"), "sudo[5]: pam_unix(sudo:session): session opened for user root(uid=0) by rada(uid=1001)"]
WRONG = "pam_unix(sudo:auth): authentication failure; logname=rada uid=1001 euid=0 tty=/dev/pts/0 ruser=rada rhost=  user=rada"
ELSEWHERE = WRONG.replace("pam_unix", "pam_sss")
RIGHT = ELSEWHERE.replace("failure", "success")
AT_THE_DOOR = "pam_unix(sshd:auth): authentication failure; logname= uid=0 euid=0 tty=ssh ruser= rhost=192.0.2.7  user=tomas"
ROOT_BY_KEY = [
    "sshd[7]: Accepted publickey for root from 192.0.2.7 port 5 ssh2: ED25519 SHA256:abc",
    "sshd[7]: pam_unix(sshd:session): session opened for user root(uid=0) by (uid=0)",
]
NEW_USER = "useradd[9]: new user: name=mallory, UID=1300, GID=0, home=/root, shell=/bin/bash, from={}"
CERTIFICATE = "sshd[7]: Accepted publickey for root from 192.0.2.7 port 5 ssh2: ED25519-CERT SHA256:x ID rada@saltmarsh (serial 12) CA ED25519 SHA256:y"
TICKET = "sshd[7]: Accepted gssapi-with-mic for root from 192.0.2.7 port 5 ssh2: rada/admin@SALTMARSH.EXAMPLE"
CERTAIN, LIKELY, POSSIBLE, UNKNOWN = "certain", "likely", "possible", "unknown"

# What is logged; how many uses and wrong passwords of rada that is; the persons of the last event, and how surely.
CASES: dict[str, tuple[list[str], tuple[int, int], list[str], str]] = {
    "a directory decides, and it is right": ([f"sudo[8]: {WRONG}", f"sudo[8]: {RIGHT}", "sudo[8]: " + SUDO.format("/usr/bin/id")], (1, 0), ["rada"], CERTAIN),
    "a directory decides, right the second time": (
        [f"sudo[8]: {WRONG}", f"sudo[8]: {ELSEWHERE}", f"sudo[8]: {RIGHT}", "sudo[8]: " + SUDO.format("/usr/bin/id")], (1, 1), ["rada"], CERTAIN,
    ),
    "a directory decides, three are wrong": (
        [f"sudo[8]: {WRONG}", *[f"sudo[8]: {ELSEWHERE}"] * 3, f"sudo[8]: {WRONG.replace('authentication failure', '2 more authentication failures')}",
         "sudo[8]: rada : 3 incorrect password attempts ; TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id"], (0, 3), ["rada"], CERTAIN,
    ),
    "another process cannot take a failure away": ([f"sudo[8]: {WRONG}", f"sudo[9]: {RIGHT}"], (0, 1), ["rada"], CERTAIN),
    "nor can a line without a process": ([f"sudo[8]: {WRONG}", f"sudo: {RIGHT}"], (0, 1), ["rada"], CERTAIN),
    "what the program sums up stays": (
        [f"sudo[8]: {WRONG}", f"sudo[8]: {RIGHT}", "sudo[8]: rada : 3 incorrect password attempts ; TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id"],
        (0, 3), ["rada"], CERTAIN,
    ),
    "no password at all was asked for": (["sudo[8]: rada : a password is required ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id"], (0, 0), ["rada"], CERTAIN),
    "who is before the door is not who is inside": ([*SHELL, f"sshd[7]: {AT_THE_DOOR}"], (1, 0), [], UNKNOWN),
    "nor at a console": ([*SHELL, f"login[7]: {AT_THE_DOOR.replace('sshd', 'login').replace('logname= ', 'logname=LOGIN ')}"], (1, 0), [], UNKNOWN),
    "in the one root shell": ([*SHELL, NEW_USER.format("none")], (1, 0), ["rada"], LIKELY),
    "on the terminal of a root shell": ([*SHELL, *ROOT_BY_KEY, NEW_USER.format("/dev/pts/0")], (1, 0), ["rada"], LIKELY),
    "root has logged in too, nobody knows who": ([*SHELL, *ROOT_BY_KEY, NEW_USER.format("/dev/pts/1")], (1, 0), ["rada", "root"], POSSIBLE),
    "root alone, nobody knows who": ([*ROOT_BY_KEY, NEW_USER.format("/dev/pts/1")], (0, 0), [], UNKNOWN),
    "without a terminal: of no shell that has one": ([*SHELL, "su[9]: (to postgres) root on none"], (1, 0), [], UNKNOWN),
    "and its session": (
        [*SHELL, "su[9]: (to postgres) root on none", "su[9]: pam_unix(su:session): session opened for user postgres(uid=105) by (uid=0)"], (1, 0), [], UNKNOWN,
    ),
    "a job of at": ([*SHELL, "atd[9]: pam_unix(atd:session): session opened for user root(uid=0) by (uid=0)"], (1, 0), [], UNKNOWN),
    "a certificate names who logs in as root": ([CERTIFICATE], (0, 0), ["rada"], CERTAIN),
    "and whose session it is": ([CERTIFICATE, ROOT_BY_KEY[1]], (0, 0), ["rada"], CERTAIN),
    "and what is done in it": ([CERTIFICATE, ROOT_BY_KEY[1], NEW_USER.format("/dev/pts/1")], (0, 0), ["rada"], LIKELY),
    "a ticket names who logs in as root": ([TICKET], (0, 0), ["rada"], CERTAIN),
    "a name in a certificate that is none is nobody's": ([CERTIFICATE.replace("rada@saltmarsh", "the key of rada")], (0, 0), [], UNKNOWN),
}  # fmt: skip


@pytest.fixture(scope="module")
def said(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Any]:
    folder = tmp_path_factory.mktemp("attribution")
    lines = []
    for number, (case, *_) in enumerate(CASES.values()):
        lines += [f"2026-11-20T06:{at // 60:02}:{at % 60:02}+00:00 h{number} {line}\n" for at, line in enumerate(case)]
    (folder / "auth.log").write_text("".join(lines))
    ran = fidelitas("usage", "--log", "auth.log", "--events", "--format", "json", cwd=folder)
    assert ran.status in (0, 1), ran.err
    return dict(ran.json)


@pytest.mark.parametrize("case", CASES)
def test_who_stood_behind_it(said: dict[str, Any], case: str) -> None:
    _, (used, wrong), persons, confidence = CASES[case]
    host = f"h{list(CASES).index(case)}"
    events = [event for event in said["events"] if event["host"] == host]
    assert (events[-1]["persons"], events[-1]["confidence"]) == (persons, confidence)
    assert sum(event["kind"] == "used" and event["account"] == "rada" for event in events) == used
    alone = [event for event in events if event["kind"] == "failed authentication" and event["persons"] == ["rada"]]
    summed = [event["count"] for event in alone if event["command"]]
    assert (max(summed) if summed else sum(event["count"] for event in alone)) == wrong


def test_an_attempt_at_a_login_is_counted_once(tmp_path: Path) -> None:
    """PAM, the attempt itself, and why it cannot succeed: three lines of one attempt."""
    lines = []
    for number in range(20):
        lines += [
            f"sshd[{number}]: {AT_THE_DOOR}",
            *[f"sshd[{number}]: Failed password for tomas from 192.0.2.7 port {number} ssh2"] * 3,
            f"sshd[{number}]: error: maximum authentication attempts exceeded for tomas from 192.0.2.7 port {number} ssh2 [preauth]",
            f"sshd[{number}]: PAM 2 more authentication failures; logname= uid=0 euid=0 tty=ssh ruser= rhost=192.0.2.7  user=tomas",
        ]
    text = "".join(f"2026-11-20T06:{at // 60:02}:{at % 60:02}+00:00 tern {line}\n" for at, line in enumerate(lines))
    (tmp_path / "auth.log").write_text(text)
    ran = fidelitas("usage", "--log", "auth.log", cwd=tmp_path)
    assert "60 wrong passwords for tomas" in ran.out


def test_the_number_of_a_process_is_anothers_a_week_later(tmp_path: Path) -> None:
    """Sessions that no line closed, as when a host goes down, say nothing of what has their number then."""
    lines = [
        ("01T06:00:00", "sudo[501]: " + SUDO.format("/bin/bash")),
        ("01T06:00:00", "sudo[501]: pam_unix(sudo:session): session opened for user root(uid=0) by rada(uid=1001)"),
        ("01T06:00:05", "su[502]: pam_unix(su:session): session opened for user postgres(uid=105) by rada(uid=1001)"),
        ("09T06:00:00", "sudo[501]: " + SUDO.replace("rada", "tomas").format("/usr/bin/id")),
        ("09T06:00:01", "su[502]: (to backup) root on none"),
        ("09T06:00:01", "su[502]: pam_unix(su:session): session opened for user backup(uid=34) by (uid=0)"),
        ("09T06:00:09", "useradd[502]: new user: name=mallory, UID=1300, GID=0, home=/root, shell=/bin/bash, from=none"),
        ("09T06:00:09", "su[501]: FAILED SU (to postgres) root on none"),
    ]
    (tmp_path / "auth.log").write_text("".join(f"2026-11-{at}+00:00 tern {line}\n" for at, line in lines))
    ran = fidelitas("usage", "--log", "auth.log", "--events", "--format", "json", cwd=tmp_path)
    events = [event for event in ran.json["events"] if event["time"] > "2026-11-09"]
    assert [event["persons"] for event in events] == [["tomas"], [], [], [], []]
    assert [event["kind"] for event in events[:1]] == ["used"]


@pytest.mark.parametrize("name", ["Disconnecting", "Transferred", "Partial", "Address", "failed", "error"])
def test_no_account_hides_by_being_called_as_other_messages_begin(name: str, tmp_path: Path) -> None:
    lines = [
        f"sudo[1]: {name} : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id",
        f"doas: {name} ran command id as root from /",
        f"pkexec[2]: {name}: Executing command [USER=root] [TTY=/dev/pts/0] [CWD=/] [COMMAND=/usr/bin/id]",
    ]
    (tmp_path / "auth.log").write_text("".join(f"2026-11-20T06:00:0{at}+00:00 tern {line}\n" for at, line in enumerate(lines)))
    ran = fidelitas("usage", "--log", "auth.log", "--events", "--format", "json", cwd=tmp_path)
    assert [(event["program"], event["kind"], event["account"]) for event in ran.json["events"]] == [
        (program, "used", name) for program in ("sudo", "doas", "pkexec")
    ]
