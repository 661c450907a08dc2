"""Directories: groups by number and not by name, nesting at any depth, and hosts that take accounts and groups from them; with a real server."""

import base64
import random
import re
import struct
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.audit import audit
from fidelitas.checks.directory import CHECKS
from fidelitas.checks.directory_control import CONTROL_CHECKS
from fidelitas.distinguished_names import folded
from fidelitas.languages.directory import read_directory, sid_of
from fidelitas.ledger import Ledger
from fidelitas.platforms import findings_on
from fidelitas.reports.subjects import words_of
from fidelitas.rights import DirectoryRights, directory_rights_of
from fidelitas.rights.graph.links import Mechanism
from fidelitas.sources.directory import from_directory, from_ldif
from slapd_server import BASE, Slapd, scratch_slapd
from support import Put, bundle, fidelitas

DOMAIN = (21, 1, 2, 3)


def sid(*numbers: int) -> str:
    return base64.b64encode(bytes([1, len(numbers)]) + (5).to_bytes(6, "big") + struct.pack(f"<{len(numbers)}I", *numbers)).decode()


PERMITS = "nTSecurityDescriptor: O:DAD:(A;;GA;;;DA)(A;;GA;;;SY)\n"


def group(name: str, *members: str, number: tuple[int, ...] = (*DOMAIN, 1200), extra: str = "") -> str:
    lines = "".join(f"member: cn={member}, {BASE.upper()}\n" for member in members)
    return f"dn: cn={name},{BASE}\nobjectClass: group\ncn: {name}\nobjectSid:: {sid(*number)}\n{lines}{extra}{PERMITS}\n"


def person(name: str, extra: str = "", number: int = 1100) -> str:
    return f"dn: cn={name},{BASE}\nobjectClass: user\ncn: {name}\nsAMAccountName: {name}\nobjectSid:: {sid(*DOMAIN, number)}\n{extra}{PERMITS}\n"


def rights(text: str) -> DirectoryRights:
    return directory_rights_of(read_directory(from_ldif(text.encode(), "saltmarsh").bundle))


LDIF = (
    group("Domänen-Admins", "ines", "Dienst", number=(*DOMAIN, 512)) + group("Dienst", "Bereitschaft") + group("Bereitschaft", "tomas", "Dienst")
    + group("Sicherung", "rada", number=(32, 551)) + group("Domain Admins", "kofi", number=(*DOMAIN, 1300))
    + person("ines", "userAccountControl: 66048\nadminCount: 1\n") + person("tomas", "userAccountControl: 514\n") + person("rada", "userAccountControl: 4194816\n")
    + person("kofi", "userAccountControl: 512\nadminCount: 1\n") + person("prim", "primaryGroupID: 512\nuserAccountControl: 524800\nservicePrincipalName: http/x\n")
    + person("vesna", "userPassword: {SSHA}made-up\nunicodePwd:: bWFkZS11\n cA==\nuserAccountControl: 512\n")
)  # fmt: skip


def test_administrative_groups_are_known_by_number_and_members_at_any_depth() -> None:
    found = rights(LDIF)
    admins = {str(holding.principal): len(holding.routes[0].links) for holding in found.holdings}
    assert admins == {"ines": 2, "tomas": 4, "prim": 2, "rada": 2, "%Domänen-Admins": 1, "%Dienst": 2, "%Bereitschaft": 3, "%Sicherung": 1}
    told = {(finding.check, finding.about) for finding in findings_on(found)}
    assert told == {
        ("directory.disabled-administrator", "tomas"), ("directory.password-never-expires", "ines"), ("directory.no-preauthentication", "rada"),
        ("directory.delegation", "prim"), ("directory.service-administrator", "prim"), ("directory.former-administrator", "kofi"),
    }  # fmt: skip
    assert {check.name for check in CHECKS if check not in CONTROL_CHECKS} - {check for check, _ in told} == {
        "directory.idle-administrator", "directory.everyone-administrator",
    }  # fmt: skip
    assert set(found.belongs_to("tomas")) == {"%Bereitschaft", "%Dienst", "%Domänen-Admins"}
    assert not found.gaps


