"""Control by permissions in a directory, as tables: what is stated of which objects, and who can become an administrator by it.

What a Samba domain controller implements is judged in test_judge_permissions.py; these rows are from the open specifications ([MS-ADTS],
[MS-ADA1] to [MS-ADA3], [MS-CRTD], [MS-GPOL], [MS-SFU]), in descriptors as words (SDDL) and as bytes.
"""

import base64
import struct
from pathlib import Path
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.audit import audit
from fidelitas.checks.directory_control import CONTROL_CHECKS
from fidelitas.facts import AccessControlEntry, SecurityDescriptor
from fidelitas.languages.binary_descriptors import read_binary_descriptor
from fidelitas.languages.directory import read_directory
from fidelitas.languages.security_descriptors import read_descriptor
from fidelitas.platforms import findings_on
from fidelitas.rights import DirectoryRights, directory_rights_of
from fidelitas.rights.access_lists import allowances
from fidelitas.sources.directory import from_ldif
from support import Put, bundle, fidelitas
from test_cli import handed_in
from test_windows import groups, machine

BASE, SID = "DC=tides,DC=example", "S-1-5-21-1-2-3"
NUMBERS = {
    "boss": 1101,
    "mallory": 1102,
    "rosa": 1103,
    "nils": 1104,
    "helpers": 1201,
    "night": 1202,
    "WEB1$": 1301,
    "svc$": 1302,
    "app": 1105,
}
WHO = {name: f"{SID}-{number}" for name, number in NUMBERS.items()} | {"everyone": "S-1-5-11"}
MEMBER, RESET = "bf9679c0-0de6-11d0-a285-00aa003049e2", "00299570-246d-11d0-a768-00aa006e0529"
GET, GET_ALL = "1131f6aa-9c07-11d1-f79f-00c04fc2dcd2", "1131f6ad-9c07-11d1-f79f-00c04fc2dcd2"
LINK, KEYS, ACTED = "f30e3bbe-9ff0-11d1-b603-0000f80367c1", "5b47d60f-6090-40b2-9f37-2a4de88f3063", "3f78c3e5-f79a-46bd-a0b8-9d18116ddc79"
ENROL, NAMES = "0e10c968-78fb-11d2-90d4-00c04f79dc55", "f3a64788-5306-11d1-a9c5-0000f80367c1"
RESTRICTIONS = "4c164200-20c0-11d0-a768-00aa006e0529"


def sddl(text: str, owner: str = "DA") -> str:
    """Return a descriptor in words; names stand for SIDs."""
    for name, sid in WHO.items():
        text = text.replace(f";{name})", f";{sid})").replace(f";{name};", f";{sid};")
    return f"O:{WHO.get(owner, owner)}G:DAD:AI{text}"


def made(dn: str, kind: str, permissions: str = "", owner: str = "DA", *lines: str, protected: bool = False) -> str:
    name = dn.partition(",")[0].partition("=")[2]
    stated = [f"nTSecurityDescriptor: {sddl(permissions, owner).replace('D:AI', 'D:PAI' if protected else 'D:AI')}"]
    own = [f"sAMAccountName: {name}", f"objectSid: {SID}-{NUMBERS[name]}"] if name in NUMBERS else []
    return "\n".join((f"dn: {dn}", f"objectClass: {kind}", f"cn: {name}", *own, *stated, *lines, "", ""))


