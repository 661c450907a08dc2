"""Logs of several hosts in one file: a user ID of one host is another person's on the next, and nothing that one tells is another's."""

import json
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path
from typing import NamedTuple

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.facts import Event
from fidelitas.languages.logs.content import DerivedLog
from fidelitas.languages.logs.hosts_named import are_of
from fidelitas.languages.logs.reading import LogReading
from fidelitas.languages.logs.shares import shares_of
from fidelitas.logbook import read_logbook
from fidelitas.logbook_place import HostLogs
from fidelitas.sources.logs import logs_at
from test_log_lines import answer

START = datetime(2026, 11, 1, tzinfo=UTC)
HOSTS = ("knot", "tern", "eider")
# Who has a number is another on each host; of the second host's accounts nothing but its log tells.
NAMES = {1001: "ines", 1002: "rada"}
ACCOUNTS = {"knot": NAMES, "tern": {1001: "tomas", 1002: "vesna"}, "eider": {1001: "rada", 1002: "ines"}}
FORMS = ("audit", "audit with names", "journal", "export", "syslog")


class Action(NamedTuple):
    """What an account does on a host: a use, the begin of a session that PAM tells by number, a login, a setuid program."""

    host: str
    sort: str
    number: int
    serial: int


ACTIONS = st.lists(st.builds(Action, st.sampled_from(HOSTS), st.sampled_from(["use", "session", "login", "setuid"]), st.sampled_from([1001, 1002, 1003]),
                           st.integers(1, 4)), max_size=12)  # fmt: skip


def audit(at: datetime, action: Action, *, names: bool) -> str:
    number, name = action.number, ACCOUNTS[action.host].get(action.number, "")
    head = f"node={action.host} type=%s msg=audit({at.timestamp():.3f}:{action.serial}): pid=7 uid={0 if action.sort == 'login' else number} auid={number} ses=3"
    tail = f'\x1dUID="{name}" AUID="{name}"' if names and name and action.sort != "login" else ""
    if action.sort == "use":
        return head % "USER_CMD" + f' msg=\'cwd="/" cmd="id" exe="/usr/bin/sudo" terminal=pts/0 res=success\'{tail}\n'
    if action.sort == "login":
        what = f'op=PAM:session_open acct="{name or "x"}" exe="/usr/sbin/sshd" terminal=ssh res=success'
        return head % "USER_START" + f" msg='{what}'{tail}\n"
    if action.sort == "session":
        what = 'op=PAM:session_open acct="root" exe="/usr/bin/sudo" terminal=pts/0 res=success'
        return head % "USER_START" + f" msg='{what}'{tail}\n"
    call = head % "SYSCALL" + f' euid=0 success=yes exe="/opt/{action.host}"{tail}\n'
    return call + f'node={action.host} type=EXECVE msg=audit({at.timestamp():.3f}:{action.serial}): argc=1 a0="/opt/{action.host}"\n'


def message(action: Action) -> tuple[str, str]:
    number, name = action.number, ACCOUNTS[action.host].get(action.number, "x")
    if action.sort == "login":
        return "sshd", f"pam_unix(sshd:session): session opened for user {name}(uid={number}) by {name}(uid=0)"
    if action.sort == "session":
        return "sudo", f"pam_unix(sudo:session): session opened for user root(uid=0) by (uid={number})"
    return "sudo", f"  {'root' if action.sort == 'setuid' else name} : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id"


def written(form: str, at: datetime, action: Action) -> str:
    if form.startswith("audit"):
        return audit(at, action, names=form.endswith("names"))
    program, text = message(action)
    if form == "syslog":
        return f"{at.isoformat()} {action.host} {program}[7]: {text}\n"
    fields = {
        "__REALTIME_TIMESTAMP": f"{at.timestamp() * 1e6:.0f}",
        "_HOSTNAME": action.host,
        "SYSLOG_IDENTIFIER": program,
        "MESSAGE": text,
        "_PID": "7",
    }
    fields["_AUDIT_LOGINUID"] = str(action.number)
    return json.dumps(fields) + "\n" if form == "journal" else "".join(f"{name}={value}\n" for name, value in fields.items()) + "\n"


