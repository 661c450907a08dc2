"""Of logs that were read before, the lines that were added are read, and what comes out is what reading all of them gives."""

import gzip
import random
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from fidelitas.evidence import CopiedLog, make_bundle
from fidelitas.evidence.logs import log_copy
from fidelitas.languages.logs.reading import ChangedError, LogReading
from fidelitas.languages.logs.so_far import BlocksSoFar
from fidelitas.languages.utmp import whole_records
from fidelitas.logbook import EventFilter, HostLogs, Logbook, read_places
from fidelitas.logbook_form import form_of
from fidelitas.logbook_state import StateError, frozen, thawed
from growing_logs import FAMILIES, HOST, NAMES, Actions, Line, written_by
from support import bundle, calls_of, fidelitas

AUTH = FAMILIES[0]


class Stood:
    """Where the reading of the logs stood last, however short they are."""

    worth = 0

    def __init__(self) -> None:
        self.kept: Mapping[int, bytes] = {}

    def states(self, subject: str) -> Mapping[int, bytes]:
        del subject
        return self.kept


def grown(rng: random.Random, families: Sequence[str], count: int, *, traditional: bool = False, many: bool = False) -> list[Line]:
    return sorted(Actions(rng, families, traditional=traditional, many=many).lines(count), key=lambda line: line.at)


def collected(contents: Mapping[str, bytes], at: datetime) -> HostLogs:
    logs = [log_copy(path, HOST, at, content) for path, content in contents.items() if content]
    return HostLogs(subject=HOST, logs=logs, zone=UTC, names=NAMES, taken=at)


def logs_at(lines: Sequence[Line], families: Sequence[str], at: datetime, *, begun: bool = False) -> HostLogs:
    return collected({family: written_by(lines, family, at, begun=begun) for family in families}, at)


def read(host: HostLogs, stood: Stood | None = None) -> Logbook:
    ((_, book),) = read_places([host], EventFilter(), None, map, 1, stood)
    if stood is not None and book.states:
        stood.kept, book.states = book.states, {}
    return book


def goes_on(host: HostLogs, stood: Stood) -> bool:
    reading = LogReading(host.logs, host.zone, host.names, {}, singly=False, until=host.taken)
    try:
        moved = reading.moved(thawed(stood.kept[0]).reading)
        reading.go_on(thawed(stood.kept[0], moved).reading)
    except ChangedError:
        return False
    return True


def surveyed(hosts: Iterable[HostLogs]) -> tuple[int, int]:
    """Read the logs of one survey after another, each with what was known after the one before, and hold that against reading all.

    Return for how many something was known, and in how many of these reading went on from there.
    """
    stood, tried, went_on = Stood(), 0, 0
    for host in hosts:
        if host.logs:
            tried, went_on = tried + bool(stood.kept), went_on + (bool(stood.kept) and goes_on(host, stood))
            assert form_of(host, read(host, stood)) == form_of(host, read(host))
    return tried, went_on


SETS = (FAMILIES[:1], FAMILIES[1:2], FAMILIES[:2], (FAMILIES[0], FAMILIES[2], FAMILIES[4]), FAMILIES)


@pytest.mark.parametrize("traditional", [False, True], ids=["iso", "traditional"])
@pytest.mark.parametrize("families", SETS, ids=lambda some: "+".join(one.rpartition("/")[2] for one in some))
def test_added_lines_read_alone_give_what_the_whole_logs_give(families: Sequence[str], traditional: bool) -> None:
    went_on = tried = 0
    for seed in range(6):
        rng = random.Random(f"{seed} {families} {traditional}")
        lines = grown(rng, families, rng.choice((60, 250)), traditional=traditional, many=seed % 3 == 0)
        times = [at + timedelta(seconds=rng.choice((0, 1, 900))) for at in sorted(rng.choices([line.at for line in lines], k=4))]
        counts = surveyed(logs_at(lines, families, at, begun=rng.random() < 0.3) for at in times)
        tried, went_on = tried + counts[0], went_on + counts[1]
    assert went_on > 0.6 * tried, (went_on, tried)


