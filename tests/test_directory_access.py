"""How hosts write the names of a directory, which accounts of it they accept, and rules of an IPA directory, as the whole audit has them.

What a real sssd and nslcd can be asked is in test_judge_directory_hosts.py, such members of a domain and winbind in test_judge_domain.py; no IPA server runs: rows are from sssd.conf(5), sssd-ad(5),
smb.conf(5), and the schema of IPA's sudo and host-based access rules.
"""

from collections import Counter
from collections.abc import Mapping
from pathlib import Path

import pytest

from fidelitas.audit import InMemory, audit, takings_of
from fidelitas.inquiry import Inquiry
from fidelitas.peers import profiles
from fidelitas.people import MappedPerson, Owners
from fidelitas.rights import HostRights, Principal, PrincipalKind
from fidelitas.rights.accounts.identity import Login
from fidelitas.rights.directory.filters import FilterError, matcher
from fidelitas.rights.graph.links import sought
from fidelitas.rights.linux.sudo import Verdict
from fidelitas.sources.directory import from_ldif
from support import Put, bundle, fidelitas
from test_cli import check_schema, handed_in

NSSWITCH = Put("passwd: files sss\ngroup: files sss\nsudoers: files sss\n")
BASE = "dc=tides,dc=example"


def domain(base: str = BASE, sid: str = "S-1-5-21-1-2-3", people: tuple[str, ...] = ("Ulla", "rosa", "nils")) -> str:
    """A domain of Windows without numbers of Unix: Ulla is in Linux Admins by way of a group, rosa by herself, nils in no group."""
    realm = base.replace("dc=", "").replace(",", ".")
    text = "".join(
        f"dn: cn={name},cn=Users,{base}\nobjectClass: user\nsAMAccountName: {name}\nobjectSid: {sid}-{1100 + number}\nprimaryGroupID: 513\n"
        f"userAccountControl: {514 if name == 'idle' else 512}\nuserPrincipalName: {name}@{realm}\n\n"
        for number, name in enumerate(people)
    )
    for number, (name, members) in enumerate({"Domain Users": (), "Linux Admins": ("Ops", "rosa"), "Ops": ("Ulla", "idle")}.items()):
        listed = "".join(f"member: cn={one},cn=Users,{base}\n" for one in members if one in people or one == "Ops")
        text += f"dn: cn={name},cn=Users,{base}\nobjectClass: group\nsAMAccountName: {name}\nobjectSid: {sid}-{513 + number}\n{listed}\n"
    return text


def judged(files: Mapping[str, Put | None], sudoers: str, directories: dict[str, str], name: str = "knot") -> HostRights:
    """Return the rights on a host with some directories in evidence."""
    evidence = [from_ldif(text.encode(), subject).bundle for subject, text in directories.items()]
    return audit([bundle(sudoers, dict(files), name=name), *evidence], findings=False).hosts[0]


def root_holders(host: HostRights) -> dict[str, Login]:
    """Return the accounts of a directory that have root on a host, each with whether it can log in."""
    known = {who.name: who.login for who in host.population.effective if who.of_directory}
    return {
        one.principal.name: known[one.principal.name] for one in host.holdings if str(one.right) == "root" and one.principal.name in known
    }


def sssd(*lines: str, domain: str = "tides.example", provider: str = "ad") -> Put:
    return Put("\n".join((f"[sssd]\ndomains = {domain}", f"[domain/{domain}]", f"id_provider = {provider}", *lines, "")))


@pytest.mark.parametrize(
    ("settings", "rule", "expected"),
    [
        # Numbers are made of SIDs, so that accounts without a number of Unix are there; names are in small letters.
        ((), "%linux\\ admins", {"ulla", "rosa"}),
        ((), "%Linux\\ Admins", {"ulla", "rosa"}),
        ((), "%ops", {"ulla"}),
        ((), "nils", {"nils"}),
        (("use_fully_qualified_names = True",), "%linux\\ admins@tides.example", {"ulla@tides.example", "rosa@tides.example"}),
        (("use_fully_qualified_names = True",), "%linux\\ admins", set()),
        (("use_fully_qualified_names = True",), "nils@tides.example", {"nils@tides.example"}),
        (("use_fully_qualified_names = True", "full_name_format = %3$s+%1$s"), "%TIDES+ops", {"TIDES+ulla"}),
        (("ldap_id_mapping = False",), "%linux\\ admins", set()),  # and nobody has a number
        (("override_space = _",), "%linux_admins", {"ulla", "rosa"}),
        (("override_space = _",), "%linux\\ admins", set()),
        (("override_space = i",), "%linux\\ admins", {"ulla", "rosa"}),  # a name that has the sign is left as it is
        (("auto_private_groups = True",), "%nils", {"nils"}),
        (("auto_private_groups = True",), "%domain\\ users", {"ulla", "rosa", "nils"}),
        (("default_domain_suffix = corp.example",), "nils@tides.example", {"nils@tides.example"}),
        ((f"ldap_user_search_base = cn=Users,{BASE}?subtree?(!(cn=nils))",), "ALL", {"ulla", "rosa"}),
    ],
)  # fmt: skip
def test_names_are_written_as_the_host_writes_them(settings: tuple[str, ...], rule: str, expected: set[str]) -> None:
    files = {"/etc/nsswitch.conf": NSSWITCH, "/etc/sssd/sssd.conf": sssd(*settings)}
    assert set(root_holders(judged(files, f"{rule} ALL=(ALL) ALL\n", {"tides": domain()}))) == expected


