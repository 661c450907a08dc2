"""Rights: who exists, what a policy gives them, and by which routes."""

import csv
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from fidelitas.facts import OperatingSystem
from fidelitas.languages.sudoers.times import generalized_time, timeout_seconds
from fidelitas.rights import AccountKind, HostRights, Login, Strength
from fidelitas.rights.graph.links import Mechanism
from fidelitas.rights.linux.population import admin_groups
from support import GROUP, PASSWD, SHADOW, fidelitas, held, packed, rights

DAYS = 20777  # of the evidence: 2026-11-20


@pytest.mark.parametrize(
    ("shell", "shadow", "kind", "login"),
    [
        ("/bin/bash", "{usable yescrypt}:20000:0:99999:7:::", "PERSON", "PASSWORD"),
        ("", "{usable yescrypt}:20000:0:99999:7:::", "PERSON", "PASSWORD"),
        ("/bin/bash", "::::::::", "PERSON", "FREELY"),
        ("/bin/bash", "{locked yescrypt}:20000::::::", "PERSON", "NEITHER"),
        ("/bin/bash", "{locked}:20000::::::", "SERVICE", "NEITHER"),
        ("/usr/sbin/nologin", "{usable yescrypt}:20000::::::", "SERVICE", "REFUSED"),
        ("/bin/false", "::::::::", "SERVICE", "REFUSED"),
        ("/bin/bash", f"{{usable yescrypt}}:20000:0:99999:7::{DAYS}:", "PERSON", "EXPIRED"),
        ("/bin/bash", f"{{usable yescrypt}}:20000:0:99999:7::{DAYS + 1}:", "PERSON", "PASSWORD"),
        ("/bin/bash", f"{{usable yescrypt}}:{DAYS - 100}:0:90:7:9::", "PERSON", "EXPIRED"),
        ("/bin/bash", f"{{usable yescrypt}}:{DAYS - 100}:0:90:7:10::", "PERSON", "PASSWORD"),
    ],
)
def test_shell_password_and_dates_tell_people_from_services_and_who_can_log_in(shell: str, shadow: str, kind: str, login: str) -> None:
    host = rights("", {"/etc/passwd": f"zoe:x:1500:1500::/home/zoe:{shell}\n", "/etc/shadow": f"zoe:{shadow}\n"})
    who = host.population.by_name["zoe"]
    assert (who.kind, who.login) == (AccountKind[kind], Login[login])


@pytest.mark.parametrize(
    ("system", "limits", "uid", "kind"),
    [
        ("ID=debian", "", 999, "SYSTEM"),
        ("ID=debian", "", 1000, "PERSON"),
        ("ID=debian", "", 60001, "SYSTEM"),
        ("ID=debian", "UID_MIN 500\n", 600, "PERSON"),
        ("ID=debian", "UID_MIN 5000\nUID_MAX 5001\n", 4000, "SYSTEM"),
        ("ID=rhel\nVERSION_ID=6.10", "", 600, "PERSON"),
        ("ID=rhel\nVERSION_ID=9", "", 600, "SYSTEM"),
        ("ID=debian", "", 0, "ROOT"),
    ],
)
def test_the_hosts_own_range_decides_who_is_a_person(system: str, limits: str, uid: int, kind: str) -> None:
    files = {"/etc/passwd": f"zoe:x:{uid}:1::/:/bin/sh\n", "/etc/shadow": "zoe:{locked md5}:::::::\n", "/etc/os-release": system}
    who = rights("", {**files, "/etc/login.defs": limits or None}).population.by_name["zoe"]
    # An account outside the range that has a password is a service: someone can use it.
    assert who.kind is (AccountKind.SERVICE if kind == "SYSTEM" else AccountKind[kind])


def test_what_was_not_read_is_not_known() -> None:
    host = rights("", {"/etc/shadow": None})
    assert host.population.by_name["ines"].login is Login.UNKNOWN
    assert host.population.by_name["ines"].login.possible is None
    assert "/etc/shadow" in [gap.what for gap in host.facts.gaps]


