"""Peers: what is rare among a holder's like is found, with numbers that hold; small groups and whole teams are left in peace."""

import importlib
import random
import sys
from itertools import combinations
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from fidelitas.audit import audit
from fidelitas.languages.directory import read_directory
from fidelitas.ledger import Ledger
from fidelitas.peers import Having, PeerGroup, Profile, copies, peer_groups, profiles, unusual
from fidelitas.peers.groups import distances
from fidelitas.people import MappedPerson
from fidelitas.rights import HostRights, directory_rights_of
from fidelitas.sources.directory import from_ldif
from support import NOW, bundle, fidelitas, rights
from test_cli import check_schema
from test_conclusions import of_directory

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))
generator: Any = importlib.import_module("peers")


def profile(name: str, *has: str) -> Profile:
    return Profile(name, {name}, {Having(what, "knot") for what in has})


def shown(members: list[Profile], **options: bool) -> set[tuple[str, str, int, int]]:
    found = unusual([PeerGroup("team x", tuple(members), declared=True)], **options)
    return {(one.holder, one.having.what, one.count, one.size) for one in found}


@pytest.mark.parametrize(
    ("size", "count", "is_unusual"),
    [(3, 1, False), (4, 1, True), (9, 1, True), (9, 2, False), (10, 2, True), (14, 1, True), (17, 3, True), (16, 3, False), (40, 6, True), (40, 7, False), (5, 5, False)],
)  # fmt: skip
def test_rare_is_what_few_of_many_have(size: int, count: int, is_unusual: bool) -> None:
    members = [profile(f"p{number}", "root" if number < count else "other") for number in range(size)]
    found = {one for one in shown(members) if one[1] == "root"}
    assert found == ({(f"p{number}", "root", count, size) for number in range(count)} if is_unusual else set())


def test_memberships_count_only_where_they_are_asked_for() -> None:
    members = [profile("ines", "%docker", "root"), *(profile(f"p{number}") for number in range(6))]
    assert {what for _, what, *_ in shown(members)} == {"root"}
    assert {what for _, what, *_ in shown(members, memberships=True)} == {"root", "%docker"}


@given(st.lists(st.sets(st.sampled_from(["root", "command:a", "command:b", "run-as:x"])), min_size=3, max_size=30), st.randoms())
def test_the_order_and_the_names_of_peers_decide_nothing(held: list[set[str]], chance: random.Random) -> None:
    members = [profile(f"p{number:02}", *sorted(has)) for number, has in enumerate(held)]
    found = shown(members)
    assert shown(chance.sample(members, len(members))) == found
    for holder, what, count, size in found:
        assert what in held[int(holder[1:])]
        assert count == sum(what in has for has in held)
        assert size == len(held)


def test_holders_in_no_team_are_put_together_by_what_they_have() -> None:
    known = [
        *(profile(f"a{number}", "%ops", "%web", "root") for number in range(6)),
        *(profile(f"b{number}", "%dba", "db-superuser") for number in range(5)),
    ]
    known.append(profile("a6", "%ops", "%web", "root", "command:odd"))
    groups = peer_groups(known, [MappedPerson(name="b0", accounts=("b0",), team="databases")])
    assert sorted(sorted(one.name for one in group.members) for group in groups) == [
        [f"a{number}" for number in range(7)],
        ["b1", "b2", "b3", "b4"],
    ]
    assert not any(group.declared for group in groups)
    assert {(one.holder, one.having.what) for one in unusual(groups)} == {("a6", "command:odd")}


@pytest.mark.parametrize("seed", range(5))
def test_how_far_holders_are_apart_is_the_share_of_what_only_one_of_them_has(seed: int) -> None:
    chance = random.Random(seed)
    some = []
    for number in range(chance.randrange(3, 30)):
        one_of_them = Profile(f"p{number}")
        one_of_them.has.update(Having(f"right{chance.randrange(12)}", f"host{chance.randrange(3)}") for _ in range(chance.randrange(1, 9)))
        some.append(one_of_them)
    expected = [1 - len(one.has & other.has) / len(one.has | other.has) for one, other in combinations(some, 2)]
    assert distances(some).tolist() == pytest.approx(expected, abs=1e-12)


def test_a_membership_that_several_hosts_take_of_a_directory_counts_once() -> None:
    found = audit(of_directory())
    known = {one.name: one for one in profiles(found.subjects, [], {})}
    assert sum(isinstance(one, HostRights) for one in found.subjects) > 1
    taken = [one for one in known["amara"].memberships if one.what != "%amara"]
    assert taken
    assert {one.where for one in taken} == {"saltmarsh"}
    assert len(taken) == len({one.what for one in taken})