@pytest.mark.parametrize(
    ("settings", "rule", "expected"),
    [
        ("idmap config * : backend = tdb\n", "%TIDES\\\\linux\\ admins", {"TIDES\\ulla", "TIDES\\rosa"}),
        ("idmap config * : backend = tdb\nwinbind use default domain = yes\n", "%linux\\ admins", {"ulla", "rosa"}),
        ("idmap config TIDES : backend = rid\nwinbind separator = +\n", "%TIDES+ops", {"TIDES+ulla"}),
        ("idmap config TIDES : backend = ad\nwinbind use default domain = yes\n", "%linux\\ admins", set()),
        ("idmap config * : backend = autorid\nwinbind normalize names = yes\n", "%TIDES\\\\linux_admins", {"TIDES\\ulla", "TIDES\\rosa"}),
        ("idmap config * : backend = autorid\n", "%TIDES\\\\nils", {"TIDES\\nils"}),  # its number is a group's as well
        ("idmap config * : backend = tdb\n", "%TIDES\\\\nils", set()),
        ("idmap config TIDES : backend = rid\nidmap config TIDES : range = 10000-99999\n", "\\#11101", {"TIDES\\rosa"}),
        (
            "idmap config tides:backend = RID\nidmap config tides:range = 500 - 99999\n",
            "%\\#1013",
            {"TIDES\\ulla", "TIDES\\rosa", "TIDES\\nils"},
        ),
        ("idmap config TIDES : backend = rid\nidmap config TIDES : range = 10000-11000\n", "\\#11101", set()),
        (
            "idmap config TIDES : backend = rid\nidmap config TIDES : range = 10000-99999\nidmap config TIDES : base_rid = 1000\n",
            "\\#11101",
            set(),
        ),
    ],
)
def test_names_as_winbind_writes_them(settings: str, rule: str, expected: set[str]) -> None:
    files = {
        "/etc/nsswitch.conf": Put("passwd: files winbind\ngroup: files winbind\n"),
        "/etc/samba/smb.conf": Put(f"[global]\nrealm = TIDES.EXAMPLE\nworkgroup = TIDES\n{settings}"),
    }
    assert set(root_holders(judged(files, f"{rule} ALL=(ALL) ALL\n", {"tides": domain()}))) == expected


LET_IN, REFUSED = Login.UNKNOWN, Login.BARRED


NO_POLICIES = "ad_gpo_access_control = disabled"
IN_CHAIN = "1.2.840.113556.1.4.1941"