@pytest.mark.parametrize(("family", "groups"), [(("debian",), ("sudo",)), (("rocky", "rhel"), ("wheel",)), (("plan9",), ("sudo", "wheel"))])
def test_each_family_has_its_administrators_group(family: tuple[str, ...], groups: tuple[str, ...]) -> None:
    assert admin_groups(OperatingSystem(name="", family=family, version="")) == groups


# -- who holds root ----------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("sudoers", "holders"),
    [
        ("ines ALL=(ALL) ALL", {"ines"}),
        ("INES ALL=(ALL) ALL", {"ines"}),
        ("Defaults !case_insensitive_user\nINES ALL=(ALL) ALL", set()),
        ("%gauges ALL=(ALL) ALL", {"rada", "vesna", "%gauges"}),
        ("%#3001 ALL=(ALL) ALL", {"rada", "vesna", "%gauges"}),
        ("#1002 ALL=(ALL) ALL", {"tomas"}),
        ("ines knot=(ALL) ALL", {"ines"}),
        ("ines k*t=(ALL) ALL", {"ines"}),
        ("ines tern=(ALL) ALL", set()),
        ("ines ALL, !knot=(ALL) ALL", set()),
        ("ines ALL=(tomas) ALL", set()),
        ("ines ALL=(ALL, !root) ALL", set()),
        ("ines ALL=(#0) ALL", {"ines"}),
        ("ines ALL=(:gauges) ALL", set()),
        ("ines ALL=() ALL", set()),
        ("!ines ALL=(ALL) ALL", set()),
        ("ines ALL=(ALL) ALL\nines ALL=(ALL) !ALL", set()),
        ("ines ALL=(ALL) !ALL\nines ALL=(ALL) ALL", {"ines"}),
        ("ines ALL=(ALL) ALL\nALL, !ines ALL=(ALL) !ALL", {"ines"}),
        ("%gauges ALL=(ALL) ALL\nrada ALL=(ALL) !ALL", {"vesna", "%gauges"}),
        ("Cmnd_Alias X = /bin/ls, !ALL\nines ALL=(ALL) !X", {"ines"}),
        ("Cmnd_Alias X = ALL, !ALL\nines ALL=(ALL) X", set()),
        ("User_Alias X = !ines\nUser_Alias Y = !X\nY ALL=(ALL) ALL", {"ines"}),
        ("User_Alias X = ines, X\nX ALL=(ALL) ALL", {"ines"}),
        ("ines ALL=(ALL) NOTAFTER=20200101000000Z ALL", set()),
        ("ines ALL=(ALL) /bin/ls", set()),
        ("ines ALL=(ALL) /bin/bash", {"ines"}),
        ("ines ALL=(ALL) /bin/bash /opt/backup", set()),
        ("ines ALL=(ALL) /bin/su -", {"ines"}),
        ("ines ALL=(ALL) /bin/su - tomas", set()),
        ("Defaults runas_default=tomas\nines ALL=ALL", set()),
    ],
)
def test_who_holds_root(sudoers: str, holders: set[str]) -> None:
    assert held(rights(f"{sudoers}\n")) == holders


def test_every_account_with_user_id_0_is_root_and_also_a_way_to_root() -> None:
    host = rights("ines ALL=(ALL, !root) ALL\n", {"/etc/passwd": PASSWD + "toor:x:0:0::/root:/bin/sh\n"})
    assert held(host) == {"toor", "ines"}
    assert "as toor, whose user ID is 0" in held_links(host, "ines")[-1].because


def held_links(host: HostRights, name: str, right: str = "root") -> tuple:  # type: ignore[type-arg]
    return next(holding for holding in host.holdings if str(holding.principal) == name and str(holding.right) == right).routes[0].links


