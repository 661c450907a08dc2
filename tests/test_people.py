"""People across systems: the map in both forms, accounts joined by it, and what is nobody's."""

import base64
import importlib
import sys
from datetime import date
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.audit import audit
from fidelitas.errors import ReadError
from fidelitas.people import MappedPerson, join, read_map
from fidelitas.people.suggestions import AccountSigns, Guesser
from fidelitas.sources.directory import from_ldif
from support import PASSWD, SHADOW, Put, bundle, fidelitas
from test_cli import check_schema
from test_directory import DOMAIN, group, person, sid

sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))

CSV = """\
person,accounts,team,status,until
Ines Marram,ines saltmarsh:ines,administrators,active,
Tomas Oyster,tomas;knot:shared,technicians,,2026-01-31
Rada Quay,rada knot:shared,technicians,left,
Vesna Inlet,nobody-at-all,,external,2099-12-31
"""
TOML = """\
[[person]]
name = "Ines Marram"
accounts = ["ines", "saltmarsh:ines"]
team = "administrators"

[[person]]
name = "Tomas Oyster"
accounts = ["tomas", "knot:shared"]
team = "technicians"
until = 2026-01-31

[[person]]
name = "Rada Quay"
accounts = ["rada", "knot:shared"]
team = "technicians"
status = "left"

[[person]]
name = "Vesna Inlet"
accounts = ["nobody-at-all"]
status = "external"
until = "2099-12-31"
"""
TODAY = date(2026, 11, 23)


def estate() -> tuple[object, ...]:
    extra = "shared:x:1010:1010::/home/shared:/bin/bash\nvinlet:x:1011:1011:Vesna Inlet:/home/v:/bin/bash\n"
    host = bundle(
        "%sudo ALL=(ALL) ALL\ntomas, shared, vinlet ALL=(root) /bin/ls\n",
        {"/etc/passwd": PASSWD + extra, "/etc/shadow": SHADOW + "vinlet:{usable yescrypt}:20000:0:99999:7:::\n"},
    )
    directory = group("Admins", "ines", "odd", number=(*DOMAIN, 512)) + person("ines") + person("odd", number=1101)
    return audit([host, from_ldif(directory.encode(), "saltmarsh").bundle]).subjects


def test_accounts_of_all_subjects_are_joined_and_what_is_nobodys_is_told() -> None:
    joined = join(read_map(CSV, "people.csv"), estate())  # type: ignore[arg-type]
    owned = {person.name: {str(one): bool(one.holdings) for one in accounts} for person, accounts in joined.people}
    assert owned["Ines Marram"] == {"knot:ines": True, "saltmarsh:ines": True}
    assert owned["Tomas Oyster"] == {"knot:tomas": True, "knot:shared": True}
    assert [(str(one), names) for one, names in joined.shared] == [("knot:shared", ("Tomas Oyster", "Rada Quay"))]
    assert {person.name for person, _ in joined.leavers(TODAY)} == {"Tomas Oyster", "Rada Quay"}
    assert {(str(one.owned), one.person, one.why) for one in joined.unmapped} == {
        ("knot:vinlet", "Vesna Inlet", 'its comment is "Vesna Inlet"'), ("saltmarsh:odd", "", "")
    }  # fmt: skip
    assert [(person.name, account, near) for person, account, near in joined.missing] == [("Vesna Inlet", "nobody-at-all", "")]


def test_both_forms_tell_the_same() -> None:
    mine, theirs = read_map(CSV, "people.csv"), read_map(TOML, "people.toml")
    assert [(one.name, one.accounts, one.team, one.status, one.until) for one in mine] == [
        (one.name, one.accounts, one.team, one.status, one.until) for one in theirs
    ]


