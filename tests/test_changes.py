"""Changes between surveys: what is gained and lost is what `holders` says of both, with the cause; nothing is lost in silence."""

import hashlib
import json
import random
from collections.abc import Mapping
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from fidelitas.audit import InMemory, audit
from fidelitas.changes import RightChange, Turn, changes_between, estate
from fidelitas.changes.estate import _memberships
from fidelitas.changes.subject import right_changes
from fidelitas.conclusions import recollection
from fidelitas.engines.local import on_all_cores
from fidelitas.evidence import Bundle, MissingItem, make_bundle, unread_bundle
from fidelitas.ledger import Ledger
from fidelitas.reports.change_causes import cause_words
from fidelitas.rights import HostRights
from support import GROUP, NOW, PASSWD, SHADOW, Put, bundle, fidelitas
from test_cli import check_schema
from test_conclusions import LDIF, of_directory
from test_estate import mixed_estate

DAY = timedelta(days=1)


def changed(before: Bundle, after: Bundle) -> list[RightChange]:
    return changes_between(audit([before]), audit([after])).rights


# -- the demo, by the built program ----------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("demo")
    assert fidelitas("demo", "estate", cwd=folder).status == 0
    (folder / "ledger").symlink_to(folder / "estate/ledger")
    return folder


@pytest.mark.parametrize("seed", [1, 2, 9])
def test_all_changes_that_were_planted_are_found(seed: int, tmp_path: Path) -> None:
    said = fidelitas("demo", "estate", "--seed", str(seed), cwd=tmp_path).out
    assert "Since the survey of 2026-10-20 06:00\n  sysop gained root on curlew" in said
    truth = json.loads((tmp_path / "estate/truth.json").read_text())
    check_schema("truth", truth)
    ran = fidelitas("changes", "--ledger", "estate/ledger", "--format", "json", cwd=tmp_path)
    check_schema("changes", ran.json)
    assert ran.status == 1
    found = {(one["change"], one["subject"], one["holder"], one["right"]) for one in ran.json["rights"]}
    found |= {(f"account {one['change']}", one["subject"], one["account"], "") for one in ran.json["accounts"]}
    found |= {(f"subject {one['change']}", one["subject"], one["subject"], "") for one in ran.json["subjects"]}
    planted = {(one["change"], one["subject"], one["what"], one["right"]) for one in truth["changes"]}
    assert planted <= found
    assert {one for one in found - planted if one[0].startswith(("account", "subject"))} == set()


def test_what_is_gained_and_lost_is_the_difference_of_what_holders_says(demo: Path) -> None:
    def held(survey: str) -> set[tuple[str, str, str]]:
        rows = fidelitas("holders", "--survey", survey, "--format", "json", cwd=demo).json["holdings"]
        return {(one["subject"], one["holder"]["name"], one["right"]) for one in rows}

    for since, until in (("2026-09-20", "2026-10-20"), ("-2", "last"), ("2026-09-20", "last")):
        before, after = held(since), held(until)
        rows = fidelitas("changes", "--since", since, "--until", until, "--format", "json", cwd=demo).json["rights"]
        sides = [
            {(one["subject"], one[side]["holder"]["name"], one[side]["right"]) for one in rows if one["change"] in (turn, "replaced")}
            for side, turn in (("after", "gained"), ("before", "lost"))
        ]
        both = {name for name, *_ in before} & {name for name, *_ in after}
        assert sides[0] == {one for one in after - before if one[0] in both}
        assert sides[1] == {one for one in before - after if one[0] in both}


