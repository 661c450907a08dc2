"""The sudoers language: samples with what they state, laws, and hostile texts."""

import os
import random
import re
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.facts import Member, Place, PolicyFileState, SudoAlias, SudoDefault, SudoPolicy, SudoRule
from fidelitas.languages.sudoers.parser import Statements, parse_policy
from fidelitas.text import decode
from policy_writer import PolicyWriter
from support import Put, found, policy, rights

SAMPLES = sorted((Path(__file__).parent / "samples" / "sudoers").glob("*.in"))
ORIGIN = Place(subject="knot", path="/etc/sudoers")


def read(text: str) -> Statements:
    statements = Statements()
    parse_policy(text, ORIGIN, lambda *_: None, statements)
    return statements


def members(listed: tuple[Member, ...] | None) -> str:
    return "-" if listed is None else ", ".join(f"{member.kind.name.lower()} {member}" for member in listed)


def told(statement: SudoRule | SudoAlias | SudoDefault) -> str:
    where = f"{statement.place.line}:{statement.place.column}"
    if isinstance(statement, SudoAlias):
        return f"{where} {statement.kind.value} {statement.name} = {members(statement.members)}"
    if isinstance(statement, SudoDefault):
        return f"{where} Defaults{statement.scope.value} [{members(statement.binding)}] {statement.option} {statement.operator} {statement.value!r}"
    tags = " ".join(f"{'' if on else 'NO'}{tag.value}" for tag, on in statement.tags)
    options = " ".join(f"{name}={value}" for name in ("cwd", "timeout") if (value := getattr(statement.options, name)))
    run_as = f"({members(statement.run_as_users)} : {members(statement.run_as_groups)})"
    return f"{where}-{statement.last_line} {members(statement.users)} @ {members(statement.hosts)} {run_as} [{options}] [{tags}] {members((statement.command,))}"


def dump(text: str) -> str:
    stated = read(text)
    lines = [told(statement) for kind in (stated.aliases, stated.defaults, stated.rules) for statement in kind]
    lines += [f"{gap.place.line}:{gap.place.column} ! {gap.why}" for gap in stated.gaps]
    return "\n".join(lines) + "\n"


@pytest.mark.parametrize("sample", SAMPLES, ids=lambda sample: sample.stem)
def test_a_sample_states_what_stands_beside_it(sample: Path) -> None:
    expected = sample.with_suffix(".expected")
    stated = dump(decode(sample.read_bytes()))
    if os.environ.get("REWRITE_SAMPLES"):
        expected.write_text(stated)
    assert stated == expected.read_text(encoding="utf-8")


def judged_places(policy_file: Path) -> set[tuple[int, int]]:
    """Return where visudo finds what sudo does not take; what only visudo dislikes left out."""
    env = {"LC_ALL": "C", "PATH": os.environ["PATH"]}
    said = subprocess.run(["visudo", "-c", "-f", policy_file], capture_output=True, text=True, check=False, env=env)
    told = [line.split(":", 3) for line in said.stderr.splitlines() if line.startswith(f"{policy_file}:")]
    lenient = ("sudoedit should not", "referenced but not defined", "cycle in")
    return {(int(line), int(column)) for _, line, column, message in told if not any(words in message for words in lenient)}


@pytest.mark.judge
@pytest.mark.parametrize("sample", SAMPLES, ids=lambda sample: sample.stem)
def test_visudo_finds_errors_in_the_same_places(sample: Path, tmp_path: Path, need: Callable[..., None]) -> None:
    need("visudo", root=True)
    copy = tmp_path / "policy"
    copy.write_bytes(sample.read_bytes())
    copy.chmod(0o440)
    assert {(gap.place.line, gap.place.column) for gap in read(decode(sample.read_bytes())).gaps} == judged_places(copy)


FRAGMENTS = ["alice", "%g", "+n", "ALL", "U0", "#1", "!", "=", ",", ":", "(", ")", "/bin/ls", "/bin/", '"a b"', "NOPASSWD:", "\\", " ", "Defaults", "User_Alias",
             "Cmnd_Alias", "sha256:", "^/b$", "-l *", "#", "TIMEOUT=5", "10.0.0.0/8", "::1", "sudoedit", "x=y", '"', "+=", "CWD=/x", "NOTAFTER=1", "SETENV:", 'CWD="/a b"',
             "CHROOT=*", "CHROOT=", "ROLE=A", "TYPE=t", "TIMEOUT=x", "NOTBEFORE=", "\\\n", "\n", "%", "+", "%:x", "%#12", '"%g"', '""', "Host_Alias", "Cmd_Alias Z=ALL", "Defaults:a", "Defaults!",
             "Defaults@h", "env_reset", "passwd_tries=3", 'x="a', "sha224:abc", "sha512", "10.0.0.0/33", "10.0.0.5/32", "::1/129", "list", "/x\r\n", "  ", "\t", "bad", "/", "é", "->", "-=", "@", "!!",
             "(root)", "(:adm)", "()", "LOG_INPUT :", "\x00", "\f", "\xa0", "\\x41", "\\ ", "\\,", "/usr/bin/sudoedit"]  # fmt: skip
