"""Access rules of OpenLDAP, held against a real server: who can add himself to a group or set a password is who leads to root on a host.

Random rules: by accounts, groups, subtrees and everyone, levels and privileges, that stop, go on and break; every account then binds and tries.
"""

import random
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from fidelitas.facts import Place
from fidelitas.languages.ldap.server_configuration import read_server_configuration
from fidelitas.masking.server_configuration import only_rules
from slapd_server import BASE, Slapd, scratch_slapd
from support import Put, fidelitas
from test_cli import handed_in

pytestmark = pytest.mark.judge

ROUNDS, PEOPLE, GROUPS, TARGETS, RULES = 4, 10, 4, 6, 7
PASSWORD = "made-up"


def person(name: str, number: int, unit: str) -> str:
    return (
        f"dn: uid={name},ou={unit},{BASE}\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\nuid: {name}\nsn: x\ncn: {name}\nuserPassword: {PASSWORD}\n"
        f"uidNumber: {number}\ngidNumber: {number}\nhomeDirectory: /home/{name}\nloginShell: /bin/sh\n\n"
    )


def group(name: str, number: int, unit: str, members: list[str]) -> str:
    listed = "".join(f"member: {one}\n" for one in members)
    return f"dn: cn={name},ou={unit},{BASE}\nobjectClass: groupOfNames\nobjectClass: extensibleObject\ncn: {name}\ngidNumber: {number}\n{listed}\n"


class Drawn:
    """People and groups of a directory, targets that lead to root on a host, and rules about these."""

    def __init__(self, number: int) -> None:
        chance = random.Random(number)
        self.people = [f"uid=p{one},ou=people,{BASE}" for one in range(PEOPLE)]
        self.groups = {f"cn=g{one},ou=groups,{BASE}": chance.sample(self.people, 3) for one in range(GROUPS)}
        self.targets = [
            f"cn=tg{one},ou={chance.choice('ab')},{BASE}" if one % 2 else f"uid=tp{one},ou={chance.choice('ab')},{BASE}"
            for one in range(TARGETS)
        ]
        self._chance = chance
        first = [
            f'to dn.subtree="ou={unit},{BASE}" attrs=userPassword,member,memberUid by anonymous auth by users read'
            for unit in ("people", "groups")
        ]
        self.rules = [
            *first,
            *(self._rule() for _ in range(RULES)),
            chance.choice(["to * by users read by anonymous auth", "to attrs=userPassword by anonymous auth"]),
        ]

    def _rule(self) -> str:
        chance = self._chance
        what = chance.choice([
            "*", f'dn.exact="{chance.choice(self.targets)}"', f'dn.base="{chance.choice(self.targets)}"', f'dn.subtree="ou={chance.choice("ab")},{BASE}"',
            f'dn.one="ou={chance.choice("ab")},{BASE}"', f'dn.children="ou=a,{BASE}"', f'dn.exact="ou=a,{BASE}"',
        ])  # fmt: skip
        attributes = chance.choice(["", "", " attrs=member", " attrs=userPassword", " attrs=userPassword,member", " attrs=cn"])
        by = [self._by() for _ in range(chance.randint(1, 4))]
        return f"to {what}{attributes if what != '*' or attributes else ''} {' '.join(by)}"

    def _by(self) -> str:
        chance = self._chance
        who = chance.choice([
            "*", "users", "self", "anonymous", *(f'dn.exact="{one}"' for one in chance.sample(self.people, 4)),
            *(f'group.exact="{one}"' for one in chance.sample(sorted(self.groups), 3)), f'dn.subtree="ou=people,{BASE}"', f'dn.children="ou=a,{BASE}"',
        ])  # fmt: skip
        access = chance.choice(
            ["write", "write", "write", "read", "none", "manage", "add", *("selfwrite",) * 4, "selfadd", "=rscxw", "=rscx", "+w", "-w", ""]
        )
        control = chance.choice(["", "", "", " stop", " continue", " break"])
        return f"by {who} {access}{control}".strip()

    def text(self) -> str:
        units = "".join(f"dn: ou={unit},{BASE}\nobjectClass: organizationalUnit\nou: {unit}\n\n" for unit in ("people", "groups", "a", "b"))
        text = f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\ndc: saltmarsh\no: Observatory\n\n{units}"
        text += "".join(person(f"p{one}", 20000 + one, "people") for one in range(PEOPLE))
        text += "".join(
            group(dn.partition(",")[0][3:], 30000 + at, "groups", members) for at, (dn, members) in enumerate(self.groups.items())
        )
        for at, dn in enumerate(self.targets):
            name, unit = dn.partition(",")[0].partition("=")[2], dn.partition("ou=")[2][0]
            text += group(name, 40000 + at, unit, [f"cn=admin,{BASE}"]) if name.startswith("tg") else person(name, 50000 + at, unit)
        return text


