"""Revisions of policies: what was seen when and where, and how hosts stand to a real repository of git; by the built program."""

import json
import random
import subprocess
from collections.abc import Mapping
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from fidelitas.evidence import Bundle
from fidelitas.ledger import Ledger
from fidelitas.revisions import gather
from support import NOW, Ran, bundle, fidelitas
from test_cli import check_schema

DAY = timedelta(days=1)
POLICIES = [
    f"# revision {number}\nines ALL=(ALL) ALL\n" + "".join(f"rada ALL=(root) /usr/bin/c{n}\n" for n in range(number)) for number in range(6)
]


def at(name: str, policy: str, day: int, more: Mapping[str, str] | None = None) -> Bundle:
    made = bundle(policy + ("@includedir /etc/sudoers.d\n" if more else ""), dict(more or {}))
    return replace(made, name=name, manifest=replace(made.manifest, taken=NOW + DAY * day))


def survey(folder: Path, *days: list[Bundle]) -> None:
    ledger = Ledger(folder / "ledger")
    for number, bundles in enumerate(days):
        ledger.add(bundles, NOW + DAY * number, {one.subject: ("web",) if one.subject.startswith("web") else ("db",) for one in bundles})


def git(folder: Path, *arguments: str) -> str:
    environment = {"PATH": "/usr/bin:/bin", "HOME": str(folder), "GIT_AUTHOR_NAME": "idris", "GIT_AUTHOR_EMAIL": "i@x", "GIT_COMMITTER_NAME": "idris", "GIT_COMMITTER_EMAIL": "i@x"}  # fmt: skip
    return subprocess.run(
        ["git", "-C", str(folder), *arguments], env=environment, check=True, capture_output=True, text=True
    ).stdout.strip()


def repository(folder: Path, policies: list[str]) -> list[str]:
    """Make a repository with a commit for each policy, and return their IDs, the oldest first."""
    folder.mkdir()
    git(folder, "init", "--quiet", "--initial-branch=main")
    ids = []
    for number, policy in enumerate(policies):
        (folder / "sudoers").write_text(policy)
        (folder / "unrelated").write_text(str(number))
        git(folder, "add", "--all")
        git(folder, "commit", "--quiet", "-m", f"policy {number}; \x1b[31mred")
        ids.append(git(folder, "rev-parse", "HEAD"))
    return ids


def revisions(folder: Path, *options: str) -> Ran:
    ran = fidelitas("revisions", *options, "--format", "json", cwd=folder)
    if ran.out:
        check_schema("revisions", ran.json)
    return ran


def test_each_distinct_policy_is_a_revision_with_what_it_changed(tmp_path: Path) -> None:
    survey(
        tmp_path,
        [at("web1", POLICIES[0], 0), at("web2", POLICIES[0], 0), at("db1", "tomas ALL=(ALL) ALL\n", 0)],
        [at("web1", POLICIES[1], 1), at("web2", POLICIES[0], 1), at("db1", "tomas ALL=(ALL) ALL\n", 1)],
        [at("web1", POLICIES[1], 2), at("web2", POLICIES[1], 2), at("db1", "tomas ALL=(ALL) ALL\nvesna ALL=(ALL) ALL\n", 2)],
    )
    found = {one["number"]: one for one in revisions(tmp_path).json["revisions"]}
    assert [(one["subjects"], one["current"], one["before"]) for one in found.values()] == [
        (["web1", "web2"], [], None),
        (["db1"], [], None),
        (["web1", "web2"], ["web1", "web2"], 1),
        (["db1"], ["db1"], 2),
    ]
    assert [(one["change"], one["holder"], one["right"]) for one in found[3]["rights"]] == [("gained", "rada", "command:/usr/bin/c0")]
    assert [(one["change"], one["holder"]) for one in found[4]["rights"]] == [("gained", "vesna")]
    assert (found[3]["lines_added"], found[3]["lines_removed"]) == (2, 1)
    first, last = (datetime.fromisoformat(found[3][name]) for name in ("first_seen", "last_seen"))
    assert (first, last) == (NOW + DAY, NOW + DAY * 2)
    assert {one["number"] for one in revisions(tmp_path, "--on", "db1").json["revisions"]} == {1, 2}
    assert {name for one in revisions(tmp_path, "--tag", "web").json["revisions"] for name in one["subjects"]} == {"web1", "web2"}
    text = fidelitas("revisions", "--diff", cwd=tmp_path).out
    assert "+rada ALL=(root) /usr/bin/c0" in text
    assert "-# revision 0" in text
    assert revisions(tmp_path, "--on", "web9").status == 2