@pytest.mark.parametrize(
    ("settings", "refused", "gap"),
    [
        (("access_provider = permit",), set(), False),
        ((), set(), False),
        (("access_provider = deny",), {"ulla", "rosa", "idle"}, False),
        (("access_provider = simple",), set(), False),
        (("access_provider = simple", "simple_allow_groups = ops"), {"rosa"}, False),
        (("access_provider = simple", "simple_allow_groups = OPS@tides.example"), {"rosa"}, False),
        (("access_provider = simple", "simple_allow_users = rosa"), {"ulla", "idle"}, False),
        (("access_provider = simple", "simple_allow_users = rosa, Ulla", "simple_deny_groups = ops"), {"ulla", "idle"}, False),
        (("access_provider = simple", "simple_deny_users = rosa"), {"rosa"}, False),
        (("access_provider = simple", "simple_allow_groups ="), set(), False),
        (("access_provider = ad", NO_POLICIES), {"idle"}, False),
        (("access_provider = ad", NO_POLICIES, f"ad_access_filter = (memberOf=cn=Ops,cn=Users,{BASE})"), {"rosa", "idle"}, False),
        (("access_provider = ad", NO_POLICIES, f"ad_access_filter = DOM:tides.example:(|(sAMAccountName=rosa)(memberOf=CN=ops, cn=users, {BASE}))"), {"idle"}, False),
        (("access_provider = ad", NO_POLICIES, f"ad_access_filter = (memberOf=cn=Linux Admins,cn=Users,{BASE})"), {"ulla", "idle"}, False),
        (("access_provider = ad", NO_POLICIES, f"ad_access_filter = DOM:tides.example:(memberOf:{IN_CHAIN}:=cn=Linux Admins,cn=Users,{BASE})"), {"idle"}, False),
        (("access_provider = ad", NO_POLICIES, f"ad_access_filter = (memberOf:{IN_CHAIN}:=cn=Linux Admins,cn=Users,{BASE})"), {"ulla", "rosa", "idle"}, False),  # sssd takes the colon for the end of a domain
        (("access_provider = ad", NO_POLICIES, "ad_access_filter = (!(sAMAccountName=r*))"), {"rosa", "idle"}, False),
        (("access_provider = ad", NO_POLICIES, "ad_access_filter = (carLicense=x)"), {"idle"}, True),
        (("access_provider = ad", NO_POLICIES, "ad_access_filter = (memberOf=x"), {"idle"}, True),
        (("access_provider = ldap", "ldap_access_filter = sAMAccountName=rosa"), {"ulla", "idle"}, False),
        (("access_provider = ldap",), {"ulla", "rosa", "idle"}, False),
        (("access_provider = ldap", "ldap_access_order = expire"), set(), True),
        (("access_provider = krb5",), set(), True),
        (("access_provider = ipa",), set(), True),  # the directory has no such rules
    ],
)  # fmt: skip
def test_whom_a_host_lets_in(settings: tuple[str, ...], refused: set[str], gap: bool) -> None:
    files = {"/etc/nsswitch.conf": NSSWITCH, "/etc/sssd/sssd.conf": sssd(*settings)}
    host = judged(files, "%linux\\ admins ALL=(ALL) ALL\n", {"tides": domain(people=("Ulla", "rosa", "nils", "idle"))})
    assert root_holders(host) == {name: REFUSED if name in refused else LET_IN for name in ("ulla", "rosa", "idle")}
    assert ("access rules of sssd" in {one.what for one in host.gaps}) is gap


ACCESS = ("access_provider = simple", "simple_allow_groups = linux admins")


@pytest.mark.parametrize(
    ("settings", "expected"),
    [
        ((), {"rosa": LET_IN, "cleo": LET_IN}),  # by way of List, which Night is in: what sssd has looked up decides, and it may
        (("ldap_use_tokengroups = false",), {"rosa": LET_IN, "cleo": LET_IN, "dora": LET_IN}),
    ],
)
def test_a_group_for_distribution_leads_on_where_sssd_lets_it(settings: tuple[str, ...], expected: dict[str, Login]) -> None:
    """A logon leaves such a group out, a lookup of a group's members does not: dora is in it herself, cleo by a group within it."""
    people = ("rosa", "cleo", "dora")
    listed = "".join(
        f"dn: cn={name},cn=Users,{BASE}\nobjectClass: group\nsAMAccountName: {name}\nobjectSid: S-1-5-21-1-2-3-{number}\ngroupType: {kind}\n"
        + "".join(f"member: cn={one},cn=Users,{BASE}\n" for one in members)
        + "\n"
        for number, (name, kind, members) in enumerate(
            [("Linux Admins", -2147483646, ("rosa", "List")), ("List", 2, ("dora", "Night")), ("Night", -2147483646, ("cleo",))], 2000
        )
    )
    text = domain(people=people).partition("dn: cn=Linux Admins")[0] + listed
    files = {"/etc/nsswitch.conf": NSSWITCH, "/etc/sssd/sssd.conf": sssd(*settings, *ACCESS)}
    assert root_holders(judged(files, "%linux\\ admins ALL=(ALL) ALL\n", {"tides": text})) == expected


