"""Many hosts and one directory: what is shared must be what each would be told by itself."""

import base64
import json
import pickle
import tracemalloc
from collections.abc import Iterable, Mapping
from datetime import timedelta
from io import BytesIO
from pathlib import Path

import pytest
from msgspec.structs import replace

from fidelitas.audit import InMemory, audit, judged, rights_in
from fidelitas.evidence import Bundle, make_bundle, make_rows_bundle, read_bundle
from fidelitas.facts import Account, Directory, DirectoryGroup, DirectoryMember, Password, PasswordState, Place
from fidelitas.judging import Context
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.linux.host import read_host
from fidelitas.ledger import Ledger
from fidelitas.platforms import PLATFORMS, findings_on
from fidelitas.reports.documents import holding_document
from fidelitas.reports.findings import findings_document
from fidelitas.rights import HostRights, rights_of
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.estate.overlay import FirstHost, HostOverlay, OwnDetails
from fidelitas.rights.estate.renaming import renamed
from fidelitas.rights.linux.host import policy_of
from fidelitas.rights.linux.population import populate
from fidelitas.rights.linux.sudo import EquivalenceClasses, grants
from fidelitas.sources.directory import from_ldif
from policy_writer import ACCOUNTS, GROUPS, PolicyWriter
from support import GROUP, NOW, PASSWD, Put, bundle

USES_DIRECTORY = {"/etc/nsswitch.conf": "passwd: files sss\ngroup: files sss\n"}


def directory(groups: Mapping[str, list[str]], uids: Mapping[str, int] | None = None, gids: Mapping[str, int] | None = None) -> Directory:
    """Return a directory with the groups, whose members are people, or groups where they are written with a "%"."""
    names = uids or {name: 5000 + n for n, name in enumerate(sorted({m for ms in groups.values() for m in ms if not m.startswith("%")}))}
    place = Place(subject="saltmarsh", path="directory.ldif")
    password = Password(state=PasswordState.SHADOWED)
    people = tuple(
        Account(name=name, password=password, uid=uid, gid=9, comment="", home="/", shell="/bin/sh", place=place)
        for name, uid in names.items()
    )
    made = tuple(
        DirectoryGroup(
            name=name,
            gid=gids[name] if gids else 7000 + number,
            members=tuple(
                DirectoryMember(name=one.strip("%"), is_group=one.startswith("%"), place=place.at(number + 1)) for one in members
            ),
            place=place.at(number + 1),
        )
        for number, (name, members) in enumerate(groups.items())
    )
    return Directory(subject="saltmarsh", accounts=people, groups=made)


def told(rights: HostRights) -> set[tuple[str, str, int, str | None]]:
    return {(str(one.principal), str(one.right), one.strength, one.routes[0].asks) for one in rights.holdings}


def shown(rights: HostRights) -> list[object]:
    return [holding_document(rights, holding) for holding in rights.holdings]


# -- groups within groups ----------------------------------------------------------------------------------------------------------


def test_a_directory_group_is_resolved_through_at_any_depth_with_every_link_cited() -> None:
    groups = {"wardens": ["%keepers", "ada"], "keepers": ["%crew", "bo"], "crew": ["cy", "%wardens"], "others": ["cy", "%keepers"]}
    host = rights_of(read_host(bundle("%wardens ALL=(ALL) ALL\n", USES_DIRECTORY)), Nesting(directory(groups)))
    assert {"%wardens", "ada", "bo", "cy"} == {str(one.principal) for one in host.holdings if str(one.right) == "root"} - {"root"}
    cy = next(one for one in host.held_by("cy") if str(one.right) == "root")
    assert [[str(link.target) for link in route.links] for route in cy.routes] == [["%crew", "%keepers", "%wardens", "root"]]
    assert [str(link.place) for link in cy.routes[0].links] == [
        "saltmarsh:directory.ldif:3",
        "saltmarsh:directory.ldif:2",
        "saltmarsh:directory.ldif:1",
        "knot:/etc/sudoers:1:1",
    ]


def test_every_group_of_an_account_that_leads_on_is_a_route_of_its_own() -> None:
    groups = {"wardens": ["%days", "%nights"], "days": ["cy"], "nights": ["cy"]}
    host = rights_of(read_host(bundle("%wardens ALL=(ALL) ALL\n", USES_DIRECTORY)), Nesting(directory(groups)))
    held = next(one for one in host.held_by("cy") if str(one.right) == "root")
    assert [str(route.links[0].target) for route in held.routes] == ["%days", "%nights"]