def test_a_policy_that_is_put_back_is_the_revision_that_it_was(tmp_path: Path) -> None:
    history = [("web1", [at("web1", POLICIES[number], day) for day, number in enumerate((0, 1, 0, 2, 0))])]
    found = gather("sudo", history)
    assert [(one.number, one.current, one.before and one.before.number) for one in found] == [(1, ["web1"], 2), (2, [], 1), (3, [], 1)]
    assert found[0].root.number in (1, 2)  # going round in a circle ends


@pytest.mark.parametrize("seed", range(5))
def test_the_order_of_subjects_decides_nothing(seed: int) -> None:
    chance = random.Random(seed)
    history = [
        (f"web{number}", [at(f"web{number}", chance.choice(POLICIES), day) for day in range(chance.randrange(1, 5))])
        for number in range(12)
    ]
    shuffled = chance.sample(history, len(history))
    found, again = (
        [(one.files, one.first, one.last, sorted(one.subjects), sorted(one.current)) for one in gather("sudo", some)]
        for some in (history, shuffled)
    )
    assert found == again
    assert sorted(name for *_, current in found for name in current) == sorted(name for name, _ in history)


def test_included_files_belong_to_the_policy_and_other_files_do_not(tmp_path: Path) -> None:
    survey(
        tmp_path,
        [at("web1", POLICIES[0], 0, {"/etc/sudoers.d/10-a": "rada ALL=(ALL) ALL\n"})],
        [at("web1", POLICIES[0], 1, {"/etc/sudoers.d/10-a": "rada ALL=(ALL) ALL\n", "/etc/pam.d/su": "auth required pam_unix.so\n"})],
        [
            at(
                "web1",
                POLICIES[0],
                2,
                {"/etc/sudoers.d/10-a": "rada ALL=(ines) ALL\n", "/root/.ssh/authorized_keys": "ssh-ed25519 AAAA x\n"},
            )
        ],
    )
    assert [one["changed_files"] for one in revisions(tmp_path).json["revisions"]] == [[], ["/etc/sudoers.d/10-a"]]
    assert [one["files"] for one in revisions(tmp_path, "--of", "pam").json["revisions"]] == [["/etc/pam.d/su"]]
    assert [one["files"] for one in revisions(tmp_path, "--of", "root-keys").json["revisions"]] == [["/root/.ssh/authorized_keys"]]
    assert revisions(tmp_path, "--of", "sshd").status == 2


def test_hosts_that_lag_or_were_edited_stand_out(tmp_path: Path) -> None:
    ids = repository(tmp_path / "policy", POLICIES[:4])
    hosts = [at(f"web{number}", POLICIES[3], 0) for number in range(18)] + [at(f"web{number}", POLICIES[2], 0) for number in (18, 19)]
    survey(tmp_path, [*hosts, at("web20", POLICIES[3] + "vesna ALL=(ALL) ALL\n", 0), at("db1", POLICIES[1], 0)])
    ran = revisions(tmp_path, "--repository", "policy", "--tag", "web")
    assert ran.status == 1
    standings = {one["subject"]: one for one in ran.json["standings"]}
    assert [standings[name]["standing"] for name in ("web0", "web18", "web20")] == ["as intended", "behind", "edited locally"]
    assert (standings["web18"]["distance"], standings["web18"]["commit"]) == (1, ids[2])
    assert (standings["web20"]["lines_added"], standings["web20"]["lines_removed"], standings["web20"]["commit"]) == (1, 0, ids[3])
    text = fidelitas("revisions", "--repository", "policy", "--tag", "web", cwd=tmp_path).out
    assert "18 hosts at" in text
    assert "1 line added against" in text
    assert "\x1b" not in text  # what a commit says is text
    (tmp_path / "estate.toml").write_text(
        f'format = 1\n[policy]\nrepository = "policy"\n[policy.intended]\ndb = "{ids[1]}"\nweb = "main~1"\n'
    )
    named = {one["subject"]: one["standing"] for one in revisions(tmp_path, "--estate", "estate.toml").json["standings"]}
    assert [named[name] for name in ("web0", "web18", "db1")] == ["ahead", "as intended", "as intended"]
    by_number = {one["number"]: one["commit"] for one in revisions(tmp_path, "--repository", "policy").json["revisions"]}
    assert {commit["id"] for commit in by_number.values() if commit} == {ids[1], ids[2], ids[3]}