@pytest.mark.parametrize(
    ("settings", "uid"),
    [
        ((), 256_801_103),  # as a real sssd made it
        (("ldap_idmap_range_min = 0", "ldap_idmap_range_max = 200000"), 1103),  # one slice
        (("ldap_idmap_autorid_compat = True",), None),
        (("ldap_idmap_default_domain_sid = S-1-5-21-1-2-3",), None),
        (("ldap_idmap_range_size = 1000",), None),  # its number is in a further slice of the domain
        (("ldap_idmap_range_size = 0", "ldap_idmap_range_max = 1"), None),
        (
            ("ldap_idmap_range_min = 0", "ldap_idmap_range_max = 200000", "ad_domain = other.example", f"ldap_search_base = {BASE}"),
            None,
        ),  # whose slice it is
    ],
)
def test_numbers_that_sssd_makes_of_sids(settings: tuple[str, ...], uid: int | None) -> None:
    """By them a rule for a number is for an account of the directory."""
    text = domain(sid="S-1-5-21-3699303642-3748859070-873913300").replace("-1101\n", "-1103\n")
    files = {"/etc/nsswitch.conf": NSSWITCH, "/etc/sssd/sssd.conf": sssd(*settings)}
    host = judged(files, f"#{uid or 256_801_103} ALL=(ALL) ALL\n", {"tides": text})
    known = {who.name.partition("@")[0]: who.uid for who in host.population.effective if who.of_directory}
    assert known["rosa"] == uid
    assert root_holders(host) == ({} if uid is None else {"rosa": LET_IN})


def test_a_sid_of_any_length_is_read() -> None:
    text = domain().replace("S-1-5-21-1-2-3-1101\n", f"S-1-5-21-1-2-3-{'9' * 5000}\n")
    host = judged({"/etc/nsswitch.conf": NSSWITCH, "/etc/sssd/sssd.conf": sssd()}, "rosa ALL=(ALL) ALL\n", {"tides": text})
    assert root_holders(host) == {"rosa": LET_IN}


def test_of_two_domains_of_one_host_both_count_the_first_first() -> None:
    """Names of a second domain are written with it where its section says so; of two accounts of one name the first is there."""
    corp = domain("dc=corp,dc=example", "S-1-5-21-7-8-9", ("Ulla", "wilm")).replace("member: cn=Ops", "member: cn=wilm")
    text = (
        "[sssd]\ndomains = tides.example, corp.example\n[domain/corp.example]\nid_provider = ad\n[domain/tides.example]\nid_provider = ad\n"
    )
    for lines, rule, expected in (
        ("", "ulla, wilm", {"ulla", "wilm"}),
        ("use_fully_qualified_names = True\n", "%linux\\ admins", {"wilm"}),
        ("use_fully_qualified_names = True\n", "%linux\\ admins@tides.example", {"ulla@tides.example", "rosa@tides.example"}),
    ):
        files = {"/etc/nsswitch.conf": NSSWITCH, "/etc/sssd/sssd.conf": Put(text + lines)}
        host = judged(files, f"{rule} ALL=(ALL) ALL\n", {"corp": corp, "tides": domain()})
        assert set(root_holders(host)) == expected
        cited = {one.principal.name: one.principal.subject for one in host.holdings if str(one.right) == "root"}
        assert {name: cited[name] for name in expected} == {name: "corp" if name == "wilm" else "tides" for name in expected}


# -- IPA ---------------------------------------------------------------------------------------------------------------------------

SUFFIX = "dc=saltmarsh,dc=example"


def entry(dn: str, classes: str, **values: str | tuple[str, ...]) -> str:
    lines = [f"dn: {dn},{SUFFIX}", *(f"objectClass: {one}" for one in classes.split())]
    for name, value in values.items():
        lines += [f"{name}: {one}" for one in ((value,) if isinstance(value, str) else value)]
    return "\n".join(lines) + "\n\n"


def user(name: str) -> str:
    return f"uid={name},cn=users,cn=accounts,{SUFFIX}"


def group(name: str) -> str:
    return f"cn={name},cn=groups,cn=accounts,{SUFFIX}"