def test_a_host_that_does_not_ask_the_directory_knows_nobody_of_it() -> None:
    host = rights_of(read_host(bundle("%wardens ALL=(ALL) ALL\n")), Nesting(directory({"wardens": ["cy"]})))
    assert not host.held_by("cy")


def test_a_local_account_hides_that_of_the_directory_and_a_local_group_may_list_one() -> None:
    files = USES_DIRECTORY | {"/etc/group": GROUP.replace("sudo:x:27:ines", "sudo:x:27:ines,cy")}
    people = Nesting(directory({"wardens": ["ines", "cy"]}))
    host = rights_of(read_host(bundle("%wardens ALL=(ALL) ALL\n%sudo ALL=(tomas) ALL\n", files)), people)
    assert {str(one.right) for one in host.held_by("ines")} == {"run-as:tomas"}
    assert {str(one.right) for one in host.held_by("cy")} == {"root", "run-as:tomas"}


@pytest.mark.parametrize("seed", range(40))
def test_people_of_a_directory_hold_what_they_would_hold_as_local_accounts(seed: int) -> None:
    """The same accounts and groups, once in the host's files, once in a directory; a policy with every feature."""
    writer = PolicyWriter(seed)
    files = writer.files()
    people = {name: uid for name, uid in ACCOUNTS.items() if uid}
    passwd = files["/etc/passwd"]
    for name, uid in people.items():
        passwd = passwd.replace(f":x:{uid}:{writer.primary[name]}:", f":x:{uid}:9:")
    local = files | USES_DIRECTORY | {"/etc/shadow": None, "/etc/passwd": passwd}
    remote = local | {"/etc/passwd": "root:x:0:0::/tmp:/bin/sh\ntoor:x:0:0::/tmp:/bin/sh\n", "/etc/group": "root:x:0:\n"}
    groups = {name: [one for one in writer.members[name] if one in people] for name in GROUPS if name != "root"}
    local["/etc/group"] = "root:x:0:\n" + "".join(f"{name}:x:{GROUPS[name]}:{','.join(who)}\n" for name, who in groups.items())
    lent = rights_of(read_host(bundle(files["/etc/sudoers"], remote)), Nesting(directory(groups, people, GROUPS)))
    assert told(lent) == told(rights_of(read_host(bundle(files["/etc/sudoers"], local))))


# -- accounts and hosts that are alike ---------------------------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(60))
def test_accounts_of_a_class_are_given_the_same(seed: int) -> None:
    facts = read_host(bundle(None, PolicyWriter(seed).files()))
    population = populate(facts)
    policy = policy_of(facts, population)
    alike = EquivalenceClasses(policy)
    given: dict[object, object] = {}
    for who in (one for one in population.effective if one.uid):
        about = {number for rule in alike.rules_about(who) for number in alike.targets_of(rule)}
        for number, targets in enumerate(alike.targets):
            for target in (one for one in targets if one.name != who.name):
                grant = [(g.rule.place, g.leaf.command, g.asks, g.conditions) for g in grants(policy, who, target, NOW)]
                assert given.setdefault((alike.invoker(who), number), grant) == grant
                assert not grant or number in about


def test_a_primary_group_id_that_no_group_has_counts_for_sudo_and_so_here() -> None:
    passwd = PASSWD + "odd:x:2000:9999::/:/bin/sh\n"
    host = rights_of(read_host(bundle("%#9999 ALL=(ALL) ALL\n", {"/etc/passwd": passwd})))
    (held,) = host.held_by("odd")
    first = held.routes[0].links[0]
    assert (first.because, str(first.place)) == ("9999 is its primary group ID", "knot:/etc/passwd:7:1")


def hosts() -> list[Bundle]:
    """Hosts of one content but for names, addresses, times and processes; some of that matters to the policy."""
    sudoers = (
        "ines knot=(ALL) ALL\ntomas tern*, 10.1.0.0/16=(ALL) ALL\nrada ALL=(ALL) NOTAFTER=20261121000000Z ALL\n"
        "%sudo ALL=(vesna) NOPASSWD: ALL\nvesna ALL=(root) /usr/bin/vim *\n@include sudoers.gone\n"
    )
    first = bundle(sudoers, {"/etc/passwd": PASSWD + "guest::2000:2000::/:/bin/sh\n"})
    ways = [("knot", 0, "10.2.0.1/24"), ("plover", 0, "10.2.0.2/24"), ("dunlin", 1, "10.2.0.3/24"), ("tern1", 2, "10.2.0.4/24"),
            ("curlew", 3, "10.1.0.5/16"), ("redshank", 0, "10.9.9.9/8"), ("tern2", 1, "10.2.0.6/24")]  # fmt: skip
    return [
        replace(
            first,
            manifest=replace(first.manifest, subject=name, taken=NOW + timedelta(days=days), addresses=(address,)),
            files={**first.files, "/etc/hostname": f"{name}\n".encode()},
        )
        for name, days, address in ways
    ]