def test_a_route_names_each_link_with_its_line() -> None:
    host = rights("# policy\n%gauges ALL=(root) NOPASSWD: ALL\n")
    links = held_links(host, "rada")
    assert [str(link.place) for link in links] == ["knot:/etc/group:7:1", "knot:/etc/sudoers:2:1"]
    assert [str(link.place) for link in held_links(host, "vesna")] == ["knot:/etc/passwd:6:1", "knot:/etc/sudoers:2:1"]
    assert links[-1].asks is None


DEFAULT_ASKED = "the password of the account that is run as by default"


@pytest.mark.parametrize(
    ("sudoers", "asks", "condition"),
    [
        ("ines ALL=(ALL) ALL", "own password", None),
        ("ines ALL=(ALL) NOPASSWD: ALL", None, None),
        ("Defaults !authenticate\nines ALL=(ALL) ALL", None, None),
        ("Defaults !authenticate\nines ALL=(ALL) PASSWD: ALL", "own password", None),
        ("Defaults:tomas !authenticate\nines ALL=(ALL) ALL", "own password", None),
        ("Defaults rootpw\nines ALL=(ALL) ALL", "root's password", "if root's password is known"),
        ("Defaults targetpw\nines ALL=(ALL) ALL", "root's password", "if the password of root is known"),
        ("Defaults runaspw\nines ALL=(ALL) ALL", "root's password", "if root's password is known"),
        ("Defaults runaspw, runas_default=tomas\nines, tomas ALL=(ALL) ALL", DEFAULT_ASKED, "if the password of tomas is known"),
        ("Defaults runaspw, runas_default=ines\nines, tomas ALL=(ALL) ALL", DEFAULT_ASKED, None),
        ("Defaults rootpw, runaspw, runas_default=ines\nines ALL=(ALL) ALL", "root's password", "if root's password is known"),
        ("Defaults exempt_group=sudo\nines ALL=(ALL) ALL", None, None),
        ("ines 10.0.0.0/8=(ALL) ALL", "own password", "if this host has an address in 10.0.0.0/8"),
        ("+night ALL=(ALL) ALL", "own password", "if ines is in netgroup night"),
        ("ines ALL, !+night=(ALL) ALL", "own password", "unless this host is in netgroup night"),
        ("ines knot.saltmarsh.example=(ALL) ALL", "own password", "if the full name of this host is knot.saltmarsh.example"),
        ("ines ALL=(ALL) NOTBEFORE=20300101000000Z ALL", "own password", "from 2030-01-01 00:00 UTC on"),
        ("%:night ALL=ALL\nDefaults group_plugin=x", "own password", "if the group plugin says that ines is in night"),
    ],
)
def test_what_is_asked_and_on_what_it_depends(sudoers: str, asks: str | None, condition: str | None) -> None:
    """What depends on something not in evidence is shown, with its condition: never as "no access"."""
    host = rights(f"{sudoers}\n")
    route = next(holding for holding in host.holdings if str(holding.principal) == "ines").routes[0]
    assert route.asks == asks
    assert route.conditions == ((condition,) if condition else ())
    assert route.strength is (Strength.CONDITIONAL if condition else Strength.DIRECT)


def test_an_exclusion_from_everything_is_no_barrier_and_not_direct_either() -> None:
    link = held_links(rights("ines ALL=(ALL) ALL, !/bin/sh, !/bin/bash\n"), "ines")[-1]
    assert link.strength is Strength.CERTAIN
    assert "excluding 2 commands does not restrict this" in link.because


def test_a_chain_is_one_route_and_asks_for_the_password_on_the_way() -> None:
    host = rights("ines ALL=(tomas) NOPASSWD: ALL\ntomas ALL=(ALL) ALL\n")
    chain = next(holding for holding in host.holdings if str(holding.principal) == "ines" and str(holding.right) == "root").routes[0]
    assert [str(link.target) for link in chain.links] == ["tomas", "root"]
    assert chain.strength is Strength.CONDITIONAL
    assert chain.conditions == ("if the password of tomas is known",)
    open_way = rights("ines ALL=(tomas) NOPASSWD: ALL\ntomas ALL=(ALL) NOPASSWD: ALL\n")
    assert next(holding for holding in open_way.holdings if str(holding.principal) == "ines").strength is Strength.DIRECT