def ipa(*rules: str) -> str:
    people = "".join(
        entry(f"uid={name},cn=users,cn=accounts", "posixAccount person ipaobject", uid=name, uidNumber=str(5000 + number), gidNumber="5000", homeDirectory=f"/home/{name}")
        for number, name in enumerate(("ann", "bob", "cid", "dot"))
    )  # fmt: skip
    groups = entry(
        "cn=ops,cn=groups,cn=accounts",
        "groupOfNames ipausergroup posixGroup",
        cn="ops",
        gidNumber="6000",
        member=(user("bob"), group("inner")),
    )
    groups += entry("cn=inner,cn=groups,cn=accounts", "groupOfNames ipausergroup", cn="inner", member=user("cid"))
    computers = "cn=computers,cn=accounts"
    hosts = entry(f"fqdn=knot.saltmarsh.example,{computers}", "ipahost", fqdn="knot.saltmarsh.example", cn="knot.saltmarsh.example")
    hosts += entry(f"fqdn=far.saltmarsh.example,{computers}", "ipahost", fqdn="far.saltmarsh.example")
    hosts += entry(
        "cn=web,cn=hostgroups,cn=accounts", "ipahostgroup groupOfNames", cn="web", member=f"cn=all,cn=hostgroups,cn=accounts,{SUFFIX}"
    )
    hosts += entry(
        "cn=all,cn=hostgroups,cn=accounts",
        "ipahostgroup groupOfNames",
        cn="all",
        member=f"fqdn=knot.saltmarsh.example,{computers},{SUFFIX}",
    )
    commands = entry("ipaUniqueID=1,cn=sudocmds,cn=sudo", "ipasudocmd", sudoCmd="/usr/bin/less", ipaUniqueID="1")
    commands += entry("ipaUniqueID=2,cn=sudocmds,cn=sudo", "ipasudocmd", sudoCmd="/usr/bin/vim", ipaUniqueID="2")
    commands += entry(
        "cn=edit,cn=sudocmdgroups,cn=sudo", "ipasudocmdgrp groupOfNames", cn="edit", member=f"ipaUniqueID=2,cn=sudocmds,cn=sudo,{SUFFIX}"
    )
    return people + groups + hosts + commands + "".join(rules)


def sudo_rule(**values: str | tuple[str, ...]) -> str:
    name = str(values.pop("cn", "r"))
    return entry(
        f"ipaUniqueID={name},cn=sudorules,cn=sudo", "ipasudorule ipaassociation", **{"cn": name, "ipaEnabledFlag": "TRUE", **values}
    )


WEB = f"cn=web,cn=hostgroups,cn=accounts,{SUFFIX}"
FAR = f"fqdn=far.saltmarsh.example,cn=computers,cn=accounts,{SUFFIX}"
LESS, EDIT = f"ipaUniqueID=1,cn=sudocmds,cn=sudo,{SUFFIX}", f"cn=edit,cn=sudocmdgroups,cn=sudo,{SUFFIX}"


@pytest.mark.parametrize(
    ("rule", "account", "command", "allowed"),
    [
        (sudo_rule(memberUser=user("ann"), hostCategory="all", cmdCategory="all"), "ann", "/bin/sh", True),
        (sudo_rule(memberUser=user("ann"), hostCategory="all", cmdCategory="all"), "bob", "/bin/sh", False),
        (sudo_rule(memberUser=group("ops"), memberHost=WEB, memberAllowCmd=LESS), "bob", "/usr/bin/less", True),
        (sudo_rule(memberUser=group("ops"), memberHost=WEB, memberAllowCmd=LESS), "cid", "/usr/bin/less", True),  # by way of inner
        (sudo_rule(memberUser=group("ops"), memberHost=WEB, memberAllowCmd=LESS), "bob", "/usr/bin/vim", False),
        (sudo_rule(memberUser=user("ann"), memberHost=FAR, cmdCategory="all"), "ann", "/bin/sh", False),
        (sudo_rule(memberUser=user("ann"), hostCategory="all", cmdCategory="all", memberDenyCmd=EDIT), "ann", "/usr/bin/vim", False),
        (sudo_rule(memberUser=user("ann"), hostCategory="all", cmdCategory="all", memberDenyCmd=EDIT), "ann", "/usr/bin/less", True),
        (sudo_rule(userCategory="all", memberHost=WEB, memberAllowCmd=EDIT), "dot", "/usr/bin/vim", True),
        (sudo_rule(memberUser=user("ann"), hostCategory="all", cmdCategory="all", ipaEnabledFlag="FALSE"), "ann", "/bin/sh", False),
        (sudo_rule(memberUser=user("ann"), hostCategory="all", cmdCategory="all", ipaSudoRunAs=user("dot")), "ann", "/bin/sh", False),
        (sudo_rule(memberUser=user("ann"), hostCategory="all", cmdCategory="all", ipaSudoRunAsUserCategory="all"), "ann", "/bin/sh", True),
        (sudo_rule(externalUser="ines", hostCategory="all", cmdCategory="all"), "ines", "/bin/sh", True),
        (sudo_rule(memberUser=user("ann"), cmdCategory="all"), "ann", "/bin/sh", False),  # on no host
        # The directory's own copy for other clients is not a second rule.
        (sudo_rule(memberUser=user("ann"), hostCategory="all", memberAllowCmd=LESS) + entry("cn=r,ou=sudoers", "sudoRole", cn="r", sudoUser="ALL", sudoHost="ALL", sudoCommand="ALL"), "bob", "/bin/sh", False),
    ],
)  # fmt: skip
def test_sudo_rules_of_an_ipa_directory(rule: str, account: str, command: str, allowed: bool) -> None:
    name = "knot.saltmarsh.example"
    files = {"/etc/nsswitch.conf": NSSWITCH, "/etc/sssd/sssd.conf": sssd(domain="saltmarsh.example", provider="ipa")}
    takings = takings_of(InMemory([from_ldif(ipa(rule).encode(), "ipa").bundle]))
    inquiry = Inquiry(bundle("Defaults env_reset\n", files, name=name), takings=takings)
    assert (inquiry.decision(account, None, (command,)).verdict is Verdict.ALLOWED) is allowed