def judged_hosts(evidence: Iterable[Bundle]) -> list[HostRights]:
    return [one for one in judged(evidence) if isinstance(one, HostRights)]


def test_a_host_told_from_its_twin_is_what_it_would_be_by_itself() -> None:
    estate = judged_hosts(hosts())
    assert [host.first.subject for host in estate if isinstance(host, HostOverlay)] == ["plover", "tern1"]
    for host, evidence in zip(estate, hosts(), strict=True):
        alone = rights_in(evidence)
        assert (host.subject, shown(host), host.facts, host.gaps) == (alone.subject, shown(alone), alone.facts, alone.gaps)
        assert repr(host.facts.policy) == repr(alone.facts.policy)
        assert {name: host.held_by(name) for name in ("ines", "guest")} == {name: alone.held_by(name) for name in ("ines", "guest")}


def test_of_a_twin_only_accounts_are_told_anew_that_are_not_just_as_the_directory_has_them() -> None:
    people = {f"p{number}": 5000 + number for number in range(40)}
    there = Nesting(directory({"wardens": list(people)}, people, {"wardens": 4000}))
    first = rights_of(read_host(bundle("", {**USES_DIRECTORY, "/etc/group": GROUP + "tide::3100:p7\n"})), there)
    own = OwnDetails(subject="redshank", host_name="redshank", taken=NOW, addresses=None, processes=None)
    overlay = HostOverlay(FirstHost(first), own)
    here = overlay.population
    assert {name: overlay.account(name) for name in (*here.by_name, "nobody-is-called-so")} == {**here.by_name, "nobody-is-called-so": None}
    assert overlay.account("p8") is first.account("p8")
    assert here == renamed(first.population, first.subject, "redshank")
    untouched = {who.name for who, before in zip(here.identities, first.population.identities, strict=True) if who is before}
    assert untouched == {*people} - {"p7"}


def test_findings_on_a_twin_name_the_twin() -> None:
    together = [one for one in audit(hosts()).findings if one.subject == "redshank" and one.check != "sudo.unknown-host"]
    alone = [one for one in audit([hosts()[5]]).findings if one.check != "sudo.unknown-host"]
    assert findings_document(together, complete=True) == findings_document(alone, complete=True)


def test_a_host_with_processes_out_of_step_is_told_by_itself() -> None:
    row = b"77\t1\t1003 1003 1003\t1003 1003 1003\t1003 3001\tsh\n"
    calm, stale = hosts()[1], hosts()[5]
    stale = replace(stale, listings={**stale.listings, "processes": row.replace(b"3001", b"3001 27")})
    calm = replace(calm, listings={**calm.listings, "processes": row})
    third = replace(calm, manifest=replace(calm.manifest, subject="avocet"))
    estate = judged_hosts([calm, stale, third])
    assert [isinstance(host, HostOverlay) for host in estate] == [False, False, True]
    reasons = [{link.because for one in host.held_by("rada") for route in one.routes for link in route.links} for host in estate]
    assert [any("which the files no longer give" in because for because in every) for every in reasons] == [False, True, False]


# -- keys that lead from host to host ----------------------------------------------------------------------------------------------


def key(name: str) -> str:
    return f"ssh-ed25519 {base64.b64encode(name.encode()).decode()} {name}"


def with_keys(name: str, sudoers: str, opens: Mapping[str, str], lying: Mapping[str, str]) -> Bundle:
    """Return a host on which keys open accounts, and on which private keys are in homes; encrypted where that is said."""
    files: dict[str, str | Put] = {"/etc/ssh/sshd_config": "PermitRootLogin prohibit-password\n"}
    homes = {"root": ("/root", 0), "ines": ("/home/ines", 1001), "tomas": ("/home/tomas", 1002), "rada": ("/home/rada", 1003)}
    for account, one in opens.items():
        files[f"{homes[account][0]}/.ssh/authorized_keys"] = Put(f"{key(one)}\n", 0o600, homes[account][1])
    rows = ""
    for account, one in lying.items():
        path = f"{homes[account][0]}/.ssh/id_ed25519"
        rows += f"{'encrypted' if one.startswith('locked') else 'open'}\t{path}\n"
        files |= {path: Put("", 0o600, homes[account][1]), f"{path}.pub": Put(f"{key(one)}\n", 0o644, homes[account][1])}
    made = bundle(sudoers, files)
    manifest = replace(made.manifest, subject=name)
    return replace(made, manifest=manifest, listings={**made.listings, "private-keys": rows.encode()})


