"""No answer that misleads: names that nobody has, hosts that are called alike, times that no log covers, nevers that another road breaks."""

import json
from collections.abc import Iterator
from pathlib import Path

import pytest
from msgspec.structs import replace

from fidelitas.audit import audit
from fidelitas.checks import Found, check
from fidelitas.evidence import Identity, Sameness, make_bundle, sameness
from fidelitas.findings import Severity
from fidelitas.judging import Context
from fidelitas.languages.evidence import HostEvidence
from fidelitas.platforms import PLATFORMS, Platform
from fidelitas.rights import SubjectRights, UnreadSubject
from fidelitas.text import Place
from support import NOW, Put, Ran, bundle, fidelitas
from test_cli import check_schema, handed_in

GROUPS = "root:x:0:\nsudo:x:27:ines\nines:x:1001:\ntomas:x:1002:\nrada:x:1003:\ndocker:x:120:tomas\nadm:x:4:\n"


def host(folder: Path, name: str, sudoers: str, *, subject: str = "knot", machine: str = "", key: str = "", hours: int = 0) -> Path:
    """Write the evidence of a machine."""
    made = bundle(sudoers)
    taken = NOW.replace(hour=NOW.hour + hours)
    manifest = replace(made.manifest, subject=subject, taken=taken, machine=machine * 64 or None, host_keys=(key * 64,) if key else ())
    (folder / name).write_bytes(make_bundle(manifest, made.files, made.listings))
    return folder / name


@pytest.mark.parametrize(
    ("one", "other", "verdict"),
    [(("a", "b"), ("a", "b"), Sameness.SAME), (("a", "b"), ("c", "d"), Sameness.OTHER), (("a", "b"), ("a", "d"), Sameness.DOUBTFUL),
     (("a", "b"), ("c", "b"), Sameness.DOUBTFUL), (("a", ""), ("a", "d"), Sameness.SAME), (("", ""), ("a", "b"), Sameness.UNKNOWN)],
)  # fmt: skip
def test_marks_tell_machines_apart(one: tuple[str, str], other: tuple[str, str], verdict: Sameness) -> None:
    def identity(marks: tuple[str, str]) -> Identity:
        return Identity(marks[0], frozenset(marks[1]))

    assert sameness(identity(one), identity(other)) is sameness(identity(other), identity(one)) is verdict


def test_two_machines_of_one_name_are_both_shown(tmp_path: Path) -> None:
    """One would otherwise disappear, and the other would be asked in its place."""
    host(tmp_path, "a.tar", "ines ALL=(ALL) ALL\n", machine="a", key="1")
    host(tmp_path, "b.tar", "tomas ALL=(ALL) ALL\n", machine="b", key="2")
    ran = fidelitas("survey", "a.tar", "b.tar", cwd=tmp_path)
    assert 'two subjects are called "knot"' in ran.err
    assert fidelitas("may", "ines", "knot", "--", "/bin/id", cwd=tmp_path).status == 0
    assert fidelitas("may", "tomas", "knot", "--", "/bin/id", cwd=tmp_path).status == 1
    assert fidelitas("may", "tomas", "knot#2", "--", "/bin/id", cwd=tmp_path).status == 0
    named = fidelitas("survey", "a.tar", "b.tar", "--name", "b.tar=plover", cwd=tmp_path)
    assert "two subjects" not in named.err
    assert fidelitas("may", "tomas", "plover", "--", "/bin/id", cwd=tmp_path).status == 0


def test_one_machine_given_twice_is_shown_once_the_newer_time(tmp_path: Path) -> None:
    host(tmp_path, "new.tar", "ines ALL=(ALL) ALL\n", machine="a", key="1", hours=2)
    host(tmp_path, "old.tar", "tomas ALL=(ALL) ALL\n", machine="a", key="1")
    ran = fidelitas("survey", "new.tar", "old.tar", cwd=tmp_path)
    assert '"knot" was given twice' in ran.err
    assert "tomas" not in fidelitas("holders", cwd=tmp_path).out