def world(**given_: str | tuple[str, ...]) -> str:
    """Return a domain: boss is its administrator, in unit "admins"; a controller, a machine, and permissions as they are given by object."""
    said = {name: value if isinstance(value, str) else value[0] for name, value in given_.items()}
    more = {name: value[1:] for name, value in given_.items() if not isinstance(value, str)}

    def one(key: str, dn: str, kind: str, *lines: str, owner: str = "DA", protected: bool = False) -> str:
        return made(dn, kind, said.get(key, ""), said.get(f"{key}_owner", owner), *lines, *more.get(key, ()), protected=protected)

    users = f"CN=Users,{BASE}"
    parts = [
        one("domain", BASE, "domainDNS"),
        one("users", users, "container"),
        one("admins", f"OU=admins,{BASE}", "organizationalUnit"),
        one("inner", f"OU=inner,OU=admins,{BASE}", "organizationalUnit"),
        one("controllers", f"OU=Domain Controllers,{BASE}", "organizationalUnit"),
        one("holder", f"CN=AdminSDHolder,CN=System,{BASE}", "container", protected=True),
        made(f"CN=Domain Admins,{users}", "group", said.get("group", ""), "DA", f"objectSid: {SID}-512", f"member: CN=boss,OU=inner,OU=admins,{BASE}", "sAMAccountName: Domain Admins", protected=True),
        one("boss", f"CN=boss,OU=inner,OU=admins,{BASE}", "user", protected="boss_protected" in said),
        *(made(f"CN={name},{users}", "user", said.get(name, ""), "DA") for name in ("mallory", "rosa", "nils")),
        one("app", f"CN=app,{users}", "user"),
        made(f"CN=helpers,{users}", "group", said.get("helpers", ""), "DA", f"member: CN=rosa,{users}", f"member: CN=night,{users}"),
        made(f"CN=night,{users}", "group", said.get("night", ""), "DA", f"member: CN=nils,{users}"),
        one("machine", f"CN=WEB1$,{users}", "computer", "servicePrincipalName: HOST/web1.tides.example"),
        one("gmsa", f"CN=svc$,{users}", "msDS-GroupManagedServiceAccount"),
        made(f"CN=DC1$,OU=Domain Controllers,{BASE}", "computer", said.get("controller", ""), "DA", f"objectSid: {SID}-1000", "sAMAccountName: DC1$", "userAccountControl: 532480", "servicePrincipalName: ldap/dc1.tides.example", *more.get("controller", ())),
    ]  # fmt: skip
    for key, kind in (("policy", "groupPolicyContainer"), ("template", "pKICertificateTemplate"), ("authority", "pKIEnrollmentService")):
        if key in said:
            parts.append(one(key, f"CN={key},CN=System,{BASE}", kind))
    return "".join(parts)


def rights_in(text: str) -> DirectoryRights:
    return directory_rights_of(read_directory(from_ldif(text.encode(), "tides").bundle))


def reached(rights: DirectoryRights) -> dict[str, str]:
    """Return who can have the whole domain without being in an administrative group, and how surely."""
    found = {str(one.principal): str(one.strength) for one in rights.holdings if not one.right.detail}
    return {name: strength for name, strength in found.items() if name not in ("boss", "%Domain Admins")}