def test_departments_and_titles_of_a_directory_make_groups_where_the_map_names_no_team() -> None:
    people = [("ines", "Tides", "Engineer"), ("rada", "Tides", "Engineer"), ("tomas", "Tides", "Engineer"), ("vesna", "Tides", "Clerk")]
    entries = "\n".join(
        f"dn: uid={name},dc=saltmarsh\nobjectClass: inetOrgPerson\nuid: {name}\ndepartmentNumber: {department}\ntitle: {title}\n"
        for name, department, title in people
    )
    directory = directory_rights_of(read_directory(from_ldif(f"version: 1\n\n{entries}".encode(), "saltmarsh").bundle))
    known = profiles([rights("%sudo ALL=ALL\n"), directory], [], {})
    assert members(peer_groups(known, [])) == {"department Tides, Engineer": ["ines", "rada", "tomas"]}
    team = [MappedPerson(name="rada", accounts=("rada",), team="models")]
    assert members(peer_groups(known, team)) == {"department Tides": ["ines", "tomas", "vesna"]}


def members(groups: list[PeerGroup]) -> dict[str, list[str]]:
    return {group.name: sorted(one.name for one in group.members) for group in groups if group.declared}


def test_a_copy_is_of_another_team_and_not_of_what_a_team_has_in_common() -> None:
    own = [profile(f"t{number}", "%tides", "%rota", "%gauges") for number in range(4)]
    like = profile("lena", "%model", "%plots", "%archive", "%tides", "%rota", "%gauges")
    anouk = profile("anouk", "%model", "%plots", "%archive", "%desk")
    others = [profile(f"d{number}", "%desk") for number in range(4)]
    known = [*own, like, anouk, *others]
    people = [MappedPerson(name=one.name, accounts=(one.name,), team="tides" if one in [*own, like] else "desk") for one in known]
    (found,) = copies(known, peer_groups(known, people), lambda holder, group: NOW.date() if group != "%plots" else None)
    assert (found.holder, found.like, found.groups) == ("lena", "anouk", ("%archive", "%model", "%plots")) or (
        found.holder,
        found.like,
    ) == ("anouk", "lena")
    assert (found.day, found.given) == (NOW.date(), 2)
    assert copies([*own, *others], peer_groups([*own, *others], people)) == []


# -- by the built program ------------------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def planted(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Any]:
    folder, made = tmp_path_factory.mktemp("peers"), generator.make(5, 10, 30)
    tags = {host: (f"role=r{number // 6}",) for number, host in enumerate(sorted(made.rules)) if number < 24}
    Ledger(folder / "ledger").add(generator.bundles(made), NOW, tags)
    rows = [f"{one},{one},{team},active," for team, members in made.teams.items() for one in members]
    (folder / "people.csv").write_text("\n".join(["person,accounts,team,status,until", *rows]) + "\n")
    return folder, made


@pytest.mark.parametrize("declared", [True, False])
def test_most_of_what_was_planted_is_found_and_little_else(declared: bool, planted: tuple[Path, Any]) -> None:
    folder, made = planted
    ran = fidelitas("peers", *(["--people", "people.csv"] if declared else []), "--format", "json", cwd=folder)
    check_schema("peers", ran.json)
    assert ran.status == 1
    copied = {holder for holder, _ in made.copied}
    found = {(one["holder"], one["what"]) for one in ran.json["unusual"]}
    own = {one for one in found if one in made.planted or one[0] not in copied}
    assert len(own & made.planted) >= 0.8 * len(made.planted)
    assert len(own & made.planted) >= 0.9 * len(own)
    if declared:
        assert {(one["holder"], one["like"]) for one in ran.json["copies"]} == made.copied
        assert {one["holder"] for one in ran.json["hosts"] if one["what"] == "root"} == made.odd_hosts


def test_one_person_can_be_asked_about(planted: tuple[Path, Any]) -> None:
    folder, made = planted
    who = min(made.planted)[0]
    found: dict[str, Any] = fidelitas("peers", who, "--people", "people.csv", "--format", "json", cwd=folder).json
    assert {one["holder"] for one in found["unusual"]} == {who}
    assert len(found["groups"]) == 1
    ran = fidelitas("peers", f"{who}x", "--people", "people.csv", cwd=folder)
    assert (ran.status, "Did you mean" in ran.err) == (2, True)
    assert (
        f"held by 1 of {len(next(team for team in made.teams.values() if who in team))}"
        in fidelitas("peers", who, "--people", "people.csv", cwd=folder).out
    )


def test_an_estate_with_too_few_to_compare_says_so(tmp_path: Path) -> None:
    Ledger(tmp_path / "ledger").add([replace(bundle("ines ALL=(ALL) ALL\n"), name="knot")], NOW)
    ran = fidelitas("peers", cwd=tmp_path)
    assert ran.status in (0, 1)
    assert "group of peers" in ran.out or "groups of peers" in ran.out
