"""What is kept of hosts: a remembered host answers as a judged one, whatever is asked, whatever was done to what is kept."""

import random
import re
from collections.abc import Callable, Container, Iterable, Iterator, Mapping
from datetime import UTC, datetime, timedelta
from io import BytesIO
from pathlib import Path

import msgspec
import pytest
from msgspec.structs import replace

from fidelitas.audit import Audit, Each, InMemory, audit, takings_of
from fidelitas.conclusions import Recollection, RememberedHost, keep_directory, kept_directory, recollection
from fidelitas.conclusions.directories import _key
from fidelitas.conclusions.holders import HoldersInBrief, KeptHolders, encode_holders
from fidelitas.conclusions.link_forms import HoldingsForm, LinkTable, holding_form, holdings_in
from fidelitas.conclusions.typed import FINDINGS, ConclusionError, decode, encode
from fidelitas.conclusions.use import UseMemory
from fidelitas.demo import write_estate
from fidelitas.engines.local import on_all_cores
from fidelitas.evidence import Bundle, Item, Listing, MissingItem, make_bundle, read_bundle
from fidelitas.facts import DirectorySource, Gap
from fidelitas.findings import Finding
from fidelitas.judging import judge_host
from fidelitas.languages.directory import read_directory
from fidelitas.languages.evidence import NothingRead
from fidelitas.ledger import Ledger, StoredEvidence
from fidelitas.logbook import EventFilter, HostLogs, Logbook, host_logs, read_logbook
from fidelitas.logbook_memory import LogbookMemory
from fidelitas.reports.account import account_blocks
from fidelitas.reports.usage_views import VIEWS, UsageAnswer
from fidelitas.reports.why import why_blocks
from fidelitas.rights import Holding, HostRights, PrincipalKind, SubjectRights
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.estate.renaming import Renaming, renamed
from fidelitas.rights.graph.full_control import full_control_by
from fidelitas.sources import from_file
from fidelitas.sources.directory import from_ldif
from fidelitas.sources.logs import logs_at
from fidelitas.usage import Grants
from support import GROUP, NOW, PASSWD, Put, bundle, fidelitas
from test_directory_access import domain, sssd
from test_estate import USES_DIRECTORY, hosts, mixed_estate
from test_judge_directory_hosts import GROUPS, of_sssd, tree

LDIF = (
    """\
dn: dc=saltmarsh,dc=example
objectClass: domain
dc: saltmarsh

"""
    + "\n".join(
        f"dn: uid={name},dc=saltmarsh,dc=example\nobjectClass: posixAccount\nuid: {name}\ncn: {name}\nuidNumber: {5000 + n}\ngidNumber: 9\n"
        f"homeDirectory: /home/{name}\n"
        for n, name in enumerate(("amara", "bruno", "chiara"))
    )
    + "".join(
        f"\ndn: cn={name},dc=saltmarsh,dc=example\nobjectClass: posixGroup\nobjectClass: groupOfNames\ncn: {name}\ngidNumber: {gid}\n"
        + "".join(f"member: {member},dc=saltmarsh,dc=example\n" for member in members)
        for name, gid, members in (("tides", 7000, ("uid=amara", "cn=crew")), ("crew", 7001, ("uid=bruno",)))
    )
)


def of_directory() -> list[Bundle]:
    """Return hosts that take accounts from a directory, two of them alike, one with names that are not Unicode."""
    policy = "%tides ALL=(ALL) ALL\n%crew ALL=(ines) NOPASSWD: /usr/bin/less\ntomas tern=(root) /usr/bin/vim\n"
    made = bundle(policy, USES_DIRECTORY)
    odd = bundle(policy, {**USES_DIRECTORY, "/etc/passwd": b"root:x:0:0::/root:/bin/sh\n\xff\xfe:x:0:0::/:/bin/sh\n"})
    named = [replace(made, name="plover"), replace(made, name="dunlin"), replace(odd, name="odd")]
    return [from_ldif(LDIF.encode(), "saltmarsh").bundle, *named]


def demo(folder: Path) -> list[Bundle]:
    return [from_file(file).bundle for file in write_estate(folder, 3)]


ESTATES = {"mixed": lambda _: mixed_estate(), "twins": lambda _: hosts(), "directory": lambda _: of_directory(), "demo": demo}