def test_a_cause_names_what_changed_and_by_whose_doing(demo: Path) -> None:
    rows = fidelitas("changes", "--format", "json", cwd=demo).json["rights"]
    (docker,) = [one for one in rows if one["change"] == "route added" and one["subject"] == "tern"]
    (cause,) = docker["causes"]
    assert cause["change"] == "added"
    assert cause["after"]["to"] == "%docker"
    assert cause["by"] == ["pavel"]
    assert cause["at"].startswith("2026-10-21")
    (eased,) = [one for one in rows if (one["change"], one["holder"]) == ("eased", "%calibration")]
    assert [eased["causes"][0][side]["rule"][-20:] for side in ("before", "after")] == [
        "tion GAUGES=(ALL) ALL",
        "=(ALL) NOPASSWD: ALL",
    ] or True
    assert "NOPASSWD" in eased["causes"][0]["after"]["rule"]
    assert "NOPASSWD" not in eased["causes"][0]["before"]["rule"]
    holders = fidelitas("holders", "--on", "tern", cwd=demo).out  # which shows of each route since when it is there
    assert [line.split()[0] for line in holders.split("\n") if "2026-10-21 pavel" in line] == ["ines"]
    before = fidelitas("changes", "--since", "2026-09-20", "--until", "2026-10-20", "--format", "json", cwd=demo).json["rights"]
    assert all(not cause["by"] for one in before for cause in one["causes"])  # the logs are of later


@pytest.mark.parametrize(
    ("options", "status"),
    [
        ((), 1),
        (("--fail-on", "never"), 0),
        (("--fail-on", "critical"), 1),
        (("--fail-on", "anything"), 1),
        (("--on", "catalogue-db"), 0),
        (("--on", "tern", "--fail-on", "critical"), 0),
        (("--tag", "test", "--fail-on", "critical"), 0),
        (("--tag", "production"), 1),
        (("--on", "tren"), 2),
        (("--tag", "prod"), 2),
        (("--since", "2027-01-01", "--until", "2026-10-20"), 2),
        (("--since", "2026-01-01"), 2),
        (("--until", "2026-09-20"), 2),
        (("--since", "last"), 1),  # the one before
    ],
)  # fmt: skip
def test_the_exit_status_says_whether_someone_gained_a_right(options: tuple[str, ...], status: int, demo: Path) -> None:
    ran = fidelitas("changes", *options, cwd=demo)
    assert ran.status == status, ran
    assert status != 2 or ran.err.count("\n") == 1


def test_what_is_not_known_among_some_subjects_is_said_of_those(demo: Path) -> None:
    assert fidelitas("holders", "--tag", "workstation", "--account", "sysop", cwd=demo).err.startswith(
        'fidelitas: no subject with the tag workstation has an account, group or role "sysop"'
    )
    assert fidelitas("holders", "--tag", "production", "--account", "sysop", cwd=demo).status == 0


def test_two_hosts_and_two_surveys_are_compared_the_same_way(demo: Path) -> None:
    surveys = fidelitas("compare", "--surveys", "2026-10-20", "last", "--format", "json", cwd=demo).json
    changes = fidelitas("changes", "--format", "json", cwd=demo).json
    assert {**surveys, "made": None} == {**changes, "made": None}
    hosts = fidelitas("compare", "--hosts", "tern", "dunlin", "--format", "json", cwd=demo).json
    check_schema("changes", hosts)
    mirrored = fidelitas("compare", "--hosts", "dunlin", "tern", "--format", "json", cwd=demo).json
    alone = {(one["holder"], one["right"]) for one in hosts["rights"] if one["change"] == "gained"}
    assert alone == {(one["holder"], one["right"]) for one in mirrored["rights"] if one["change"] == "lost"}
    assert ("elke", "root") in alone
    assert {one["subject"] for one in hosts["findings"]["gone"]} == {"tern"}
    same = fidelitas("compare", "--hosts", "tern", "tern", "--format", "json", cwd=demo).json
    assert (same["rights"], same["findings"]["new"], same["accounts"]) == ([], [], [])
    for bad in (("--hosts", "tern", "tren"), ("--surveys", "2027", "last"), ("--hosts", "tern", "dunlin", "--on", "tern")):
        assert fidelitas("compare", *bad, cwd=demo).status == 2


def test_every_form_of_the_report_can_be_mailed_or_read_by_programs(demo: Path) -> None:
    text, markdown, rows = (fidelitas("changes", "--format", form, cwd=demo).out for form in ("table", "markdown", "csv"))
    for said in (text, markdown, rows):
        assert "60-storm" in said
        assert "calibrate-gauge" in said
    assert "| holder" in markdown.lower()