def test_no_password_is_copied_and_lines_keep_their_numbers(tmp_path: Path) -> None:
    (tmp_path / "saltmarsh.ldif").write_text(LDIF)
    ran = fidelitas("survey", "saltmarsh.ldif", cwd=tmp_path)
    assert ran.status == 0, ran.err
    kept = from_ldif(LDIF.encode(), "x").bundle.listings["entries"]
    assert b"made-up" not in kept
    assert b"bWFkZS11" not in kept
    assert kept.count(b"\n") == LDIF.count("\n")
    why = fidelitas("why", "tomas", cwd=tmp_path).out
    line = 1 + LDIF.splitlines().index(f"member: cn=tomas, {BASE.upper()}")
    assert f"saltmarsh:entries:{line}" in why
    assert "tomas → %Bereitschaft: is in group Bereitschaft" in why
    assert "administers every machine of the domain (Domain Admins)" in why
    assert "tomas" in fidelitas("holders", "--right", "directory-admin", cwd=tmp_path).out


def test_a_directory_group_in_a_sudo_rule_is_resolved_through_on_every_host() -> None:
    directory = (
        f"dn: uid=nils,{BASE}\nobjectClass: posixAccount\nuid: nils\ncn: Nils\nuidNumber: 20001\ngidNumber: 20001\nhomeDirectory: /home/nils\nloginShell: /bin/bash\n\n"
        f"dn: cn=oncall,{BASE}\nobjectClass: groupOfNames\ncn: oncall\nmember: uid=nils,{BASE}\n\n"
        f"dn: cn=ops,{BASE}\nobjectClass: groupOfNames\nobjectClass: posixGroup\ncn: ops\ngidNumber: 30001\nmember: cn=oncall,{BASE}\nmember: uid=gone,{BASE}\n\n"
    )
    nsswitch = {"/etc/nsswitch.conf": Put("passwd: files sss\ngroup: files sss\nshadow: files\n")}
    host = bundle("%ops ALL=(ALL) ALL\n", nsswitch)
    found = audit([host, from_ldif(directory.encode(), "saltmarsh").bundle])
    assert "nils" in {str(holding.principal) for holding in found.hosts[0].holdings if str(holding.right) == "root"}
    (route,) = next(
        holding for holding in found.hosts[0].holdings if str(holding.principal) == "nils" and str(holding.right) == "root"
    ).routes
    assert [str(link.target) for link in route.links] == ["%oncall", "%ops", "root"]
    assert "nils" not in {str(holding.principal) for holding in audit([host]).hosts[0].holdings}


def test_sudo_rules_of_a_directory_are_in_force_where_a_host_asks_it_and_in_the_order_it_asks() -> None:
    directory = from_ldif(
        (
            f"dn: cn=ops,{BASE}\nobjectClass: sudoRole\ncn: ops\nsudoUser: tomas\nsudoHost: ALL\nsudoCommand: ALL\nsudoRunAsUser: ALL\n\n"
            f"dn: cn=no,{BASE}\nobjectClass: sudoRole\ncn: no\nsudoUser: rada\nsudoHost: ALL\nsudoCommand: !ALL\nsudoRunAsUser: ALL\nsudoOrder: 9\n"
        ).encode(),
        "saltmarsh",
    ).bundle

    def rooted(sources: str) -> tuple[set[str], int]:
        services = Put(f"passwd: files\ngroup: files\nshadow: files\nsudoers: {sources}\n")
        (host,) = audit([bundle("rada ALL=(ALL) ALL\n", {"/etc/nsswitch.conf": services}), directory]).hosts
        people = {
            holding.principal.name
            for holding in host.holdings
            if str(holding.right) == "root" and Mechanism.SUDO in {link.mechanism for link in holding.routes[0].links}
        }
        return people & {"tomas", "rada"}, sum("sudoers entries" in gap.what for gap in host.gaps)

    assert rooted("files") == ({"rada"}, 0)
    assert rooted("files sss") == ({"tomas"}, 0)  # what the directory says comes later, and takes rada's away
    assert rooted("ldap files") == ({"tomas", "rada"}, 0)
    assert rooted("files nis") == ({"rada"}, 1)


