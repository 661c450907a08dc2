"""A real domain controller as the judge of nesting: its own in-chain matching rule, and the groups that it puts into a log-on."""

import os
import random
import warnings
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from directory_host import MEMBER, SSSD, WINBIND, Daemon, as_member
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
# Settings of a member of the domain; JUDGE_ESTATES makes more of them.
SEEDS = max(int(os.environ.get("JUDGE_ESTATES", "20")) // 10, 2)
ODD = ["", "L\\, Q ", "\\#x ", 'q\\"q ', "a\\+b ", "Łódź é ", "a  b ", "x\\;y "]


@pytest.fixture(scope="module")
def domain(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Domain]:
    if not Path(PROGRAM).exists():
        pytest.skip("Samba is not installed (apt-get install samba-ad-dc samba-ad-provision)")
    with scratch_domain(tmp_path_factory.mktemp("dc"), files=True) as running:
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


def draw(connection: Any, graph: int, kinds: tuple[int, ...] = (-2147483646, -2147483646, -2147483640, 2, 8)) -> None:
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
        kind = chance.choice(kinds) if odd else -2147483646
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
    rows = accounts_here(domain, configuration, tmp_path)
    ours = {row["account"]: sorted(group["name"] for group in row["groups"]) for row in rows}
    assert len(truth) == len(graphs) * PEOPLE
    assert {name: ours.get(name) for name in truth} == {name: one[2] for name, one in truth.items()}
    assert not {name for name in names if name in ours} - set(truth)


def accounts_here(domain: Domain, configuration: str, folder: Path, daemon: Daemon = SSSD) -> list[dict[str, Any]]:
    """Return the rows of accounts of a host with a configuration of what looks accounts up, surveyed as the domain has been."""
    files = {
        daemon.path.removeprefix("etc/"): configuration,
        "nsswitch.conf": f"passwd: files {daemon.source}\ngroup: files {daemon.source}\n",
        "passwd": "root:x:0:0::/root:/bin/sh\n",
    }
    for name, content in {**files, "group": "root:x:0:\n", "sudoers": "root ALL=(ALL) ALL\n"}.items():
        path = folder / "root/etc" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)
    uri = f"ldap://{domain.host}/?tls=off&bind={domain.bind}"
    fidelitas("survey", "--root", folder / "root", "--name", "tern", cwd=folder)
    fidelitas("survey", "--directory", uri, "--name", "tides", cwd=folder, env={"LDAP_PASSWORD": domain.password})
    return list(fidelitas("accounts", "tern", "--format", "json", cwd=folder).json["accounts"])


REALM = "tides.saltmarsh.example"


def of_a_member(chance: random.Random, graph: int) -> tuple[str, str]:
    """Return settings of [sssd] and [nss], and of the domain."""
    general: list[str] = []
    lines: list[str] = []

    def perhaps(listed: list[str], share: float, *texts: str) -> None:
        if chance.random() < share:
            listed.append(chance.choice(texts))

    perhaps(general, 0.2, f"default_domain_suffix = {REALM}")
    perhaps(general, 0.3, "override_space = _", "override_space = ^")
    perhaps(general, 0.3, "full_name_format = %1$s@%2$s", "full_name_format = %3$s\\%1$s", "full_name_format = %1$s@%3$s")
    general.append("[nss]")
    perhaps(general, 0.3, f"filter_users = root, p{graph}-3, p{graph}-4", f"filter_users = p{graph}-1@{REALM}")
    perhaps(general, 0.3, f"filter_groups = root, g{graph}-2, domain admins", f"filter_groups = g{graph}-1@{REALM}")
    perhaps(lines, 0.4, "use_fully_qualified_names = True", *([] if "default" in general[0] else ["use_fully_qualified_names = False"]))
    perhaps(lines, 0.3, "case_sensitive = Preserving", "case_sensitive = false")
    perhaps(lines, 0.3, f"ldap_group_search_base = CN=Users,{BASE}", f"ldap_group_search_base = {BASE}?subtree?(!(cn=g{graph}-5))")
    perhaps(lines, 0.3, "ldap_use_tokengroups = false", "ldap_use_tokengroups = true")
    if "ldap_use_tokengroups = false" in lines:  # else sssd does not read the groups of an account that it leaves out
        perhaps(lines, 0.5, f"ldap_user_search_base = CN=Users,{BASE}?subtree?(!(cn=p{graph}-7))")
    perhaps(lines, 0.2, "override_gid = 6999", "auto_private_groups = true")
    perhaps(lines, 0.2, "ldap_idmap_range_size = 100000", "ldap_idmap_range_min = 1000000\nldap_idmap_range_max = 2001000000")
    group = f"CN=g{graph}-0,CN=Users,{BASE}"
    perhaps(
        lines, 0.9, "access_provider = permit", "access_provider = deny", "access_provider = ad\nad_gpo_access_control = disabled",
        f"access_provider = ad\nad_gpo_access_control = disabled\nad_access_filter = (memberOf={group})",
        f"access_provider = ad\nad_gpo_access_control = disabled\nad_access_filter = (memberOf:{IN_CHAIN}:={group})",
        f"access_provider = ad\nad_gpo_access_control = disabled\nad_access_filter = DOM:{REALM}:(|(sAMAccountName=p{graph}-1*)(sAMAccountName=*5))",
        f"access_provider = simple\nsimple_allow_groups = G{graph}-1, domain admins",
        f"access_provider = simple\nsimple_deny_groups = g{graph}-1@{REALM}\nsimple_deny_users = P{graph}-2",
        f"access_provider = simple\nsimple_allow_users = p{graph}-1, TIDES\\p{graph}-2",
    )  # fmt: skip
    return "\n".join(general), "\n".join(lines)


