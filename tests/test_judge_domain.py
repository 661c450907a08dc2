"""A real domain controller as the judge of nesting: its own in-chain matching rule, and the groups that it puts into a log-on."""

import random
import warnings
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from directory_host import SSSD
from directory_host import asked as asked_of_host
from fidelitas.facts import DirectoryKind
from fidelitas.languages.directory import read_directory, sid_of
from fidelitas.platforms import findings_on
from fidelitas.rights import DirectoryRights, directory_rights_of
from fidelitas.sources.directory import from_directory
from samba_domain import BASE, PROGRAM, Domain, scratch_domain
from support import fidelitas

with warnings.catch_warnings():
    warnings.simplefilter("ignore", DeprecationWarning)
    import ldap3

IN_CHAIN = "1.2.840.113556.1.4.1941"
PEOPLE, GROUPS, GRAPHS, PLAIN = 40, 24, 5, 3
ODD = ["", "L\\, Q ", "\\#x ", 'q\\"q ', "a\\+b ", "Łódź é ", "a  b ", "x\\;y "]


@pytest.fixture(scope="module")
def domain(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Domain]:
    if not Path(PROGRAM).exists():
        pytest.skip("Samba is not installed (apt-get install samba-ad-dc samba-ad-provision)")
    with scratch_domain(tmp_path_factory.mktemp("dc")) as running:
        yield running


@pytest.fixture
def ready(need: Callable[..., None]) -> None:
    need("samba", "ip", root=True)


@pytest.fixture
def connection(domain: Domain) -> Iterator[Any]:
    with ldap3.Connection(ldap3.Server(domain.host), domain.bind, domain.password, raise_exceptions=True) as opened:
        yield opened


def surveyed(domain: Domain) -> DirectoryRights:
    collected = from_directory(f"ldap://{domain.host}/?tls=off&bind={domain.bind}", "tides", domain.password)
    return directory_rights_of(read_directory(collected.bundle))


def draw(connection: Any, graph: int) -> None:
    """Random groups in groups, with cycles, some within administrative groups; primary groups that no list of members tells.

    Of the later graphs some groups are for distribution alone, some members are machines, and the names are odd.
    """
    chance = random.Random(graph)
    odd = graph >= PLAIN
    people = [f"CN={chance.choice(ODD) if odd else ''}p{graph}-{number},CN=Users,{BASE}" for number in range(PEOPLE)]
    groups = [f"CN={chance.choice(ODD) if odd else ''}g{graph}-{number},CN=Users,{BASE}" for number in range(GROUPS)]
    for number, dn in enumerate(people):
        machine = odd and number % 5 == 0
        connection.add(dn, "computer" if machine else "user", {"sAMAccountName": f"p{graph}-{number}{'$' if machine else ''}"})
    for number, dn in enumerate(groups):
        kind = chance.choice([-2147483646, -2147483646, -2147483640, 2, 8]) if odd else -2147483646
        connection.add(dn, "group", {"sAMAccountName": f"g{graph}-{number}", "groupType": kind})
    administrative = (f"CN=Domain Admins,CN=Users,{BASE}", f"CN=Administrators,CN=Builtin,{BASE}", f"CN=Backup Operators,CN=Builtin,{BASE}")
    for inner in groups:
        for outer in {*chance.sample(groups, chance.randint(0, 3)), *chance.sample(administrative, chance.random() < 0.15)} - {inner}:
            connection.modify(outer, {"member": [(ldap3.MODIFY_ADD, [inner])]})
    for person in people:
        own = chance.sample(groups, chance.randint(0, 3))
        for group in own:
            connection.modify(group, {"member": [(ldap3.MODIFY_ADD, [person])]})
        if own and chance.random() < 0.3 and not odd:
            connection.search(own[0], "(objectClass=*)", "BASE", attributes=["primaryGroupToken"])
            token = connection.response[0]["attributes"]["primaryGroupToken"]
            connection.modify(person, {"primaryGroupID": [(ldap3.MODIFY_REPLACE, [token])]})


def asked(connection: Any, query: str, attribute: str = "sAMAccountName") -> list[dict[str, Any]]:
    found = connection.extend.standard.paged_search(BASE, query, attributes=[attribute], paged_size=200, generator=True)
    return [one for one in found if one["type"] == "searchResEntry"]


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
def test_nesting_is_what_the_domain_controller_says(domain: Domain, connection: Any) -> None:
    for graph in range(GRAPHS):
        draw(connection, graph)
    found = surveyed(domain)
    assert not found.gaps
    ours = {name: set(found.belongs_to(name)) for name in found.accounts}
    # By the rule, which knows lists of members alone: whom it names is in the group; whom it does not is so by a primary group.
    by_primary = {one.name for one in found.facts.accounts if one.primary_rid not in (None, 513)}
    drawn = [group for group in found.facts.groups if group.name.startswith("g") or (group.sid or "").endswith(("-512", "-544", "-551"))]
    assert len(drawn) == GRAPHS * GROUPS + 3
    for group in (one for one in drawn if one.name.startswith(tuple(f"g{graph}-" for graph in range(PLAIN)))):
        names = {
            one["attributes"]["sAMAccountName"] for one in asked(connection, f"(&(objectCategory=person)(memberOf:{IN_CHAIN}:={group.dn}))")
        }
        held = {name for name, groups in ours.items() if f"%{group.name}" in groups}
        assert names <= held, group.name
        assert held - names <= by_primary, group.name
    # By the groups of a log-on, which know primary groups, too.
    sids = {group.sid: f"%{group.name}" for group in found.facts.groups}
    checked = 0
    for name, account in found.accounts.items():
        if account.kind is DirectoryKind.FOREIGN:
            continue
        connection.search(account.dn, "(objectClass=*)", "BASE", attributes=["tokenGroups"])
        token = {
            sids[sid]
            for raw in connection.response[0]["raw_attributes"]["tokenGroups"]
            if (sid := sid_of(raw.decode("utf-8", "surrogateescape"))) in sids
        }
        assert ours[name] == token, name
        checked += 1
    assert checked >= GRAPHS * PEOPLE


