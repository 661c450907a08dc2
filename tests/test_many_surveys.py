"""A ledger of many surveys: what each subject's newest evidence is, whichever surveys have it, and that more surveys cost no more."""

import random
from datetime import timedelta
from pathlib import Path

import pytest

from fidelitas.evidence import Bundle
from fidelitas.ledger import Ledger
from support import NOW, calls_of
from test_ledger import host

NAMES = ("avocet", "curlew", "dunlin", "knot", "tern")
LOG = b"2026-11-20T11:00:00+00:00 tern sudo: ines : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/id\n"


def found(name: str, day: int, *, log: bytes = b"") -> Bundle:
    return host(name, NOW + timedelta(days=day), size=1, turn=day, log=log)


def surveyed(place: Path, chance: random.Random, count: int) -> Ledger:
    """Return a ledger of surveys of some hosts each, which were added in any order, as by an import."""
    ledger = Ledger(place)
    for day in chance.sample(range(count), count):
        some = chance.sample(NAMES, chance.choice([1, 1, 2, len(NAMES)]))
        ledger.add([found(name, day, log=LOG if name == "tern" and day % 2 else b"") for name in some], NOW + timedelta(days=day))
    draft = ledger.draft()  # of an interrupted survey
    for name in ("ruff", "tern"):
        draft.add(found(name, count), ())
    return ledger


@pytest.mark.parametrize("last", [1, 2, 30])
@pytest.mark.parametrize("seed", range(4))
def test_the_newest_evidence_is_that_of_the_last_survey_that_has_a_subject(
    seed: int, last: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("fidelitas.ledger.queries._LAST", last)
    for module, name in (("queries", "AT_ONCE"), ("ledger", "AT_ONCE"), ("heads", "_MANY")):
        monkeypatch.setattr(f"fidelitas.ledger.{module}.{name}", seed)
    ledger = surveyed(tmp_path, random.Random(seed), 7)
    known: dict[str, list[int]] = {}
    for survey in ledger.surveys():
        for subject, number in survey.subjects.items():
            known.setdefault(subject, []).append(number)
        newest = {subject: numbers[-1] for subject, numbers in known.items()}
        assert ledger.as_of(survey.name).numbers() == newest
        assert ledger.newest(survey.name).numbers() == survey.subjects
        assert ledger.history_numbers(survey.name) == {subject: tuple(numbers) for subject, numbers in sorted(known.items())}
    assert ledger.newest().numbers() == newest
    assert {name: head.taken for name, head in ledger.newest().heads().items()} == {
        name: ledger.newest().evidence(name).taken for name in newest
    }
    logging = {name for name, numbers in ledger.history_numbers().items() if any(ledger.load(name, one).copies for one in numbers)}
    assert set(ledger.history_digests(with_logs=True)) == logging
    assert set(ledger.history_digests(None, {"tern", "knot", "nobody"})) == {"tern", "knot"} & set(known)


def test_a_mark_of_logs_is_another_with_each_survey_and_stays_for_those_before(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path)
    assert ledger.mark_of_logs() is None
    ledger.add([found("tern", 0)], NOW)
    assert ledger.mark_of_logs() is None  # no host has logs
    first = ledger.add([found("tern", 1, log=LOG)], NOW + timedelta(days=1)).name
    before = ledger.mark_of_logs()
    ledger.add([found("tern", 2, log=LOG)], NOW + timedelta(days=2))
    assert None not in (before, ledger.mark_of_logs())
    assert (ledger.mark_of_logs() == before, ledger.mark_of_logs(first) == before) == (False, True)


def test_ten_times_as_many_surveys_cost_no_more_to_ask(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path)
    costs: list[list[int]] = []
    for day in range(30):
        ledger.add([found(name, day, log=LOG) for name in NAMES], NOW + timedelta(days=day))
        if day in (2, 29):
            first = Ledger(tmp_path)
            first.newest()  # statements are compiled once
            costs.append([calls_of(first.newest), calls_of(first.mark_of_logs)])
    (few, few_marks), (many, many_marks) = costs
    assert many < 1.3 * few
    assert many_marks < few_marks + 10 * 27  # a row for each survey, and none for its subjects