def test_a_private_key_is_a_link_to_every_host_whose_accounts_it_opens_and_on_from_there() -> None:
    estate = judged_hosts(
        [
            with_keys("knot", "tomas ALL=(ines) NOPASSWD: ALL\n", {}, {"ines": "hop"}),
            with_keys("tern", "rada ALL=(ALL) NOPASSWD: ALL\n", {"rada": "hop"}, {"rada": "locked-last"}),
            with_keys("curlew", "", {"root": "locked-last"}, {}),
        ]
    )
    held = {host.subject: {str(one.principal): one for one in host.from_elsewhere if str(one.right) == "root"} for host in estate}
    assert {name: set(here) for name, here in held.items()} == {
        "knot": set(),
        "tern": {"ines@knot", "root@knot", "tomas@knot"},
        "curlew": {"ines@knot", "root@knot", "tomas@knot", "rada@tern", "root@tern"},
    }
    route = held["tern"]["tomas@knot"].routes[0]
    assert [(str(link.place), str(link.target)) for link in route.links] == [
        ("knot:/etc/sudoers:1:1", "run-as:ines"),
        ("knot:/home/ines/.ssh/id_ed25519", f"key {route.links[2].source.name}"),
        ("tern:/home/rada/.ssh/authorized_keys:1:1", "rada"),
        ("tern:/etc/sudoers:1:1", "root"),
    ]
    assert held["curlew"]["ines@knot"].routes[0].conditions == ("if its passphrase is known",)


def test_a_key_confined_to_a_command_or_known_on_one_host_alone_leads_nowhere() -> None:
    confined = with_keys("tern", "", {"root": "hop"}, {})
    forced = {path: content.replace(b"ssh-ed25519", b'command="/bin/true" ssh-ed25519') for path, content in confined.files.items()}
    estate = judged_hosts([with_keys("knot", "", {"tomas": "hop"}, {"ines": "hop"}), replace(confined, files=forced)])
    assert [host.from_elsewhere for host in estate] == [(), ()]


# -- what a question reads ---------------------------------------------------------------------------------------------------------


class Counting(InMemory):
    """Evidence that remembers what was read of it."""

    def __init__(self, evidence: Iterable[Bundle]) -> None:
        super().__init__(evidence)
        self.read: list[str] = []

    def evidence(self, subject: str) -> HostEvidence:
        self.read.append(subject)
        return super().evidence(subject)


def mixed_estate() -> list[Bundle]:
    grants = [
        {"User": "root", "Host": "localhost", "Priv": json.dumps({"access": 1, "plugin": "unix_socket"})},
        {"User": "kofi", "Host": "%", "Priv": json.dumps({"access": 1, "plugin": "mysql_native_password", "authentication_string": "x"})},
    ]
    rows = {"server": [{"version": "10.11", "host_name": "curlew"}], "global_priv": grants}
    listings = {name: "".join(f"{json.dumps(row)}\n" for row in some).encode() for name, some in rows.items()}
    shop = read_bundle(BytesIO(make_rows_bundle("shop", "mariadb", NOW, listings, ""))).named("shop")
    ldif = "dn: dc=saltmarsh,dc=example\nobjectClass: domain\ndc: saltmarsh\n\n"
    return [
        shop,
        from_ldif(ldif.encode(), "saltmarsh").bundle,
        with_keys("knot", "tomas ALL=(ines) NOPASSWD: ALL\n", {}, {"ines": "hop"}),
        with_keys("tern", "", {"rada": "hop"}, {}),
        with_keys("curlew", "", {"rada": "other"}, {}),
    ]


