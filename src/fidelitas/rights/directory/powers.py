"""What the administrative groups of a directory amount to: by the last number of their SID, not by a name, which is translated.

[MS-DTYP] 2.4.2.4 has the numbers; what a group may do is in its own documentation.  A group without a fixed number (DnsAdmins) is known
by the name that is not translated; one of which only the name is known, by its English name, and then not for certain.
"""

from typing import NamedTuple

from fidelitas.distinguished_names import folded
from fidelitas.facts import StatedGroup
from fidelitas.rights.graph.links import Strength

__all__ = ["GroupPower", "power_of_group"]


class GroupPower(NamedTuple):
    """What members of a group can do, whether that is stated or follows, and the word for the right; empty for control of a domain."""

    because: str
    strength: Strength
    detail: str = ""
    condition: str = ""


_SURE, _FOLLOWS = Strength.DIRECT, Strength.CERTAIN
_POLICIES = "makes group policies, which run on machines as their system (Group Policy Creator Owners)"
_SERVICES = "changes services of domain controllers, which run as their system (Server Operators)"
_FILES = "reads and writes any file of domain controllers, password hashes among them (Backup Operators)"
_DNS = "loads a library into the DNS service, which runs on domain controllers as their system (DnsAdmins)"
_BY_RID = {
    "512": GroupPower("administers every machine of the domain (Domain Admins)", _SURE),
    "519": GroupPower("administers every domain of the forest (Enterprise Admins)", _SURE),
    "518": GroupPower("changes what objects there can be (Schema Admins)", _SURE, "schema-admins"),
    "520": GroupPower(_POLICIES, _FOLLOWS, "group-policy-creators"),
    "526": GroupPower("writes keys that accounts of the domain log on by (Key Admins)", _FOLLOWS, "key-admins"),
    "527": GroupPower("writes keys that any account of the forest logs on by (Enterprise Key Admins)", _FOLLOWS, "key-admins"),
    "517": GroupPower(
        "publishes certificates of accounts (Cert Publishers)",
        Strength.CONDITIONAL,
        "cert-publishers",
        "if certificates that it publishes are accepted at logon",
    ),
}
_BY_SID = {
    "S-1-5-32-544": GroupPower("administers the domain controllers (Administrators)", _SURE),
    "S-1-5-32-548": GroupPower("makes and changes accounts but administrators' (Account Operators)", _FOLLOWS, "account-operators"),
    "S-1-5-32-549": GroupPower(_SERVICES, _FOLLOWS, "server-operators"),
    "S-1-5-32-550": GroupPower("loads printer drivers into domain controllers (Print Operators)", _FOLLOWS, "print-operators"),
    "S-1-5-32-551": GroupPower(_FILES, _FOLLOWS, "backup-operators"),
}
# The group of an IPA directory that its own access rules let do everything, by the beginning of its DN.
_IPA = "cn=admins,cn=groups,cn=accounts,"
_IPA_ADMINS = GroupPower("administers the directory and, by its rules, every host of it (admins)", _SURE)
_BY_NAME = {"dnsadmins": GroupPower(_DNS, _FOLLOWS, "dns-admins")}
# Of groups of which no object is in evidence only the name is known.
_ENGLISH = {
    "domain admins": _BY_RID["512"],
    "enterprise admins": _BY_RID["519"],
    "schema admins": _BY_RID["518"],
    "group policy creator owners": _BY_RID["520"],
    "key admins": _BY_RID["526"],
    "enterprise key admins": _BY_RID["527"],
    "administrators": _BY_SID["S-1-5-32-544"],
    "account operators": _BY_SID["S-1-5-32-548"],
    "server operators": _BY_SID["S-1-5-32-549"],
    "print operators": _BY_SID["S-1-5-32-550"],
    "backup operators": _BY_SID["S-1-5-32-551"],
    **_BY_NAME,
}


def power_of_group(group: StatedGroup) -> GroupPower | None:
    """Return what a group amounts to, or nothing."""
    if not group.stated:
        known = _ENGLISH.get(group.name.casefold())
        return known and known._replace(strength=Strength.CONDITIONAL, condition="if the group of this name is the one that Windows made")
    if folded(group.dn).startswith(_IPA):
        return _IPA_ADMINS
    found = _BY_RID.get(group.rid or "") or _BY_SID.get(group.sid or "")
    return found or (_BY_NAME.get(group.name.casefold()) if group.sid is not None else None)