ON_A_HOST = """\
[sssd]
domains = tides.saltmarsh.example
services = nss, pam
[domain/tides.saltmarsh.example]
id_provider = ldap
auth_provider = none
access_provider = permit
ldap_uri = ldap://{host}
ldap_schema = ad
ldap_id_mapping = true
ldap_search_base = {base}
ldap_default_bind_dn = {bind}
ldap_default_authtok = {password}
ldap_id_use_start_tls = false
ldap_referrals = false
ldap_group_nesting_level = 9
"""


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
def test_a_host_has_the_accounts_of_a_domain_that_sssd_gives_it(
    domain: Domain, connection: Any, tmp_path: Path, need: Callable[..., None]
) -> None:
    """By name, with the names of their groups; its user IDs are made of SIDs and not known."""
    need("sssd", root=True)
    graphs = (GRAPHS, GRAPHS + 1)
    for graph in graphs:
        draw(connection, graph)
    configuration = ON_A_HOST.format(host=domain.host, base=BASE, bind=domain.bind, password=domain.password)
    names = [f"p{graph}-{number}{ending}" for graph in graphs for number in range(PEOPLE) for ending in ("", "$")]
    truth, _ = asked_of_host(tmp_path / "host", SSSD, configuration, "Administrator", names, [])
    files = {
        "sssd/sssd.conf": configuration,
        "nsswitch.conf": "passwd: files sss\ngroup: files sss\n",
        "passwd": "root:x:0:0::/root:/bin/sh\n",
    }
    for name, content in {**files, "group": "root:x:0:\n", "sudoers": "root ALL=(ALL) ALL\n"}.items():
        path = tmp_path / "root/etc" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)
    fidelitas("survey", "--root", tmp_path / "root", "--name", "tern", cwd=tmp_path)
    uri = f"ldap://{domain.host}/?tls=off&bind={domain.bind}"
    fidelitas("survey", "--directory", uri, "--name", "tides", cwd=tmp_path, env={"LDAP_PASSWORD": domain.password})
    rows = fidelitas("accounts", "tern", "--format", "json", cwd=tmp_path).json["accounts"]
    ours = {row["account"]: sorted(group["name"] for group in row["groups"]) for row in rows}
    assert len(truth) == len(graphs) * PEOPLE
    assert {name: ours.get(name) for name in truth} == {name: one[2] for name, one in truth.items()}
    assert not {name for name in names if name in ours} - set(truth)


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
def test_states_of_accounts_as_a_domain_controller_keeps_them(domain: Domain, connection: Any) -> None:
    states = {"s-disabled": 514, "s-never": 66048, "s-noauth": 4194816, "s-delegates": 524800, "s-service": 512}
    for name, control in states.items():
        dn = f"CN={name},CN=Users,{BASE}"
        more = {"servicePrincipalName": "MSSQLSvc/db.tides.saltmarsh.example:1433"} if name == "s-service" else {}
        connection.add(dn, "user", {"sAMAccountName": name, "unicodePwd": '"Made-up-pw!2"'.encode("utf-16-le"), **more})
        connection.modify(dn, {"userAccountControl": [(ldap3.MODIFY_REPLACE, [control])]})
        if name in ("s-disabled", "s-never", "s-service"):
            connection.modify(f"CN=Domain Admins,CN=Users,{BASE}", {"member": [(ldap3.MODIFY_ADD, [dn])]})
    connection.modify(
        f"CN=Administrators,CN=Builtin,{BASE}", {"member": [(ldap3.MODIFY_ADD, [f"CN=S-1-5-11,CN=ForeignSecurityPrincipals,{BASE}"])]}
    )
    told = {
        (one.check.removeprefix("directory."), one.about) for one in findings_on(surveyed(domain)) if one.about.startswith(("s-", "Auth"))
    }
    assert told == {
        ("disabled-administrator", "s-disabled"), ("password-never-expires", "s-never"), ("no-preauthentication", "s-noauth"),
        ("delegation", "s-delegates"), ("service-administrator", "s-service"), ("everyone-administrator", "Authenticated Users"),
    }  # fmt: skip


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
@pytest.mark.parametrize(
    ("query", "password", "message"),
    [
        ("tls=off&bind=CN=Administrator,CN=Users," + BASE, "wrong", "invalidCredentials"),
        ("tls=off", None, "operationsError"),
        ("bind=CN=Administrator,CN=Users," + BASE, "Made-up-pw!1", "certificate"),
    ],
)
def test_what_a_domain_controller_refuses_is_one_clear_line(
    domain: Domain, tmp_path: Path, query: str, password: str | None, message: str
) -> None:
    env = {"LDAP_PASSWORD": password} if password else {}
    ran = fidelitas("survey", "--directory", f"ldap://{domain.host}/{BASE}?{query}", cwd=tmp_path, env=env)
    assert (ran.status, ran.err.count("\n")) == (4, 1), ran.err
    assert message in ran.err