def test_a_repository_is_read_and_not_obeyed(tmp_path: Path) -> None:
    """Anyone who can commit to it, or configures it, runs nothing here."""
    repository(tmp_path / "policy", POLICIES[:2])
    witness = tmp_path / "witness"
    run = f"touch {witness}"
    folder = tmp_path / "policy"
    for name, value in {"core.fsmonitor": run, "core.pager": run, "diff.external": run, "log.showSignature": "true", "gpg.program": run, "core.hooksPath": str(folder / "hooks"), "filter.x.smudge": run, "diff.x.textconv": run, "core.sshCommand": run, "alias.log": f"!{run}", "core.editor": run, "pager.log": run}.items():  # fmt: skip
        git(folder, "config", name, value)
    (folder / ".gitattributes").write_text("* filter=x diff=x\n")
    (folder / "hooks").mkdir()
    for hook in ("post-checkout", "pre-commit", "post-index-change"):
        (folder / "hooks" / hook).write_text(f"#!/bin/sh\n{run}\n")
        (folder / "hooks" / hook).chmod(0o755)
    witness.unlink(missing_ok=True)
    before = sorted((path, path.stat().st_mtime_ns) for path in folder.rglob("*") if path.is_file())
    survey(tmp_path, [at("web1", POLICIES[1], 0)])
    assert [one["standing"] for one in revisions(tmp_path, "--repository", "policy").json["standings"]] == ["as intended"]
    assert not witness.exists()
    assert sorted((path, path.stat().st_mtime_ns) for path in folder.rglob("*") if path.is_file()) == before


@pytest.mark.parametrize(
    ("text", "status", "said"),
    [
        ('[policy]\nrepository = "none"', 4, "could not read repository"),
        ('[policy]\nrepository = "policy"\n[policy.files]\n"/etc/sudoers" = "elsewhere"', 4, "no commit of elsewhere"),
        ('[policy]\nrepository = "policy"\n[policy.intended]\nweb = "v9"', 4, "could not read repository"),
        ('[policy]\nrepository = "policy"\n[policy.intended]\nweb = "--all"', 2, "does not name a commit"),
        ('[policy]\nrepository = "policy"\n[policy.files]\n"/etc/sudoers" = "/etc/passwd"', 2, "line 5, column 1"),
        ("[policy]\nfiles = {}", 2, '"repository" must be'),
        ('[policy]\nrepository = "policy"\nbranch = "x"', 2, 'there is no setting "branch"'),
        ("", 2, "names no repository"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_one_line(text: str, status: int, said: str, tmp_path: Path) -> None:
    repository(tmp_path / "policy", POLICIES[:1])
    survey(tmp_path, [at("web1", POLICIES[0], 0)])
    (tmp_path / "estate.toml").write_text(f"format = 1\n{text}\n")
    ran = fidelitas("revisions", "--estate", "estate.toml", cwd=tmp_path)
    assert (ran.status, ran.out) == (status, "")
    assert said in ran.err


def test_an_intended_commit_of_another_branch_is_refused(tmp_path: Path) -> None:
    survey(tmp_path, [at("web0", POLICIES[0], 0)])
    repository(tmp_path / "policy", POLICIES[:1])
    git(tmp_path / "policy", "checkout", "--quiet", "-b", "draft")
    (tmp_path / "policy" / "sudoers").write_text(POLICIES[1])
    git(tmp_path / "policy", "commit", "--quiet", "--all", "-m", "not merged")
    git(tmp_path / "policy", "checkout", "--quiet", "main")
    (tmp_path / "estate.toml").write_text('format = 1\n[policy]\nrepository = "policy"\n[policy.intended]\nweb = "draft"\n')
    ran = fidelitas("revisions", "--estate", "estate.toml", cwd=tmp_path)
    assert ran.status == 4, ran
    assert '"draft" is not among the newest 500 commits' in ran.err
    assert ran.out == ""


def test_the_demo_shows_that_tern_was_edited(tmp_path: Path) -> None:
    assert fidelitas("demo", "d", cwd=tmp_path).status == 0
    ran = fidelitas("revisions", "--ledger", "d/ledger", "--estate", "d/estate.toml", "--format", "json", cwd=tmp_path)
    check_schema("revisions", ran.json)
    assert ran.status == 1
    standings: dict[str, Any] = {one["subject"]: one for one in ran.json["standings"]}
    assert {name: one["standing"] for name, one in standings.items()} == {
        "tern": "edited locally",
        "curlew": "nothing is intended",
        "dunlin": "nothing is intended",
    }
    notices = json.loads((tmp_path / "d/truth.json").read_text())["notices"]
    assert standings["tern"]["files"] == [one["what"] for one in notices if one["subject"] == "tern"]
    (before,) = [one for one in ran.json["revisions"] if one["commit"]]
    assert (before["subjects"], before["commit"]["comment"]) == (["tern"], "No shells on the ingest server")