def test_a_circle_of_accounts_ends_and_alternatives_are_kept() -> None:
    host = rights("ines ALL=(tomas) ALL\ntomas ALL=(ines) ALL\ntomas ALL=(root) ALL\n%sudo ALL=(ALL) ALL\nines ALL=(root) ALL\n")
    routes = next(holding for holding in host.holdings if str(holding.principal) == "ines" and str(holding.right) == "root").routes
    assert [[str(link.target) for link in route.links] for route in routes] == [["root"], ["%sudo", "tomas", "root"]]
    assert [str(place) for place in routes[0].links[0].behind] == ["knot:/etc/sudoers:4:1"]


@pytest.mark.parametrize(
    ("sudoers", "right", "holders"),
    [
        ("ines ALL=(tomas) ALL", "run-as:tomas", {"ines"}),
        ("ines ALL=(ALL, !root) ALL", "run-as:ALL", {"ines"}),
        ("ines ALL=(ALL) ALL", "run-as:tomas", set()),
        ("ines ALL=(root) /bin/ls -l", "command:/bin/ls -l", {"ines"}),
        ("ines ALL=(tomas) /bin/ls", "command:/bin/ls as tomas", {"ines"}),
        ("ines ALL=(ALL) /bin/ls, !/bin/ls", "command:/bin/ls", set()),
        ("ines ALL=(:gauges) ALL", "run-as-group:gauges", {"ines"}),
        ("ines ALL=(:ALL) ALL", "run-as-group:ALL", {"ines"}),
        ("ines ALL=(:gauges) /bin/ls", "run-as-group:gauges /bin/ls", {"ines"}),
    ],
)
def test_lesser_rights(sudoers: str, right: str, holders: set[str]) -> None:
    assert held(rights(f"{sudoers}\n"), right) == holders


@pytest.mark.parametrize(
    ("root", "holder"),
    [("{usable sha512}", "root's password"), ("", "any account"), ("{none}", None), ("{locked sha512}", None)],
)
def test_su_goes_by_the_state_of_roots_password(root: str, holder: str | None) -> None:
    host = rights("", {"/etc/shadow": SHADOW.replace("root:{none}", f"root:{root}")})
    others = [holding for holding in host.own_holdings if str(holding.principal) != "root"]
    assert [str(holding.principal) for holding in others] == ([holder] if holder else [])
    assert all(holding.strength is Strength.CONDITIONAL and "PAM" in holding.routes[0].conditions[0] for holding in others)


def test_what_every_account_holds_is_one_row_and_still_each_ones_own() -> None:
    host = rights("ALL ALL=(ALL) ALL\n")
    assert {str(holding.principal) for holding in host.own_holdings} == {"root", "any account"}
    assert [str(holding.right) for holding in host.held_by("rada")] == ["root"]


def test_without_a_password_in_force_the_question_cannot_be_answered() -> None:
    host = rights("ines ALL=(ALL) ALL\n", {"/etc/shadow": SHADOW.replace("ines:{usable", "ines:{locked")})
    route = next(holding for holding in host.holdings if str(holding.principal) == "ines").routes[0]
    assert route.strength is Strength.CONDITIONAL


def test_of_two_lines_with_one_name_the_first_counts_and_of_two_names_with_one_id_too() -> None:
    host = rights(
        "%sudo ALL=(ALL) ALL\n%other ALL=(ALL) ALL\n",
        {"/etc/passwd": PASSWD + "ines:x:0:0::/:/bin/sh\n", "/etc/group": GROUP + "other:x:27:tomas\n"},
    )
    # tomas gets group ID 27, whose name is that of its first line; "other" is nobody's name for it.  The second "ines" is root all the same.
    assert {"tomas", "%sudo"} < held(host)
    assert "%other" not in held(host)