SURE, PERHAPS = "certain", "conditional"
LINKED = f"gPLink: [LDAP://CN=policy,CN=System,{BASE};0]"
TEMPLATE = ("msPKI-Certificate-Name-Flag: 1", "pKIExtendedKeyUsage: 1.3.6.1.5.5.7.3.2", "msPKI-RA-Signature: 0", "msPKI-Enrollment-Flag: 0")
GIVES = ("", "certificateTemplates: template")
ROADS = [
    # The account of an administrator.
    ({"boss": f"(OA;;CR;{RESET};;mallory)"}, {"mallory": SURE}, "may reset the password of boss"),
    ({"boss": "(A;;CR;;;mallory)"}, {"mallory": SURE}, "may reset the password of boss"),
    ({"boss": "(A;;GA;;;mallory)"}, {"mallory": SURE}, "may reset the password of boss"),
    ({"boss": "(A;;WD;;;mallory)"}, {"mallory": SURE}, "may change the permissions of boss"),
    ({"boss": "(A;;WO;;;mallory)"}, {"mallory": SURE}, "may make itself the owner of boss"),
    ({"boss_owner": "mallory"}, {"mallory": SURE}, "owns boss"),
    ({"boss": f"(OA;;WP;{KEYS};;mallory)"}, {"mallory": PERHAPS}, "may write keys"),
    ({"boss": f"(OA;;WP;{NAMES};;mallory)"}, {"mallory": PERHAPS}, "service name"),
    ({"boss": f"(OA;;WP;{RESTRICTIONS};;mallory)"}, {"mallory": PERHAPS}, "pre-authentication"),
    ({"boss": "(A;;GW;;;mallory)"}, {"mallory": PERHAPS}, "may write keys"),
    ({"boss": f"(OA;;CR;{RESET};;helpers)"}, {"%helpers": SURE, "rosa": SURE, "%night": SURE, "nils": SURE}, "may reset the password of boss"),
    ({"boss": "(XA;;GA;;;mallory;(@User.a==1))"}, {"mallory": PERHAPS}, "may reset the password"),
    ({"boss": "(A;;GA;;;everyone)"}, {"Authenticated Users": SURE}, "may reset the password of boss"),
    # What is denied before it is allowed, to the same, to a group of his, to others.
    ({"boss": "(D;;CR;;;mallory)(A;;CR;;;mallory)"}, {}, ""),
    ({"boss": "(A;;CR;;;mallory)(D;;CR;;;mallory)"}, {"mallory": SURE}, "may reset the password of boss"),
    ({"boss": "(D;;CR;;;night)(A;;CR;;;helpers)"}, {"rosa": SURE}, "is in group helpers, which may reset the password of boss"),
    ({"boss": "(D;;CR;;;nils)(A;;CR;;;helpers)"}, {"rosa": SURE, "%night": SURE, "nils": SURE}, ""),
    ({"boss": f"(OD;;CR;{RESET};;mallory)(A;;GA;;;mallory)"}, {"mallory": SURE}, "may change the permissions of boss"),
    ({"boss": "(D;;CR;;;everyone)(A;;CR;;;mallory)"}, {}, ""),
    # What does not concern the object, or allows nothing that matters.
    ({"boss": "(A;CIIO;GA;;;mallory)"}, {}, ""),
    ({"boss": "(A;;RPLCRC;;;mallory)(OA;;WP;bf967950-0de6-11d0-a285-00aa003049e2;;mallory)(OA;;CR;ab721a53-1e2f-11d0-9819-00aa0040529b;;mallory)"}, {}, ""),
    ({"boss": f"(OA;;RP;{RESET};;mallory)"}, {}, ""),
    # Its groups.
    ({"group": f"(OA;;WP;{MEMBER};;mallory)"}, {"mallory": SURE}, "may change the members of Domain Admins"),
    ({"group": f"(OA;;SW;{MEMBER};;mallory)"}, {"mallory": SURE}, "may add itself to Domain Admins"),
    ({"group": f"(OA;;WP;{NAMES};;mallory)"}, {}, ""),
    # The domain.
    ({"domain": f"(OA;;CR;{GET};;mallory)(OA;;CR;{GET_ALL};;mallory)"}, {"mallory": SURE}, "may copy the passwords of all accounts"),
    ({"domain": f"(OA;;CR;{GET};;mallory)(OA;;CR;{GET_ALL};;helpers)"}, {}, ""),
    ({"domain": f"(OA;;CR;{GET};;night)(OA;;CR;{GET_ALL};;helpers)"}, {"nils": SURE, "%night": SURE}, "partly"),
    ({"domain": f"(OA;;CR;{GET_ALL};;mallory)"}, {}, ""),
    ({"domain": "(A;;CR;;;mallory)"}, {"mallory": SURE}, "may copy the passwords of all accounts"),
    ({"domain": "(A;;WD;;;mallory)"}, {"mallory": SURE}, f"may change the permissions of {BASE}"),
    ({"domain": f"(OA;;WP;{LINK};;mallory)"}, {"mallory": PERHAPS}, "may link group policies"),
    # Containers that administrators are in.
    ({"admins": "(A;;WD;;;mallory)"}, {"mallory": SURE}, f"may change the permissions of OU=admins,{BASE}, and with them those of boss in it"),
    ({"admins": "(A;;WD;;;mallory)", "boss_protected": "x"}, {}, ""),
    ({"inner_owner": "mallory"}, {"mallory": SURE}, "owns"),
    ({"users": "(A;;WD;;;mallory)"}, {}, ""),
    ({"admins": f"(OA;;WP;{LINK};;mallory)"}, {"mallory": PERHAPS}, "may link group policies"),
    # The template of administrators' permissions.
    ({"holder": "(A;;WD;;;mallory)"}, {"mallory": SURE}, "may change the permissions of CN=AdminSDHolder"),
    ({"holder": f"(OA;;CR;{RESET};;mallory)"}, {"mallory": SURE}, "AdminSDHolder"),
    # A domain controller.
    ({"controller": "(A;;GA;;;mallory)"}, {"mallory": SURE}, "a domain controller"),
    ({"controller": f"(OA;;WP;{ACTED};;mallory)"}, {"mallory": PERHAPS}, "act as anyone on DC1$"),
    ({"controller": ("", "msDS-AllowedToActOnBehalfOfOtherIdentity: O:BAD:(A;;CCDCLCSWRPWPDTLOCRSDRCWDWO;;;" + WHO["WEB1$"] + ")")}, {"WEB1$": SURE}, "may act as anyone on DC1$"),
    # Group policies.
    ({"policy": "(A;;WP;;;mallory)", "controllers": ("", LINKED)}, {"mallory": SURE}, "may change group policy policy"),
    ({"policy": "(A;;WP;;;mallory)", "domain": ("", LINKED)}, {"mallory": SURE}, "may change group policy policy"),
    ({"policy": "(A;;WP;;;mallory)", "domain": ("", LINKED), "controllers": ("", "gPOptions: 1")}, {"mallory": PERHAPS}, "which applies to boss"),
    ({"policy": "(A;;WP;;;mallory)", "domain": ("", LINKED.replace(";0]", ";2]")), "controllers": ("", "gPOptions: 1")}, {"mallory": SURE}, "which applies to DC1$"),
    ({"policy": "(A;;WP;;;mallory)", "admins": ("", LINKED)}, {"mallory": PERHAPS}, "which applies to boss"),
    ({"policy": "(A;;WP;;;mallory)", "controllers": ("", LINKED.replace(";0]", ";1]"))}, {}, ""),
    ({"policy": "(A;;WP;;;mallory)", "users": ("", LINKED)}, {}, ""),
    ({"policy": "(A;;RP;;;mallory)", "controllers": ("", LINKED)}, {}, ""),
    # Delegation and managed service accounts.
    ({"app": ("", "msDS-AllowedToDelegateTo: cifs/dc1.tides.example", "userAccountControl: 16777728")}, {"app": SURE}, "may call cifs/dc1.tides.example of a domain controller as any account"),
    ({"app": ("", "msDS-AllowedToDelegateTo: cifs/DC1", "userAccountControl: 512")}, {"app": PERHAPS}, "constrained delegation"),
    ({"app": ("", "msDS-AllowedToDelegateTo: cifs/web1", "userAccountControl: 16777728")}, {}, ""),
    ({"app": ("", "msDS-AllowedToDelegateTo: cifs/dc1", "userAccountControl: 16777730")}, {}, ""),
    ({"group": "(A;;GA;;;svc$)", "gmsa": ("", "msDS-GroupMSAMembership: O:BAD:(A;;CCDCLCSWRPWPDTLOCRSDRCWDWO;;;" + WHO["mallory"] + ")")}, {"svc$": SURE, "mallory": SURE}, "may read the password of svc$"),
    # Certificates.
    ({"template": (f"(OA;;CR;{ENROL};;mallory)", *TEMPLATE), "authority": GIVES}, {"mallory": PERHAPS}, "may get a certificate in the name of anyone by template template"),
    ({"template": (f"(OA;;CR;{ENROL};;mallory)", *TEMPLATE)}, {}, ""),  # no authority gives it
    ({"template": (f"(OA;;CR;{ENROL};;mallory)", *TEMPLATE[1:]), "authority": GIVES}, {}, ""),  # the authority names the subject
    ({"template": (f"(OA;;CR;{ENROL};;mallory)", *TEMPLATE[:3], "msPKI-Enrollment-Flag: 2"), "authority": GIVES}, {}, ""),  # someone must agree
    ({"template": (f"(OA;;CR;{ENROL};;mallory)", TEMPLATE[0], "pKIExtendedKeyUsage: 1.3.6.1.5.5.7.3.1", *TEMPLATE[2:]), "authority": GIVES}, {}, ""),
    ({"template": (f"(OA;;CR;{ENROL};;mallory)", *TEMPLATE[2:]), "authority": GIVES}, {"mallory": PERHAPS}, ""),  # for any purpose
    ({"template": ("(A;;WD;;;mallory)", *TEMPLATE[1:]), "authority": GIVES}, {"mallory": PERHAPS}, "may change certificate template template"),
    # A former SID.
    ({"app": ("", f"sIDHistory: {SID}-512")}, {"app": SURE}, "has the SID of Domain Admins among its former ones"),
    # One after the other.
    ({"boss": f"(OA;;CR;{RESET};;app)", "app": "(A;;WD;;;mallory)"}, {"app": SURE, "mallory": SURE}, "may change the permissions of app"),
]  # fmt: skip