def can(server: Slapd, person: str, target: str) -> bool:
    """Return whether someone can really add himself to a group, in either way that it lists members, or set the password of an account."""
    name = person.partition(",")[0].removeprefix("uid=")
    if target.startswith("uid="):
        return _does(server, person, f"dn: {target}\nchangetype: modify\nreplace: userPassword\nuserPassword: {PASSWORD}\n")
    for attribute, value in (("member", person), ("memberUid", name)):
        change = f"dn: {target}\nchangetype: modify\n{{}}: {attribute}\n{attribute}: {value}\n"
        if _does(server, person, change.format("add")):
            server.load(change.format("delete"), change=True)
            return True
    return False


def _does(server: Slapd, person: str, change: str) -> bool:
    bind = ["ldapmodify", "-x", "-H", f"ldap://127.0.0.1:{server.port}", "-D", person, "-w", PASSWORD]
    done = subprocess.run(bind, input=change, text=True, capture_output=True, check=False, timeout=60)
    assert done.returncode in (0, 50), done.stderr  # 50 is insufficient access
    return done.returncode == 0


# 23 and 24 have clauses about the own DN and attributes that hold none.
@pytest.mark.parametrize("number", [*range(ROUNDS), 23, 24])
def test_who_comes_to_root_by_the_rules_of_a_server_is_who_can(
    number: int, need: Callable[..., None], tmp_path: Path, tmp_path_factory: pytest.TempPathFactory
) -> None:
    need("ldapmodify", root=True)
    drawn = Drawn(number)
    names = [dn.partition(",")[0].partition("=")[2] for dn in drawn.targets]
    policy = "".join(f"{'%' if name.startswith('tg') else ''}{name} ALL=(ALL) ALL\n" for name in names)
    nsswitch = {"/etc/nsswitch.conf": Put("passwd: files sss\ngroup: files sss\nshadow: files\n")}
    access = "\n".join(f"access {rule}" for rule in drawn.rules)
    with scratch_slapd(tmp_path_factory.mktemp("slapd"), access) as server:
        server.load(drawn.text())
        fidelitas("survey", "--directory", server.uri, "--name", "saltmarsh", cwd=tmp_path, env={"LDAP_PASSWORD": "admin-pw"})
        fidelitas("survey", handed_in(tmp_path, sudoers=policy, files=nsswitch), cwd=tmp_path)
        rows = fidelitas("holders", "--on", "knot", "--right", "root", "--each", "--format", "json", cwd=tmp_path).json["holdings"]
        exported = subprocess.run(["/usr/sbin/slapcat", "-f", server.folder / "slapd.conf"], capture_output=True, check=True, timeout=60)
        by_file = _by_file(exported.stdout, server.folder / "slapd.conf", tmp_path, [policy, nsswitch])
        able = {person: [target for target in drawn.targets if can(server, person, target)] for person in drawn.people}
    assert [(row["holder"]["name"], row["strength"]) for row in by_file] == [(row["holder"]["name"], row["strength"]) for row in rows]
    sure = {row["holder"]["name"] for row in rows if row["strength"] != "conditional"}
    everyone = any(name.startswith("Authenticated Users") for name in sure)
    expected = {person.partition(",")[0].removeprefix("uid=") for person, targets in able.items() if targets}
    ours = {f"p{one}" for one in range(PEOPLE)} if everyone else {name for name in sure if name.startswith("p")}
    shown = {
        name: [
            link["rule"]
            for row in rows
            if row["holder"]["name"] == name
            for route in row["routes"]
            for link in route["links"]
            if link["rule"]
        ]
        for name in sorted(sure)
    }
    assert ours == expected, "\n".join((access, *map(str, able.items()), *map(str, shown.items())))