@pytest.mark.parametrize(
    ("text", "stated"),
    [
        ("20260102030405Z", "2026-01-02T03:04:05+00:00"),
        ("2026010203Z", "2026-01-02T03:00:00+00:00"),
        ("20260102030405.5+0130", "2026-01-02T01:34:05+00:00"),
        ("2026010203.5Z", "2026-01-02T03:30:00+00:00"),
        ("20260102030405.55Z", None),
        ("202601020304-05", "2026-01-02T08:04:00+00:00"),
        ("20261302030405Z", "2027-01-02T03:04:05+00:00"),
        ("2026010Z", None),
        ("tomorrow", None),
        ("٢٠٢٦٠١٠٢٠٣٠٤٠٥Z", None),
    ],
)
def test_generalized_time(text: str, stated: str | None) -> None:
    time = generalized_time(text)
    assert (time.isoformat() if time else None) == stated


@pytest.mark.parametrize(
    ("text", "seconds"),
    [("90", 90), ("1d2h3m4s", 93784), ("5M", 300), ("1m2h", None), ("", None), ("5x", None), ("5m3", 303), ("99999d", None), ("m", None)],
)
def test_timeouts(text: str, seconds: int | None) -> None:
    assert timeout_seconds(text) == seconds


# -- laws --------------------------------------------------------------------------------------------------------------------------

RULES = st.tuples(
    st.sampled_from(["ines", "tomas", "%gauges", "ALL", "!rada", "ALL, !ines", "#1002", "+net"]),
    st.sampled_from(["", "(root)", "(tomas)", "(ALL, !root)", "(rada) NOPASSWD:"]),
    st.sampled_from(["ALL", "!ALL", "/bin/ls", "!/bin/ls", "/bin/bash"]),
).map(lambda parts: f"{parts[0]} ALL = {parts[1]} {parts[2]}\n")


@given(st.lists(RULES, max_size=6))
def test_every_link_has_a_place_and_every_route_leads_from_holder_to_right(rules: list[str]) -> None:
    host = rights("".join(rules))
    for holding in host.holdings:
        for route in holding.routes:
            assert route.links[0].source == holding.principal
            assert route.links[-1].target == holding.right
            assert all(before.target == after.source for before, after in zip(route.links, route.links[1:], strict=False))
            assert all(link.place.line for link in route.links)
            assert route.strength >= max(link.strength for link in route.links)


@given(st.lists(RULES, max_size=5), st.sampled_from(["ines", "tomas", "rada", "vesna"]))
def test_a_last_rule_for_all_gives_all_and_takes_all(rules: list[str], name: str) -> None:
    policy = "".join(rules)
    assert name in held(rights(f"{policy}{name} ALL=(ALL) ALL\n"))
    taken = rights(f"{policy}{name} ALL=(ALL) !ALL\n")
    direct = [route for holding in taken.holdings if str(holding.principal) == name for route in holding.routes if route.links[-1].quote]
    assert not direct or all(len(route.links) > 1 and route.links[-1].source.name != name for route in direct)


@given(st.lists(RULES, max_size=5))
def test_equal_facts_give_equal_answers(rules: list[str]) -> None:
    first, second = rights("".join(rules)), rights("".join(rules))
    assert first.holdings == second.holdings
    assert replace(first.facts) == second.facts


def test_very_many_rules_for_one_account_are_worked_out_in_one_pass() -> None:
    host = rights("".join(f"ines ALL=(ALL) /bin/tool{number} x, /bin/b{number}\n" for number in range(3000)))
    assert len(host.held_by("ines")) == 6000