@pytest.mark.parametrize(
    ("machine", "key", "said"),
    [
        ("a", "1", None),
        ("b", "2", "is another machine than before"),
        ("a", "2", "may be another machine"),
        ("b", "1", "may be another machine"),
    ],
)
def test_another_machine_under_a_known_name_is_said(machine: str, key: str, said: str | None, tmp_path: Path) -> None:
    fidelitas("survey", host(tmp_path, "a.tar", "", machine="a", key="1"), cwd=tmp_path)
    ran = fidelitas("survey", host(tmp_path, "b.tar", "", machine=machine, key=key), cwd=tmp_path)
    assert (said is None and "another machine" not in ran.err and "may be" not in ran.err) or (said is not None and said in ran.err)


UNKNOWN = [
    (("holders", "--account", "inez"), "ines"), (("holders", "--right", "rooot"), "root"), (("holders", "--on", "knott"), "knot"), (("findings", "sudo-rule"), "sudo"),
    (("findings", "--on", "knott"), "knot"), (("why", "inez"), "ines"), (("account", "inez"), "ines"), (("compare", "inez", "rada"), "ines"), (("coverage", "--on", "knott"), "knot"),
    (("programs", "knott"), "knot"), (("may", "ines", "knott", "--", "/bin/id"), "knot"),
]  # fmt: skip


@pytest.mark.parametrize(("words", "near"), UNKNOWN, ids=[" ".join(words) for words, _ in UNKNOWN])
def test_a_filter_that_matches_nothing_known_is_an_error_with_a_suggestion(words: tuple[str, ...], near: str, tmp_path: Path) -> None:
    fidelitas("survey", handed_in(tmp_path), cwd=tmp_path)
    ran = fidelitas(*words, cwd=tmp_path)
    assert (ran.status, ran.out) == (2, "")
    assert near in ran.err.partition("?")[0].rpartition("Did you mean")[2] or words[0] == "findings"


LOG = "".join(
    f"2026-11-{day:02}T08:00:0{number}Z knot sudo:    ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/id\n"
    for day in (3, 9)
    for number in (1, 2)
)


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (("--until", "2026-11-09T08:00:01Z"), 0, ""),
        (("--since", "2026-11-05"), 3, "end 2026-11-09 08:00"),
        (("--since", "2026-11-12", "--until", "2026-11-14"), 3, "all of the window is unknown"),
        (("--since", "2026-10-01", "--until", "2026-11-08"), 3, "begin 2026-11-03 08:00: what was before is unknown"),
        (("--person", "inez"), 2, "Did you mean ines"),
        (("--host", "knott"), 2, "Did you mean knot"),
        (("--since", "2026-11-05", "--until", "2026-11-04"), 2, "the window is empty"),
    ],
)
def test_times_that_no_log_covers_are_said(words: tuple[str, ...], status: int, said: str, tmp_path: Path) -> None:
    (tmp_path / "auth.log").write_text(LOG)
    ran = fidelitas("usage", "--log", "auth.log", "--name", "knot", *words, cwd=tmp_path, env={"TZ": "UTC"})
    assert ran.status == status, ran.err
    assert said in ran.err


def test_the_window_that_was_asked_for_is_shown(tmp_path: Path) -> None:
    (tmp_path / "auth.log").write_text(LOG)
    ran = fidelitas(
        "usage", "--log", "auth.log", "--since", "2026-11-08", "--until", "2026-11-09T08:00:02Z", cwd=tmp_path, env={"TZ": "UTC"}
    )
    assert ran.out.startswith("1 event in 1 log of 1 host, from 2026-11-08 00:00 UTC to 2026-11-09 08:00 UTC")


def charter(tmp_path: Path, account: str) -> Ran:
    files = {"/etc/group": GROUPS, "/etc/cron.d/tide": Put("1 * * * * root /opt/rotate\n", 0o644)}
    fidelitas("survey", handed_in(tmp_path, sudoers="ines ALL=(ALL) ALL\n", files=files), cwd=tmp_path)
    text = f'format = 1\n[[never]]\naccount = "{account}"\non = "knot"\ncommand = "/usr/bin/cat /etc/shadow"\n'
    (tmp_path / "charter.toml").write_text(text)
    return fidelitas("charter", "check", "charter.toml", "--format", "json", cwd=tmp_path)


@pytest.mark.parametrize(("account", "outcome", "status"), [("rada", "kept", 0), ("ines", "broken", 1), ("tomas", "kept unless", 0)])
def test_a_never_is_broken_by_any_road(account: str, outcome: str, status: int, tmp_path: Path) -> None:
    """ines by sudo; tomas by the group docker, if there is a container runtime, which is not in evidence."""
    ran = charter(tmp_path, account)
    check_schema("charter", ran.json)
    assert [one["outcome"] for one in ran.json["results"]] == [outcome]
    assert ran.status == status