@pytest.mark.parametrize(("stated", "expected", "because"), ROADS)
def test_who_can_become_an_administrator(stated: dict[str, str | tuple[str, ...]], expected: dict[str, str], because: str) -> None:
    rights = rights_in(world(**stated))
    assert reached(rights) == expected
    reasons = [link.because for one in rights.holdings for route in one.routes for link in route.links]
    assert not because or any(because in text for text in reasons), reasons


def in_bytes(words: str) -> bytes:
    """Return a descriptor of plain and object entries as the bytes that a server keeps ([MS-DTYP] 2.4.6), by another way than the reader."""

    def sid(text: str) -> bytes:
        numbers = list(map(int, text.split("-")[3:]))
        return bytes([1, len(numbers)]) + int(text.split("-")[2]).to_bytes(6, "big") + struct.pack(f"<{len(numbers)}I", *numbers)

    found = read_descriptor(words)
    assert found is not None
    assert found.entries is not None
    entries = b""
    for one in found.entries:
        body = struct.pack("<I", one.mask)
        if one.object_type:
            body += struct.pack("<I", 1) + UUID(one.object_type).bytes_le
        body += sid(one.sid)
        kind = (5 if one.object_type else 0) + (0 if one.allowed else 1)
        entries += struct.pack("<BBH", kind, (8 if one.inherit_only else 0) | (16 if one.inherited else 0), 4 + len(body)) + body
    listed = struct.pack("<BBHHH", 4, 0, 8 + len(entries), len(found.entries), 0) + entries
    control = 0x8004 | (0x1000 if found.protected else 0)
    return struct.pack("<BBHIIII", 1, 0, control, 20 + len(listed), 0, 0, 20) + listed + sid(found.owner)


