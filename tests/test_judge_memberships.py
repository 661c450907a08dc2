"""Rehearsed memberships held against real systems: the change is rehearsed, the command that was printed is run, and the survey that
follows must show what was said, no more and no less.
"""

import random
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

import mariadb_server
import postgresql_server
import samba_domain
from slapd_server import BASE, scratch_slapd
from support import GROUP, PASSWD, SHADOW, Put, fidelitas
from test_cli import check_schema, handed_in

pytestmark = pytest.mark.judge

Held = set[tuple[str, str, str]]


@pytest.fixture
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Return the folder of a server."""
    return tmp_path_factory.mktemp("server")


def held(where: Path) -> Held:
    """Return who holds what by the newest survey, by subject, holder and right."""
    rows = fidelitas("holders", "--each", "--format", "json", cwd=where).json["holdings"]
    return {(row["subject"], row["holder"]["name"], row["right"]) for row in rows}


def rehearsed(where: Path, before: Held, *options: str) -> tuple[Held, list[str]]:
    """Return what would be held after a change, and the commands that make it."""
    ran = fidelitas("rehearse", *options, "--format", "json", cwd=where)
    assert ran.status in (0, 1), ran.err
    check_schema("rehearsal", ran.json)
    gained, lost = (
        {(one["subject"], row["holder"]["name"], row["right"]) for one in ran.json["subjects"] for row in one[kind]}
        for kind in ("gained", "lost")
    )
    assert lost <= before
    assert not gained & before
    return (before - lost) | gained, [one["command"] for one in ran.json["memberships"] if one["command"]]


def judged(where: Path, survey: Callable[[], Any], make: Callable[[list[str]], Any], *options: str) -> bool:
    """Rehearse a change, make it, look; return whether anyone's rights changed."""
    before = held(where)
    expected, commands = rehearsed(where, before, *options)
    make(commands)
    survey()
    assert held(where) == expected, options
    return expected != before


def changes(chance: random.Random, accounts: list[str], groups: list[str]) -> Iterator[list[str]]:
    """Give the options of random changes: into groups first, so that there is something to copy and to take away."""
    for kind in ("--add-member", "--like", "--remove-member"):
        some = chance.sample(accounts, len(accounts) - 1)
        yield [kind, *some[:3]] if kind == "--like" else [kind, chance.choice(groups), *some]


def test_roles_of_postgresql(need: Callable[..., None], tmp_path: Path, folder: Path) -> None:
    need("runuser", root=True)
    chance = random.Random(1)
    with postgresql_server.scratch_server(folder) as server:
        accounts, groups = [f"p{number}" for number in range(6)], [f"g{number}" for number in range(4)]
        server.run("create table t (a int);\n" + "".join(f"create role {name} login;\n" for name in accounts))
        server.run("".join(f"create role {name} {'noinherit' if number else 'createrole'};\n" for number, name in enumerate(groups)))
        server.run('create role "o""dd name" superuser;\ngrant "o""dd name" to g1;\ngrant pg_execute_server_program to g2;\ngrant g2 to g3')
        server.run("grant g1 to p0;\ngrant g2 to p0, p1;\ngrant g3 to p2 with admin option")
        groups.append('o"dd name')

        def survey() -> None:
            fidelitas("survey", "--postgresql", server.parameters(), "--name", "db", cwd=tmp_path)

        survey()
        turned = [
            judged(tmp_path, survey, lambda commands: server.run(";\n".join(commands)), *options)
            for options in changes(chance, accounts, groups)
        ]
    assert any(turned)


def test_roles_of_mariadb(need: Callable[..., None], tmp_path: Path, folder: Path) -> None:
    need("mariadbd", root=True)
    chance = random.Random(2)
    with mariadb_server.scratch_server(folder) as server:
        accounts = ["ann", "bob", "c's", "d\\e", "eve"]
        texts = [name.replace("\\", "\\\\").replace("'", "''") for name in accounts]
        server.run(*(f"create user '{name}'@'{host}' identified by 'made-up'" for name in texts for host in ("%", "localhost")))
        server.run(
            *(f"create role g{number}" for number in range(4)), "grant super on *.* to g0", "grant file on *.* to g1", "grant g1 to g2"
        )
        server.run("grant select, update on *.* to g3", "grant g0 to ann@localhost", "grant g2 to bob@'%'")
        groups = [f"g{number}" for number in range(4)]

        def survey() -> None:
            fidelitas("survey", "--mariadb", server.uri, "--name", "db", cwd=tmp_path)

        survey()
        turned = [
            judged(tmp_path, survey, lambda commands: commands and server.run(*commands), *options)
            for options in changes(chance, accounts, groups)
        ]
    assert any(turned)