def test_members_of_other_domains_and_members_that_are_told_in_part() -> None:
    text = group(
        "Admins",
        number=(*DOMAIN, 512),
        extra=f"member: CN=S-1-5-11,CN=ForeignSecurityPrincipals,{BASE}\nmember;range=0-1: cn=ines,{BASE}\n",
    ) + person("ines")
    found = rights(text)
    assert {str(holding.principal) for holding in found.holdings} == {"%Admins", "ines", "Authenticated Users"}
    assert [(gap.what, gap.why) for gap in found.gaps] == [("members of Admins", "its members are listed up to number 1 and go on")]
    assert "directory.everyone-administrator" in {finding.check for finding in findings_on(found)}
    assert not rights(text.replace("range=0-1", "range=0-*")).gaps


def test_an_administrator_who_is_never_there() -> None:
    ticks = 134_000_000_000_000_000  # in August 2025
    found = rights(group("Admins", "ines", number=(*DOMAIN, 512)) + person("ines", f"lastLogonTimestamp: {ticks}\n"))
    assert [finding.check for finding in findings_on(found)] == ["directory.idle-administrator"]
    assert words_of(found).about(found, "ines")[0] == "account, last logon 2025-08-18"


@given(
    st.lists(st.tuples(st.integers(0, 7), st.integers(0, 7)), max_size=25),
    st.lists(st.tuples(st.integers(0, 3), st.integers(0, 7)), max_size=8),
)
def test_nesting_of_any_shape(inner: list[tuple[int, int]], members: list[tuple[int, int]]) -> None:
    """Cycles too: anyone who is in group 0 by any chain is an administrator, and nobody else."""
    held: dict[int, list[str]] = {number: [] for number in range(8)}
    for child, parent in inner:
        held[parent].append(f"g{child}")
    for one, parent in members:
        held[parent].append(f"p{one}")
    text = "".join(group(f"g{number}", *names, number=(*DOMAIN, 512 if number == 0 else 1200 + number)) for number, names in held.items())
    found = rights(text + "".join(person(f"p{number}", number=1100 + number) for number in range(4)))
    reached, agenda = {"g0"}, ["g0"]
    for name in agenda:
        new = set(held[int(name[1:])]) - reached if name.startswith("g") else set()
        reached |= new
        agenda += sorted(new)
    assert {holding.principal.name for holding in found.holdings} == reached


def test_ten_thousand_groups_in_a_row_are_followed_and_told_in_brief() -> None:
    depth = 10_000
    rows = [group("g0", "g1", number=(*DOMAIN, 512))]
    rows += [
        group(f"g{number}", f"g{number + 1}" if number < depth else "ines", number=(*DOMAIN, 2000 + number))
        for number in range(1, depth + 1)
    ]
    found = rights("".join(rows) + person("ines"))
    (held,) = [holding for holding in found.holdings if str(holding.principal) == "ines"]
    assert (len(held.routes[0].links), str(held.strength)) == (2, "direct")
    assert held.routes[0].links[1].because == "10001 further links lead on to it, more than are listed"
    assert len(list(found.belongs_to("ines"))) == depth + 1
    near = next(holding for holding in found.holdings if str(holding.principal) == "%g90")
    assert len(near.routes[0].links) == 91


@given(st.binary(max_size=300), st.text(max_size=60))
def test_any_object_is_survived(content: bytes, name: str) -> None:
    rights(LDIF + name)
    directory_rights_of(read_directory(from_ldif(b"dn: cn=x\nobjectClass: user\nobjectSid:: " + content, "x").bundle)).holdings  # noqa: B018
    sid_of(name)


# -- a real server ---------------------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def slapd(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Slapd]:
    with scratch_slapd(tmp_path_factory.mktemp("slapd")) as running:
        yield running


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
def test_what_a_real_server_gives_is_what_was_put_into_it(slapd: Slapd) -> None:
    """Twelve hundred people, more than a page, in random nested groups; over LDAP as from the server's own export."""
    chance = random.Random(4)
    text = f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\ndc: saltmarsh\no: Observatory\n\n"
    for number in range(1200):
        text += (
            f"dn: uid=p{number},{BASE}\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\nuid: p{number}\ncn: Präfix {number}\nsn: x\nuidNumber: {20000 + number}\n"
            f"gidNumber: {20000 + number}\nhomeDirectory: /home/p{number}\nuserPassword: made-up-{number}\n\n"
        )
    held: dict[str, list[str]] = {}
    for number in range(40):
        inner = [f"cn=g{one}" for one in chance.sample(range(40), 3)]
        held[f"g{number}"] = [*inner, *(f"uid=p{one}" for one in chance.sample(range(1200), 10))]
        members = "".join(f"member: {one},{BASE}\n" for one in held[f"g{number}"])
        text += f"dn: cn=g{number},{BASE}\nobjectClass: groupOfNames\ncn: g{number}\n{members}\n"
    slapd.load(text)
    direct = from_directory(slapd.uri, "saltmarsh", "admin-pw")
    exported = subprocess.run(["/usr/sbin/slapcat", "-f", slapd.folder / "slapd.conf"], capture_output=True, check=True, timeout=60).stdout
    for collected in (direct, from_ldif(exported, "saltmarsh")):
        assert b"made-up" not in collected.archive
        assert not re.search(rb"(?m)^userPassword(?!: present)", collected.archive)
        found = directory_rights_of(read_directory(collected.bundle))
        assert (len(found.facts.accounts), len(found.facts.groups)) == (1200, 40)
        assert not found.gaps
        told = {one.name: {member.dn.partition(",")[0] for member, _ in found.members(one)} for one in found.facts.groups}
        assert told == {name: set(members) for name, members in held.items()}