LINES = ["alice ALL = ALL", "bob ALL=(root) NOPASSWD: /bin/ls, /bin/cat", "User_Alias T = alice, bob", "Cmnd_Alias C = /bin/ls, !/bin/cat", "Defaults env_reset, passwd_tries=3", "T ALL = C",
         "carol ALL = (ALL:ALL) CWD=/tmp TIMEOUT=5m NOPASSWD: sudoedit /etc/x : h = ALL", "Defaults:alice !lecture", "Runas_Alias R = root, %wheel : S = bob", "Host_Alias H = web1, 10.0.0.0/8, fe80::1"]  # fmt: skip


def damaged(chance: random.Random) -> str:
    """Return a policy of a few lines with one to five pieces of damage."""
    lines = [chance.choice(LINES) for _ in range(chance.randrange(1, 6))]
    for _ in range(chance.randrange(1, 6)):
        at = chance.randrange(len(lines))
        line, spot, piece = lines[at], chance.randrange(len(lines[at]) + 1), chance.choice(FRAGMENTS)
        words = line.split(" ")
        words[chance.randrange(len(words))] = piece
        pieces = " ".join(chance.choice(FRAGMENTS) for _ in range(chance.randrange(1, 7)))
        forms = [
            line[:spot] + piece + line[spot:],
            f"{line[:spot]} {piece} {line[spot:]}",
            line[:spot] + line[spot + 1 :],
            line[:spot],
            " ".join(words),
            pieces,
        ]
        lines[at] = chance.choice(forms)
    return "\n".join(lines) + "\n"


@pytest.mark.judge
def test_visudo_finds_errors_of_damaged_policies_in_the_same_places(tmp_path: Path, need: Callable[..., None]) -> None:
    """Where sudo loses a statement visudo looks no further than that: unknown options count only in a policy without such errors."""
    need("visudo", root=True)
    copy = tmp_path / "policy"
    wrong = []
    for seed in range(int(os.environ.get("JUDGE_DAMAGED", "500"))):
        text = damaged(random.Random(seed))
        copy.unlink(missing_ok=True)
        copy.write_text(text)
        copy.chmod(0o440)
        stated = read(text)
        syntax = [gap for gap in stated.gaps if gap.why.startswith("syntax")]
        ours = {(gap.place.line, gap.place.column) for gap in syntax or stated.gaps}
        if ours != (judged := judged_places(copy)):
            wrong.append((text, ours, judged))
    assert wrong == []


@pytest.mark.judge
@pytest.mark.parametrize(
    "line", ["a ALL = /usr/bin/sudoedit /etc/x, ALL", "a ALL = ALL, !/opt/sudoedit", "a ALL = ^/bin/[a$", "a ALL=(root) /bin/ls, ^(x$ y", "a ALL = sudoedit /etc/x", "a ALL = ^/bin/.*$"]
)  # fmt: skip
def test_what_visudo_alone_refuses_is_said_where_visudo_says_it(line: str, tmp_path: Path, need: Callable[..., None]) -> None:
    need("visudo", root=True)
    copy = tmp_path / "policy"
    copy.write_text(f"{line}\n")
    copy.chmod(0o440)
    said = subprocess.run(["visudo", "-c", "-f", copy], capture_output=True, text=True, check=False)
    places = {tuple(map(int, found)) for found in re.findall(rf"{copy}:(\d+):(\d+)", said.stderr)}
    stated = read(f"{line}\n")
    assert not stated.gaps
    assert {(gap.place.line, gap.place.column) for gap in stated.visudo_refusals} == places


# Fragments from which grammatical and nearly grammatical policies are made.
WORDS = ["alice", "%grp", "+net", "ALL", "STAFF", "#12", "!", "=", ",", ":", "(", ")", "/bin/ls", "/bin/", '"a b"', "NOPASSWD:", "\\", "\\\n", "\n", " ",
         "Defaults", "User_Alias", "Cmnd_Alias", "sha256:", "^/b$", "-l *", "#", "@include x", "TIMEOUT=5", "10.0.0.0/8", "::1", "sudoedit", "\0", "\r"]  # fmt: skip