def rotated_at(lines: Sequence[Line], families: Sequence[str], at: datetime, turns: Sequence[datetime]) -> HostLogs:
    """Return the logs as surveys have brought them: what was rotated away by now still under its last name, perhaps packed."""
    logs = []
    for family in families:
        ends = [len(written_by(lines, family, turn)) for turn in (*turns, at) if turn <= at] if family != FAMILIES[-1] else [None]
        content, begin = written_by(lines, family, at), 0
        for age, end in zip(range(len(ends) - 1, -1, -1), ends, strict=True):
            part, begin = content[begin:end], end or 0
            path = family + ("", ".1", ".2.gz")[min(age, 2)]
            if part:
                logs.append(log_copy(path, HOST, at, gzip.compress(part, mtime=0) if path.endswith(".gz") else part))
    return HostLogs(subject=HOST, logs=logs, zone=UTC, names=NAMES, taken=at)


@pytest.mark.parametrize("traditional", [False, True], ids=["iso", "traditional"])
@pytest.mark.parametrize("families", SETS, ids=lambda some: "+".join(one.rpartition("/")[2] for one in some))
def test_logs_that_were_rotated_are_gone_on_with(families: Sequence[str], traditional: bool) -> None:
    went_on = tried = 0
    for seed in range(6):
        rng = random.Random(f"{seed} {families} {traditional} rotated")
        lines = grown(rng, families, rng.choice((60, 250)), traditional=traditional, many=seed % 3 == 0)
        times = [line.at for line in lines]
        turns = sorted(rng.sample(times, rng.choice((1, 2, 4))))
        taken = [at + timedelta(seconds=rng.choice((0, 1, 900))) for at in sorted(rng.choices(times, k=5))]
        counts = surveyed(rotated_at(lines, families, at, turns) for at in taken)
        tried, went_on = tried + counts[0], went_on + counts[1]
    assert went_on > 0.5 * tried, (went_on, tried)


def _without_a_line(contents: dict[str, bytes]) -> dict[str, bytes]:
    return contents | {AUTH: contents[AUTH].partition(b"\n")[2]}


def _with_another_letter(contents: dict[str, bytes]) -> dict[str, bytes]:
    return contents | {AUTH: contents[AUTH].replace(b"ines", b"inez", 1)}


def _with_a_line_of_long_ago(contents: dict[str, bytes]) -> dict[str, bytes]:
    line = f"2026-01-01T00:00:00+00:00 {HOST} sudo: rada : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id\n"
    return contents | {AUTH: contents[AUTH] + line.encode()}


def _with_another_log(contents: dict[str, bytes]) -> dict[str, bytes]:
    return contents | {"/var/log/secure": contents[AUTH]}