@pytest.fixture
def ready(need: Callable[..., None]) -> None:
    need("ldapadd", "ldapsearch", root=True)


@pytest.mark.parametrize(
    ("uri", "status", "message"),
    [
        ("ldaps://x:secret@dc/", 2, "names no directory"),
        ("http://dc", 2, "names no directory"),
        ("ldap://127.0.0.1:1/dc=x", 4, 'could not read directory "ldap://127.0.0.1:1/dc=x"'),
    ],
)
def test_directories_that_cannot_be_read_are_one_clear_line(tmp_path: Path, uri: str, status: int, message: str) -> None:
    ran = fidelitas("survey", "--directory", uri, cwd=tmp_path)
    assert (ran.status, ran.err.count("\n")) == (status, 1), ran.err
    assert message in ran.err
    assert "secret" not in ran.err


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
def test_a_wrong_password_is_one_clear_line(slapd: Slapd, tmp_path: Path) -> None:
    ran = fidelitas("survey", "--directory", slapd.uri, cwd=tmp_path, env={"LDAP_PASSWORD": "wrong"})
    assert (ran.status, ran.err.count("\n")) == (4, 1), ran.err
    assert "invalidCredentials" in ran.err


# -- identities ------------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("CN=a\\,b,DC=x", "cn=a\\2cb, dc=X"), ('CN="a,b",DC=x', "cn=a\\,b,dc=x"), ("CN=Lu\\C4\\8Di\\C4\\87,DC=x", "cn=Lučić,dc=x"),
        ("OU=Sales+CN=J. Smith,O=W", "cn=J.  Smith + ou=sales , o=w"), ("2.5.4.3=x,DC=y", "cn=x,dc=y"), ("OID.2.5.4.3=x", "cn=X"),
        ("CN=#0403666F6F,DC=y", "cn=foo,dc=y"), ("CN=\\ a\\ ,DC=x", "cn=a,dc=x"), ("cn=é,dc=x", "cn=e\u0301,dc=x"), ("uid=a;dc=x", "UID=A,DC=X"),
        ("CN=a\\+b,DC=x", "cn=a\\2bb,dc=x"), ("cn=x \\  ,dc=y", "cn=x,dc=y"),
    ],
)  # fmt: skip
def test_equal_names_are_equal_however_they_are_written(one: str, other: str) -> None:
    assert folded(one) == folded(other)
    assert folded(folded(one)) == folded(one)


@pytest.mark.parametrize(
    ("one", "other"), [("cn=a\\,b,dc=x", "cn=a,b,dc=x"), ("cn=a\\\\,dc=x", "cn=a\\,dc=x"), ("cn=a+ou=b", "cn=a\\+ou\\=b")]
)
def test_names_that_differ_stay_apart(one: str, other: str) -> None:
    assert folded(one) != folded(other)


@given(st.text(max_size=30))
def test_any_text_has_a_form_and_one_only(text: str) -> None:
    assert folded(text) == folded(f" {text} " if not text.endswith("\\") else text) or "\\" in text or '"' in text
    folded(text)


OTHER = "dc=tides,dc=example"


