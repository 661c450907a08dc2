"""Logs that several surveys of a host brought: each line counts once, what was removed is noticed, and more surveys cost no more."""

import gzip
import random
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime
from itertools import permutations

import pytest

from fidelitas.evidence.logs import LogCopy, age_of, log_copy
from fidelitas.languages.logs.content import LogLike
from fidelitas.languages.logs.copies import Cut, Cuts, without_copies
from fidelitas.logbook import HostLogs, Logbook, read_logbook
from fidelitas.reports.usage import usage_document
from test_log_lines import crossing

BY = datetime(2026, 11, 1, tzinfo=UTC)
AUTH = "/var/log/auth.log"


def text_of(lines: Sequence[str]) -> bytes:
    return "".join(f"{line}\n" for line in lines).encode()


def collected(lines: Sequence[str], turns: Sequence[int], end: int, survey: int) -> list[LogCopy]:
    """Return the log as a survey finds it at a line, rotated at some: the last two before are kept, the older of them packed."""
    begins = [0, *(turn for turn in turns if turn < end)]
    parts = [lines[begin:after] for begin, after in zip(begins, [*begins[1:], end], strict=True)][-3:]
    names = [AUTH, f"{AUTH}.1", f"{AUTH}.2.gz"][: len(parts)][::-1]
    contents = [
        gzip.compress(text_of(part), mtime=0) if name.endswith(".gz") else text_of(part) for name, part in zip(names, parts, strict=True)
    ]
    return [log_copy(name, "tern", BY, content, survey) for name, content in zip(names, contents, strict=True)]


def told(logs: Sequence[LogLike]) -> tuple[dict[str, object], Logbook]:
    """Return what logs say of everyone, without where it stands."""
    book = read_logbook([HostLogs(subject="tern", logs=logs)])
    document = usage_document(book, [], None)
    sessions = [{**one, "place": None} for one in document["sessions"]]
    use = book.hosts["tern"]
    return {
        **{name: document[name] for name in ("people", "refused_for", "event_count", "sessions_left_out")},
        "sessions": sessions,
        "counted": use.counted,
        "odd": [(one.person, one.hour, one.count) for one in use.unusual.odd_hours],
    }, book


def joined_of(logs: Sequence[LogLike]) -> list[LogLike]:
    """Return what is read of copies, which are told apart by their surveys."""
    return without_copies([[log for log in logs if log.survey == survey] for survey in range(max(log.survey for log in logs) + 1)])


def lines_in(logs: Sequence[LogLike]) -> Iterator[bytes]:
    return (line for log in logs for block in log.blocks() for line in block.split(b"\n") if line)


@pytest.mark.parametrize("seed", range(8))
def test_a_log_that_many_surveys_brought_is_read_as_if_it_were_one(seed: int) -> None:
    chance = random.Random(seed)
    lines = [line for line in crossing(seed, 3000).splitlines() if " tern " in line]
    kept = [line if chance.random() < 0.8 else "" for line in lines]  # of the others the probe copies no more than that they were there
    turns = sorted(chance.sample(range(200, len(kept)), 4))
    # So often that no line is rotated away between two.
    ends = sorted({*chance.sample(range(100, len(kept)), 9), *(turns[at] + 1 for at in (1, 3)), len(kept)})
    copies = [log for survey, end in enumerate(ends) for log in collected(kept, turns, end, survey)]
    joined = joined_of(copies)
    begin = ([0, *(turn for turn in turns if turn < ends[0])][-3:])[0]
    assert list(lines_in(joined)) == [line.encode() for line in kept[begin : ends[-1]] if line]
    assert {log.survey for log in joined} == {len(ends) - 1}
    whole, _ = told([log_copy(AUTH, "tern", BY, text_of(kept[begin : ends[-1]]))])
    assert told(joined)[0] == whole


@pytest.mark.parametrize(
    "names",
    [
        ["auth.log.11.gz", "auth.log.2.gz", "auth.log.1", "auth.log"],
        ["secure-20251228.xz", "secure-20260104", "secure-20260111", "secure"],
        ["sudo.log.20251231235959", "sudo.log.20260101000000", "sudo.log.9999999999999999999999", "sudo.log"],
    ],
)
def test_rotated_logs_that_were_written_at_one_time_are_in_the_order_of_their_names(names: list[str]) -> None:
    assert all(sorted(order, key=age_of) == names for order in permutations(names))


class Remembered(dict[int, Cuts]):
    """How copies are cut, by their numbers."""

    def cuts(self, number: int) -> Cuts | None:
        return self.get(number)

    def note(self, number: int, cuts: Cuts) -> None:
        self[number] = cuts


class Loaded(list[list[LogLike]]):
    """Copies that take note of which is asked for."""

    def __init__(self, copies: Iterable[list[LogLike]]) -> None:
        super().__init__(copies)
        self.asked: set[int] = set()

    def __getitem__(self, number: int) -> list[LogLike]:  # type: ignore[override]
        self.asked.add(number)
        return super().__getitem__(number)