SIDS = st.sampled_from(["S-1-1-0", "S-1-5-11", "S-1-5-21-1-2-3-1101", "S-1-5-32-548"])
ENTRIES = st.lists(
    st.tuples(st.sampled_from(["A", "D", "OA", "OD"]), st.sampled_from(["", "CI", "IO", "ID"]), st.integers(1, 0xFFFFFFFF), st.sampled_from([MEMBER, RESET]), SIDS),
    max_size=6,
)  # fmt: skip


@given(SIDS, ENTRIES, st.booleans())
def test_bytes_and_words_say_the_same(owner: str, entries: list[tuple[str, str, int, str, str]], protected: bool) -> None:
    text = "".join(f"({kind};{flags};{mask:#x};{part if 'O' in kind else ''};;{sid})" for kind, flags, mask, part, sid in entries)
    words = f"O:{owner}D:{'P' * protected}{text}"
    assert read_binary_descriptor(in_bytes(words)) == read_descriptor(words)


@given(st.binary(max_size=80), st.integers(0, 120), st.integers(0, 255))
def test_bytes_that_are_no_descriptor_cost_nothing_but_themselves(noise: bytes, at: int, value: int) -> None:
    raw = bytearray(in_bytes(f"O:BAD:(A;;GA;;;{WHO['rosa']})(OA;;CR;{RESET};;{WHO['nils']})"))
    raw[at % len(raw)] = value
    for content in (noise, bytes(raw), bytes(raw)[:at]):
        read_binary_descriptor(content)


PARTIES = ("S-1-1-0", "S-1-5-21-1-1", "S-1-5-21-1-2", "S-1-5-21-1-3", "S-1-5-21-1-4")
DECISIONS = st.lists(st.tuples(st.booleans(), st.integers(1, 7), st.sampled_from(PARTIES), st.booleans()), max_size=7)