@pytest.mark.parametrize("changed", [_without_a_line, _with_another_letter, _with_a_line_of_long_ago, _with_another_log])
def test_logs_that_changed_otherwise_are_read_from_their_begin(changed: Callable[[dict[str, bytes]], dict[str, bytes]]) -> None:
    families = FAMILIES[:3]
    lines = grown(random.Random(5), families, 200)
    middle, end = lines[len(lines) // 2].at, lines[-1].at
    stood = Stood()
    read(logs_at(lines, families, middle), stood)
    until = middle if changed is _with_a_line_of_long_ago else end
    host = collected(changed({family: written_by(lines, family, until) for family in families}), end)
    assert stood.kept
    assert not goes_on(host, stood)
    assert form_of(host, read(host, stood)) == form_of(host, read(host))


@pytest.mark.parametrize("other", [{"names": {**NAMES, 1009: "gale"}}, {"sids": {"S-1": "x"}}, {"subject": "gannet"}])
def test_where_other_accounts_are_known_all_is_read(other: dict[str, object]) -> None:
    lines = grown(random.Random(6), FAMILIES[:1], 200)
    stood = Stood()
    read(logs_at(lines, FAMILIES[:1], lines[100].at), stood)
    host = replace(logs_at(lines, FAMILIES[:1], lines[-1].at), **other)
    assert form_of(host, read(host, stood)) == form_of(host, read(host))


def test_what_was_read_is_not_read_again() -> None:
    lines = grown(random.Random(7), FAMILIES[:1], 6000)
    stood = Stood()
    read(logs_at(lines, FAMILIES[:1], lines[-60].at), stood)
    host = logs_at(lines, FAMILIES[:1], lines[-1].at)
    assert goes_on(host, stood)
    assert 4 * calls_of(lambda: read(host, stood)) < calls_of(lambda: read(host))


@pytest.fixture(scope="module")
def state() -> bytes:
    lines = grown(random.Random(8), FAMILIES, 400, many=True)
    stood = Stood()
    read(logs_at(lines, FAMILIES, lines[-1].at), stood)
    return stood.kept[0]


def test_the_form_of_a_state_says_all_of_it(state: bytes) -> None:
    again = frozen(thawed(state))
    assert again is not None
    forms, others = (msgspec.msgpack.decode(one)[1] for one in (state, again))
    assert [sorted(map(repr, one)) for one in forms] == [sorted(map(repr, one)) for one in others]  # sets have no order


@given(st.data())
def test_what_is_not_of_the_form_is_refused_or_read_anew(state: bytes, data: st.DataObject) -> None:
    root, forms = msgspec.msgpack.decode(state)
    number = data.draw(st.integers(0, len(forms) - 1))
    odd = data.draw(
        st.sampled_from(
            [
                [],
                [99],
                [9, 1],
                [2, [0, 10**6], 1],
                [5, "q", b"x"],
                [8, 7, 1, 2, 3],
                [2, [0, 0], 1],
                [4, -5],
                7,
                None,
                "x",
                [3, [5, 0, "NONE"]],
            ]
        )
    )
    forms[number] = odd
    lines = grown(random.Random(8), FAMILIES[:1], 20)
    host = logs_at(lines, FAMILIES[:1], lines[-1].at)
    stood = Stood()
    stood.kept = {0: msgspec.msgpack.encode([root, forms])}
    with suppress(StateError):
        thawed(stood.kept[0])
    assert form_of(host, read(host, stood)) == form_of(host, read(host))


def test_what_has_no_end_is_handed_on_before_it_fills_the_memory() -> None:
    blocks = [b"ab" * (1 << 19)] * 70
    sizes = [len(block) for block in BlocksSoFar(iter(blocks), whole_records).whole()]
    assert max(sizes) <= 33 << 20
    assert sum(sizes) >= 64 << 20


def handed_in(folder: Path, contents: Mapping[str, bytes], at: datetime) -> None:
    made = bundle("ines ALL=(ALL) ALL\n")
    logs = tuple(CopiedLog(path=path, member=f"logs/{number}") for number, path in enumerate(contents))
    path = folder / f"{at:%d%H%M%S}.tar"
    path.write_bytes(make_bundle(replace(made.manifest, taken=at, logs=logs), made.files, made.listings, contents))
    assert fidelitas("survey", path, cwd=folder).status == 0


def test_surveys_after_one_another_say_what_the_last_says_alone(tmp_path: Path) -> None:
    families = FAMILIES[:2]
    lines = grown(random.Random(9), families, 4000)
    contents = {at: {family: written_by(lines, family, at) for family in families} for at in (lines[-900].at, lines[-40].at, lines[-1].at)}
    assert min(sum(map(len, one.values())) for one in contents.values()) > 1 << 20  # so long that it is worth to remember where one stood
    answers, alone = [], tmp_path / "alone"
    for at, content in contents.items():
        handed_in(tmp_path, content, at)
        answers = [
            fidelitas(*asked, "--format", "json", cwd=tmp_path).json for asked in (("usage",), ("findings",), ("usage", "--sessions"))
        ]
    alone.mkdir()
    handed_in(alone, content, at)
    for asked, one in zip((("usage",), ("findings",), ("usage", "--sessions")), answers, strict=True):
        other = fidelitas(*asked, "--format", "json", cwd=alone).json
        assert {key: value for key, value in one.items() if key != "made"} == {key: value for key, value in other.items() if key != "made"}


def test_surveys_between_which_logs_are_rotated_say_what_reading_all_says(tmp_path: Path) -> None:
    """Two ledgers of the same surveys: of one it is asked after each of them, of the other once."""
    families = FAMILIES[:2]
    lines = grown(random.Random(10), families, 5000)
    turns = [lines[-1500].at, lines[-300].at]
    asked, once = tmp_path / "asked", tmp_path / "once"
    questions = (("usage",), ("findings",), ("usage", "--sessions"))
    for folder in (asked, once):
        folder.mkdir()
        for at in (lines[-1600].at, lines[-900].at, lines[-200].at, lines[-1].at):
            logs = rotated_at(lines, families, at, turns).logs
            handed_in(folder, {log.path: b"".join(log.blocks()) for log in logs}, at)
            if folder is asked:
                answers = [fidelitas(*question, "--format", "json", cwd=folder).json for question in questions]
    for question, answer in zip(questions, answers, strict=True):
        other = fidelitas(*question, "--format", "json", cwd=once).json
        assert {key: value for key, value in answer.items() if key != "made"} == {
            key: value for key, value in other.items() if key != "made"
        }
    assert answers[0]["event_count"] > 5000