@pytest.mark.parametrize(
    ("rules", "let_in", "gap"),
    [
        ([{"memberUser": user("ann"), "hostCategory": "all", "serviceCategory": "all"}], {"ann"}, False),
        ([{"memberUser": group("ops"), "memberHost": WEB, "serviceCategory": "all"}], {"bob", "cid"}, False),
        ([{"userCategory": "all", "memberHost": FAR, "serviceCategory": "all"}], set(), False),
        ([{"userCategory": "all", "hostCategory": "all", "serviceCategory": "all", "ipaEnabledFlag": "FALSE"}], set(), False),
        ([{"userCategory": "all", "hostCategory": "all", "memberService": f"cn=sudo,cn=hbacservices,cn=hbac,{SUFFIX}"}], set(), False),
        ([{"memberUser": user("ann"), "hostCategory": "all", "memberService": f"cn=sshd,cn=hbacservices,cn=hbac,{SUFFIX}"}], {"ann"}, True),
    ],
)  # fmt: skip
def test_host_based_access_rules(rules: list[dict[str, str]], let_in: set[str], gap: bool) -> None:
    text = ipa(
        *(
            entry(f"ipaUniqueID=h{number},cn=hbac", "ipahbacrule", **{"cn": f"h{number}", "accessRuleType": "allow", "ipaEnabledFlag": "TRUE", **rule})
            for number, rule in enumerate(rules)
        )
    )  # fmt: skip
    files = {
        "/etc/nsswitch.conf": NSSWITCH,
        "/etc/sssd/sssd.conf": sssd("access_provider = ipa", domain="saltmarsh.example", provider="ipa"),
    }
    host = judged(files, "ann, bob, cid, dot ALL=(ALL) ALL\n", {"ipa": text})
    assert root_holders(host) == {name: LET_IN if name in let_in else REFUSED for name in ("ann", "bob", "cid", "dot")}
    assert ("host-based access rules" in {one.what for one in host.gaps}) is gap


def test_a_question_about_an_account_of_a_directory_is_answered_by_it(tmp_path: Path) -> None:
    """What an account of a directory may run, and what is in its way, asked of the program; others there are refused."""
    rule = sudo_rule(memberUser=group("ops"), hostCategory="all", memberAllowCmd=LESS)
    door = entry("ipaUniqueID=h,cn=hbac", "ipahbacrule", cn="h", memberUser=user("bob"), hostCategory="all", serviceCategory="all")
    (tmp_path / "ipa.ldif").write_text(ipa(rule, door))
    files = {
        "/etc/nsswitch.conf": NSSWITCH,
        "/etc/sssd/sssd.conf": sssd("access_provider = ipa", domain="saltmarsh.example", provider="ipa"),
    }
    fidelitas("survey", "ipa.ldif", "--name", "ipa", cwd=tmp_path)
    fidelitas("survey", handed_in(tmp_path, sudoers="Defaults env_reset\n", files=files), cwd=tmp_path)
    assert fidelitas("may", "bob", "knot", "--", "/usr/bin/less", cwd=tmp_path).status == 0
    ran = fidelitas("may", "cid", "knot", "--format", "json", "--", "/usr/bin/less", cwd=tmp_path)
    check_schema("may", ran.json)
    assert "access rules of the host" in fidelitas("may", "cid", "knot", "--", "/usr/bin/less", cwd=tmp_path).out
    holders = fidelitas("holders", "--on", "knot", "--each", "--format", "json", cwd=tmp_path).json["holdings"]
    assert {row["holder"]["name"]: row["holder"]["can_log_in"] for row in holders if row["right"] == "root"}["cid"] is False