def two_domains() -> str:
    """Return an export of two domains, in each of which there is a tomas: one is disabled, the other an administrator."""
    here, there = (21, 1, 2, 3), (21, 9, 9, 9)
    return (
        f"dn: cn=Domain Admins,{BASE}\nobjectClass: group\ncn: Domain Admins\nobjectSid:: {sid(*here, 512)}\nmember: cn=tomas,{OTHER}\n"
        f"member: cn=S-1-5-21-9-9-9-1200,cn=ForeignSecurityPrincipals,{BASE}\n\n"
        f"dn: cn=tomas,{BASE}\nobjectClass: user\nsAMAccountName: tomas\nobjectSid:: {sid(*here, 1100)}\nuserAccountControl: 514\n\n"
        f"dn: cn=tomas,{OTHER}\nobjectClass: user\nsAMAccountName: tomas\nobjectSid:: {sid(*there, 1100)}\nuserAccountControl: 512\n\n"
        f"dn: cn=rada,{OTHER}\nobjectClass: user\nsAMAccountName: rada\nobjectSid:: {sid(*there, 1200)}\nprimaryGroupID: 512\n\n"
        f"dn: cn=TIDES,cn=Partitions,cn=Configuration,{BASE}\nobjectClass: crossRef\nnETBIOSName: TIDES\ndnsRoot: tides.example\n\n"
    )


def test_two_accounts_of_one_name_are_two(tmp_path: Path) -> None:
    found = rights(two_domains())
    assert {str(one.principal) for one in found.holdings} == {"%Domain Admins", "tomas@tides.example", "rada"}
    assert not findings_on(found)  # the disabled one is the other
    (tmp_path / "two.ldif").write_text(two_domains())
    assert fidelitas("survey", "two.ldif", cwd=tmp_path).status == 0
    for name, said in (("tomas", True), ("TIDES\\tomas", False), ("tides\\Tomas", False), ("tomas@tides.example", False)):
        ran = fidelitas("holders", "--account", name, "--format", "csv", cwd=tmp_path)
        assert (ran.status, "tomas@tides.example" in ran.out, "can mean" in ran.err) == (0, True, said), name
    assert fidelitas("holders", "--account", "tomas@saltmarsh.example", "--format", "csv", cwd=tmp_path).out.count("\n") == 1
    assert "tomas@tides.example" in fidelitas("why", "TIDES\\tomas", cwd=tmp_path).out
    # A primary group is one of the account's own domain: rada is no administrator of this one by it, and is as the stand-in's SID says.
    routes = next(one.routes for one in found.holdings if str(one.principal) == "rada")
    assert [len(route.links) for route in routes] == [2]
    assert routes[0].links[0].place.line == 6


# Each: the objects, and who is an administrator by them.
GROUPS: dict[str, tuple[str, set[str]]] = {
    "a distribution group ends every chain": (
        group("DA", "list", number=(*DOMAIN, 512)) + group("list", "ines", extra="groupType: 2\n") + person("ines"), {"%DA"},
    ),
    "a security group does not": (
        group("DA", "list", number=(*DOMAIN, 512)) + group("list", "ines", extra="groupType: -2147483646\n") + person("ines"),
        {"%DA", "%list", "ines"},
    ),
    "a machine and a managed service account": (
        group("DA", "WS1", "gmsa", number=(*DOMAIN, 512))
        + f"dn: cn=WS1,{BASE}\nobjectClass: computer\nsAMAccountName: WS1$\nobjectSid:: {sid(*DOMAIN, 1500)}\n\n"
        + f"dn: cn=gmsa,{BASE}\nobjectClass: msDS-GroupManagedServiceAccount\nobjectClass: computer\nsAMAccountName: svc$\n\n",
        {"%DA", "WS1$", "svc$"},
    ),
    "a contact logs on nowhere": (group("DA", "shop", number=(*DOMAIN, 512)) + f"dn: cn=shop,{BASE}\nobjectClass: contact\ncn: shop\n\n", {"%DA"}),
    "a role of an open directory": (
        group("DA", "cron", number=(*DOMAIN, 512)) + f"dn: cn=cron,{BASE}\nobjectClass: organizationalRole\ncn: cron\n\n", {"%DA", "cron"},
    ),
    "everyone, by a stand-in": (
        group("DA", number=(*DOMAIN, 512), extra=f"member: CN=S-1-5-11,CN=ForeignSecurityPrincipals,{BASE}\n"), {"%DA", "Authenticated Users"},
    ),
    "an account of the cloud": (
        group("DA", number=(*DOMAIN, 512), extra=f"member: CN=S-1-12-1-1-2-3-4,CN=ForeignSecurityPrincipals,{BASE}\n"),
        {"%DA", "S-1-12-1-1-2-3-4 (Entra ID)"},
    ),
    "by what an account says of itself": (group("DA", number=(*DOMAIN, 512)) + person("ines", f"memberOf: CN=DA, {BASE}\n"), {"%DA", "ines"}),
    "of a group whose object is not there": (person("ines", f"memberOf: CN=Domain Admins,CN=Users,{BASE}\n"), {"%Domain Admins", "ines"}),
}  # fmt: skip