@given(DECISIONS, st.sets(st.sampled_from(PARTIES[1:])), st.integers(1, 7))
def test_who_is_allowed_is_as_the_server_decides(stated: list[tuple[bool, int, str, bool]], groups: set[str], wanted: int) -> None:
    """The servers' own rule ([MS-DTYP] 2.5.3.2): entry by entry, a bit is given or refused by the first that speaks of it to any of one's groups."""
    entries = tuple(AccessControlEntry(allowed=allowed, mask=mask, sid=sid, inherit_only=only) for allowed, mask, sid, only in stated)
    mine, granted, refused = {"S-1-1-0", *groups}, 0, 0
    for one in entries:
        bits = one.mask & wanted if one.sid in mine and not one.inherit_only else 0
        granted, refused = (granted | bits & ~refused, refused) if one.allowed else (granted, refused | bits & ~granted)
    found = list(allowances(SecurityDescriptor(owner="", entries=entries), lambda one: one.mask & wanted, frozenset({"S-1-1-0"})))
    ours = any(one.sid in mine and mine.isdisjoint(one.denied) for one in found)
    denied_to = {one.sid for one in entries if not one.allowed and one.sid in groups}
    assert ours if granted else not ours or len(denied_to) > 1  # two denials together can be more than each


# -- what a user sees ------------------------------------------------------------------------------------------------------------------


def test_findings_name_who_what_and_the_entry() -> None:
    text = world(
        boss=f"(OA;;CR;{RESET};;helpers)(OA;;WP;{KEYS};;mallory)",
        group="(A;;WD;;;everyone)",
        app=("", "servicePrincipalName: http/app", "userAccountControl: 544"),
        machine=("", f"sIDHistory: {SID}-512"),
    )
    text += "dn: CN=far,CN=System,DC=tides,DC=example\nobjectClass: trustedDomain\ntrustPartner: far.example\ntrustDirection: 3\ntrustAttributes: 0\n\n"
    found = {one.check: one for one in findings_on(rights_in(text))}
    assert found["directory.control-by-permissions"].message == "%helpers may reset the password of boss"
    assert found["directory.control-by-permissions"].quote == f"(OA;;0x100;{RESET};;{WHO['helpers']})"
    assert found["directory.control-on-condition"].about == "mallory"
    assert found["directory.control-by-everyone"].about == "Authenticated Users"
    assert found["directory.person-as-service"].about == "app"
    assert found["directory.trust-without-filter"].about == "far.example"
    assert found["directory.password-not-required"].about == "app"
    assert found["directory.former-sid"].about == "WEB1$"
    assert {check.name for check in CONTROL_CHECKS} - found.keys() == {"directory.machine-password-readers"}
    line = found["directory.control-by-permissions"].places[0].line
    assert line is not None
    assert text.split("\n")[line - 1].startswith("nTSecurityDescriptor:")


@pytest.mark.parametrize(
    ("direction", "attributes", "stated"), [(1, 0, False), (2, 0, True), (2, 4, False), (2, 8, False), (2, 0x48, True), (3, 0x20, False)]
)
def test_trusts_whose_sids_are_not_filtered(direction: int, attributes: int, stated: bool) -> None:
    text = (
        world() + f"dn: CN=far,{BASE}\nobjectClass: trustedDomain\ncn: far\ntrustDirection: {direction}\ntrustAttributes: {attributes}\n\n"
    )
    assert ("directory.trust-without-filter" in {one.check for one in findings_on(rights_in(text))}) is stated


def test_a_domain_without_its_permissions_says_so() -> None:
    bare = "\n".join(line for line in world().split("\n") if not line.startswith("nTSecurityDescriptor"))
    assert "permissions of objects" in {one.what for one in rights_in(bare).gaps}
    assert "permissions of objects" not in {one.what for one in rights_in(world()).gaps}


def test_passwords_of_machines_that_the_directory_keeps() -> None:
    guid = "11111111-2222-3333-4444-555555555555"
    raw = base64.b64encode(UUID(guid).bytes_le).decode()
    schema = f"dn: CN=x,CN=Schema,{BASE}\nobjectClass: attributeSchema\nlDAPDisplayName: ms-Mcs-AdmPwd\nschemaIDGUID:: {raw}\n\n"
    for permissions, readers in (
        (f"(OA;;RPCR;{guid};;mallory)", {"mallory"}),
        ("(A;;CR;;;helpers)", {"%helpers"}),
        ("(A;;RP;;;mallory)", set()),
    ):
        found = [
            one for one in findings_on(rights_in(world(machine=permissions) + schema)) if one.check == "directory.machine-password-readers"
        ]
        assert {one.about for one in found} == readers
    assert not [
        one for one in findings_on(rights_in(world(machine="(A;;CR;;;helpers)"))) if one.check == "directory.machine-password-readers"
    ]