def _by_file(export: bytes, configuration: Path, folder: Path, host: list[Any]) -> list[Any]:
    """Return the same holdings from what slapcat exports and the server's own file."""
    (there := folder / "by-file").mkdir()
    (there / "saltmarsh.ldif").write_bytes(export)
    text = configuration.read_text()
    middle = text.index("access ") if "access " in text else len(text)
    odd = text[:middle] + text[middle:].replace(" by ", " \\\n   by ", 1).replace(" by ", "\n\tby ")
    (there / "slapd.conf").write_text(odd)
    fidelitas("survey", "saltmarsh.ldif", "--access-rules", "slapd.conf", cwd=there)
    fidelitas("survey", handed_in(there, sudoers=host[0], files=host[1]), cwd=there)
    return list(fidelitas("holders", "--on", "knot", "--right", "root", "--each", "--format", "json", cwd=there).json["holdings"])


@pytest.mark.parametrize(("rule", "undecided"), [
    ("to * by dnattr=owner write by * read", True), ('to * by set="this/owner & user" write', True), ('to * by dn.regex="^uid=a.*" write', True),
    ('to filter="(cn=a)" by users write', True), ("to * by dnattr=owner read by users write", False), ("to * by users selfwrite", False),
])  # fmt: skip
def test_a_rule_that_cannot_be_decided_is_a_gap(rule: str, undecided: bool, tmp_path: Path) -> None:
    text = f"dn: dc=example\nobjectClass: domain\n\ndn: olcDatabase={{1}}mdb,cn=config\nobjectClass: olcDatabaseConfig\nolcDatabase: {{1}}mdb\nolcSuffix: dc=example\nolcAccess: {{0}}{rule}\n"
    (tmp_path / "tides.ldif").write_text(text)
    fidelitas("survey", "tides.ldif", cwd=tmp_path)
    ran = fidelitas("coverage", "--format", "json", cwd=tmp_path)
    gaps = [gap for one in ran.json["subjects"] for gap in one["gaps"] if gap["what"] == "access rules of the server"]
    assert bool(gaps) is undecided, ran.out


FILE = """\
# access to * by * write
\tby * write
include /etc/ldap/schema/core.schema
include /etc/ldap/more.conf
access to dn.subtree="ou=a,dc=x"\r
   by users read
rootpw global-secret
Database mdb
rootdn "cn=ad min,dc=x"
rootpw {SSHA}abc \\
def
suffix   "dc=x"
rootpw
  secret-on-the-next-line
access to attrs=userPassword by self write by * auth
access to * "by" dn.exact="cn=b c,dc=x" write \\
 by * read

   by * write
database frontend
access to * by anonymous none
database monitor
"""


def test_a_configuration_file_of_a_server_is_read_without_its_passwords() -> None:
    kept = only_rules(FILE)
    assert kept.count("\n") == FILE.count("\n")
    assert not any(secret in kept for secret in ("secret", "SSHA", "def", "global"))
    servers, gaps = read_server_configuration(kept, Place("saltmarsh", "slapd.conf"))
    told = [(one.general, one.root, one.suffixes, [(rule.place.line, rule.dn, len(rule.by)) for rule in one.rules]) for one in servers]
    assert told == [
        (True, "", (), [(5, "ou=a,dc=x", 1)]),
        (False, "cn=ad min,dc=x", ("dc=x",), [(15, "", 2), (16, "", 2)]),
        (True, "", (), [(21, "", 1)]),
    ]
    assert [gap.place.line for gap in gaps if gap.place] == [4]
    assert read_server_configuration(FILE, Place("saltmarsh", "slapd.conf"))[0] == servers


@pytest.mark.parametrize(("arguments", "why"), [
    (["slapd.conf", "--access-rules", "slapd.conf"], "not a tar archive"), ([".", "--access-rules", "no.conf"], "not a regular file"),
    (["a.ldif", "b.ldif", "--access-rules", "slapd.conf"], "is for one directory"), (["a.ldif", "--access-rules", "no.conf"], "no.conf"),
])  # fmt: skip
def test_access_rules_without_a_directory_are_one_clear_line(arguments: list[str], why: str, tmp_path: Path) -> None:
    (tmp_path / "slapd.conf").write_text(FILE)
    (tmp_path / "a.ldif").write_text("dn: dc=x\nobjectClass: domain\n")
    ran = fidelitas("survey", *arguments, cwd=tmp_path)
    assert ran.status in (2, 4), ran.err
    assert why in ran.err, ran.err