@pytest.mark.parametrize(("text", "administrators"), GROUPS.values(), ids=GROUPS)
def test_who_is_an_administrator(text: str, administrators: set[str]) -> None:
    found = rights(text)
    assert {str(one.principal) for one in found.holdings} == administrators
    assert not found.gaps


def test_groups_with_lesser_powers_are_rights_of_their_own(tmp_path: Path) -> None:
    text = (
        group("Schema-Admins", "ines", number=(*DOMAIN, 518)) + group("DnsAdmins", "tomas", number=(*DOMAIN, 1105))
        + group("Sicherung", "rada", number=(32, 551)) + group("DA", "kofi", number=(*DOMAIN, 512))
        + "".join(map(person, ("ines", "tomas", "rada", "kofi")))
    )  # fmt: skip
    held = {(str(one.principal), str(one.right)) for one in rights(text).holdings if not str(one.principal).startswith("%")}
    assert held == {
        ("ines", "directory-admin:schema-admins"), ("tomas", "directory-admin:dns-admins"), ("rada", "directory-admin:backup-operators"),
        ("kofi", "directory-admin"),
    }  # fmt: skip
    (tmp_path / "x.ldif").write_text(text)
    fidelitas("survey", "x.ldif", cwd=tmp_path)
    for right, count in (("directory-admin", 8), ("directory-admin:schema-admins", 2)):
        rows = fidelitas("holders", "--right", right, "--each", "--format", "csv", cwd=tmp_path).out.splitlines()[1:]
        assert len({row.split(",")[1] for row in rows}) == count, right


def test_members_that_are_not_in_evidence_are_gaps_and_loud_where_they_administer(tmp_path: Path) -> None:
    text = group("DA", "gone", "inner", number=(*DOMAIN, 512)) + group("inner", "lost") + group("list", "a", "b", "c")
    (tmp_path / "x.ldif").write_text(text)
    fidelitas("survey", "x.ldif", cwd=tmp_path)
    assert fidelitas("findings", cwd=tmp_path).status == 3
    assert "gaps" in fidelitas("holders", cwd=tmp_path).err
    gaps = {(gap.what, gap.weakens) for gap in rights(text).gaps}
    administers = "who administers the directory: the group leads to that"
    assert gaps == {("members of DA", administers), ("members of inner", administers), ("members of groups", "who is in these groups")}
    assert any("3 members of 1 group are not in evidence" in gap.why for gap in rights(text).gaps)


def test_delegation_of_member_servers_is_found_and_that_of_domain_controllers_is_how_they_work() -> None:
    def machine(name: str, control: int) -> str:
        return f"dn: cn={name},{BASE}\nobjectClass: computer\nsAMAccountName: {name}$\nuserAccountControl: {control}\n\n"

    found = findings_on(rights(machine("DC1", 532480) + machine("WEB1", 528384)))
    assert [(one.check, one.about) for one in found] == [("directory.delegation", "WEB1$")]


@pytest.mark.parametrize("form", ["utf-16", "utf-16-le", "utf-16-be", "utf-8-sig"])
def test_an_export_in_another_form_of_text_is_read(form: str, tmp_path: Path) -> None:
    (tmp_path / "x.ldif").write_bytes(LDIF.encode(form))
    ran = fidelitas("survey", "x.ldif", cwd=tmp_path)
    assert ran.status == 0, ran.err
    assert "%Domänen-Admins" in fidelitas("holders", "--format", "csv", cwd=tmp_path).out


# -- which directory a host asks -------------------------------------------------------------------------------------------------------