@pytest.mark.parametrize(
    ("sources", "rule", "holders"),
    [
        ("sss", "+night", {"ann", "bob"}),  # bob by way of a netgroup within
        ("files sss", "+night", {"ann", "bob"}),
        ("sss", "+other", set()),
        ("files", "+night", set()),
    ],
)
def test_netgroups_of_a_directory(sources: str, rule: str, holders: set[str]) -> None:
    text = ipa() + entry("cn=night,cn=ng", "nisNetgroup", cn="night", nisNetgroupTriple="(,ann,)", memberNisNetgroup="inner")
    text += entry("cn=inner,cn=ng", "nisNetgroup", cn="inner", nisNetgroupTriple=("(-,bob,)", "(knot,-,saltmarsh)"))
    files = {"/etc/nsswitch.conf": Put(f"passwd: files sss\ngroup: files sss\nnetgroup: {sources}\n"), "/etc/netgroup": None}
    host = judged(files, f"{rule} ALL=(ALL) ALL\n", {"ipa": text})
    assert set(root_holders(host)) == holders
    assert not [one for one in host.holdings if str(one.right) == "root" and str(one.strength) == "conditional" and holders]


# -- filters -------------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("(uid=ann)", True), ("uid=ANN", True), ("(uid=b*)", False), ("(uid=*)", True), ("(mail=*)", False), ("(tel=1)", None),
        ("(&(uid=ann)(tel=1))", None), ("(&(uid=bob)(tel=1))", False), ("(|(uid=ann)(tel=1))", True), ("(!(tel=1))", None),
        ("(!(uid=ann))", False), ("(& (uid=ann) (|(uid=x)(mail=*)(uid=an\\6e)))", True),
    ],
)  # fmt: skip
def test_a_filter_is_true_false_or_not_known(text: str, expected: bool | None) -> None:
    assert matcher(text)({"uid": frozenset({"ann"}), "mail": frozenset()}) is expected


@pytest.mark.parametrize("text", ["", "(", "(uid", "(uid=a", "(&(uid=a)", "(!(a=b)(c=d))", "(uid>=3)", "(uid=a))", "(" * 50])
def test_a_filter_that_is_none_is_refused(text: str) -> None:
    with pytest.raises(FilterError):
        matcher(text)


@pytest.mark.parametrize(
    ("settings", "here"),
    [
        ((), "ulla"),
        (("use_fully_qualified_names = True",), "ulla@tides.example"),
        (("use_fully_qualified_names = True", "full_name_format = %3$s\\%1$s"), "TIDES\\ulla"),
    ],
)
def test_an_account_of_a_directory_is_found_by_any_of_its_names(settings: tuple[str, ...], here: str, tmp_path: Path) -> None:
    """On a host that calls it otherwise, too: nobody is told that someone holds nothing who does, or sees an account of the host's own."""
    files = {
        "/etc/nsswitch.conf": NSSWITCH,
        "/etc/sssd/sssd.conf": sssd(*settings),
        "/etc/passwd": "root:x:0:0::/root:/bin/sh\nrosa:x:1005:1005::/home/rosa:/bin/sh\n",
    }
    group = here.replace("ulla", "linux\\ admins").replace("TIDES\\", "TIDES\\\\")
    sudoers = f"%{group} ALL=(ALL) ALL\nrosa ALL=(ALL) ALL\n"
    (tmp_path / "tides.ldif").write_text(domain())
    ran = fidelitas("survey", handed_in(tmp_path, sudoers=sudoers, files=files), tmp_path / "tides.ldif", cwd=tmp_path)
    assert ran.status in (0, 1), ran.err
    for name in ("ulla", here, "ULLA", "ulla@tides.example", "TIDES\\ulla", "Ulla@TIDES.example", "S-1-5-21-1-2-3-1100"):
        held = fidelitas("holders", "--account", name, "--format", "json", cwd=tmp_path).json["holdings"]
        assert {(one["subject"], one["holder"]["name"], one["right"]) for one in held} == {("knot", here, "root")}, name
        why = fidelitas("why", name, "knot", "--format", "json", cwd=tmp_path).json
        assert [one["holder"]["name"] for one in why["holdings"]] == [here], name
        (page,) = fidelitas("account", name, "--on", "knot", "--format", "json", cwd=tmp_path).json["hosts"]
        assert (page["account"], bool(page["holdings"])) == (here, True), name
    group = fidelitas("account", "%OPS", "--format", "json", cwd=tmp_path).json["groups"]
    assert {(one["subject"], member["name"]) for one in group for member in one["members"]} == {("knot", here), ("tides", "Ulla")}
    left = fidelitas("leaver", "ulla", "--format", "json", cwd=tmp_path).json
    assert {(one["subject"], one["account"]) for one in left["remaining"]} == {("knot", here)}
    (tmp_path / "map.csv").write_text("person,accounts\nUlla Brandt,tides:Ulla\nRosa Lind,rosa\n")
    (person, rosa) = fidelitas("people", "map.csv", "--format", "json", cwd=tmp_path).json["people"]
    assert {(one["subject"], one["account"]) for one in person["accounts"]} == {("knot", here), ("tides", "Ulla")}
    assert {one["subject"] for one in rosa["accounts"]} == {"knot", "tides"}
    assert fidelitas("report", "--people", "map.csv", "--out", "report.html", cwd=tmp_path).status in (0, 1, 3)
    assert "Ulla Brandt on knot: full control" in (tmp_path / "report.html").read_text()
    names = '"ulla", "ulla@tides.example", "TIDES\\\\ulla"'
    warrant = '[[warrant]]\nwho = "%linux admins"\nright = "root"\non = ["knot"]\nwhy = "operators"\nowner = "Ulla Brandt"\n'
    (tmp_path / "charter.toml").write_text(
        f'format = 1\n{warrant}[[never]]\naccount = [{names}]\non = ["knot"]\nright = "root"\n'
        f'[[never]]\naccount = [{names}]\non = "knot"\ncommand = "/bin/id"\n[[must]]\naccount = [{names}]\non = "knot"\ncommand = "/bin/id"\n'
    )
    checked = fidelitas("charter", "check", "charter.toml", "--people", "map.csv", "--format", "json", cwd=tmp_path).json
    assert Counter((one["kind"], one["outcome"]) for one in checked["results"]) == {("never", "broken"): 6, ("must", "kept"): 3}
    ran = fidelitas("may", "ULLA@tides.example", "knot", "--", "/bin/id", cwd=tmp_path)
    assert f"The host calls it {here}." in ran.err
    sanctioned = {one["holder"] for one in checked["holdings"] if one["sanction"] == "sanctioned"}
    assert here in sanctioned
    own = fidelitas("why", "rosa", "knot", "--format", "json", cwd=tmp_path).json["holdings"]
    assert {one["holder"]["name"] for one in own} == {"rosa", *(() if here == "ulla" else (here.replace("ulla", "rosa"),))}
    hers = fidelitas("holders", "--account", "rosa@tides.example", "--format", "json", cwd=tmp_path).json["holdings"]
    assert {one["holder"]["name"] for one in hers} == ({here.replace("ulla", "rosa")} - {"rosa"})


