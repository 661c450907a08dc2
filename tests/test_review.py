"""Reviews: what is to be decided, what is carried over, work lists that come back, and a pack that cannot be changed unseen."""

import contextlib
import csv
import gzip
import hashlib
import io
import json
import shutil
import subprocess
import tarfile
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path

import msgspec
import pytest
from msgspec.structs import replace
from sqlalchemy import text

from fidelitas.errors import ReadError
from fidelitas.evidence import Bundle, make_bundle
from fidelitas.ledger import Ledger
from fidelitas.reviewing import ReviewBook
from fidelitas.reviews import About, Decision, DecisionKind, Item, Review, carried_over, counting, freeze, is_own, read_list, work_list
from fidelitas.reviews.pack import archive_of
from fidelitas.reviews.verification import faults_of, read_pack
from support import GROUP, NOW, PASSWD, Ran, bundle, fidelitas, rights
from test_cli import check_schema

AT = "2026-11-21T09:00:00+00:00"


def items_of(sudoers: str, files: dict[str, str] | None = None, name: str = "knot") -> list[Item]:
    host = rights(sudoers, {"/etc/hostname": name, **(files or {})})
    return freeze(host.own_holdings, lambda _: About(reviewer="ops"))


def review_of(items: list[Item], name: str = "q1") -> Review:
    return Review(
        name=name, survey="2026-11-20T060000Z", started=AT, started_by="ines", by="team", scope=("knot",), version="0", items=tuple(items)
    )


def decide(item: int, decision: str = "keep", reviewer: str = "vesna") -> Decision:
    return Decision(item=item, decision=DecisionKind(decision), reason="why", reviewer=reviewer, at=AT)


def shown(items: list[Item]) -> list[tuple[str, str]]:
    return [(item.holder, item.right) for item in items]


# -- what is to be decided -------------------------------------------------------------------------------------------------------------


def test_root_itself_and_groups_are_no_items_and_the_worst_comes_first() -> None:
    items = items_of("root ALL=(ALL) ALL\n%sudo ALL=(ALL) ALL\ntomas ALL=(root) /usr/bin/apt update\n")
    assert shown(items) == [("ines", "root"), ("tomas", "command:/usr/bin/apt update")]
    assert [item.number for item in items] == [1, 2]
    links = items[0].holdings[0].routes[0]
    assert [(link.path, link.line) for link in links] == [("/etc/group", 3), ("/etc/sudoers", 2)]


def test_what_every_account_has_is_one_item() -> None:
    items = items_of("ALL ALL=(ALL) NOPASSWD: ALL\n")
    assert shown(items) == [("any account", "root")]


@pytest.mark.parametrize(
    ("before", "after", "state"),
    [
        (("%sudo ALL=ALL\n", GROUP), ("\n# moved\n%sudo ALL=ALL\n", GROUP), ""),
        (("%sudo ALL=ALL\n", GROUP), ("%sudo ALL=ALL\n", GROUP.replace("ines\n", "ines,vesna\n")), ""),
        (("%sudo ALL=ALL\n", GROUP), ("%sudo ALL=NOPASSWD: ALL\n", GROUP), "the route changed on knot"),
        (("ines ALL=ALL\n", GROUP), ("%sudo ALL=ALL\n", GROUP), "the route changed on knot"),
        (("%sudo ALL=ALL\n", GROUP), ("%sudo ALL=ALL\nines ALL=ALL\n", GROUP), "the route changed on knot"),
    ],
)
def test_what_was_kept_counts_as_long_as_the_route_is_the_same(before: tuple[str, str], after: tuple[str, str], state: str) -> None:
    """Where it is written, and who else is in the group, does not matter."""
    old = review_of(items_of(before[0], {"/etc/group": before[1]}))
    items = carried_over(items_of(after[0], {"/etc/group": after[1]}), old, [decide(1)])
    ines = next(item for item in items if (item.holder, item.right) == ("ines", "root"))
    assert ines.carried is not None
    assert ines.carried.reopened == state
    known = counting(review_of(items, "q2"), [])
    assert (ines.number in known) == (not state)
    others = [item for item in items if item.holder != "ines"]
    assert all(item.carried is None for item in others)