@pytest.fixture(scope="module")
def keytab(domain: Domain, tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = tmp_path_factory.mktemp("keys") / "keytab"
    domain.keytab("tern", made)
    return made


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
@pytest.mark.parametrize("seed", range(SEEDS))
def test_a_member_of_the_domain_has_what_sssd_gives_it(
    seed: int, domain: Domain, connection: Any, keytab: Path, tmp_path: Path, need: Callable[..., None]
) -> None:
    """Names and numbers as they are made there, the names of groups, and who is refused.

    Through a group for distribution within another sssd gives groups or not, by what it has looked up before: they are said to be there.
    """
    need("sssd", "sss_cache", root=True)
    graph = GRAPHS + 2 + seed
    draw(connection, graph, (-2147483646, -2147483640, -2147483644, 2, 8) if seed % 2 else (-2147483646, -2147483640, -2147483644))
    chance = random.Random(seed)
    names = [f"p{graph}-{number}{ending}" for number in range(PEOPLE) for ending in ("", "$")]
    for name in chance.sample(names, 6):
        connection.search(BASE, f"(sAMAccountName={name})", attributes=["userAccountControl"])
        for found in (one for one in connection.response if one["type"] == "searchResEntry"):
            control = found["attributes"]["userAccountControl"] ^ 2
            connection.modify(found["dn"], {"userAccountControl": [(ldap3.MODIFY_REPLACE, [control])]})
    general, lines = of_a_member(chance, graph)
    configuration = MEMBER.configuration.format(keytab=keytab, nss=general, domain=lines)
    as_member(tmp_path / "host", domain.host)
    asks = [f"{name}@{REALM}" for name in names]
    truth, _ = asked_of_host(tmp_path / "host", MEMBER, configuration, f"Administrator@{REALM}", asks, [], rounds=2)
    rows = accounts_here(domain, configuration, tmp_path)
    mine = {row["account"]: (row["number"], row["can_log_in"] is not False) for row in rows if f"p{graph}-" in row["account"]}
    assert len(truth) > PEOPLE // 2, configuration
    assert mine == {name: (f"{one[0]}:{one[1]}", one[3]) for name, one in truth.items()}, (general, lines)
    groups = {row["account"]: {group["name"] for group in row["groups"]} for row in rows}
    missed = {name: set(one[2]) - groups[name] for name, one in truth.items()}
    more = {name: groups[name] - set(one[2]) for name, one in truth.items()}
    assert not any(missed.values()), (general, lines, missed)
    assert seed % 2 or not any(more.values()), (general, lines, more)


def of_winbind(chance: random.Random) -> str:
    """Return settings of smb.conf: how names are written, and how numbers are made of SIDs."""
    lines = ["idmap config * : backend = tdb", "idmap config * : range = 3000-7999", "winbind cache time = 1"]
    for share, texts in (
        (1, ["idmap config TIDES : backend = rid\nidmap config TIDES : range = 10000-999999", "idmap config tides:backend = rid\nidmap config tides:range = 2000000 - 2100000"]),
        (0.5, ["winbind use default domain = yes", "winbind use default domain = no"]),
        (0.3, ["winbind separator = +"]),
        (0.4, ["winbind normalize names = yes"]),
    ):  # fmt: skip
        if chance.random() < share:
            lines.append(chance.choice(texts))
    return "\n".join(lines)


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
@pytest.mark.parametrize("seed", range(SEEDS))
def test_a_member_of_the_domain_has_what_winbind_gives_it(
    seed: int, domain: Domain, connection: Any, tmp_path: Path, need: Callable[..., None]
) -> None:
    """Names as they are written there, numbers by idmap_rid(8), and the groups of a logon."""
    need("winbindd", "net", root=True)
    graph = GRAPHS + 2 + SEEDS + seed
    draw(connection, graph)
    chance = random.Random(seed)
    lines = of_winbind(chance)
    configuration = WINBIND.configuration.format(domain=lines)
    as_member(tmp_path / "host", domain.host, domain.password)
    separator = "+" if "separator = +" in lines else "\\"
    asks = [f"TIDES{separator}p{graph}-{number}{ending}" for number in range(PEOPLE) for ending in ("", "$")]
    truth, _ = asked_of_host(tmp_path / "host", WINBIND, configuration, f"TIDES{separator}Administrator", asks, [])
    rows = accounts_here(domain, configuration, tmp_path, WINBIND)
    ours = {row["account"]: (row["number"], sorted(group["name"] for group in row["groups"])) for row in rows}
    assert len(truth) > PEOPLE // 2, (lines, (tmp_path / "host/log").read_text()[-2000:])
    assert {name: what for name, what in ours.items() if f"p{graph}-" in name} == {
        name: (f"{one[0]}:{one[1]}", one[2]) for name, one in truth.items()
    }, lines


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