def everything(one: SubjectRights, names: Iterable[str]) -> Iterator[object]:
    """Yield all that a subject is asked, each with the question."""
    yield from (("gaps", one.gaps), ("taken", one.taken, one.taken_by, one.live), ("holdings", one.holdings), ("own", one.own_holdings))
    yield "full", [one.full_holders(kind) for kind in sorted({held.principal.kind for held in one.holdings}, key=str)]
    own = one.own_holdings
    called = dict.fromkeys(str(held.principal) for held in one.holdings)
    assert one.own_holders() == {str(held.principal) for held in own}
    assert [sorted(map(str, one.own_holdings_of(name))) for name in called] == [
        sorted(str(held) for held in own if one.means(name)(held.principal)) for name in called
    ]
    yield "accounts", [one.in_brief(holding.principal) for holding in one.holdings]
    full = one.own_holdings_with(lambda right: right.kind.full)
    assert one.full_control == full_control_by(full)
    yield "rights", one.own_rights(), full
    yield "furthest", one.furthest_of_accounts()
    for name in names:
        yield name, one.knows(name), one.meant_by(name), one.holdings_of(name), one.held_by(name), sorted(one.belongs_to(name))
    if isinstance(one, HostRights):
        yield "names", sorted(one.names())
        groups = {holding.principal.name for holding in one.holdings if holding.principal.kind is PrincipalKind.GROUP}
        yield "counts", one.account_count, [one.member_count(name) for name in sorted(groups)]
        here = {who.name: who for who in one.population.effective}
        accounts = (held for held in one.holdings if held.principal.kind is PrincipalKind.ACCOUNT and held in own)
        listed = [
            held
            for held in accounts
            if (who := here.get(held.principal.name)) and who.of_directory is (held.principal.subject != one.subject)
        ]
        assert one.furthest_of_accounts() == {held.principal.name: held for held in reversed(listed)}
        yield "with groups", {name: one.with_groups(name) for name in (*names, *here)}
        yield "summary", one.summary, one.host_name, list(one.comments()), one.facts.policy, list(one.opening_keys)


def answers(found: Audit) -> dict[str, list[object]]:
    names = sorted({name for one in found.subjects for name in one.names()} | {"nobody-is-called-so", "%none", "amara", "%crew"})
    names += sorted({alias for one in found.subjects for held in one.holdings for alias in held.principal.aliases} - set(names))
    return {one.subject: list(everything(one, names)) for one in found.subjects}


def test_why_shows_hosts_of_which_the_same_is_to_be_said_once_and_judges_none(tmp_path: Path) -> None:
    """Hosts of which the same is to be said are together, whether they are remembered or judged; those where nothing is held are named."""
    made = of_directory()[1]
    rules = {"plover": "amara ALL=(ALL) ALL\n", "dunlin": "bruno ALL=(ALL) ALL\n"}
    bundles = [from_ldif(LDIF.encode(), "saltmarsh").bundle]
    for bird, rule in rules.items():
        bundles += [replace(bundle(rule, USES_DIRECTORY), name=f"{bird}{number:02}") for number in range(14)]
    bundles += [replace(made, name="knot")]
    ledger = Ledger(tmp_path / "ledger")
    ledger.add(bundles, NOW)
    audit(ledger.newest())
    stored = ledger.newest()
    stored.evidence = None  # type: ignore[method-assign, assignment]  # nothing is to be read
    for subjects in (audit(InMemory(bundles)).hosts, audit(stored).hosts):
        shown = [(block.headline, [f"{row.label} {row.text}" for row in block.rows]) for block in why_blocks("amara", subjects)]
        heads = [head for head, _ in shown if head.startswith("amara on")]
        assert heads == ["amara on knot", "amara on plover00", "amara on 14 more subjects that know it"]
        assert shown[0][1] == [" person, user ID 5000, login not known: the shadow file was not read, groups tides"]
        also = next(row for _, rows in shown for row in rows if row.startswith("the same on"))
        assert also == "the same on " + " ".join(f"plover{number:02}" for number in range(1, 13)) + " and 1 more"
        assert shown[-1][1] == [" holds no elevated right", " " + " ".join(f"dunlin{number:02}" for number in range(12)) + " and 2 more"]
    out = fidelitas("why", "amara", "--ledger", tmp_path / "ledger", cwd=tmp_path).out
    assert (out.count("amara on "), also in re.sub(r"\s+", " ", out)) == (3, True)


def test_evidence_that_is_lost_is_one_gap_however_often_it_is_asked_for(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path / "ledger")
    ledger.add(of_directory(), NOW)
    audit(ledger.newest())
    stored = ledger.newest()
    (host, *_) = audit(stored).hosts
    lost = MissingItem(path="the evidence", reason="it is missing")
    stored.evidence = lambda name: NothingRead(name, NOW, gaps=(lost,))  # type: ignore[method-assign, assignment, return-value]
    assert isinstance(host, RememberedHost)
    for _ in range(2):
        assert host.population.identities == ()
        host.forget()
    assert [gap.why for gap in host.troubles] == ["it is missing"]


def test_the_page_of_an_account_is_shown_once_for_hosts_on_which_it_is_the_same() -> None:
    files = {"/etc/group": GROUP, "/etc/sudoers": "%sudo ALL=(ALL) ALL\n"}
    estate = [bundle(None, files, name=name) for name in ("dunlin", "knot", "plover")]
    estate.append(bundle(None, {**files, "/etc/group": GROUP.replace("gauges:x:3001:rada", "gauges:x:3001:rada,ines")}, name="tern"))
    _, *pages = account_blocks("ines", audit(InMemory(estate)).subjects)
    assert [page.headline for page in pages] == ["dunlin", "tern"]
    assert [[row.text for row in page.rows if row.label == "the same on"] for page in pages] == [["knot plover"], []]