def test_an_ordinary_domain_has_no_findings_of_control() -> None:
    """What a fresh domain has: administrators and the system may everything, everyone reads, accounts change their own."""
    usual = "(A;;GA;;;DA)(A;;GA;;;SY)(A;;GA;;;BA)(A;;GA;;;EA)(A;;RPLCRC;;;AU)(A;;RC;;;PS)(OA;;WP;e45795b2-9455-11d1-aebd-0000f80367c1;;PS)(A;;GA;;;AO)(A;;GA;;;PO)(OA;;CR;ab721a53-1e2f-11d0-9819-00aa0040529b;;WD)"
    keys = ("domain", "users", "admins", "inner", "controllers", "holder", "group", "boss", "app", "machine", "gmsa", "controller")
    found = findings_on(rights_in(world(**dict.fromkeys(keys, usual))))
    assert not [one for one in found if "control" in one.check]


def test_the_route_is_shown_with_its_entry(tmp_path: Path) -> None:
    (tmp_path / "tides.ldif").write_text(world(boss=f"(OA;;CR;{RESET};;night)"))
    fidelitas("survey", "tides.ldif", "--name", "tides", cwd=tmp_path)
    ran = fidelitas("why", "nils", "tides", cwd=tmp_path)
    assert "%night → boss: may reset the password of boss" in ran.out
    assert f"(OA;;0x100;{RESET};;{WHO['night']})" in ran.out
    rows = fidelitas("holders", "--right", "directory-admin", "--each", "--format", "json", cwd=tmp_path).json["holdings"]
    assert {row["holder"]["name"]: row["how"] for row in rows}["nils"] == "may become"


@pytest.mark.parametrize(
    ("stated", "expected"),
    [
        ({"machine": ("", f"msDS-AllowedToActOnBehalfOfOtherIdentity: O:BAD:(A;;GA;;;{WHO['app']})")}, {"app": SURE}),
        ({"machine": f"(OA;;WP;{ACTED};;mallory)"}, {"mallory": PERHAPS}),
        ({"machine": "(A;;GA;;;mallory)"}, {"mallory": PERHAPS}),
        ({"machine": f"(OA;;CR;{RESET};;mallory)"}, {}),
        ({"app": ("", "msDS-AllowedToDelegateTo: cifs/web1.tides.example", "userAccountControl: 16777728")}, {"app": SURE}),
        ({"policy": "(A;;WP;;;mallory)", "users": ("", LINKED)}, {"mallory": SURE}),
        ({"group": f"(OA;;WP;{MEMBER};;mallory)"}, {"mallory": SURE}),  # by way of the administrators of the domain, who administer it
    ],
)  # fmt: skip
def test_a_machine_of_the_domain_is_reached_by_the_directory(stated: dict[str, str | tuple[str, ...]], expected: dict[str, str]) -> None:
    members = groups((f"{SID}-512", "TIDES\\Domain Admins", "group"), name="Administrators")
    evidence = machine(**members, computer=[{"name": "WEB1", "system": "Windows", "elevated": True}])
    found = audit([evidence, from_ldif(world(**stated).encode(), "tides").bundle], ["avocet"], findings=False)
    (rights,) = found.subjects
    held = {str(one.principal): str(one.strength) for one in rights.holdings if one.right.kind.name == "ADMIN"}
    assert {name: strength for name, strength in held.items() if name not in ("boss", "%Domain Admins", "%Administrators")} == expected