def test_groups_of_openldap_on_a_host_that_asks_it(need: Callable[..., None], tmp_path: Path, folder: Path) -> None:
    """Groups of every kind that a Unix host takes from a directory: by names, by DNs, by unique DNs, nested; with names that need care."""
    need("ldapmodify", root=True)
    chance = random.Random(13)
    people = [f"p{number}" for number in range(8)]
    text = f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\ndc: saltmarsh\no: Observatory\n\n"
    for number, name in enumerate(people):
        odd = ("", "Wächter ", "\\, ", "a\\+b ")[number % 4]
        text += (
            f"dn: cn={odd}{name},{BASE}\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\nuid: {name}\nsn: x\ncn: x\n"
            f"uidNumber: {20000 + number}\ngidNumber: {20000 + number}\nhomeDirectory: /home/{name}\nloginShell: /bin/sh\n\n"
        )
    kinds = ("posixGroup", "groupOfNames", "groupOfUniqueNames", "groupOfNames")
    for number, kind in enumerate(kinds):
        filler = {"groupOfNames": f"member: cn=admin,{BASE}\n", "groupOfUniqueNames": f"uniqueMember: cn=admin,{BASE}\n"}.get(kind, "")
        inner = f"member: cn=g3,{BASE}\n" if number == 1 else ""
        extra = "" if kind == "posixGroup" else "objectClass: extensibleObject\n"
        text += f"dn: cn=g{number},{BASE}\nobjectClass: {kind}\n{extra}cn: g{number}\ngidNumber: {30000 + number}\n{filler}{inner}\n"
    nsswitch = {"/etc/nsswitch.conf": Put("passwd: files sss\ngroup: files sss\nshadow: files\n")}
    host = handed_in(tmp_path, sudoers="%g0 ALL=(ALL) ALL\n%g1 ALL=/bin/a\n%g2 ALL=/bin/b\n%g3 ALL=/bin/c\n", files=nsswitch)
    with scratch_slapd(folder) as server:
        server.load(text)

        def survey() -> None:
            fidelitas("survey", "--directory", server.uri, "--name", "saltmarsh", cwd=tmp_path, env={"LDAP_PASSWORD": "admin-pw"})

        def make(commands: list[str]) -> None:
            if commands:
                server.load("\n\n".join(commands) + "\n", change=True)

        fidelitas("survey", host, cwd=tmp_path)
        survey()
        turned = [judged(tmp_path, survey, make, *options) for options in changes(chance, people, ["g0", "g1", "g2", "g3"])]
    assert any(turned)


def test_groups_of_a_domain(need: Callable[..., None], tmp_path: Path, folder: Path) -> None:
    need("samba", "ip", "ldapmodify", root=True)
    if not Path(samba_domain.PROGRAM).exists():
        pytest.skip("Samba is not installed (apt-get install samba-ad-dc samba-ad-provision)")
    chance = random.Random(4)
    with samba_domain.scratch_domain(folder) as domain:
        bind = ["-x", "-H", f"ldap://{domain.host}", "-D", domain.bind, "-w", domain.password]

        def load(text: str) -> None:
            ran = subprocess.run(["ldapmodify", *bind], input=text, text=True, capture_output=True, check=False, timeout=60)
            assert ran.returncode == 0, ran.stderr

        base, people = samba_domain.BASE, [f"p{number}" for number in range(6)]
        for number, name in enumerate(people):
            odd = ("", "Łódź ", "x\\, ")[number % 3]
            load(f"dn: CN={odd}{name},CN=Users,{base}\nchangetype: add\nobjectClass: user\nsAMAccountName: {name}\n")
        for number in range(3):
            load(f"dn: CN=g{number},CN=Users,{base}\nchangetype: add\nobjectClass: group\nsAMAccountName: g{number}\n")
        for outer, inner in (("Domain Admins", "g0"), ("g0", "g1"), ("Schema Admins", "g2")):
            load(f"dn: CN={outer},CN=Users,{base}\nchangetype: modify\nadd: member\nmember: CN={inner},CN=Users,{base}\n")

        def survey() -> None:
            uri = f"ldap://{domain.host}/{base}?tls=off&bind={domain.bind}"
            fidelitas("survey", "--directory", uri, "--name", "tides", cwd=tmp_path, env={"LDAP_PASSWORD": domain.password})

        survey()

        def make(commands: list[str]) -> None:
            for one in commands:
                load(one + "\n")

        groups = ["g0", "g1", "g2", "Domain Admins", "Backup Operators"]
        turned = [judged(tmp_path, survey, make, *options) for options in changes(chance, people, groups)]
    assert any(turned)


def test_groups_of_a_host(need: Callable[..., None], tmp_path: Path, folder: Path) -> None:
    """gpasswd(1) changes the files of a host that stand in for this machine's, where nothing else sees them."""
    need("unshare", "gpasswd", root=True)
    chance, etc = random.Random(12), folder
    files = {"passwd": PASSWD, "group": GROUP + "docker:x:120:tomas\n", "shadow": SHADOW, "gshadow": ""}
    for name, text in files.items():
        (etc / name).write_text(text)
    (etc / "login.defs").write_text("")

    def survey() -> None:
        current = {f"/etc/{name}": Put((etc / name).read_text()) for name in ("passwd", "group", "shadow")}
        fidelitas("survey", handed_in(tmp_path, sudoers="%sudo ALL=(ALL) ALL\n", files=current), cwd=tmp_path)

    def make(commands: list[str]) -> None:
        script = "\n".join([f"mount --bind {etc} /etc", *commands])
        if commands:
            subprocess.run(["unshare", "--mount", "sh", "-ec", script], check=True, capture_output=True, timeout=60)

    survey()
    turned = [
        judged(tmp_path, survey, make, *options)
        for options in changes(chance, ["ines", "tomas", "rada", "vesna"], ["sudo", "docker", "gauges"])
    ]
    assert any(turned)