def test_aliases_that_name_one_another_over_and_over_do_not_multiply() -> None:
    bomb = "".join(
        f"{kind} A{n} = A{n - 1}, A{n - 1}, A{n - 1}\n"
        for kind in ("User_Alias", "Cmnd_Alias", "Host_Alias", "Runas_Alias")
        for n in range(1, 60)
    )
    ends = "User_Alias A0 = tomas\nCmnd_Alias A0 = /bin/ls\nHost_Alias A0 = elsewhere\nRunas_Alias A0 = rada\n"
    assert held(rights(f"{bomb}{ends}A59 A59 = (A59) A59\nines ALL = (A59) A59\n"), "command:/bin/ls as rada") == {"ines"}


def test_a_jail_is_not_the_host_and_a_chosen_one_is_none() -> None:
    host = rights(
        "ines ALL=(ALL) CHROOT=/srv/jail NOPASSWD: ALL\ntomas ALL=CHROOT=* ALL\nDefaults:rada runchroot=/srv/jail\nrada ALL=/usr/bin/vim\n"
    )
    strengths = {str(one.principal): {str(route.strength) for route in one.routes} for one in host.holdings if str(one.right) == "root"}
    assert (strengths["ines"], strengths["tomas"], strengths["rada"]) == ({"conditional"}, {"direct"}, {"conditional"})
    assert all(
        "/srv/jail" in route.links[0].conditions[0]
        for one in host.holdings
        if str(one.principal) in ("ines", "rada")
        for route in one.routes
    )


def test_an_administrator_of_a_group_has_what_the_group_gives() -> None:
    groups = GROUP + "docker:x:120:\n"
    files = {"/etc/group": groups, "/etc/gshadow": "docker:!:rada:\nsudo:!:ines,nosuch:ines\n"}
    host = rights("%docker ALL=(ALL) ALL\n", files)
    [route] = [
        route
        for one in host.holdings
        if str(one.principal) == "rada" and str(one.right) == "root"
        for route in one.routes
        if route.links[1].mechanism is Mechanism.SUDO
    ]
    assert [(link.mechanism, link.place.path, link.place.line) for link in route.links] == [
        (Mechanism.GROUP_ADMINISTRATOR, "/etc/gshadow", 1),
        (Mechanism.SUDO, "/etc/sudoers", 1),
    ]
    assert not [
        link
        for one in host.holdings
        for route in one.routes
        for link in route.links
        if link.mechanism is Mechanism.GROUP_ADMINISTRATOR and link.source.name == "ines"
    ]


@pytest.mark.parametrize(("length", "is_said"), [(8, False), (300, True)])
def test_a_long_chain_of_accounts_is_followed_to_root_and_what_is_not_followed_is_said(length: int, is_said: bool, tmp_path: Path) -> None:
    accounts = "".join(f"u{number}:x:{5000 + number}:100::/home/u:/bin/sh\n" for number in range(length))
    policy = "".join(f"u{number} ALL=(u{number + 1}) ALL\n" for number in range(length - 1)) + f"u{length - 1} ALL=(root) ALL\n"
    for name in ("knot", "tern"):
        (tmp_path / f"{name}.tar").write_bytes(packed(policy, {"/etc/passwd": PASSWD + accounts}, name=name))
    surveyed = fidelitas("survey", "knot.tar", "tern.tar", cwd=tmp_path)
    for _ in range(2):  # as they are judged, and as they are remembered
        rows = csv.DictReader(fidelitas("holders", "--each", "--format", "csv", cwd=tmp_path).out.splitlines())
        holds = {(one["subject"], one["holder"], one["right"]) for one in rows}
        for subject in ("knot", "tern"):
            assert {(subject, f"u{number}", "root") for number in range(length)} <= holds
            assert {(subject, f"u{one}", f"run-as:u{other}") for other in range(length) for one in range(max(0, other - 9), other)} <= holds
        assert len(holds) < 24 * length
        said = fidelitas("coverage", "--format", "json", cwd=tmp_path)
        assert said.out.count("a chain of very many accounts") == 2 * is_said
        assert ("2 gaps" in surveyed.err) == is_said