@pytest.mark.parametrize(
    ("stated", "expected"),
    [
        ({}, {"%helpers": "direct", "rosa": "direct", "nils": "direct"}),
        ({"helpers": f"(OA;;WP;{MEMBER};;mallory)"}, {"mallory": SURE}),
        ({"helpers": "(A;;GA;;;app)", "app": "(A;;WD;;;mallory)"}, {"app": SURE, "mallory": SURE}),
        ({"rosa": f"(OA;;CR;{RESET};;mallory)"}, {"mallory": SURE}),
        ({"nils": f"(OA;;CR;{RESET};;mallory)"}, {"mallory": SURE}),  # in a group within the group
        ({"night": f"(OA;;SW;{MEMBER};;mallory)"}, {"mallory": SURE}),
        ({"users": "(A;;WD;;;mallory)"}, {"mallory": SURE}),
        ({"mallory": f"(OA;;CR;{RESET};;app)"}, {}),  # who leads nowhere
        ({"helpers": f"(OA;;WP;{MEMBER};;WEB1$)"}, {"web1$": SURE}),  # the account of a machine, which the host has, too
    ],
)
def test_a_host_is_reached_by_whoever_may_change_its_groups_in_the_directory(stated: dict[str, str], expected: dict[str, str]) -> None:
    sssd = Put("[sssd]\ndomains = tides.example\n[domain/tides.example]\nid_provider = ad\n")
    files = {"/etc/nsswitch.conf": Put("passwd: files sss\ngroup: files sss\n"), "/etc/sssd/sssd.conf": sssd}
    directory = from_ldif(world(**stated).encode(), "tides").bundle
    (host,) = audit([bundle("%helpers ALL=(ALL) ALL\n", files), directory], ["knot"], findings=False).hosts
    held = {str(one.principal): str(one.strength) for one in host.holdings if str(one.right) == "root"}
    usual = {"root": "direct", "%helpers": "direct", "rosa": "direct", "%night": "direct", "nils": "direct"}
    assert {name: strength for name, strength in held.items() if usual.get(name) != strength} == {
        name: strength for name, strength in expected.items() if usual.get(name) != strength
    }


def test_of_a_large_group_whoever_may_change_any_member_is_shown() -> None:
    sssd = Put("[sssd]\ndomains = tides.example\n[domain/tides.example]\nid_provider = ad\n")
    files = {"/etc/nsswitch.conf": Put("passwd: files sss\ngroup: files sss\n"), "/etc/sssd/sssd.conf": sssd}
    users = f"CN=Users,{BASE}"
    crew = [f"CN=crew{number},{users}" for number in range(520)]
    may = {7: "(A;;CR;;;mallory)", 400: "(A;;CR;;;mallory)(A;;WD;;;app)"}
    people = "".join(
        made(dn, "user", may.get(number, ""), "DA", f"sAMAccountName: crew{number}", f"objectSid: {SID}-{5000 + number}")
        for number, dn in enumerate(crew)
    )
    sailors = made(
        f"CN=sailors,{users}", "group", "", "DA", "sAMAccountName: sailors", f"objectSid: {SID}-4000", *(f"member: {dn}" for dn in crew)
    )
    directory = from_ldif((world() + people + sailors).encode(), "tides").bundle
    (host,) = audit([bundle("%sailors ALL=(ALL) ALL\n", files), directory], ["knot"], findings=False).hosts
    held = {str(one.principal): one.routes[0].links[0].because for one in host.holdings if str(one.right) == "root"}
    assert held["mallory"] == "may reset the password of crew7"
    assert held["app"] == "may change the permissions of crew400"
    assert "crew399" in held
    assert "nils" not in held


def test_what_is_kept_of_a_host_follows_the_permissions_of_its_directory(tmp_path: Path) -> None:
    sssd = Put("[sssd]\ndomains = tides.example\n[domain/tides.example]\nid_provider = ad\n")
    files = {"/etc/nsswitch.conf": Put("passwd: files sss\ngroup: files sss\n"), "/etc/sssd/sssd.conf": sssd}
    fidelitas("survey", handed_in(tmp_path, sudoers="%helpers ALL=(ALL) ALL\n", files=files), cwd=tmp_path)
    for permissions, found in (("", False), (f"(OA;;WP;{MEMBER};;mallory)", True), ("", False)):
        (tmp_path / "tides.ldif").write_text(world(helpers=permissions))
        fidelitas("survey", "tides.ldif", "--name", "tides", cwd=tmp_path)
        ran = fidelitas("holders", "--on", "knot", "--each", cwd=tmp_path)
        assert ("mallory" in ran.out) is found, ran.out