@pytest.mark.parametrize(
    ("text", "origin", "message"),
    [
        ("", "p.csv", "p.csv:1: expected the columns person, accounts, team, status, until, manager, found none"),
        ("person,accounts,shoes\n", "p.csv", "p.csv:1: expected the columns"),
        ("person,accounts\nInes,ines,extra\n", "p.csv", "p.csv:2: more fields than columns"),
        (
            "person,accounts,status\nInes,ines,gone\n",
            "p.csv",
            'p.csv:2: expected a status of active, leaving, left, external, found "gone"',
        ),
        ("person,accounts,until\nInes,ines,soon\n", "p.csv", 'p.csv:2: expected a date such as 2026-12-31, found "soon"'),
        ("person,accounts\n,ines\n", "p.csv", "p.csv:2: a person has no name"),
        ("person,accounts\nInes,a\nInes,b\n", "p.csv", 'p.csv:3: person "Ines" stands there twice, first as entry 2'),
        ("[[person]]\nname = 1\n", "p.toml", "p.toml:1: a person has no name"),
        ("x = 1\n", "p.toml", "p.toml:1: expected entries [[person]] and nothing else"),
        ("[[person]]\nname = 'a'\naccounts = 3\n", "p.toml", "p.toml:1: the accounts of a are not a list of names"),
        ("[", "p.toml", "p.toml: "),
    ],
)
def test_a_map_with_a_fault_is_told_with_its_line(text: str, origin: str, message: str) -> None:
    with pytest.raises(ReadError) as raised:
        read_map(text, origin)
    assert str(raised.value).startswith(message)


@given(st.text(max_size=200), st.sampled_from(["p.csv", "p.toml"]))
def test_any_text_is_a_map_or_an_error_of_ours(text: str, origin: str) -> None:
    for shown in (text, f"person,accounts\n{text}", f"[[person]]\nname = {text!r}"):
        try:
            read_map(shown, origin)
        except ReadError:
            continue


def test_the_command_tells_who_has_left_and_still_holds(tmp_path: Path) -> None:
    assert fidelitas("demo", "estate", cwd=tmp_path).status == 0
    ran = fidelitas("people", "estate/people.csv", "--ledger", "estate/ledger", cwd=tmp_path)
    assert ran.status == 1
    assert "Left, and still holding rights: 1" in ran.out
    assert "Accounts with rights that are in nobody's entry" in ran.out
    document = fidelitas("people", "estate/people.csv", "--ledger", "estate/ledger", "--format", "json", cwd=tmp_path).json
    check_schema("people", document)
    across = {person["person"]: {account["subject"] for account in person["accounts"]} for person in document["people"]}
    assert any({"tern", "tides-db", "saltmarsh-ad"} <= subjects for subjects in across.values())
    gone = fidelitas("people", "nowhere.csv", "--ledger", "estate/ledger", cwd=tmp_path)
    assert (gone.status, gone.err.count("\n")) == (4, 1)


def key(name: str) -> str:
    return f"ssh-ed25519 {base64.b64encode(b'key of ' + name.encode().ljust(44))[:68].decode()} "


@pytest.mark.parametrize(
    ("shared", "expected"),
    [
        ([("ines", "x")], [("shared", "Ines Marram", "it opens an account of theirs, too")]), ([("ines", "x"), ("tomas", "y")], []),
        ([("other", "ines@desk")], [("shared", "Ines Marram", 'its comment is "ines@desk"')]), ([("other", "someone")], []), ([("ines", "x"), ("other", "")], []),
    ],
)  # fmt: skip
def test_accounts_that_only_one_persons_key_opens(shared: list[tuple[str, str]], expected: list[tuple[str, str, str]]) -> None:
    passwd = PASSWD + "shared:x:1010:1010::/home/shared:/bin/bash\n"
    files = {f"/home/{name}/.ssh/authorized_keys": Put(f"{key(name)}\n", 0o600, uid) for name, uid in (("ines", 1001), ("tomas", 1002))}
    files["/home/shared/.ssh/authorized_keys"] = Put("".join(f"{key(name)}{comment}\n" for name, comment in shared), 0o600, 1010)
    people = read_map(CSV.replace(" knot:shared", "").replace(";knot:shared", ""), "people.csv")
    joined = join(
        people, audit([bundle("", {"/etc/passwd": passwd, "/etc/ssh/sshd_config": Put("PubkeyAuthentication yes\n"), **files})]).subjects
    )
    assert [(one.account, one.person, one.why) for one in joined.one_key] == expected