@pytest.mark.parametrize("seed", range(8))
def test_copies_whose_next_is_known_to_hold_them_are_not_looked_at(seed: int) -> None:
    chance = random.Random(seed)
    lines = [line for line in crossing(seed, 1200).splitlines() if " tern " in line]
    turns = sorted(chance.sample(range(60, len(lines)), 3))
    ends = sorted(chance.sample(range(50, len(lines)), 12))
    copies = [list[LogLike](collected(lines, turns, end, survey)) for survey, end in enumerate(ends)]
    for survey in chance.sample(range(len(copies)), 3):  # another log, which some surveys lack, and a line that was removed
        copies[survey].append(log_copy("/var/log/sudo.log", "tern", BY, text_of(lines[: ends[survey]]), survey))
    removed = chance.randrange(len(copies))
    copies[removed][-1] = log_copy(copies[removed][-1].path, "tern", BY, text_of(lines[3 : ends[removed]]), removed)
    memory, shown = Remembered(), []
    for count in (len(copies) - 1, len(copies), len(copies)):
        loaded = Loaded(copies[:count])
        found = without_copies(loaded, memory)
        shown = [(log.path, log.survey, b"".join(log.blocks())) for log in found]
        assert shown == [(log.path, log.survey, b"".join(log.blocks())) for log in without_copies(copies[:count])]
    needed = {number for number, cuts in memory.items() if set(cuts.values()) != {Cut(0)}} | {len(copies) - 1}
    assert loaded.asked <= needed | {one for number in set(range(len(copies))) - memory.keys() for one in range(number, len(copies))}
    assert without_copies([[]], memory) == without_copies([], memory) == []


def test_a_line_that_was_removed_is_noticed_as_before() -> None:
    lines = [line for line in crossing(1, 900).splitlines() if " tern " in line]
    at = next(number for number, line in enumerate(lines) if number > 100 and "COMMAND=/bin/bash" in line)
    later = lines[:at] + lines[at + 1 :]
    for copies in (
        [log_copy(AUTH, "tern", BY, text_of(lines[:-50]), 0), log_copy(AUTH, "tern", BY, text_of(later), 1)],
        [log_copy(AUTH, "tern", BY, text_of(lines[:-50]), 0), log_copy(AUTH, "tern", BY, text_of(later[20:]), 1)],
    ):
        assert joined_of(copies) == copies
        found = told(joined_of(copies))[1].findings()
        assert [one.check for one in found if one.check.startswith("logs.")] == ["logs.lines-removed"]


ONE = b"2026-03-01T10:00:00+00:00 tern su[7]: (to root) ines on pts/0\n"
TWO, THREE = ONE.replace(b"10:00:00", b"10:00:01"), ONE.replace(b"10:00:00", b"10:00:02")


@pytest.mark.parametrize(
    ("earlier", "later", "read"),
    [
        (ONE + TWO, ONE + TWO, [(1, ONE + TWO)]),
        (ONE + TWO, TWO + THREE, [(1, ONE), (1, TWO + THREE)]),
        (b"\n" + ONE + b"\n" + TWO, b"\n\n" + ONE + TWO + b"\n" + THREE, [(1, b"\n"), (1, b"\n\n" + ONE + TWO + b"\n" + THREE)]),
        (ONE + TWO, THREE, [(0, ONE + TWO), (1, THREE)]),  # rotated away between
        (ONE + TWO + THREE, ONE + TWO, [(0, ONE + TWO + THREE), (1, ONE + TWO)]),  # cut
        (ONE + TWO, b"", [(0, ONE + TWO), (1, b"")]),  # emptied
        (ONE + TWO, b"\n\n", [(0, ONE + TWO), (1, b"\n\n")]),
        (b"", ONE, [(0, b""), (1, ONE)]),
        (ONE + ONE + TWO, ONE + TWO + THREE, [(1, ONE), (1, ONE + TWO + THREE)]),  # the same line twice
        (ONE * 9 + TWO, ONE + TWO, [(0, ONE * 9 + TWO), (1, ONE + TWO)]),  # so often that it is not looked for any longer
        (ONE + TWO, TWO + THREE + ONE + TWO, [(1, ONE), (1, TWO + THREE + ONE + TWO)]),
        (ONE[:-1], ONE + TWO, [(1, ONE + TWO)]),
    ],
)  # fmt: skip
def test_what_is_read_of_two_copies(earlier: bytes, later: bytes, read: list[tuple[int, bytes]]) -> None:
    logs = [log_copy(AUTH, "tern", BY, content, survey) for survey, content in enumerate((earlier, later))]
    assert [(log.survey, b"".join(log.blocks())) for log in joined_of(logs)] == read


def test_other_logs_damaged_ones_and_records() -> None:
    damaged = gzip.compress(ONE * 5000, mtime=0)[:-30]
    other = log_copy("/var/log/sudo.log", "tern", BY, ONE, 1)
    logs = [log_copy(f"{AUTH}.1.gz", "tern", BY, damaged, 0), log_copy(AUTH, "tern", BY, ONE * 9000, 1), other]
    assert joined_of(logs) == logs
    records = bytes(range(256)) * 3
    for content, count in ((records, 1), (records + b"\n\n", 1), (b"\n" + records, 2), (records[:-1], 2), (b"", 2)):
        logs = [log_copy("/var/log/wtmp", "tern", BY, one, survey) for survey, one in enumerate((records, content))]
        assert len(joined_of(logs)) == count


def test_many_surveys_are_read_in_the_time_of_few() -> None:
    """By the number of lines that are read, not by a clock."""
    lines = [line for line in crossing(3, 600).splitlines() if " tern " in line]
    sizes = [len(list(lines_in(joined_of([log for survey in range(count) for log in collected(lines, [], len(lines) - count + survey, survey)])))) for count in (1, 40)]  # fmt: skip
    assert sizes == [len(lines) - 1] * 2


def test_a_line_that_was_half_written_when_a_log_was_collected_is_one_with_the_whole() -> None:
    content = text_of([line for line in crossing(2, 600).splitlines() if " tern " in line])
    copies = [log_copy(AUTH, "tern", BY, content[: len(content) // 2], 0), log_copy(AUTH, "tern", BY, content, 1)]
    assert joined_of(copies) == copies[1:]
    copies[0] = log_copy(AUTH, "tern", BY, b"", 0)
    assert joined_of(copies) == copies