NEARLY = st.lists(st.sampled_from(WORDS), max_size=40).map("".join)


@given(st.one_of(NEARLY, st.text(), st.binary().map(decode)))
def test_any_text_is_survived_and_every_place_is_within_it(text: str) -> None:
    stated = read(text)
    lines = text.count("\n") + 2
    for place in [gap.place for gap in stated.gaps] + [rule.place for rule in stated.rules]:
        assert place.line is not None
        assert 1 <= place.line <= lines


@pytest.mark.parametrize(
    "text", ['a ALL = "x \\', "a ALL = /b ^x \\", "a ALL = /b x \\", 'Defaults x="a \\', "a \\", '@include "a \\', "\\", "@include \\"]
)
def test_a_file_that_ends_in_a_backslash_is_survived(text: str) -> None:
    for ending in ("", "\n", " \n"):
        assert not read(text + ending).rules


@given(st.lists(NEARLY.filter(lambda text: "\n" not in text and not text.partition("\0")[0].rstrip().endswith("\\")), max_size=6))
def test_a_broken_line_costs_only_itself(broken: list[str]) -> None:
    text = "".join(f"{line}\nzoe ALL = /bin/kept{number}\n" for number, line in enumerate(broken))
    kept = {rule.command.value for rule in read(text).rules if rule.users[0].value == "zoe"}
    assert kept >= {f"/bin/kept{number}" for number in range(len(broken))}


@given(st.text(alphabet="abc,:= \t#\\", min_size=1).filter(lambda name: "\\" not in name))
def test_an_escaped_command_is_read_back(name: str) -> None:
    escaped = "".join(f"\\{character}" if character in ",:= \t#" else character for character in name)
    command = read(f"alice ALL = /opt/{escaped}\n").rules[0].command.command
    assert command is not None
    assert command.path == f"/opt/{name}"


@pytest.mark.parametrize(
    "text",
    ["A" * 200_000, "alice ALL = " + "/bin/a, " * 50_000, "(" * 100_000, "!" * 100_001, '"' + "x" * 100_000, "a" + "\\\n" * 50_000,
     "Defaults " + "x," * 50_000, "alice ALL = /bin/a " + "\\*" * 50_000, "^" * 50_000 + "$", "User_Alias A = " + "B, " * 50_000 + "C\n", "a ALL = " + "/bin/a x, " * 150_000, "é ALL = " + "/bin/é x, abcdef : " * 80_000],
    ids=range(12),
)  # fmt: skip
def test_hostile_length_is_read_in_one_pass(text: str) -> None:
    read(text)


def test_a_file_that_is_no_policy_says_so_once() -> None:
    gaps = read("\x7fELF\n" * 10_000).gaps
    assert len(gaps) == 51
    assert gaps[-1].why == "50 syntax errors: the rest of the file is not read"


# -- includes ----------------------------------------------------------------------------------------------------------------------


def reached(stated: SudoPolicy) -> dict[str, PolicyFileState]:
    return {file.path: file.state for file in stated.files}


def test_includes_are_read_in_place() -> None:
    stated = policy(
        "a ALL = /bin/1\n@includedir /etc/sudoers.d\n#include local\nb ALL = /bin/9\n",
        {"/etc/sudoers.d/9": "c ALL = /bin/3\n", "/etc/sudoers.d/10": "c ALL = /bin/2\n", "/etc/local": "c ALL = /bin/4\n"},
    )
    assert [rule.command.value for rule in stated.rules] == ["/bin/1", "/bin/2", "/bin/3", "/bin/4", "/bin/9"]
    assert stated.rules[1].place == Place(subject="knot", path="/etc/sudoers.d/10", line=1, column=1)


@pytest.mark.parametrize(
    ("name", "state"), [("plain", "READ"), ("a.b", "SKIPPED"), ("old~", "SKIPPED"), (".hidden", "SKIPPED"), ("~x", "READ")]
)
def test_the_name_decides_whether_sudo_reads_a_file_of_a_folder(name: str, state: str) -> None:
    stated = policy("@includedir /etc/sudoers.d\n", {f"/etc/sudoers.d/{name}": "a ALL = ALL\n"})
    assert reached(stated)[f"/etc/sudoers.d/{name}"] is PolicyFileState[state]
    assert len(stated.rules) == (state == "READ")