# -- whose an account may be -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "accounts"),
    [
        ("John Smith", "john.smith smith.john jsmith smithj john_smith johns"),
        ("Jürgen Müller", "juergen.mueller jurgen.muller jmueller muellerj"),
        ("Søren Ångström", "soren.angstrom soeren.aangstroem sangstrom"),
        ("Jan van der Berg", "jan.vanderberg jvanderberg jan.berg jberg vanderbergj"),
        ("José María García López", "jose.garcialopez jgarcia josemaria.garcialopez jose.lopez jmgarcialopez"),
        ("Иван Щербаков", "ivan.shcherbakov ishcherbakov"),
        ("Zhang Wei", "wei.zhang zhang.wei wzhang zhangw"),
        ("O'Neill, Grace", "grace.oneill goneill"),
        ("Łukasz Þór Weiß", "lukasz.weiss lweiss"),
    ],
)
def test_account_names_that_are_made_of_a_name(name: str, accounts: str) -> None:
    (person,) = read_map(f'person,accounts\n"{name}",p1\n', "p.csv")
    guesser = Guesser([person, MappedPerson(name="Other Body", accounts=("p2",))], [])
    for account in accounts.split():
        for shown in (account, f"adm-{account}", f"{account}-adm", f"CORP\\{account.upper()}", f"{account}@corp.example"):
            guess = guesser.guess(AccountSigns(subject="tern", account=shown))
            assert guess is not None, shown
            assert guess.person == name, shown


ANN, ANA = MappedPerson(name="Ann Reed", accounts=("p1", "areed")), MappedPerson(name="Arno Reed", accounts=("p2",))


@pytest.mark.parametrize(
    ("signs", "person"),
    [
        ({"account": "a.reed"}, "Ann Reed"),  # which is hers elsewhere, but for the dot
        ({"account": "ann.reed7"}, "Ann Reed"), ({"account": "arno.red"}, "Arno Reed"), ({"account": "reed"}, None), ({"account": "backup"}, None),
        ({"account": "u77", "comment": "Reed, Arno"}, "Arno Reed"), ({"account": "u77", "comment": "Tide model"}, None),
        ({"account": "arno.reed", "comment": "Ann Reed"}, "Ann Reed"), ({"account": "ahall", "comment": "Alice Hall"}, None),
        ({"account": "u77", "mail": "arno.reed@x.example"}, "Arno Reed"), ({"account": "u77", "employee": "4711"}, "Ann Reed"),
        ({"account": "u77", "uid": 20001}, None), ({"account": "reed", "uid": 20001}, "Ann Reed"), ({"account": "u77", "keys": frozenset({"K"})}, "Ann Reed"),
        ({"account": "arno.reed", "comment": "Arno Hall"}, None),
    ],
)  # fmt: skip
def test_signs_are_put_together_and_what_speaks_against_counts(signs: dict[str, Any], person: str | None) -> None:
    hers = AccountSigns(subject="hr", account="p1", employee="4711", uid=20001, keys=frozenset({"K"}))
    guess = Guesser([ANN, ANA], [(ANN, hers)]).guess(AccountSigns(subject="tern", **signs))
    assert (guess.person if guess is not None else None) == person


def test_suggestions_are_many_and_right_on_made_up_people() -> None:
    generator = importlib.import_module("people")
    mine, made, right, *_ = generator.measure(5, 300)
    assert right / mine >= 0.85
    assert right / made >= 0.98


def test_accounts_of_a_directory_are_joined_by_any_form_of_their_name() -> None:
    people = "person,accounts\nInes Marram,CORP\\\\INES;knot:ines\nRada Quay,rada@corp.example\n"
    base = "dc=corp,dc=example"
    objects = "".join(
        f"dn: cn={name},{base}\nobjectClass: user\nsAMAccountName: {name}\nobjectSid:: {sid(*DOMAIN, number)}\ndisplayName: {shown}\n\n"
        for name, number, shown in (("ines", 1100, ""), ("rada", 1101, ""), ("u77", 1102, "Quay, Rada"))
    )
    admins = f"dn: cn=DA,{base}\nobjectClass: group\ncn: DA\nobjectSid:: {sid(*DOMAIN, 512)}\n" + "".join(
        f"member: CN={name},{base}\n" for name in ("ines", "rada", "u77")
    )
    subjects = audit([from_ldif(f"{objects}{admins}\n".encode(), "corp").bundle]).subjects
    joined = join(read_map(people.replace("\\\\", "\\"), "people.csv"), subjects)
    assert {person.name: [str(one) for one in owned] for person, owned in joined.people} == {
        "Ines Marram": ["corp:ines"], "Rada Quay": ["corp:rada"]
    }  # fmt: skip
    assert [(str(one.owned), one.person, one.score > 0.9) for one in joined.unmapped] == [("corp:u77", "Rada Quay", True)]