def told(forms: str, actions: Sequence[Action], names: dict[int, str], host: str = "") -> list[tuple[object, ...]]:
    """Return what logs tell, of which the lines of one host are written where it is asked for; they are those of the first host."""
    logs = []
    for form in forms.split("+"):
        lines = [
            written(form, START + timedelta(minutes=at), action) for at, action in enumerate(actions) if not host or action.host == host
        ]
        content, by = "".join(lines).encode(), START + timedelta(days=1)
        logs.append(DerivedLog(f"/var/log/{form}", host or HOSTS[0], form, 0, by, partial(iter, [content]), records=False, tail=bytes))
    return [essence(event) for event in LogReading(logs, UTC, names).events()]


def essence(event: Event) -> tuple[object, ...]:
    return event.at, event.host, event.kind, event.program, event.account, event.target, event.login, event.command


@pytest.mark.parametrize("form", [*FORMS, "syslog+audit", "syslog+audit with names+journal"])
@given(actions=ACTIONS)
def test_hosts_in_one_log_tell_what_each_tells_alone(form: str, actions: list[Action]) -> None:
    every = [Action(host, "use", 1003, 9) for host in HOSTS] + actions
    together = told(form, every, NAMES)
    for host in HOSTS:
        alone = told(form, [*every], NAMES if host == HOSTS[0] else {}, host)
        assert [one for one in together if one[1] == host] == alone


def test_who_did_it_is_told_by_the_record_itself_and_by_that_of_the_same_event() -> None:
    """Numbers of two hosts alternate, and records of two events are mixed."""
    at = START
    lines = [audit(at, Action(host, "use", 1001, 1), names=True) for host in ("knot", "tern", "knot")]
    calls = [audit(at, Action(host, "setuid", 1001, 5), names=True).split("\n") for host in ("knot", "tern")]
    mixed = [calls[0][0], calls[1][0], calls[0][1], calls[1][1]]
    log = DerivedLog(
        "/var/log/audit/audit.log",
        "log01",
        "a",
        0,
        at,
        partial(iter, ["".join(lines + [f"{one}\n" for one in mixed]).encode()]),
        records=False,
        tail=bytes,
    )
    events = list(LogReading([log], UTC).events())
    assert [(one.host, one.account, one.command) for one in events] == [
        ("knot", "ines", "id"), ("tern", "tomas", "id"), ("knot", "ines", "id"), ("knot", "ines", "/opt/knot"), ("tern", "tomas", "/opt/tern")
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("own", "hosts", "of", "expected"),
    [
        ("knot", ["knot", "tern"], "tern", False),
        ("knot", ["knot", "tern"], "KNOT.saltmarsh.example", True),
        ("knot", ["tern", "eider"], "tern", False),  # where logs are gathered that has none of its own in them
        ("knot", ["vm-7"], "vm-7", True),  # the survey calls it otherwise than it does itself
        ("knot", ["vm-7"], "vm-8", False),
        ("knot", [], "tern", False),
        ("knot", ["tern"], "", True),
    ],
)
def test_whose_accounts_are_known(own: str, hosts: list[str], of: str, *, expected: bool) -> None:
    lines = "".join(f"2026-11-01T00:00:00Z {host} sudo: x\n" for host in hosts)
    assert are_of([own], lines.encode())(of) is expected


def test_an_audit_log_in_shares_says_what_it_says_as_a_whole(tmp_path: Path) -> None:
    sorts = ("use", "session", "login", "setuid", "use", "use")
    actions = [Action(HOSTS[at % 7 % 3], sorts[at % 6], 1001 + at % 3, at) for at in range(35_000)]
    path = tmp_path / "audit.log"
    path.write_text("".join(written("audit", START + timedelta(seconds=40 * at), one) for at, one in enumerate(actions)))
    (logs,) = logs_at([path], "log01")
    assert [share.of for share in shares_of(logs, 2)] == [2, 2]
    hosts = [HostLogs(subject="log01", logs=logs)]
    whole, divided = answer(read_logbook(hosts)), answer(read_logbook(hosts, readers=2))
    assert all(f'"{host}": {{' in json.dumps(whole, default=str) for host in HOSTS)
    assert json.dumps(whole, default=str, sort_keys=True) == json.dumps(divided, default=str, sort_keys=True)