def test_an_account_is_found_on_other_subjects_by_any_of_its_names() -> None:
    """One that leads to another host or server, by a key or a socket; whose it is by the map of people follows from its names, too."""
    files = {"/etc/nsswitch.conf": NSSWITCH, "/etc/sssd/sssd.conf": sssd("use_fully_qualified_names = True")}
    host = judged(files, "%ops@tides.example ALL=(ALL) ALL\n", {"tides": domain()})
    there = host.node("ulla@tides.example").from_elsewhere("knot", "ledgers")
    assert str(there) == "ulla@tides.example@knot"
    for name in ("ulla@tides.example@knot", "ulla@tides.example", "ulla", "TIDES\\ULLA", "S-1-5-21-1-2-3-1100"):
        assert there.is_called(name), name
        assert sought(name) in there.sought_by, name
    assert not there.is_called("rosa")
    for account, is_hers in (("ulla", True), ("knot:ulla", True), ("Ulla", True), ("plover:ulla", False), ("tides:rosa", False)):
        person = MappedPerson(name="Ulla Brandt", accounts=(account,))
        assert Owners([person]).of("ledgers", there) == ([person] if is_hers else []), account
    role = Principal(kind=PrincipalKind.ROLE, name="tide@::1", subject="ledgers")
    for account, is_hers in (
        ("tide", True),
        ("ledgers:tide@::1", True),
        ("tide@::1", True),
        ("ledgers:tide", True),
        ("knot:tide@::1", False),
    ):
        person = MappedPerson(name="Tide Sand", accounts=("other", account))
        assert Owners([person]).of("ledgers", role) == ([person] if is_hers else []), account
    people = (MappedPerson(name="Ulla Brandt", accounts=("ulla",)), MappedPerson(name="Nils Aune", accounts=("tides:nils",)))
    holders = {one.name for one in profiles([host], people, {})}
    assert {"Ulla Brandt", "Nils Aune", "rosa@tides.example"} <= holders
    assert not {"ulla@tides.example", "nils@tides.example"} & holders
    own = host.node("root").from_elsewhere("knot", "ledgers")
    assert (own.name, own.aliases) == ("root@knot", ())