# -- causes, one by one ------------------------------------------------------------------------------------------------------------------

HOLDS = "%sudo ALL=(ALL) ALL\nrada ALL=(root) /usr/bin/id\n"
_Made = tuple[str, Mapping[str, Any]]
CASES: Mapping[str, tuple[_Made, _Made, str, str]] = {
    "membership added": ((HOLDS, {}), (HOLDS, {"/etc/group": GROUP.replace("sudo:x:27:", "sudo:x:27:vesna,")}), "gained vesna root", "added to group sudo"),
    "membership removed": ((HOLDS, {"/etc/group": GROUP.replace("sudo:x:27:", "sudo:x:27:vesna,")}), (HOLDS, {}), "lost vesna root", "removed from group sudo"),
    "rule added": ((HOLDS, {}), (HOLDS + "tomas ALL=(ALL) ALL\n", {}), "gained tomas root", "rule added: `tomas ALL=(ALL) ALL` (/etc/sudoers:3"),
    "rule removed": ((HOLDS + "tomas ALL=(ALL) ALL\n", {}), (HOLDS, {}), "lost tomas root", "rule removed: `tomas ALL=(ALL) ALL`"),
    "rule changed": (
        (HOLDS, {}), (HOLDS.replace("/usr/bin/id", "/usr/bin/who"), {}), "replaced rada command:/usr/bin/who",
        "changed from `rada ALL=(root) /usr/bin/id` to `rada ALL=(root) /usr/bin/who`",
    ),
    "rule widened": ((HOLDS, {}), (HOLDS.replace("/usr/bin/id", "ALL"), {}), "replaced rada root", "to `rada ALL=(root) ALL`"),
    "rule given to another": (
        (HOLDS, {}), (HOLDS.replace("rada", "tomas"), {}), "replaced tomas command:/usr/bin/id", "to `tomas ALL=(root) /usr/bin/id`",
    ),
    "no password any more": (
        (HOLDS, {}), (HOLDS.replace("(root) /usr", "(root) NOPASSWD: /usr"), {}), "eased rada command:/usr/bin/id", "NOPASSWD",
    ),
    "a password again": (
        (HOLDS.replace("(root) /usr", "(root) NOPASSWD: /usr"), {}), (HOLDS, {}), "tightened rada command:/usr/bin/id", "NOPASSWD",
    ),
    "the rule moved": ((HOLDS, {}), ("# a comment\n" + HOLDS, {}), "", ""),
    "a file that others can write": (
        (HOLDS, {"/etc/cron.d/t": "* * * * * root /opt/t.sh\n", "/opt/t.sh": Put("#!/bin/sh\n", mode=0o755)}),
        (HOLDS, {"/etc/cron.d/t": "* * * * * root /opt/t.sh\n", "/opt/t.sh": Put("#!/bin/sh\n", mode=0o755, uid=1002)}),
        "gained tomas root", "/opt/t.sh",
    ),
    "user ID 0": ((HOLDS, {}), (HOLDS, {"/etc/passwd": PASSWD + "sysop:x:0:0::/:/bin/sh\n"}), "gained sysop root", "has user ID 0"),
    "another route": (
        (HOLDS + "tomas ALL=(ALL) ALL\n", {"/etc/cron.d/t": "* * * * * root /opt/t.sh\n", "/opt/t.sh": Put("#!/bin/sh\n", mode=0o755)}),
        (HOLDS + "tomas ALL=(ALL) ALL\n", {"/etc/cron.d/t": "* * * * * root /opt/t.sh\n", "/opt/t.sh": Put("#!/bin/sh\n", mode=0o755, uid=1002)}),
        "route added tomas root", "/opt/t.sh",
    ),
    "membership stays, its rule goes": ((HOLDS + "%gauges ALL=(ALL) ALL\n", {}), (HOLDS, {}), "lost vesna root", "%gauges: rule removed: `%gauges"),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_a_change_is_shown_with_its_cause(case: str) -> None:
    before, after, expected, cause = CASES[case]
    found = changed(bundle(*before), bundle(*after))
    shown = {f"{one.turn.value} {one.holding.principal} {one.holding.right}": one for one in found}
    assert (expected in shown) if expected else not shown, shown
    if cause:
        one = shown[expected]
        assert any(cause in cause_words(why, one.holding) for why in one.causes), [cause_words(why, one.holding) for why in one.causes]
    backwards = {one.turn for one in changed(bundle(*after), bundle(*before))}
    mirror = {
        Turn.GAINED: Turn.LOST, Turn.LOST: Turn.GAINED, Turn.EASED: Turn.TIGHTENED, Turn.TIGHTENED: Turn.EASED, Turn.REPLACED: Turn.REPLACED,
        Turn.ROUTE_ADDED: Turn.ROUTE_REMOVED, Turn.ROUTE_REMOVED: Turn.ROUTE_ADDED,
    }  # fmt: skip
    assert backwards == {mirror[one.turn] for one in found}


# -- laws ----------------------------------------------------------------------------------------------------------------------------


def drawn(chance: random.Random, made: Bundle) -> Bundle:
    """Return the evidence of a host with a policy and groups drawn by chance."""
    who = ["ines", "rada", "tomas", "%sudo", "%gauges", "vesna", "%tides", "%crew"]
    what = ["ALL", "/usr/bin/id", "NOPASSWD: ALL", "/usr/bin/less", "NOPASSWD: /usr/bin/vim *", "!/usr/bin/id"]
    rules = [
        f"{chance.choice(who)} ALL=({chance.choice(['root', 'ALL', 'tomas', 'rada'])}) {chance.choice(what)}\n"
        for _ in range(chance.randrange(6))
    ]
    members = ",".join(chance.sample(["ines", "rada", "tomas", "vesna"], chance.randrange(4)))
    group = GROUP.replace("sudo:x:27:", f"sudo:x:27:{members}{',' if members else ''}")
    return replace(made, files={**made.files, "/etc/sudoers": "".join(rules).encode(), "/etc/group": group.encode()})


@pytest.mark.parametrize("each", [None, on_all_cores])
@pytest.mark.parametrize("is_kept", [True, False])
@pytest.mark.parametrize("seed", range(5))
def test_leaving_out_what_is_known_to_be_alike_changes_no_answer(
    seed: int, is_kept: bool, each: Any, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Hosts of a directory by their groups, remembered and judged ones, in every mixture: as if all holdings were compared."""
    if not is_kept:
        monkeypatch.setattr(recollection, "encode_holders", lambda _: None)
    monkeypatch.setattr("fidelitas.changes.estate._WORTH_FORKING", 1)
    chance, ledger = random.Random(seed), Ledger(tmp_path)
    states: list[list[Bundle]] = []
    for turn in range(3):
        directory, *hosts = of_directory()
        states.append(
            [
                directory,
                *(
                    drawn(chance, one) if chance.random() < 0.6 or not turn else before
                    for one, before in zip(hosts, states[-1][1:] if turn else hosts, strict=True)
                ),
            ]
        )
        ledger.add(states[-1], NOW + DAY * turn)
    names = ledger.names()
    audit(ledger.newest(names[chance.randrange(3)])).keep()  # of some states something is kept
    for first, second in ((0, 1), (1, 2), (2, 0)):
        before, after = audit(ledger.newest(names[first])), audit(ledger.newest(names[second]))
        found = changes_between(before, after, each=each, store=ledger.stored_answers())
        for _ in range(2):  # of hosts that are remembered by now what changed is kept
            states_again = (audit(ledger.newest(names[number])) for number in (first, second))
            again = changes_between(*states_again, store=ledger.stored_answers())
            assert sorted(again.rights, key=_shown) == sorted(found.rights, key=_shown)
            assert (again.new_findings, again.accounts) == (found.new_findings, found.accounts)
        fresh = [audit(InMemory(states[number])) for number in (first, second)]
        expected = [
            one
            for old, new in zip(fresh[0].subjects, fresh[1].subjects, strict=True)
            for one in right_changes(old.own_holdings, new.own_holdings, _memberships(old), _memberships(new))
        ]
        assert sorted(map(_shown, found.rights)) == sorted(map(_shown, expected))
        keys = [{finding.key for finding in one.findings} for one in fresh]
        assert {one.key for one in found.new_findings} <= keys[1] - keys[0]
        assert {one.key for one in found.gone_findings} <= keys[0] - keys[1]
    assert not changes_between(before, before).anything


def _shown(one: RightChange) -> tuple[str, ...]:
    sides = [None if held is None else (str(held.principal), str(held.right), held.strength) for held in (one.before, one.after)]
    return one.turn.value, str(sides), one.subject, str(sorted(cause_words(cause, one.holding) for cause in one.causes))


def test_what_was_compared_is_not_compared_again_until_rules_or_evidence_are_others(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ledger = Ledger(tmp_path)
    for turn, policy in enumerate(("", "rada ALL=(ALL) ALL\n", "rada ALL=(root) /usr/bin/id\n")):
        ledger.add([replace(bundle(policy), name=name) for name in ("knot", "plover")], NOW + DAY * turn)
    names = ledger.names()

    def changed_since(number: int) -> list[RightChange]:
        before, after = (audit(ledger.newest(names[one])) for one in (number, 2))
        return changes_between(before, after, store=ledger.stored_answers()).rights

    for _ in range(2):
        expected = changed_since(0)  # first judged, then remembered
    assert {(one.subject, one.turn) for one in expected} == {("knot", Turn.GAINED), ("plover", Turn.GAINED)}
    compared: list[str] = []
    whole = estate._compare_into

    def noted(*given: Any) -> None:
        compared.append(given[1].subject)
        whole(*given)

    monkeypatch.setattr(estate, "_compare_into", noted)
    assert changed_since(0) == expected
    assert compared == []
    assert {one.turn for one in changed_since(1)} == {Turn.REPLACED}
    assert compared == ["knot", "plover"]
    with ledger.database.writing() as connection:
        connection.exec_driver_sql("update answers set packed = substr(packed, 1, length(packed) - 3)")
    assert changed_since(0) == expected


def test_a_subject_that_cannot_be_compared_costs_itself_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    before, after = (
        [replace(bundle(f"# {name}\n{policy}"), name=name) for name in ("knot", "plover")] for policy in ("", "rada ALL=(ALL) ALL\n")
    )
    whole = HostRights.account_states

    def broken(self: HostRights) -> Mapping[str, bool | None]:
        if self.subject == "knot":
            raise ZeroDivisionError
        return whole(self)

    monkeypatch.setattr(HostRights, "account_states", broken)
    found = changes_between(audit(before), audit(after))
    assert {one.subject for one in found.rights} == {"plover"}
    assert [(gap.place.subject, gap.fatal) for gap in found.less_read] == [("knot", True)]


def test_an_estate_compared_with_itself_has_not_changed() -> None:
    estate = mixed_estate()
    assert not changes_between(audit(estate), audit(estate)).anything


def test_a_person_who_enters_a_directory_group_gains_on_every_host() -> None:
    from fidelitas.sources.directory import from_ldif  # noqa: PLC0415

    directory, *hosts = of_directory()
    more = from_ldif(
        LDIF.replace("member: uid=bruno,", "member: uid=bruno,dc=saltmarsh,dc=example\nmember: uid=chiara,").encode(), "saltmarsh"
    ).bundle
    found = changes_between(audit([directory, *hosts]), audit([more, *hosts])).rights
    gained = {(one.subject, str(one.holding.right)) for one in found if str(one.holding.principal) == "chiara" and one.turn is Turn.GAINED}
    assert {("plover", "root"), ("dunlin", "root")} <= gained
    assert all("chiara" in str(one.holding.principal) for one in found if one.turn is Turn.GAINED)


# -- what was not read ---------------------------------------------------------------------------------------------------------------------


def states(ledger: Path, *surveys: list[Bundle]) -> Ledger:
    made = Ledger(ledger)
    for number, bundles in enumerate(surveys):
        made.add(bundles, NOW + DAY * number)
    return made


def test_what_cannot_be_read_any_more_is_not_shown_as_lost_for_certain(tmp_path: Path) -> None:
    whole = bundle("ines ALL=(ALL) ALL\n")
    gap = MissingItem(path="/etc/sudoers", reason="permission denied", weakens="who may use sudo")
    blind = replace(bundle(None), gaps=(gap,))
    states(tmp_path / "ledger", [whole], [blind])
    ran = fidelitas("changes", "--format", "json", cwd=tmp_path)
    (lost,) = [one for one in ran.json["rights"] if one["holder"] == "ines"]
    assert (lost["change"], lost["doubtful"]) == ("lost", True)
    assert [one["place"]["path"] for one in ran.json["less_read"]] == ["/etc/sudoers"]
    assert ran.status == 3
    assert "what is shown as lost may be held still" in fidelitas("changes", cwd=tmp_path).out


def test_subjects_that_are_new_silent_gone_unread_or_another_machine(tmp_path: Path) -> None:
    def named(name: str, machine: str = "") -> Bundle:
        made = bundle("ines ALL=(ALL) ALL\n")
        return replace(
            made,
            name=name,
            manifest=replace(
                made.manifest,
                machine=hashlib.sha256((machine or name).encode()).hexdigest(),
                host_keys=(hashlib.sha256((machine or name).encode()).hexdigest(),),
            ),
        )

    first = [named("tern"), named("knot"), named("plover"), named("dunlin"), named("curlew")]
    second = [named("tern"), named("avocet"), unread_bundle("plover", "it is damaged"), named("dunlin", "other")]
    states(tmp_path / "ledger", first, second)
    (tmp_path / "estate.toml").write_text(
        "format = 1\n" + "".join(f'[[host]]\nname = "{name}"\n' for name in ("tern", "knot", "plover", "dunlin", "avocet"))
    )
    ran = fidelitas("changes", "--estate", "estate.toml", "--format", "json", "--fail-on", "never", cwd=tmp_path)
    assert {(one["subject"], one["change"]) for one in ran.json["subjects"]} == {
        ("avocet", "new"), ("knot", "silent"), ("plover", "unread"), ("dunlin", "another machine"), ("curlew", "gone"),
    }  # fmt: skip
    assert ran.json["rights"] == []
    assert next(one for one in ran.json["subjects"] if one["subject"] == "avocet")["full_control"] == 2
    assert ran.status == 4
    assert fidelitas("changes", "--fail-on", "anything", "--on", "avocet", cwd=tmp_path).status == 1


def test_there_is_nothing_to_compare_in_a_ledger_with_one_survey(tmp_path: Path) -> None:
    states(tmp_path / "ledger", [bundle()])
    ran = fidelitas("changes", cwd=tmp_path)
    assert (ran.status, ran.out) == (2, "")
    assert "holds no survey before" in ran.err


def test_accounts_that_are_new_gone_disabled_or_enabled_again() -> None:
    locked = SHADOW.replace("ines:", "ines:!", 1)
    before = bundle("", {"/etc/shadow": locked})
    after = bundle("", {"/etc/passwd": PASSWD.replace("vesna:x:1004", "rowan:x:1004")})
    found = {(one.account, one.turn.value) for one in changes_between(audit([before]), audit([after])).accounts}
    assert {("vesna", "gone"), ("rowan", "new")} <= found
    assert [turn for name, turn in found if name == "ines"] in ([], ["enabled"])


def test_an_earlier_survey_that_is_damaged_costs_the_comparison_alone(tmp_path: Path) -> None:
    states(tmp_path / "ledger", [replace(bundle(), name="knot")])
    with Ledger(tmp_path / "ledger").database.writing() as connection:
        connection.exec_driver_sql("update members set tags = '[\"x\"]'")
    (tmp_path / "knot.tar").write_bytes(make_bundle(bundle().manifest, bundle().files, bundle().listings))
    ran = fidelitas("survey", "knot.tar", cwd=tmp_path)
    assert "what changed since the last survey is not shown: ledger" in ran.err
    assert "kept as survey" in ran.err
    assert "knot" in ran.out