def test_an_account_of_a_directory_holds_what_the_role_holds_that_it_is_let_in_as() -> None:
    """The server says that it asks the directory: a question on the server alone reads the directory, too."""
    flags = dict.fromkeys(("inherit", "create_role", "create_database", "replication", "bypass_row_security"), False)
    listings: dict[str, list[dict[str, object]]] = {
        "server": [{"version": 150000, "ssl": "on"}],
        "roles": [{"name": name, "superuser": name == "rada", "log_in": True, **flags} for name in ("rada", "ines")],
        "databases": [{"name": "tides", "owner": "rada", "connectable": True, "connection_limit": -1}],
        "access-rules": [
            {"line": 4, "type": "hostssl", "database": ["all"], "role": ["rada"], "address": "all", "netmask": None, "method": "ldap",
             "options": ["ldapprefix=uid=", "ldapsuffix=,dc=saltmarsh,dc=example"], "error": None},
        ],
    }  # fmt: skip
    rows = {name: "".join(f"{json.dumps(row)}\n" for row in some).encode() for name, some in listings.items()}
    server = read_bundle(BytesIO(make_rows_bundle("tides-db", "postgresql", NOW, rows, ""))).named("tides-db")
    person = (
        "dn: uid={0},dc=saltmarsh,dc=example\nobjectClass: posixAccount\nuid: {0}\nuidNumber: {1}\ngidNumber: 100\nhomeDirectory: /\n\n"
    )
    ldif = "dn: dc=saltmarsh,dc=example\nobjectClass: domain\ndc: saltmarsh\n\n" + person.format("rada", 1) + person.format("ines", 2)
    source = Counting([server, from_ldif(ldif.encode(), "saltmarsh").bundle])
    (found,) = audit(source, ["tides-db"], findings=False).subjects
    held = {(str(one.principal), str(one.right)) for one in found.holdings}
    assert ("rada@saltmarsh", "db-superuser") in held
    assert not [holder for holder, _ in held if holder.startswith("ines")]
    assert set(source.read) == {"tides-db", "saltmarsh"}


@pytest.mark.parametrize(
    ("subject", "findings", "read"),
    [
        ("shop", False, {"shop", "curlew"}),  # and the host that it runs on
        ("saltmarsh", False, {"saltmarsh"}),
        ("knot", False, {"saltmarsh", "knot"}),  # which no key opens
        ("tern", False, {"saltmarsh", "knot", "tern", "curlew"}),  # which a key of another host opens
        ("knot", True, {"saltmarsh", "knot", "tern", "curlew"}),  # what several hosts show together is a finding
        (None, False, {"shop", "saltmarsh", "knot", "tern", "curlew"}),
    ],
)
def test_a_question_reads_what_its_answer_depends_on(subject: str | None, findings: bool, read: set[str]) -> None:
    source, whole = Counting(mixed_estate()), audit(mixed_estate())
    found = audit(source, None if subject is None else [subject], findings=findings)
    assert set(source.read) == read
    for one in found.subjects:
        alone = next(other for other in whole.subjects if other.subject == one.subject)
        assert (one.holdings, one.own_holdings, one.gaps) == (alone.holdings, alone.own_holdings, alone.gaps)
    if findings:
        assert list(found.findings) == [finding for finding in whole.findings if finding.subject == subject]
    elif subject is not None:
        assert [one.subject for one in found.subjects] == [subject]


@pytest.mark.parametrize("number", range(5))
def test_judging_is_a_function_that_another_process_can_run(number: int) -> None:
    """Evidence, context and rights go there and come back: what comes back answers like what was judged here."""
    evidence = mixed_estate()[number]
    judge = PLATFORMS[evidence.platform].judge
    there, context = pickle.loads(pickle.dumps((judge, Context())))
    back = pickle.loads(pickle.dumps(there(pickle.loads(pickle.dumps(evidence)), context)))
    here = judge(evidence, Context())
    assert (back.subject, back.holdings, back.gaps, back.names()) == (here.subject, here.holdings, here.gaps, here.names())
    assert findings_on(back) == findings_on(here)


def test_a_survey_lets_each_subject_go_before_the_next(tmp_path: Path) -> None:
    """What stays in memory of a subject is not its evidence: of eighty bundles no more is held at once than of twenty."""
    made = bundle("ines ALL=(ALL) ALL\n", {"/etc/login.defs": Put("# " + "x" * 400_000 + "\n")})
    archives = []
    for number in range(80):
        manifest = replace(made.manifest, subject=f"host{number}")
        content = {**made.files, "/etc/hostname": f"host{number}\n".encode()}
        archives.append(make_bundle(manifest, content, made.listings))
    peaks = []
    for some in (archives[:20], archives):
        draft = Ledger(tmp_path / str(len(some))).draft()
        tracemalloc.start()
        for archive in some:
            draft.add(read_bundle(BytesIO(archive)))
        found = audit(draft.stored)
        assert len(found.hosts) == len(some)
        peaks.append(tracemalloc.get_traced_memory()[1])
        tracemalloc.stop()
    assert peaks[1] < 1.5 * peaks[0] + 2_000_000
