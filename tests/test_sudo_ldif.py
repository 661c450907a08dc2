"""sudoRole objects in LDIF: the same facts as a policy file, with the real converter as the judge."""

import base64
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.facts import MemberKind, Place
from fidelitas.inquiry import Inquiry
from fidelitas.languages.ldap.ldif import is_ldif
from fidelitas.languages.ldap.sudo_role import read_sudo_ldif
from fidelitas.rights.linux.sudo import Question
from fidelitas.text import decode
from support import bundle
from test_sudo_semantics import FILES, HOST, NOW

ORIGIN = Place(subject="knot", path="/etc/sudoers")
ROLE = "dn: cn={cn}\nobjectClass: sudoRole\ncn: {cn}\nsudoUser: ines\nsudoHost: ALL\nsudoCommand: {command}\nsudoOrder: {order}\n\n"


def verdict(policy: str, command: str, account: str = "ines", run_as: str | None = None) -> tuple[str, bool | None]:
    question = Question(account=account, command=tuple(command.split(" ")), at=NOW, run_as=run_as)
    decision = Inquiry(bundle(policy, FILES), None, HOST).ask(question).decision
    return decision.verdict.value, decision.password


def test_the_highest_order_wins_and_negated_values_win_within_a_role() -> None:
    roles = ROLE.format(cn="b", command="!/bin/ls", order="2.5") + ROLE.format(cn="a", command="/bin/ls", order="1")
    assert verdict(roles, "/bin/ls")[0] == "denied"
    assert verdict(roles.replace("2.5", "-1"), "/bin/ls")[0] == "allowed"
    both = ROLE.format(cn="a", command="!/bin/ls\nsudoCommand: ALL", order="1")
    assert verdict(both, "/bin/ls")[0] == "denied"
    assert verdict(both, "/bin/cat")[0] == "allowed"


def test_options_of_a_role_that_are_not_honoured_are_told() -> None:
    options = "".join(f"sudoOption: {option}\n" for option in ("!authenticate", "nosuchoption", "timestamp_timeout=x", "targetpw", "= ="))
    read = read_sudo_ldif(ROLE.format(cn="a", command=f"/bin/ls\n{options[:-1]}", order="1"), ORIGIN)
    assert [(gap.place.line, gap.weakens.partition(" this")[0]) for gap in read.gaps] == [
        (8, "sudo ignores"),
        (9, "sudo ignores"),
        (10, "what it changes for the commands of"),
        (11, "sudo ignores"),
    ]


def test_folded_and_encoded_values_comments_and_places() -> None:
    encoded = base64.b64encode("/bin/é".encode()).decode()
    text = f"version: 1\n# comment\ndn: cn=x\nobjectClass: sudoRole\ncn: x\nsudoUser: in\n es\nsudoHost: ALL\nsudoCommand:: {encoded}\n"
    rule = read_sudo_ldif(text, ORIGIN).rules[0]
    assert (rule.users[0].value, rule.command.value, rule.place.line) == ("ines", "/bin/é", 9)


def test_a_time_that_states_none_is_a_gap() -> None:
    text = ROLE.format(cn="x", command="/bin/ls", order=1).strip() + "\nsudoNotAfter: soon\nsudoNotBefore: 20260101000000Z\n"
    policy = read_sudo_ldif(text, ORIGIN)
    assert [(gap.place.line if gap.place else None, "soon" in gap.why) for gap in policy.gaps] == [(8, True)]
    assert policy.rules[0].options.not_before is not None


def test_members_are_told_apart() -> None:
    text = (
        ROLE.format(cn="x", command="ALL", order=1).strip()
        + "\nsudoUser: %g\nsudoUser: +n\nsudoUser: !#5\nsudoHost: 10.0.0.0/8\nsudoHost: fd00::1\nsudoRunAsUser: \n"
    )
    rule = read_sudo_ldif(text, ORIGIN).rules[0]
    assert [member.kind.name for member in rule.users] == ["NAME", "GROUP", "NETGROUP", "NAME"]
    assert [member.kind.name for member in rule.hosts] == ["ALL", "ADDRESS", "ADDRESS"]
    assert rule.run_as_users is not None
    assert rule.run_as_users[0].kind is MemberKind.MYSELF


def test_what_is_broken_costs_only_itself() -> None:
    text = "dn: cn=x\nnonsense\nobjectClass: sudoRole\nsudoUser:: ***\ncn: x\nsudoUser: ines\nsudoHost: ALL\nsudoCommand: ALL\n\ndn: cn=defaults\nobjectClass: sudoRole\ncn: defaults\nsudoOption: nosuch\nsudoOption: !authenticate\n"
    policy = read_sudo_ldif(text, ORIGIN)
    assert [gap.place.line for gap in policy.gaps] == [2, 4, 13]
    assert len(policy.rules) == len(policy.defaults) == 1


@given(st.one_of(st.text(), st.binary().map(decode), st.text(alphabet="dn: \n#sudoRle%+!A/=\\").map(lambda text: f"dn: x\n{text}")))
def test_any_text_is_survived(text: str) -> None:
    read_sudo_ldif(text, ORIGIN)
    is_ldif(text)


POLICY = """\
Defaults !lecture
User_Alias STAFF = ines, %gauges
Cmnd_Alias TOOLS = /bin/ls -l, /usr/bin/
STAFF ALL = (root, tomas : ops) NOPASSWD: NOEXEC: TOOLS, !/usr/bin/id
rada knot, !tern = NOTAFTER=20300101000000Z ALL
tomas ALL = NOTAFTER=20200101000000Z ALL
tomas tern = ALL
vesna ALL = (ALL) /bin/cat "", sudoedit /etc/motd, ^/bin/(a|b)$
%ops, !ines ALL = () /bin/own
Kofi ALL = (ALL:ALL) ALL, !/bin/sh
"""
QUESTIONS = [
    ("ines", "/bin/ls -l", None), ("ines", "/bin/ls", None), ("ines", "/usr/bin/id", None), ("ines", "/usr/bin/x", "tomas"), ("vesna", "/usr/bin/x", None),
    ("rada", "/bin/any", None), ("tomas", "/bin/any", None), ("vesna", "/bin/cat", "rada"), ("vesna", "/bin/cat x", "rada"), ("vesna", "sudoedit /etc/motd", None),
    ("vesna", "/bin/a", None), ("tomas", "/bin/own", None), ("Kofi", "/bin/sh", "rada"), ("Kofi", "/bin/bash", "rada"),
]  # fmt: skip


@pytest.mark.judge
def test_what_the_real_converter_writes_decides_the_same(tmp_path: Path, need: Callable[..., None]) -> None:
    need("cvtsudoers")
    (tmp_path / "policy").write_text(POLICY)
    command: list[str | Path] = ["cvtsudoers", "-f", "ldif", "-b", "ou=sudoers,dc=saltmarsh,dc=example", "-e", tmp_path / "policy"]
    ldif = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    assert is_ldif(ldif)
    for account, asked, run_as in QUESTIONS:
        assert verdict(ldif, asked, account, run_as) == verdict(POLICY, asked, account, run_as), (account, asked, run_as)