SSS = {"/etc/nsswitch.conf": Put("passwd: files sss\ngroup: files sss\n")}
SSSD = "[sssd]\ndomains = {domains}\n[domain/corp]\nid_provider = ldap\nldap_search_base = DC=Corp, DC=example\n[domain/tides.example]\nid_provider = ad\n"


def unix_directory(realm: str, member: str) -> str:
    base = ",".join(f"dc={part}" for part in realm.split("."))
    return (
        f"dn: uid={member},ou=people,{base}\nobjectClass: posixAccount\nuid: {member}\nuidNumber: 20001\ngidNumber: 20001\n\n"
        f"dn: cn=ops,{base}\nobjectClass: posixGroup\ncn: ops\ngidNumber: 30001\nmemberUid: {member}\n\n"
    )


@pytest.mark.parametrize(
    ("files", "expected"),
    [
        ({"/etc/sssd/sssd.conf": SSSD.format(domains="corp")}, "nils"),
        ({"/etc/sssd/sssd.conf": SSSD.format(domains="tides.example")}, "rosa"),
        ({"/etc/sssd/sssd.conf": SSSD.format(domains="tides.example, corp")}, "rosa nils"),
        ({"/etc/sssd/sssd.conf": "[sssd]\n", "/etc/sssd/conf.d/a.conf": "[domain/x]\nenabled = true\nid_provider = ad\nad_domain = CORP.example\n"}, "nils"),
        ({"/etc/nslcd.conf": "# base dc=corp,dc=example\nbase passwd dc=tides,dc=example\n"}, "rosa"),
        ({"/etc/ldap/ldap.conf": "BASE\tdc=corp,dc=example\nURI ldap://x\n"}, "nils"),
        ({"/etc/samba/smb.conf": "[global]\n  realm = TIDES.EXAMPLE\n"}, "rosa"),
        ({"/etc/sssd/sssd.conf": "[sssd]\ndomains = far\n[domain/far]\nid_provider = ad\n"}, None),
        ({}, None),
    ],
)  # fmt: skip
def test_each_host_takes_the_directory_that_its_files_name(files: dict[str, str], expected: str | None) -> None:
    directories = [from_ldif(unix_directory(*one).encode(), one[0]).bundle for one in (("corp.example", "nils"), ("tides.example", "rosa"))]
    found = audit([bundle("%ops ALL=(ALL) ALL\n", {**SSS, **files}), *directories]).hosts[0]
    assert {str(one.principal) for one in found.holdings if str(one.right) == "root"} & {"nils", "rosa"} == (
        set(expected.split()) if expected else set()
    )


def test_the_only_directory_is_not_taken_by_a_host_that_names_another() -> None:
    corp = from_ldif(unix_directory("corp.example", "nils").encode(), "corp").bundle
    for files, takes in (({}, True), ({"/etc/samba/smb.conf": "realm = TIDES.EXAMPLE\n"}, False)):
        host = audit([bundle("%ops ALL=(ALL) ALL\n", {**SSS, **files}), corp]).hosts[0]
        assert ("nils" in {str(one.principal) for one in host.holdings}) is takes


def test_of_files_that_name_a_directory_no_password_is_read(tmp_path: Path) -> None:
    root = tmp_path / "root"
    for path, content in {
        "etc/hostname": "knot\n", "etc/nsswitch.conf": "passwd: files sss\n", "etc/passwd": "root:x:0:0::/root:/bin/sh\n", "etc/group": "root:x:0:\n",
        "etc/sssd/sssd.conf": "[sssd]\ndomains = corp\n[domain/corp]\nldap_default_authtok = hunter2\nldap_search_base = dc=corp\n",
        "etc/nslcd.conf": "bindpw hunter2\nbase dc=corp\n", "etc/ldap/ldap.conf": "ROOTPW hunter2\nBASE dc=x\n",
    }.items():  # fmt: skip
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(content)
    assert fidelitas("survey", "--root", "root", cwd=tmp_path).status in (0, 1, 3)
    (evidence,) = Ledger(tmp_path / "ledger").bundles()
    assert evidence.files["/etc/sssd/sssd.conf"] == b"[sssd]\ndomains = corp\n[domain/corp]\n\nldap_search_base = dc=corp\n"
    assert not any(b"hunter2" in content for content in evidence.files.values())
    assert evidence.files["/etc/nslcd.conf"] == b"\nbase dc=corp\n"