@pytest.mark.parametrize(
    ("put", "reason"),
    [
        (Put("", 0o442), "is writable by everyone"),
        (Put("", 0o460, gid=5), "is writable by the group with gid 5"),
        (Put("", 0o440, uid=7), "belongs to uid 7, not to 0"),
        (Put("", 0o664, gid=0), None),
    ],
)
def test_a_file_that_others_can_write_is_refused(put: Put, reason: str | None) -> None:
    stated = policy("@include extra\n", {"/etc/extra": Put("a ALL = ALL\n", put.mode, put.uid, put.gid)})
    assert stated.files[1].reason == reason
    assert len(stated.rules) == (not reason)
    assert stated.gaps == ()


@pytest.mark.parametrize(
    ("sudoers", "files", "reason"),
    [
        ("@include /etc/sudoers\na ALL = ALL\n", {}, "includes itself, over and over up to sudo's limit"),
        ("@include b\na ALL = ALL\n", {"/etc/b": "@include sudoers\n"}, "includes itself, over and over up to sudo's limit"),
        ("@include gone\na ALL = ALL\n", {"/etc/gone": None}, "does not exist"),
        ("@include sudoers.d\na ALL = ALL\n", {}, "is not a file"),
    ],
)
def test_an_include_that_sudo_cannot_follow_costs_only_itself(sudoers: str, files: dict[str, str | None], reason: str) -> None:
    stated = policy(sudoers, dict(files))
    assert stated.files[-1].reason == reason
    assert stated.gaps == ()
    assert len(stated.rules) == 1
    assert [finding.severity.name for finding in found(rights(sudoers, dict(files)), "sudo.unread-file")] == ["LOW"]


@pytest.mark.parametrize("sudoers", ["@include unseen\n", "@includedir /unseen\n"])
def test_an_include_that_is_not_in_evidence_is_a_gap(sudoers: str) -> None:
    assert [gap.why for gap in policy(sudoers).gaps] == ["not in evidence"]


def test_a_host_name_stands_in_for_its_escape() -> None:
    stated = policy("@include /etc/%h.local\n", {"/etc/knot.local": "a ALL = ALL\n"})
    assert len(stated.rules) == 1


# -- lines that are read whole -----------------------------------------------------------------------------------------------------

# Statements as most policies have them, and such as only look so; what a law changes one character of.
WHOLE = [
    "ines ALL = (root) NOPASSWD: /usr/bin/systemctl restart *, !/bin/ls",
    "UA1, %ops, #1001, +night, %corp\\\\domain\\ admins  tern, 10.1.2.0/24,web*.example = (ALL : ALL) SETENV: NOEXEC: ALL",
    "tomas knot = (postgres, www-data : adm) /bin/su - oracle, (: adm) PASSWD: C1 : tern = !C2, sudoedit /etc/hosts",
    'rada ALL = \\\n    (root) /opt/app/bin/ctl "", \\\n\t/usr/bin/env FOO\\=bar /bin/ls, /a/b/',
    "User_Alias UA1 = ines,\\\n tomas, %ops",
    "Host_Alias HA1 = knot, 192.168.50.0/30, +night, HA2",
    "Cmnd_Alias C1 = /bin/ls, !/bin/sh, sudoedit /etc/motd, C2",
    "Runas_Alias RA1 = root, #0",
    "Defaults env_reset, timestamp_timeout=5",
    "# a comment, and a number:", "#1001 ALL = ALL", "", "  ", "@include /etc/other", "ines ALL = CWD=/tmp ALL", "ALL ALL = list",
]  # fmt: skip


def stated(text: str, *, token_by_token: bool) -> str:
    into = Statements()
    parse_policy(text, Place("knot", "/etc/sudoers"), lambda *_: None, into, token_by_token=token_by_token)
    return repr(into)


@given(
    st.lists(st.sampled_from(WHOLE), min_size=1, max_size=6),
    st.lists(
        st.tuples(
            st.integers(0, 400),
            st.sampled_from([*'!,:=()% \t\\"#^*@+-/LALLabX10.$[]\n\r', "\\\n", "\\ \n", "\\\\\n", "\r\n", "ALL", "NOEXEC:", "é", ""]),
        ),
        max_size=3,
    ),
)
def test_a_line_read_whole_states_what_it_states_token_by_token(lines: list[str], changes: list[tuple[int, str]]) -> None:
    text = "\n".join(lines) + "\n"
    for where, put in changes:
        at = where % len(text)
        text = text[:at] + put + text[at + (len(put) == 0 or at % 2) :]
    assert stated(text, token_by_token=False) == stated(text, token_by_token=True)


@pytest.mark.parametrize("seed", range(40))
def test_a_made_up_policy_states_the_same_read_whole_and_token_by_token(seed: int) -> None:
    text = PolicyWriter(seed).policy()
    assert stated(text, token_by_token=False) == stated(text, token_by_token=True)