@pytest.mark.parametrize(
    ("decision", "why"), [("keep", ""), ("revoke", "was to be revoked and is still held"), ("ask", "a question was left open")]
)
def test_only_what_was_kept_is_carried_over(decision: str, why: str) -> None:
    old = items_of("ines ALL=ALL\n")
    (again,) = carried_over(items_of("ines ALL=ALL\n"), review_of(old), [decide(1, decision)])
    assert again.carried is not None
    assert again.carried.reopened == why
    (third,) = carried_over(items_of("ines ALL=ALL\n"), review_of([again], "q2"), [])
    assert (third.carried is None) == bool(why)
    if third.carried is not None:
        assert third.carried.review == "q1"  # where it was decided


def test_a_right_that_is_held_on_a_further_subject_is_decided_anew() -> None:
    old = items_of("ines ALL=ALL\n")
    grown = msgspec.structs.replace(old[0], holdings=(*old[0].holdings, msgspec.structs.replace(old[0].holdings[0], subject="tern")))
    (again,) = carried_over([grown], review_of(old), [decide(1)])
    assert again.carried is not None
    assert again.carried.reopened == "is now held on tern as well"
    (less,) = carried_over(old, review_of([grown]), [decide(1)])
    assert less.carried is not None
    assert not less.carried.reopened


def test_whoever_decides_about_their_own_rights_is_recognised_by_name_and_by_account() -> None:
    (item,) = freeze(rights("ines ALL=ALL\n").own_holdings, lambda _: About(persons=("Ines Lowtide",)))
    assert [is_own(item, name) for name in ("ines", "INES lowtide", "vesna", "Ines")] == [True, True, False, True]


# -- work lists ------------------------------------------------------------------------------------------------------------------------


def rows_of(content: str) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(content)))


def filled(content: str, **cells: str) -> str:
    rows = rows_of(content)
    rows[0] |= cells
    out = io.StringIO()
    writer = csv.DictWriter(out, list(rows[0]))
    writer.writeheader()
    writer.writerows(rows)
    return out.getvalue()


def test_a_work_list_comes_back_with_what_was_filled_in() -> None:
    review = review_of(items_of("ines ALL=ALL\nrada ALL=/bin/ls\n"))
    sent = work_list(review, review.items, [])
    assert [row["decision"] for row in rows_of(sent)] == ["", ""]
    back = read_list(filled(sent, decision="Revoke ", reason="left the team"), "back.csv", review, "vesna", NOW)
    assert [(one.item, one.decision, one.reason, one.reviewer) for one in back] == [(1, "revoke", "left the team", "vesna")]
    assert rows_of(work_list(review, review.items, back))[0]["decision"] == "revoke"


@pytest.mark.parametrize(
    ("cells", "message"),
    [
        ({"decision": "yes"}, 'back.csv:2: "yes" is not a decision; it is one of keep, revoke, ask'),
        ({"decision": "revoke"}, "back.csv:2: item 1 is to be revoked, and no reason is given"),
        ({"decision": "keep", "item": "77"}, 'back.csv:2: review q1 has no item "77"'),
        ({"decision": "keep", "item": "²"}, 'back.csv:2: review q1 has no item "²"'),
        ({"decision": "keep", "item": "2"}, "back.csv:2: the mark is not that of item 2"),
        ({"decision": "keep", "mark": ""}, "back.csv:2: the mark is not that of item 1"),
    ],
)
def test_a_line_that_was_changed_is_refused_with_its_number(cells: dict[str, str], message: str) -> None:
    review = review_of(items_of("ines ALL=ALL\nrada ALL=/bin/ls\n"))
    with pytest.raises(ReadError, match="back") as raised:
        read_list(filled(work_list(review, review.items, []), **cells), "back.csv", review, "vesna", NOW)
    assert str(raised.value).startswith(message)
    with pytest.raises(ReadError, match="the column mark is missing"):
        read_list("item,decision,reason\n", "back.csv", review, "vesna", NOW)


def test_nothing_in_a_work_list_is_a_formula_or_moves_the_cursor() -> None:
    name = "=cmd|' /C calc'!A0"
    review = review_of([msgspec.structs.replace(items_of("ines ALL=ALL\n")[0], holder=name, persons=("\x1b[2Jx\u202e",))])
    (row,) = rows_of(work_list(review, review.items, []))
    assert row["holder"] == f"'{name}"
    assert "\x1b" not in row["person"]
    assert "\u202e" not in row["person"]


