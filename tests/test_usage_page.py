"""What `usage` answers first, and the page of one person, by the built program; bars by their laws."""

import re
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.reports.trend import Trend, bars
from support import Ran, fidelitas

BEGIN = datetime(2026, 10, 5, 7, tzinfo=UTC)


def at(days: float, message: str) -> str:
    return f"{BEGIN + timedelta(days=days):%Y-%m-%dT%H:%M:%S}+00:00 knot {message}\n"


def use(who: str, command: str, why: str = "") -> str:
    return f"sudo: {who} : {why}TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND={command}"


def log() -> str:
    """Four weeks: ines each morning, a shell of 40 minutes, rada refused, two days without a line, guesses by sshd."""
    lines = [
        at(day + hour / 24, "CRON[1]: pam_unix(cron:session): session closed for user root") for day in range(28) for hour in range(24)
    ]
    lines = [line for number, line in enumerate(lines) if not 240 <= number < 288]
    lines += [at(day, use("ines", "/usr/bin/systemctl restart tides")) for day in range(9)]
    lines += [
        at(20, use("ines", "/bin/bash")),
        at(20.00001, "sudo: pam_unix(sudo:session): session opened for user root(uid=0) by ines(uid=1001)"),
    ]
    lines += [at(20.0278, "sudo: pam_unix(sudo:session): session closed for user root")]
    lines += [at(21 + 0.01 * n, use("rada", "/usr/bin/cat /etc/shadow", "command not allowed ; ")) for n in range(3)]
    lines += [at(22, use("rada", "/usr/bin/id", "2 incorrect password attempts ; "))]
    lines += [at(23 + 0.001 * n, f"sshd[{n}]: Failed password for invalid user x{n} from 192.0.2.7 port 22 ssh2") for n in range(1, 5)]
    return "".join(sorted(lines))


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("page")
    (made / "auth.log").write_text(log())
    return made


def usage(folder: Path, *arguments: str) -> Ran:
    return fidelitas("usage", "--log", folder / "auth.log", "--name", "knot", *arguments, cwd=folder, env={"TZ": "UTC", "COLUMNS": "160"})


def test_the_answer_says_what_is_missing_who_acted_when_and_why_others_did_not(folder: Path) -> None:
    out = usage(folder).out
    assert "hours without lines: knot auth.log 2026-10-15 07:00 to 2026-10-17 07:00" in out
    parts = [out.index(part) for part in ("PERSON", "Anomalies", "Shells as another account", "Refused, and passwords that were wrong")]
    assert parts == sorted(parts)
    lines = [" ".join(line.split()) for line in out.splitlines()]
    assert "PERSON USED AS REFUSED WRONG PASSWORDS SHELLS CHANGES EACH 3 DAYS LAST MOST OFTEN" in lines
    assert "rada 0 3 2 (never successful) 0 0 ·······█·· 2026-10-27 07:00" in lines
    assert f"2026-10-25 07:00 40 min 01 s knot ines root sudo /bin/bash 0 no {folder}/auth.log:443" in lines
    assert "login: password not accepted 4 unknown user (masked) knot 2026-10-28 07:05" in lines
    assert "command not allowed 3 rada knot 2026-10-26 07:28" in lines
    assert "wrong password 2 rada knot 2026-10-27 07:00" in lines


def test_reasons_and_days_add_up_to_what_is_counted_of_people(folder: Path) -> None:
    document = usage(folder, "--format", "json").json
    people = {one["person"]: one for one in document["people"]}
    reasons = {one["reason"]: one["count"] for one in document["refused_for"]}
    assert reasons == {"login: password not accepted": 4, "command not allowed": 3, "wrong password": 2}
    assert people["rada"]["days"] == {"2026-10-26": 3, "2026-10-27": 1}
    for one in people.values():
        assert sum(one["days"].values()) >= one["used"] + one["refused"]


def test_the_page_of_a_person_is_about_it_alone(folder: Path) -> None:
    out = usage(folder, "--person", "ines").out
    assert "What was run" in out
    assert "/usr/bin/systemctl restart tides  9" in out
    assert "Hours of the day (UTC)  0 ·······█················ 23" in out
    assert "Days of the week  Mon 2  Tue 2  Wed 1  Thu 1  Fri 1  Sat 1  Sun 2" in out
    assert not re.search("rada|192.0.2.7", out)
    refused = usage(folder, "--person", "rada").out
    assert "What was run" not in refused
    assert "command not allowed" in refused
    assert "/etc/shadow" in refused
    assert "anomalies: " in refused.splitlines()[2]


def test_a_window_is_not_blamed_for_what_lies_outside(folder: Path) -> None:
    out = usage(folder, "--since", "2026-10-20").out
    assert "hours without lines: none noticed" in out
    assert "anomalies: only for whole logs" in out


@given(st.lists(st.integers(0, 1000), min_size=1, max_size=40))
def test_bars_rise_with_counts(counts: list[int]) -> None:
    shown = bars(counts)
    assert len(shown) == len(counts)
    heights = ["·▁▂▃▄▅▆▇█".index(bar) for bar in shown]
    assert all(heights[one] <= heights[other] for one, a in enumerate(counts) for other, b in enumerate(counts) if a <= b)
    assert all((height == 0) == (count == 0) for height, count in zip(heights, counts, strict=True))
    assert not any(counts) or max(heights) == 8


@given(st.lists(st.datetimes(datetime(2000, 1, 1), datetime(2050, 1, 1)), min_size=1, max_size=9))  # noqa: DTZ001
def test_a_trend_has_few_columns_and_all_days(times: list[datetime]) -> None:
    trend = Trend.over(times)
    days = [one.toordinal() for one in times]
    if max(days) - min(days) < 1:
        assert trend is None
    else:
        assert trend is not None
        assert 2 <= trend.columns <= 13
        assert all(trend.of({day: 1}) != "·" * trend.columns for day in days)


@pytest.mark.parametrize(
    ("person", "said"),
    [
        ("ulla", "the logs also name TIDES\\ulla, ulla@tides.example, of whom nothing is counted here"),
        ("ulla@tides.example", "the logs also name TIDES\\ulla, ulla, of whom nothing is counted here"),
        ("rosa", 'neither logs nor evidence know a person "rosa". Did you mean TIDES\\rosa?'),
        ("nils", ""),
    ],
)
def test_names_that_differ_in_their_domain_are_not_passed_over(person: str, said: str, tmp_path: Path) -> None:
    names = ("ulla", "ulla@tides.example", "TIDES\\ulla", "TIDES\\rosa", "nils")
    uses = (
        f"2026-11-30T10:0{at}:00+00:00 knot sudo: {name} : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/id\n"
        for at, name in enumerate(names)
    )
    (tmp_path / "auth.log").write_text("".join(uses))
    ran = fidelitas("usage", "--log", "auth.log", "--person", person, cwd=tmp_path)
    assert said in ran.err
    assert bool(said) is bool(ran.err), ran.err
