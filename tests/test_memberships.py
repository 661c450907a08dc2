"""Memberships changed as if, on every platform: who is meant, what follows where, and the command, which nobody's name can bend."""

import shlex
from base64 import b64decode
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.audit import audit
from fidelitas.evidence import Bundle, make_bundle
from fidelitas.memberships import AmbiguousNameError, Memberships, plan, with_edits
from fidelitas.memberships.directory import _line
from fidelitas.memberships.postgresql import identifier
from fidelitas.memberships.windows import quoted
from fidelitas.sources.directory import from_ldif
from support import fidelitas
from test_cli import check_schema, handed_in
from test_directory import DOMAIN, group, person
from test_windows import FOREIGN, LOCAL, account, groups, machine

PEOPLE = person("ines") + person("rada", number=1101) + person("vesna", number=1102)
LDIF = PEOPLE + group("Wacht", "ines", number=(*DOMAIN, 1400)) + group("Nacht", "ines") + group("DA", "Nacht", number=(*DOMAIN, 512))


def surveyed(tmp_path: Path, ldif: str = LDIF, *, local: str = "tomas") -> Path:
    """Survey a machine whose administrators are the group Wacht and a local account, a host that has rada, and their directory."""
    members = groups((f"{LOCAL}-1001", f"AVOCET\\{local}", "user"), (f"{FOREIGN}-1400", "SALTMARSH\\Wacht", "group"))
    made: Bundle = machine(local_accounts=[account(local, 1001)], **members)
    (tmp_path / "avocet.tar").write_bytes(make_bundle(made.manifest, made.files, made.listings))
    (tmp_path / "saltmarsh.ldif").write_text(ldif)
    for file in (tmp_path / "avocet.tar", tmp_path / "saltmarsh.ldif", handed_in(tmp_path)):
        fidelitas("survey", file, cwd=tmp_path)
    return tmp_path


def rehearsed(folder: Path, *options: str) -> dict[str, Any]:
    ran = fidelitas("rehearse", *options, "--format", "json", cwd=folder)
    assert ran.status == 0, ran.err
    check_schema("rehearsal", ran.json)
    return {
        "edits": {(one["subject"], one["account"], one["group"]) for one in ran.json["memberships"] if not one["already"]},
        "already": {(one["account"], one["group"]) for one in ran.json["memberships"] if one["already"]},
        "absent": {(one["subject"], one["account"]) for one in ran.json["absent"]},
        **{
            kind: {(one["subject"], row["holder"]["name"], row["right"], row["effective"]) for one in ran.json["subjects"] for row in one[kind]}
            for kind in ("gained", "lost")
        },
    }  # fmt: skip


def test_a_group_of_a_directory_gives_rights_on_every_subject_that_takes_it(tmp_path: Path) -> None:
    found = rehearsed(surveyed(tmp_path), "--like", "ines", "rada", "vesna")
    assert found["edits"] == {("saltmarsh", name, into) for name in ("rada", "vesna") for into in ("Wacht", "Nacht")} | {
        ("knot", "rada", "sudo"), ("knot", "vesna", "sudo")
    }  # fmt: skip
    assert found["gained"] == {
        *(("avocet", name, "admin", "next-logon") for name in ("rada", "vesna")),
        *(("saltmarsh", name, "directory-admin", "next-logon") for name in ("rada", "vesna")),
        *(("knot", name, "root", "at-once") for name in ("rada", "vesna")),
    }
    again = rehearsed(tmp_path, "--add-member", "wacht", "SALTMARSH\\INES", "--on", "avocet")
    assert (again["edits"], again["already"], again["gained"]) == (set(), {("ines", "Wacht")}, set())


def test_a_local_group_takes_accounts_of_the_machine_and_of_its_domain(tmp_path: Path) -> None:
    folder = surveyed(tmp_path)
    for name in ("rada", "SALTMARSH\\rada", "rada@saltmarsh.example", f"{FOREIGN}-1101"):
        found = rehearsed(folder, "--add-member", "Beheerders", name, "--on", "avocet")
        assert found["edits"] == {("avocet", "SALTMARSH\\rada", "Beheerders")}
        assert found["gained"] == {("avocet", "rada", "admin", "next-logon")}
    assert rehearsed(folder, "--remove-member", "S-1-5-32-544", "%Wacht", "--on", "avocet")["lost"] >= {
        ("avocet", "ines", "admin", "next-logon")
    }
    assert rehearsed(folder, "--like", "tomas", "vesna")["absent"] == {("knot", "vesna")} - {("knot", "vesna")}