def test_a_policy_that_was_not_read_is_unknown_and_never_none(tmp_path: Path) -> None:
    made = bundle("ines ALL=(ALL) ALL\n")
    content = make_bundle(made.manifest, made.files, made.listings)
    (tmp_path / "cut.tar").write_bytes(content[: content.rindex(b"files/") - 200])
    ran = fidelitas("survey", "cut.tar", cwd=tmp_path)
    assert "0 sudo rules" not in ran.out
    assert json.loads(fidelitas("coverage", "--format", "json", cwd=tmp_path).out)["subjects"][0]["complete"] is False


class Unreadable:
    """Evidence that fails in a way that nobody thought of, whatever is asked of it but its name."""

    subject, host_name, platform, taken, gaps = "dunlin", "dunlin", "linux", NOW, ()

    def __init__(self, platform: str) -> None:
        self.platform = platform

    def __getattr__(self, name: str) -> object:
        raise ZeroDivisionError(f"{name} cannot be had")


@pytest.mark.parametrize("platform", ["linux", "windows", "postgresql", "mariadb", "directory"])
def test_one_subject_costs_only_itself_whatever_happens_while_it_is_read(platform: str) -> None:
    found = audit([bundle("ines ALL=(ALL) ALL\n"), Unreadable(platform)])  # type: ignore[list-item]
    knot, dunlin = (next(one for one in found.subjects if one.subject == name) for name in ("knot", "dunlin"))
    assert any(holding.principal.is_called("ines") for holding in knot.holdings)
    assert dunlin.holdings == ()
    [gap] = [gap for gap in dunlin.gaps if gap.fatal]
    assert gap.why.startswith("internal error while reading dunlin (please report): ZeroDivisionError at ")
    assert not any(gap.fatal for gap in knot.gaps)


def test_a_map_of_names_that_nobody_has_is_not_taken_for_a_clean_estate(tmp_path: Path) -> None:
    fidelitas("survey", host(tmp_path, "knot.tar", ""), cwd=tmp_path)
    (tmp_path / "map.csv").write_text("person,accounts\nInes Marram,ines knot:ynes knto:ines\nNo One,nobody-at-all\n")
    ran = fidelitas("people", "map.csv", cwd=tmp_path)
    assert ran.status == 0, ran.err
    assert "knot:ynes; did you mean ines?" in ran.out
    assert "knto:ines; did you mean knot?" in ran.out
    (tmp_path / "map.csv").write_text("person,accounts\nNo One,nobody-at-all\n")
    ran = fidelitas("people", "map.csv", cwd=tmp_path)
    assert (ran.status, ran.out) == (2, "")
    assert "no subject in evidence has any account of the map" in ran.err


def test_evidence_of_an_unknown_platform_is_a_gap_and_a_known_one_needs_a_row_alone(tmp_path: Path) -> None:
    """Anything else would be read as a Linux host without accounts: nobody holds anything there."""
    made = bundle("")
    (tmp_path / "x.tar").write_bytes(make_bundle(replace(made.manifest, subject="ruff", platform="made-up"), made.files, made.listings))
    ran = fidelitas("survey", "x.tar", cwd=tmp_path)
    assert ran.status == 4
    assert 'it is of the platform "made-up", which this version does not know' in ran.out + ran.err
    evidence = replace(made, manifest=replace(made.manifest, subject="ruff", platform="made-up"))

    @check("made-up.always", Severity.HIGH, advice="None.")
    def always(rights: SubjectRights) -> Iterator[Found]:
        """It is made up."""
        yield Found(about=rights.subject, message="it is made up", places=(Place(rights.subject, "x"),))

    class MadeUp(UnreadSubject):
        platform = "made-up"

    def judge(one: HostEvidence, _: Context) -> SubjectRights:
        return MadeUp(one.subject, one.taken, ())

    row = Platform(name="made-up", title="a made-up thing", checks=(always,), judge=judge)
    found = audit([evidence], platforms={**PLATFORMS, "made-up": row})
    assert [(one.subject, one.check) for one in found.findings] == [("ruff", "made-up.always")]