def test_hosts_of_which_the_log_says_another_thing_are_shown_apart(tmp_path: Path) -> None:
    group = GROUP.replace("sudo:x:27:ines", "sudo:x:27:ines,tomas")
    estate = [bundle("%sudo ALL=(ALL) ALL\n", {"/etc/group": group}, name=name) for name in ("knot", "plover", "dunlin")]
    log = tmp_path / "auth.log"
    log.write_text("2026-11-19T06:00:00+00:00 plover usermod[7]: add 'tomas' to group 'sudo'\n")
    (found,) = logs_at([log], "plover")
    book = read_logbook([HostLogs(subject="plover", logs=found)])
    grants = {name: use.grants for name, use in book.hosts.items()}
    headlines = [block.headline for block in why_blocks("tomas", audit(InMemory(estate)).hosts, grants) if " on " in block.headline]
    assert headlines == ["tomas on dunlin", "tomas on plover"]


@pytest.mark.parametrize("is_kept", [True, False])
@pytest.mark.parametrize("estate", ESTATES)
def test_a_remembered_host_answers_as_a_judged_one(estate: str, is_kept: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whether all of its holdings are kept or none, in another order of questions, in part, and where only some hosts are as they were."""
    if not is_kept:
        monkeypatch.setattr(recollection, "encode_holders", lambda _: None)
    bundles = ESTATES[estate](tmp_path)
    fresh = audit(InMemory(bundles))
    expected, findings = answers(fresh), fresh.findings
    ledger = Ledger(tmp_path / "ledger")
    ledger.add(bundles, NOW)
    for turn in range(3):
        found = audit(ledger.newest())
        kinds = {type(one) for one in found.hosts}
        assert (RememberedHost in kinds) is (turn > 0)
        assert found.findings == findings
        assert answers(found) == expected
        found.keep()
    for name in fresh.subjects[:3]:
        alone = audit(ledger.newest(), [name.subject], findings=False)
        assert [one.holdings for one in alone.subjects] == [one.holdings for one in audit(bundles, [name.subject], findings=False).subjects]
    changed = [replace(one, files={**one.files, "/etc/sudoers": b"rada ALL=(ALL) ALL\n"}) for one in bundles[-2:]]
    ledger.add([*bundles[:-2], *changed], NOW)
    again, anew = audit(ledger.newest()), audit(InMemory([*bundles[:-2], *changed]))
    assert again.findings == anew.findings
    assert answers(again) == answers(anew)


def of_random_directory(chance: random.Random) -> list[Bundle]:
    """Return a directory and hosts that take accounts from it, each in its own way, with names and numbers of their own that meet its."""
    if chance.random() < 0.3:  # a domain of Windows, of whose names a host makes others
        named, people, groups = domain(), ["ulla", "rosa", "ulla@tides.example"], ["linux\\ admins", "ops", "linux\\ admins@tides.example"]
        ways = [sssd(), sssd("use_fully_qualified_names = true"), sssd("full_name_format = %3$s\\%1$s"), sssd("access_provider = deny")]
    else:
        named, people, groups = tree(chance), ["rada", "tomas", "a.b", "root"], [f"g{number}" for number in range(GROUPS)]
        settings = [of_sssd(chance) for _ in range(3)]
        ways = [
            Put(f"[sssd]\ndomains = saltmarsh\n[nss]\n{nss}\n[domain/saltmarsh]\nid_provider = ldap\n{domain}\n")
            for nss, domain in settings
        ]

    def rule() -> str:
        who = chance.choice([f"%{chance.choice(groups)}", chance.choice(people), "ALL", "%#6001", "ines", f"%{chance.choice(groups)}"])
        as_whom = chance.choice(["ALL", "root", "tomas", "ines", "%g1", "ALL, !root"])
        return f"{who} ALL=({as_whom}) {chance.choice(['ALL', 'NOPASSWD: /usr/bin/less', '/usr/bin/id', '!/usr/bin/less', 'sudoedit /etc/fstab'])}"

    def host(name: str) -> Bundle:
        lines = [f"{chance.choice(groups)}:x:{chance.choice([0, 27, 6001, 6003, 88])}:{chance.choice(people)}" for _ in range(2)]
        own = [f"{chance.choice(people)}:x:{chance.choice([0, 1007, 5003])}:6001::/home/own:/bin/sh" for _ in range(chance.randrange(2))]
        files: dict[str, str | bytes | Put | None] = {
            "/etc/nsswitch.conf": "passwd: files sss\ngroup: files sss\n",
            "/etc/sssd/sssd.conf": chance.choice(ways),
            "/etc/group": "\n".join([GROUP.rstrip("\n"), *lines, ""]),
            "/etc/passwd": "\n".join([PASSWD.rstrip("\n"), *own, ""]),
        }
        return bundle("".join(f"{rule()}\n" for _ in range(chance.randrange(1, 7))), files, name=name)

    return [from_ldif(named.encode(), "saltmarsh").bundle, *map(host, ("knot", "plover", "dunlin", "curlew"))]


@pytest.mark.parametrize("seed", range(12))
def test_hosts_of_random_directories_are_remembered_as_they_were_judged(seed: int, tmp_path: Path) -> None:
    bundles = of_random_directory(random.Random(seed))
    fresh = audit(InMemory(bundles))
    ledger = Ledger(tmp_path)
    ledger.add(bundles, NOW)
    audit(ledger.newest()).keep()
    found = audit(ledger.newest())
    assert {type(one) for one in found.hosts} == {RememberedHost}
    assert answers(found) == answers(fresh)
    holders = {held.principal for one in fresh.hosts for held in one.holdings}
    named = {name for one in holders for name in (str(one), *one.aliases, str(one).upper())}
    for one in fresh.hosts:  # by whichever name it is asked for
        assert {name: one.holdings_of(name) for name in named} == {name: called(one, name) for name in named}
    found.keep()
    stored = ledger.newest()
    stored.evidence = _refused  # type: ignore[assignment,method-assign]  # who holds what is known without it
    again = audit(stored)
    assert {name: [one.own_holdings_of(name) for one in again.hosts] for name in named} == {
        name: [one.own_holdings_of(name) for one in fresh.hosts] for name in named
    }
    assert [one.full_control for one in again.hosts] == [one.full_control for one in fresh.hosts]


def called(host: HostRights, name: str) -> tuple[Holding, ...]:
    """Return the holdings whose holder a name can mean, found by looking at all."""
    meant = host.means(name)
    return tuple(held for held in host.holdings if meant(held.principal))


def test_what_is_told_of_many_subjects_is_what_is_told_of_each() -> None:
    found = audit(InMemory([*mixed_estate(), *of_directory()]))
    for one in found.subjects:
        values = [
            one.holdings,
            found.findings_on(one.like),
            one.gaps,
            *([one.facts, one.population] if isinstance(one, HostRights) else []),
        ]
        for value in values:
            assert Renaming(value, one.subject)("sandpiper") == renamed(value, one.subject, "sandpiper")


@pytest.mark.parametrize("made", [demo, lambda _: of_directory(), lambda _: of_random_directory(random.Random(5))])
def test_a_directory_is_kept_as_it_was_read(made: Callable[[Path], list[Bundle]], tmp_path: Path) -> None:
    """Whatever it states; by evidence that states another nothing is answered, and what was damaged is read again."""
    bundles = [one for one in made(tmp_path) if one.platform == "directory"]
    assert bundles
    ledger = Ledger(tmp_path / "ledger")
    ledger.add(bundles, NOW)
    for one in bundles:
        store = ledger.newest().stored_answers()
        facts = read_directory(one)
        assert kept_directory(store, one.subject) is None
        keep_directory(store, facts)
        assert kept_directory(store, one.subject) == facts
        (key,) = store.get([_key(one.subject)])
        store.put({key: b"\x92\xc4\x01x\x90"}, b"rules")
        assert kept_directory(store, one.subject) is None
        keep_directory(store, facts)
    more = f"{LDIF}\ndn: uid=new,dc=tides,dc=example\nobjectClass: posixAccount\nuid: new\nuidNumber: 7\ngidNumber: 7\n"
    later = [from_ldif(more.encode(), one.subject).bundle for one in bundles]
    ledger.add(later, NOW + timedelta(days=1))
    assert all(kept_directory(ledger.newest().stored_answers(), one.subject) is None for one in bundles)


def _refused(name: str) -> Bundle:
    raise AssertionError(f"the evidence of {name} was asked for")


@pytest.mark.parametrize("is_kept", [True, False])
@pytest.mark.parametrize("each", [map, on_all_cores])
@pytest.mark.parametrize("estate", ESTATES)
def test_hosts_that_other_processes_judged_answer_the_same(
    estate: str, each: Each, is_kept: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    if not is_kept:
        monkeypatch.setattr(recollection, "encode_holders", lambda _: None)
    monkeypatch.setattr("fidelitas.audit._WORTH_FORKING", 1)
    bundles = ESTATES[estate](tmp_path)
    fresh = audit(InMemory(bundles))
    for findings in (True, False):
        ledger = Ledger(tmp_path / f"ledger-{findings}")
        ledger.add(bundles, NOW)
        found = audit(ledger.newest(), each=each, findings=findings)
        assert RememberedHost in {type(one) for one in found.hosts}
        assert found.findings == fresh.findings
        assert answers(found) == answers(fresh)
        assert audit(ledger.newest()).findings == fresh.findings
        for holder in ("ines", "bruno", "%sudo"):
            asked = audit(ledger.newest(), each=each, findings=False)
            assert [one.holdings_of(holder) for one in asked.subjects] == [one.holdings_of(holder) for one in fresh.subjects]


def what_is_read(stored: StoredEvidence, monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """Return a list that grows by the name of each subject whose evidence is read."""
    read: list[str] = []
    load = stored.evidence

    def noted(name: str) -> Bundle:
        read.append(name)
        return load(name)

    monkeypatch.setattr(stored, "evidence", noted)
    return read


def test_many_hosts_that_were_judged_for_their_holders_are_not_judged_again_for_findings(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("fidelitas.audit._WORTH_FORKING", 1)
    ledger = Ledger(tmp_path)
    ledger.add(of_directory(), NOW)
    assert audit(ledger.newest(), each=on_all_cores, findings=False).hosts
    stored = ledger.newest()
    read = what_is_read(stored, monkeypatch)
    assert audit(stored).findings == audit(InMemory(of_directory())).findings
    assert set(read) == {"odd"}  # names that are not Unicode cannot be kept


def test_a_question_that_was_asked_judges_nothing_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    ledger = Ledger(tmp_path)
    ledger.add(of_directory(), NOW)
    assert audit(ledger.newest()).hosts
    first = audit(ledger.newest())
    before = [(one.subject, one.holdings_of("bruno"), one.knows("chiara")) for one in first.hosts]
    assert first.findings
    first.keep()
    stored = ledger.newest()
    read = what_is_read(stored, monkeypatch)
    second = audit(stored)
    assert second.findings == first.findings
    assert [(one.subject, one.holdings_of("bruno"), one.knows("chiara")) for one in second.hosts] == before
    assert set(read) == {"odd"}  # names that are not Unicode cannot be kept


@pytest.mark.parametrize("each", [None, on_all_cores])
def test_what_goes_wrong_while_a_host_is_summed_up_costs_it_alone(
    each: Each | None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def broken(memory: Recollection, host: HostRights) -> None:
        if host.subject == "dunlin":
            raise ZeroDivisionError
        whole(memory, host)

    whole = Recollection.note
    monkeypatch.setattr("fidelitas.audit._WORTH_FORKING", 1)
    monkeypatch.setattr(Recollection, "note", broken)
    ledger = Ledger(tmp_path)
    ledger.add(of_directory(), NOW)
    found = audit(ledger.newest(), each=each)
    assert [(gap.place.subject, gap.what) for gap in found.gaps if gap.fatal] == [
        ("dunlin", "summing up dunlin"),
        ("plover", "summing up dunlin"),  # it states the same
    ]
    assert {one.subject for one in found.hosts if one.holdings} == {"dunlin", "odd", "plover"}


def test_other_rules_judge_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    ledger = Ledger(tmp_path)
    ledger.add(hosts(), NOW)
    assert audit(ledger.newest()).findings
    assert RememberedHost in {type(one) for one in audit(ledger.newest()).hosts}
    monkeypatch.setattr(recollection, "rules_digest", lambda: b"another version")
    assert RememberedHost not in {type(one) for one in audit(ledger.newest()).hosts}


def test_what_was_done_to_what_is_kept_changes_no_answer(tmp_path: Path) -> None:
    """Bytes that are not of the form, that are cut, or are of another key: the evidence is judged again."""
    ledger, chance = Ledger(tmp_path), random.Random(2)
    bundles = of_directory()
    ledger.add(bundles, NOW)
    expected = audit(ledger.newest()).findings
    audit(ledger.newest()).keep()
    stored = ledger.newest().stored_answers()
    with ledger.database.reading() as connection:
        keys = [bytes(key) for (key,) in connection.exec_driver_sql("select key from answers")]
    kept = stored.get(keys)
    assert len(kept) == len(keys) > 4
    for turn in range(30):
        spoilt = {key: _spoilt(content, chance, turn, kept) for key, content in kept.items()}
        stored.put(spoilt, b"rules")
        assert audit(InMemory(bundles)).findings == expected
        assert audit(ledger.newest()).findings
        stored.put(kept, b"rules")
    with ledger.database.writing() as connection:
        connection.exec_driver_sql("update answers set packed = substr(packed, 1, length(packed) - 3)")
    assert stored.get(keys) == {}
    assert audit(ledger.newest()).findings == expected


def _spoilt(content: bytes, chance: random.Random, turn: int, kept: Mapping[bytes, bytes]) -> bytes:
    if turn % 3 == 0:
        return content[: chance.randrange(len(content))]
    if turn % 3 == 1:
        return chance.choice([b"", b"\xc0", b"\x93", b"junk", chance.randbytes(40)])
    return chance.choice(list(kept.values())[:3]) + b"\xc0"


def test_the_form_gives_back_what_it_was_given_and_nothing_else() -> None:
    found = audit(InMemory([*mixed_estate(), *hosts()[1:3]]))
    for one in found.subjects:
        table = LinkTable()
        rows = [holding_form(holding, table) for holding in one.holdings]
        content = encode(HoldingsForm(table.form(), rows))
        assert content is not None
        links, held = holdings_in(decode(content, HoldingsForm))
        assert held == one.holdings
        assert len(links) <= sum(len(route.links) for holding in held for route in holding.routes)
        assert [(link.place, link.behind) for one in held for route in one.routes for link in route.links] == [
            (link.place, link.behind) for holding in one.holdings for route in holding.routes for link in route.links
        ]
    assert decode(encode(found.findings) or b"", FINDINGS) == found.findings
    for spoilt in (b"", b"\xc1", encode([1]) or b"", (encode(HoldingsForm(LinkTable().form(), [])) or b"")[:-1]):
        with pytest.raises(ConclusionError):
            decode(spoilt, HoldingsForm)
    assert encode(Gap(what="\udcff", why="", place=found.findings[0].places[0])) is None
    assert isinstance(found.findings[0], Finding)


def _numbers(value: object, path: tuple[int, ...] = ()) -> Iterator[tuple[int, ...]]:
    """Yield where the whole numbers of a nested list are."""
    for place, one in enumerate(value if isinstance(value, list) else ()):
        if isinstance(one, list):
            yield from _numbers(one, (*path, place))
        elif isinstance(one, int) and not isinstance(one, bool):
            yield (*path, place)


@pytest.mark.parametrize("seed", range(3))
def test_holders_that_name_what_is_not_there_are_refused_when_they_are_read(seed: int) -> None:
    """Every number of the form replaced by one that is too large or too small: refused, or read as something whole."""
    chance = random.Random(seed)
    source = InMemory(of_directory())
    lending = ((one, encode_holders(one)) for one in audit(source).hosts if one.like is one and len(one.group_edges))
    host, content = next((one, content) for one, content in lending if content is not None)
    takings = takings_of(source)

    def nesting_of(sources: tuple[DirectorySource, ...], name: str) -> Nesting | None:
        found = takings.of(sources, name)
        return None if found is None else found[0]

    whole = KeptHolders(content, nesting_of)
    assert (whole.by_node, set(whole.group_edges.holdings())) == (host.by_node, set(host.group_edges.holdings()))
    brief, every = HoldersInBrief(content, nesting_of), {*host.by_node, *host.group_edges.holdings()}
    asked = {name for one in every for name in (one.principal.name, str(one.principal), *one.principal.aliases)}
    assert {name for name in asked if brief.may_hold(name)} >= {name for name in asked if whole.holdings_of(name)}
    assert any(whole.holdings_of(name) for name in asked)
    assert not any(map(brief.may_hold, ("nobody-here", "%nobody-here")))
    refused = 0
    places = list(_numbers(msgspec.msgpack.decode(content)))
    for path in places:
        spoilt = msgspec.msgpack.decode(content)
        inner = spoilt
        for place in path[:-1]:
            inner = inner[place]
        inner[path[-1]] = chance.choice([-1, -7, 10**6, 2**40, 3])
        try:
            read = KeptHolders(msgspec.msgpack.encode(spoilt), nesting_of)
        except ConclusionError:
            refused += 1
        else:
            made = [*read.by_node, *read.group_edges.holdings(), *(one for name in ("ines", "bruno") for one in read.holdings_of(name))]
            assert all(route.links and route.kind for one in made for route in one.routes)
    assert refused > len(places) / 3


def test_what_was_concluded_from_logs_is_kept_until_evidence_is_another(tmp_path: Path) -> None:
    ledger = Ledger(tmp_path)
    ledger.add(demo(tmp_path / "demo"), NOW)
    asked: list[str] = []

    def grants(subjects: set[str], *, whole: bool = True) -> dict[str, Grants]:
        memory = UseMemory(ledger.stored_answers(), ledger.mark_of_logs() or b"", subjects, lambda: whole)

        def ask() -> dict[str, Grants]:
            asked.append("asked")
            found = (host_logs(bundles) for _, bundles in ledger.history(None, subjects, with_logs=True))
            return {use.host: use.grants for use in read_logbook(found).hosts.values()}

        return memory.grants(ask)

    first = grants({"tern", "curlew"}, whole=False)
    assert sum(len(one.memberships) + len(one.files) + len(one.accounts) for one in first.values()) >= 1
    assert [grants({"tern", "curlew"}) for _ in range(3)] == [first] * 3
    assert len(asked) == 2  # what came from damaged evidence was not kept
    assert set(grants({"tern"})) < set(first)
    assert len(asked) == 3
    tern = next(one for one in ledger.bundles() if one.subject == "tern")
    ledger.add([replace(tern, manifest=replace(tern.manifest, taken=NOW + timedelta(hours=1)))], NOW)
    grants({"tern"})
    assert len(asked) == 4


def test_logs_of_a_host_are_read_once_and_again_when_its_evidence_is_another(tmp_path: Path) -> None:
    """What is kept gives the same answer as the logs themselves, whichever hosts are read anew, and with damage nothing is kept."""
    ledger = Ledger(tmp_path)
    ledger.add(demo(tmp_path / "demo"), NOW)
    wanted, read = EventFilter(), list[str]()

    def logs(subjects: Container[str]) -> Iterator[HostLogs]:
        for subject, bundles in ledger.history(None, [one for one in ledger.history_digests() if one in subjects]):
            read.append(subject)
            yield host_logs(bundles)

    def shown(book: Logbook) -> object:
        answer = UsageAnswer(book, [], wanted, UTC)
        return [VIEWS[view](answer).document() for view in ("summary", "sessions")]

    def recalled(*, whole: bool = True) -> object:
        read.clear()
        memory = LogbookMemory(ledger.stored_answers(), ledger.history_digests(), wanted, lambda: whole)
        return shown(memory.book(logs, map, 1))

    fresh = shown(read_logbook(host_logs(bundles) for _, bundles in ledger.history()))
    every = list(ledger.history_digests())
    for whole, expected in ((False, every), (True, every), (True, []), (True, [])):
        assert recalled(whole=whole) == fresh
        assert read == expected
    tern = next(one for one in ledger.bundles() if one.subject == "tern")
    ledger.add([replace(tern, manifest=replace(tern.manifest, taken=NOW + timedelta(hours=1)))], NOW)
    fresh = shown(read_logbook(host_logs(bundles) for _, bundles in ledger.history()))
    assert recalled() == fresh
    assert read == ["tern"]


def test_the_built_program_says_the_same_the_second_time(tmp_path: Path) -> None:
    assert fidelitas("demo", cwd=tmp_path).status in (0, 4)
    ledger = tmp_path / "demo-estate/ledger"
    commands = [["findings"], ["holders"], ["holders", "--account", "lena", "--each", "--format", "csv"], ["coverage"], ["why", "lena"],
                ["usage"], ["usage", "--sessions"], ["usage", "--host", "tern", "--since", "2026-11-01", "--until", "2026-12-01"]]  # fmt: skip
    whole = {}
    for command in commands:
        said = [fidelitas(*command, "--ledger", ledger, cwd=tmp_path) for _ in range(2)]
        assert said[0] == said[1], command
        whole[tuple(command)] = said[1].out
    with Ledger(ledger).database.writing() as connection:
        connection.exec_driver_sql("delete from answers")
    assert {tuple(command): fidelitas(*command, "--ledger", ledger, cwd=tmp_path).out for command in commands} == whole


# -- at another time -----------------------------------------------------------------------------------------------------------------

RUNNING = b"{pid}\t1\t1003 1003 1003\t1003 1003 1003\t1003 3001{more}\tsh\n1\t0\t0 0 0\t0 0 0\t\tinit\n"
SOME_DAY = 20_000  # in days since 1970


def at_another_time(made: Bundle, days: float, *, pid: int = 40, more: bytes = b"", who: bytes = b"") -> Bundle:
    """Return the evidence of a host as it is some days later: nothing has changed but what always does."""
    listings = {**made.listings, "processes": RUNNING.replace(b"{pid}", b"%d" % pid).replace(b"{more}", more)}
    grown = Item(path="/var/log/auth.log", kind="file", mode=0o640, uid=0, gid=4, size=pid, mtime=pid)
    utmp = Item(path="/run/utmp", kind="file", mode=0o664, uid=0, gid=43, size=len(who), mtime=pid, member="files/u", sha256=None)
    manifest = replace(
        made.manifest,
        taken=datetime.fromtimestamp((SOME_DAY + days) * 86400, UTC),
        items=(*made.manifest.items, grown, utmp),
        listings=(*made.manifest.listings, Listing(name="processes", member="listings/p", tool="ps")),
    )
    return read_bundle(
        BytesIO(make_bundle(manifest, {**made.files, "/run/utmp": who}, listings, {"/var/log/auth.log": b"line\n" * pid}))
    ).named(made.subject)


def surveyed(ledger: Ledger, bundles: list[Bundle]) -> tuple[str, list[str], Audit]:
    """Store a survey, and return its name, which of its evidence is read for findings and holdings, and the audit."""
    name = ledger.add(bundles, max(one.taken for one in bundles)).name
    return name, *asked_of(ledger, name)


def asked_of(ledger: Ledger, survey: str) -> tuple[list[str], Audit]:
    stored = ledger.newest(survey)
    read: list[str] = []
    load = stored.evidence

    def noted(subject: str) -> Bundle:
        read.append(subject)
        return load(subject)

    stored.evidence = noted  # type: ignore[method-assign]
    found, fresh = audit(stored), audit(InMemory(ledger.bundles(survey)))
    assert found.findings == fresh.findings
    assert [one.holdings for one in found.subjects] == [one.holdings for one in fresh.subjects]
    said = list(read)
    assert answers(found) == answers(fresh)
    found.keep()
    return said, found


def test_a_host_that_is_as_it_was_is_not_judged_again(tmp_path: Path) -> None:
    """Time went by, processes are others, someone has logged on, logs have grown, a directory saw log-ins: the answers are the same."""
    ledger = Ledger(tmp_path)
    directory, *some = [one for one in of_directory() if one.subject != "odd"]
    assert set(surveyed(ledger, [directory, *(at_another_time(one, 0) for one in some)])[1]) == {"saltmarsh", "plover", "dunlin"}
    same = from_ldif(LDIF.replace("dc: saltmarsh", "dc: Saltmarsh").encode(), "saltmarsh").bundle  # nothing that hosts take
    stored = [same, *(at_another_time(one, 1, pid=77, who=b"x" * 384) for one in some)]
    name = ledger.add(stored, NOW + timedelta(days=1)).name
    read, found = asked_of(ledger, name)
    assert {type(one) for one in found.hosts} == {RememberedHost}
    assert [one.taken for one in found.hosts] == [stored[1].taken] * 2
    assert set(read) == {"saltmarsh"}


@pytest.mark.parametrize(
    ("policy", "shadow", "change"),
    [
        ("ines ALL = NOTAFTER=20241006000000Z ALL\n", None, 2),  # day 20,002
        ("ines ALL = NOTBEFORE=20241006000000Z ALL\n", None, 2),
        ("ines ALL = ALL\n", "root:*:1::::::\nines:$6$x$y:1:0:99999:7::20002:\n", 2),
        ("ines ALL = ALL\n", "root:*:1::::::\nines:$6$x$y:19990:0:5:7:6::\n", 2),
    ],
)
def test_a_date_that_passes_is_noticed_in_either_order(policy: str, shadow: str | None, change: int, tmp_path: Path) -> None:
    made = bundle(policy, {} if shadow is None else {"/etc/shadow": shadow})
    days = [change - 0.5, change + 0.5, change - 1.0, change + 1.0]
    ledger = Ledger(tmp_path)
    names = [surveyed(ledger, [at_another_time(made, day, pid=10 + turn)])[0] for turn, day in enumerate(days)]
    holders: dict[str, list[object]] = {}
    for name in [*names, *reversed(names)]:
        found = asked_of(ledger, name)[1]
        host = found.subjects[0]
        holders.setdefault(name, []).append([(held, host.in_brief(held.principal)) for held in host.holdings])
    before, after = holders[names[0]], holders[names[1]]
    assert before != after
    assert holders[names[2]] == before
    assert holders[names[3]] == after


def test_processes_that_hold_what_files_do_not_give_are_cited_as_of_their_moment(tmp_path: Path) -> None:
    made, ledger = bundle("%sudo ALL = ALL\n"), Ledger(tmp_path)
    calm, stale = at_another_time(made, 0), at_another_time(made, 1, pid=50, more=b" 27")
    surveyed(ledger, [calm])
    for pid in (50, 51):
        name, read, found = surveyed(ledger, [replace_pid(stale, pid)])
        assert read == ["knot"]
        assert f"/proc/{pid}/status" in {place.path for one in found.findings for place in one.places}
        assert asked_of(ledger, name)[0] == []
    assert surveyed(ledger, [at_another_time(made, 2, pid=90)])[1] == []


def replace_pid(made: Bundle, pid: int) -> Bundle:
    return replace(made, listings={**made.listings, "processes": made.listings["processes"].replace(b"50\t", b"%d\t" % pid, 1)})


def test_a_remembered_host_that_cannot_be_judged_any_more_costs_itself_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its answers that are kept stay; what needs judging says that it could not be done, and the other hosts answer."""
    ledger = Ledger(tmp_path)
    some = [replace(bundle(f"# {name}\nines ALL=(ALL) ALL\n"), name=name) for name in ("knot", "plover")]
    ledger.add(some, NOW)
    audit(ledger.newest()).keep()

    def broken(evidence: Bundle, context: object) -> HostRights:
        if evidence.subject == "knot" and evidence.files:
            raise ZeroDivisionError
        return whole(evidence, context)  # type: ignore[arg-type]

    whole = judge_host
    monkeypatch.setattr("fidelitas.judging.judge_host", broken)
    found = audit(ledger.newest())
    by_name = {one.subject: one for one in found.hosts}
    assert {name: type(one) for name, one in by_name.items()} == dict.fromkeys(("knot", "plover"), RememberedHost)
    assert by_name["knot"].holdings_of("ines")
    assert sorted(by_name["plover"].belongs_to("ines")) == ["%sudo"]
    assert list(by_name["knot"].belongs_to("ines")) == []
    assert [(gap.place.subject, gap.fatal) for gap in found.gaps] == [("knot", True)]