# -- the pack --------------------------------------------------------------------------------------------------------------------------

DAY = timedelta(days=1)


def estate(day: int, sudoers: str, groups: str = GROUP, name: str = "knot") -> Bundle:
    made = bundle(sudoers, {"/etc/group": groups, "/etc/passwd": PASSWD})
    return replace(made, manifest=replace(made.manifest, subject=name, taken=NOW + day * DAY))


@pytest.fixture(scope="module")
def closed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Return a folder with a ledger, a closed review, its pack, signed, and the file of allowed signers."""
    if shutil.which("ssh-keygen") is None:
        pytest.skip("ssh-keygen is not installed")
    folder = tmp_path_factory.mktemp("review")
    Ledger(folder / "ledger").add(
        [estate(0, "%sudo ALL=(ALL) ALL\ntomas ALL=(root) /usr/bin/apt update\n")], NOW, {"knot": ["owner=vesna"]}
    )
    for key in ("key", "other"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", folder / key, "-C", key], check=True)
    (folder / "signers").write_text(f"vesna@saltmarsh.example {(folder / 'key.pub').read_text()}")
    (folder / "strangers").write_text(f"vesna@saltmarsh.example {(folder / 'other.pub').read_text()}")
    assert review(folder, "start", "q1", "--by", "owner", "--as", "vesna").status == 0
    assert review(folder, "close", "q1", "--out", "early.tar.gz").status == 2
    for item, decision in ((1, "keep"), (2, "revoke")):
        assert review(folder, "decide", "q1", str(item), decision, "--reason", "asked", "--as", "vesna").status == 0
    ran = review(folder, "close", "q1", "--out", "q1.tar.gz", "--sign", "key", "--as", "vesna")
    assert (ran.status, "is closed" in ran.err) == (0, True)
    return folder


def review(folder: Path, *arguments: str, typed: str = "") -> Ran:
    return fidelitas("review", *arguments, cwd=folder, typed=typed)


def test_a_pack_is_verified_on_another_machine(closed: Path, tmp_path: Path) -> None:
    for name in ("q1.tar.gz", "signers"):
        shutil.copy(closed / name, tmp_path / name)
    ran = fidelitas("review", "verify", "q1.tar.gz", "--signers", "signers", "--format", "json", cwd=tmp_path)
    check_schema("review-verification", ran.json)
    assert (ran.status, ran.json["signed_by"], ran.json["faults"]) == (0, "vesna@saltmarsh.example", [])
    assert ran.json["citations"] >= 3
    unsigned = fidelitas("review", "verify", "q1.tar.gz", cwd=tmp_path)
    assert (unsigned.status, "no signature was checked" in unsigned.err) == (3, True)


def test_a_signature_of_someone_else_is_refused(closed: Path) -> None:
    ran = review(closed, "verify", "q1.tar.gz", "--signers", "strangers")
    assert (ran.status, "is not in" in ran.out) == (1, True)
    assert review(closed, "verify", "q1.tar.gz", "--signers", "signers", "--signer", "tomas@saltmarsh.example").status == 1


def test_whatever_is_changed_in_a_pack_is_found(closed: Path, tmp_path: Path) -> None:
    files = dict(read_pack(closed / "q1.tar.gz").files)
    for name, content in files.items():
        changed = {**files, name: content.replace(b"a", b"b", 1) if name != "gaps.json" else b"[1]"}
        if changed[name] == content:
            continue
        (tmp_path / "changed.tar.gz").write_bytes(archive_of(changed))
        ran = fidelitas("review", "verify", "changed.tar.gz", "--signers", closed / "signers", cwd=tmp_path)
        assert ran.status in (1, 4), name
    for name in set(files) - {"manifest.json", "manifest.json.sig", "review.json", "citations.json"}:
        (tmp_path / "short.tar.gz").write_bytes(archive_of({one: content for one, content in files.items() if one != name}))
        assert any(name in fault for fault in faults_of(read_pack(tmp_path / "short.tar.gz")))


def test_a_line_that_was_not_in_the_evidence_is_found_though_every_digest_is_made_anew(closed: Path, tmp_path: Path) -> None:
    """Anyone who can sign could make a manifest of changed files; what is cited must be there all the same."""
    files = dict(read_pack(closed / "q1.tar.gz").files)
    name = next(name for name, content in files.items() if b"%sudo ALL=(ALL) ALL" in content and name.startswith("evidence/"))
    files[name] = files[name].replace(b"%sudo ALL=(ALL) ALL", b"# nothing to see here")
    manifest = json.loads(files["manifest.json"])
    manifest["files"][name] = {"sha256": hashlib.sha256(files[name]).hexdigest(), "bytes": len(files[name])}
    files["manifest.json"] = json.dumps(manifest).encode()
    (tmp_path / "forged.tar.gz").write_bytes(archive_of(files))
    faults = faults_of(read_pack(tmp_path / "forged.tar.gz"))
    assert any("/etc/sudoers:1 is not the line that is cited" in fault for fault in faults)


def _link(archive: tarfile.TarFile) -> None:
    member = tarfile.TarInfo("evidence/00001")
    member.type, member.linkname = tarfile.SYMTYPE, "/etc/shadow"
    archive.addfile(member)


def _climbing(archive: tarfile.TarFile) -> None:
    archive.addfile(tarfile.TarInfo("evidence/../../etc/x"))


def _twice(archive: tarfile.TarFile) -> None:
    archive.addfile(tarfile.TarInfo("review.json"))
    archive.addfile(tarfile.TarInfo("review.json"))


def _endless(archive: tarfile.TarFile) -> None:
    member = tarfile.TarInfo("review.json")
    member.size = 1 << 40
    archive.addfile(member, None)


@pytest.mark.parametrize("make", [_link, _climbing, _twice, _endless])
def test_a_pack_that_means_harm_is_refused_in_one_line(make: Callable[[tarfile.TarFile], None], tmp_path: Path) -> None:
    out = io.BytesIO()
    with contextlib.suppress(OSError), tarfile.open(fileobj=out, mode="w") as archive:
        make(archive)
    (tmp_path / "bad.tar.gz").write_bytes(gzip.compress(out.getvalue()))
    ran = fidelitas("review", "verify", "bad.tar.gz", cwd=tmp_path)
    assert (ran.status, ran.err.count("\n")) == (4, 1)
    (tmp_path / "text").write_text("no pack")
    assert fidelitas("review", "verify", "text", cwd=tmp_path).status == 4


# -- in the ledger -----------------------------------------------------------------------------------------------------------------------


def test_a_closed_review_is_decided_no_more_and_its_survey_is_kept(closed: Path) -> None:
    ran = review(closed, "decide", "q1", "1", "keep")
    assert (ran.status, "was closed" in ran.err) == (2, True)
    assert review(closed, "start", "q1", "--by", "owner").status == 2
    listed = review(closed, "list", "--format", "json").json
    check_schema("reviews", listed)
    assert [(one["name"], one["items"], one["undecided"]) for one in listed["reviews"]] == [("q1", 2, 0)]
    (survey,) = fidelitas("ledger", "info", "--format", "json", cwd=closed).json["surveys"]
    assert survey["kept"]


def test_a_decision_that_was_changed_in_the_database_is_noticed(closed: Path, tmp_path: Path) -> None:
    shutil.copytree(closed / "ledger", tmp_path / "ledger")
    with Ledger(tmp_path / "ledger").database.writing() as connection:
        connection.execute(text("update review_decisions set decision = 'keep' where item = 2"))
    ran = fidelitas("review", "status", "q1", cwd=tmp_path)
    assert (ran.status, "is damaged: a decision is not what was stored" in ran.err) == (4, True)
    verified = fidelitas("ledger", "verify", cwd=tmp_path)
    assert (verified.status, "review q1" in verified.out + verified.err) == (4, True)


def test_revocations_are_shown_as_done_by_the_next_survey_and_carried_over_by_the_next_review(closed: Path, tmp_path: Path) -> None:
    shutil.copytree(closed / "ledger", tmp_path / "ledger")
    assert review(tmp_path, "status", "q1").status == 1
    steps = review(tmp_path, "actions", "q1", "--format", "json").json
    check_schema("review-actions", steps)
    assert [(one["on"], one["command"], one["items"]) for one in steps["steps"]] == [("knot", "visudo --file=/etc/sudoers", [2])]
    Ledger(tmp_path / "ledger").add([estate(1, "# moved\n%sudo ALL=(ALL) ALL\n")], NOW + DAY, {"knot": ["owner=vesna"]})
    status = review(tmp_path, "status", "q1", "--format", "json")
    check_schema("review", status.json)
    assert (status.status, [one["outcome"] for one in status.json["revocations"]]) == (0, ["done"])
    again = review(tmp_path, "start", "q2", "--by", "owner", "--format", "json").json
    assert [(one["holder"], one["decision"], one["carried_from"]) for one in again["list"]] == [("ines", "keep", "q1")]


def test_the_last_who_is_root_comes_last_and_is_marked(tmp_path: Path) -> None:
    Ledger(tmp_path / "ledger").add([_locked(estate(0, "%sudo ALL=ALL\nrada ALL=/bin/ls\n"))], NOW, {"knot": ["owner=x"]})
    review(tmp_path, "start", "q1", "--by", "owner")
    for item in (1, 2):
        assert review(tmp_path, "decide", "q1", str(item), "revoke", "--reason", "all of it").status == 0
    ran = review(tmp_path, "actions", "q1", "--format", "json")
    assert ran.status == 1
    assert [(one["items"], one["locks_out"]) for one in ran.json["steps"]] == [([2], False), ([1], True)]
    assert "LOCK-OUT on knot" in review(tmp_path, "actions", "q1").out


def _locked(made: Bundle) -> Bundle:
    """Return evidence of a host whose root has no password and no key."""
    return replace(made, files={**made.files, "/etc/shadow": made.files["/etc/shadow"].replace(b"root:{none}", b"root:{locked}")})


def test_the_walk_asks_about_each_item_and_ends_where_it_is_told_to(tmp_path: Path) -> None:
    Ledger(tmp_path / "ledger").add([estate(0, "%sudo ALL=ALL\nrada ALL=/bin/ls\ntomas ALL=/bin/true\n")], NOW, {"knot": ["owner=ines"]})
    review(tmp_path, "start", "q1", "--by", "owner")
    ran = review(tmp_path, "next", "q1", "--as", "ines", typed="keep\n\nskip\nrevoke\n\nno need\n")
    assert ran.status == 0
    assert "1 left" in review(tmp_path, "next", "q1").err, "the input is at its end"
    assert "1 of 3: ines has root" in ran.out
    assert "knot:/etc/sudoers:1" in ran.out
    assert "item 1: ines decides about their own rights" in ran.err
    found = ReviewBook(Ledger(tmp_path / "ledger")).standing("q1")
    assert {one.item: (one.decision, one.reason) for one in found.decisions} == {1: ("keep", ""), 3: ("revoke", "no need")}
    assert "Decided about their own rights" in review(tmp_path, "status", "q1").out


def test_an_import_is_of_all_lines_or_of_none(tmp_path: Path) -> None:
    Ledger(tmp_path / "ledger").add([estate(0, "%sudo ALL=ALL\nrada ALL=/bin/ls\n")], NOW, {"knot": ["owner=vesna"]})
    assert review(tmp_path, "start", "q1", "--by", "owner", "--out", "lists").status == 0
    assert sorted(path.name for path in (tmp_path / "lists").iterdir()) == ["q1-vesna.csv", "q1-vesna.md"]
    sent = (tmp_path / "lists/q1-vesna.csv").read_text()
    (tmp_path / "bad.csv").write_text(filled(sent, decision="keep").replace(",,\r\n", ",perhaps,\r\n"))
    bad = review(tmp_path, "import", "q1", "bad.csv")
    assert (bad.status, bad.err.count("\n")) == (4, 1)
    assert not ReviewBook(Ledger(tmp_path / "ledger")).standing("q1").decisions
    (tmp_path / "good.csv").write_text(filled(sent, decision="keep"))
    for said in ("1 decision imported", "0 decisions imported, 1 were there already"):
        assert said in review(tmp_path, "import", "q1", "good.csv", "--as", "vesna").err
    text = (tmp_path / "lists/q1-vesna.md").read_text()
    assert "# Review q1: vesna" in text


@pytest.mark.parametrize(
    ("arguments", "status"),
    [
        (("start", "../x", "--by", "owner"), 2), (("start", "q9"), 2), (("start", "q9", "--by", "owner", "--on", "knut"), 2),
        (("start", "q9", "--by", "owner", "--previous", "q0"), 2), (("status", "q0"), 2), (("list", "q1", "--for", "nobody"), 2),
        (("decide", "q1", "77", "keep"), 2), (("decide", "q1", "1", "revoke"), 2), (("import", "q1", "none.csv"), 4), (("verify", "none"), 4),
        (("close", "q1", "--out", "q1.tar.gz"), 2),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_in_one_line(closed: Path, arguments: tuple[str, ...], status: int) -> None:
    ran = review(closed, *arguments)
    assert (ran.status, ran.err.count("\n")) == (status, 1), ran.err


# -- the whole way ---------------------------------------------------------------------------------------------------------------------

LOG = "2026-11-{day:02}T09:00:00+00:00 knot sudo:     ines : TTY=pts/1 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/apt update\n"
CHARTER = """format = 1
[[warrant]]
who = "ines"
right = "root"
on = "knot"
why = "runs the host"
owner = "vesna"
"""
PEOPLE = "person,accounts,team,status,until,manager\nInes Lowtide,ines,ops,active,,Vesna Dyke\nTomas Quay,tomas,ops,active,,Vesna Dyke\n"


def test_from_the_survey_to_a_pack_that_is_verified_elsewhere(tmp_path: Path) -> None:
    """Survey, changes, charter, narrow, review, actions, survey, pack: in the order of docs/access-review.md."""
    if shutil.which("ssh-keygen") is None:
        pytest.skip("ssh-keygen is not installed")
    for name, content in (
        ("charter.toml", CHARTER),
        ("people.csv", PEOPLE),
        ("auth.log", "".join(LOG.format(day=day) for day in range(1, 20))),
    ):
        (tmp_path / name).write_text(content)

    def surveyed(day: int, sudoers: str) -> Ran:
        made = estate(day, sudoers)
        (tmp_path / "knot.tar").write_bytes(make_bundle(made.manifest, made.files, made.listings))
        return fidelitas("survey", "knot.tar", cwd=tmp_path)

    surveyed(0, "%sudo ALL=(ALL) ALL\n")
    assert "tomas" in surveyed(1, "%sudo ALL=(ALL) ALL\ntomas ALL=(ALL) ALL\n").out
    assert fidelitas("changes", cwd=tmp_path).status == 1
    checked = fidelitas("charter", "check", "charter.toml", "--strict", cwd=tmp_path)
    assert (checked.status, "tomas" in checked.out) == (1, True)
    narrower = fidelitas("narrow", "ines", "--log", "auth.log", "--name", "knot", "--format", "json", cwd=tmp_path).json
    assert "%sudo ALL = (root) /usr/bin/apt update" in narrower["policies"][0]["files"]["/etc/sudoers"]
    started = review(tmp_path, "start", "q1", "--by", "manager", "--people", "people.csv", "--charter", "charter.toml", "--out", "lists")
    assert started.status == 0
    content = (tmp_path / "lists/q1-Vesna_Dyke.csv").read_text()
    rows = {row["holder"]: row for row in rows_of(content)}
    assert {name: row["note"] for name, row in rows.items()} == {"ines": "the charter: sanctioned", "tomas": "the charter: unsanctioned"}
    out = io.StringIO()
    writer = csv.DictWriter(out, list(rows["ines"]))
    writer.writeheader()
    writer.writerows([{**rows["ines"], "decision": "keep"}, {**rows["tomas"], "decision": "revoke", "reason": "not sanctioned"}])
    (tmp_path / "back.csv").write_text(out.getvalue())
    assert review(tmp_path, "import", "q1", "back.csv", "--as", "Vesna Dyke").status == 0
    assert "take tomas out of the sudo rule of line 2" in review(tmp_path, "actions", "q1").out
    done = surveyed(2, "%sudo ALL=(ALL) ALL\n")
    assert "review q1: 1 of 1 revocation on these subjects done" in done.out
    assert review(tmp_path, "status", "q1").status == 0
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", tmp_path / "key"], check=True)
    assert review(tmp_path, "close", "q1", "--out", "q1.tar.gz", "--sign", "key").status == 0
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir()
    shutil.copy(tmp_path / "q1.tar.gz", elsewhere)
    (elsewhere / "signers").write_text(f"vesna {(tmp_path / 'key.pub').read_text()}")
    verified = fidelitas("review", "verify", "q1.tar.gz", "--signers", "signers", cwd=elsewhere)
    assert (verified.status, "signed by vesna" in verified.out) == (0, True)