def test_what_is_not_given_for_want_of_an_account_is_said(tmp_path: Path) -> None:
    folder = surveyed(tmp_path, LDIF + person("kofi", number=1103))
    assert rehearsed(folder, "--like", "ines", "kofi")["absent"] == {("knot", "kofi")}
    assert "kofi has no account on knot (sudo)" in fidelitas("rehearse", "--like", "ines", "kofi", cwd=folder).out
    ran = fidelitas("rehearse", "--add-member", "sudo", "kofi", cwd=folder)
    assert (ran.status, 'there is no subject that has both account "kofi" and group "sudo" in evidence' in ran.err) == (2, True)


def test_a_name_that_can_be_two_accounts_is_refused_with_both(tmp_path: Path) -> None:
    folder = surveyed(tmp_path, local="rada")
    ran = fidelitas("rehearse", "--add-member", "Beheerders", "rada", "--on", "avocet", cwd=folder)
    assert ran.status == 2
    assert ran.err == 'fidelitas: account "rada" can be 2 of avocet. Use one of: AVOCET\\rada, SALTMARSH\\rada.\n'
    assert rehearsed(folder, "--add-member", "Beheerders", "SALTMARSH\\rada", "--on", "avocet")["gained"]


def test_a_group_that_only_its_members_name_and_a_primary_group() -> None:
    text = (
        person("ines", "memberOf: CN=Domain Admins,CN=Users,dc=x\nprimaryGroupID: 1400\n")
        + PEOPLE.partition("\n\n")[2]
        + group("Wacht", number=(*DOMAIN, 1400))
    )
    evidence = from_ldif(text.encode(), "saltmarsh").bundle

    def administrators(**wanted: Any) -> tuple[set[str], list[str]]:
        (rights,) = audit([evidence], findings=False).subjects
        planned = plan(Memberships(**wanted), [rights])
        (after,) = audit([evidence], findings=False, edits=planned.edits).subjects
        held = {str(one.principal) for one in after.holdings if not str(one.principal).startswith("%")}
        return held, [edit.command for edit in planned.edits["saltmarsh"] if not edit.already]

    assert administrators(accounts=("rada",), into=("Domain Admins",))[0] == {"ines", "rada"}
    assert administrators(accounts=("ines",), out_of=("Domain Admins",))[0] == set()
    assert administrators(accounts=("rada",), like="ines")[0] == {"ines", "rada"}
    _, (command,) = administrators(accounts=("ines",), out_of=("Wacht",))
    assert command.startswith("# the primary group")


def test_edits_of_another_subject_change_nothing_and_of_none_are_free() -> None:
    (rights,) = audit([from_ldif(LDIF.encode(), "saltmarsh").bundle], findings=False).subjects
    facts: Any = rights.facts  # type: ignore[attr-defined]
    assert with_edits(facts, ()) is facts
    with pytest.raises(AmbiguousNameError):
        plan(Memberships(accounts=("rada",), into=("Wacht",)), [rights_of_twins()])


def rights_of_twins() -> Any:
    twins = LDIF + person("rada", number=1199).replace("cn=rada,dc=", "cn=rada,ou=old,dc=")
    return audit([from_ldif(twins.encode(), "saltmarsh").bundle], findings=False).subjects[0]


@given(st.text(min_size=1))
def test_no_name_ends_the_quotes_that_it_stands_in(name: str) -> None:
    """Judged by the rules of each language: a quote inside is doubled, and nothing else ends the text."""
    inner = quoted(name)[1:-1]
    for quote in "'\u2018\u2019\u201a\u201b":
        inner = inner.replace(quote * 2, "")
    assert not set(inner) & set("'\u2018\u2019\u201a\u201b")
    assert '"' not in identifier(name)[1:-1].replace('""', "")
    assert shlex.split(shlex.quote(name)) == [name]
    line = _line("member", name)
    assert "\n" not in line
    assert (b64decode(line.partition(":: ")[2]).decode() if line.startswith("member:: ") else line.partition(": ")[2]) == name
