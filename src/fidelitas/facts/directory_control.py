"""Objects of a directory that decide over accounts and groups: where they lie, what is linked there, which certificates there are."""

from enum import StrEnum

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.facts.security import SecurityDescriptor
from fidelitas.text import Place

__all__ = [
    "CertificateAuthority", "CertificateTemplate", "Container", "ContainerKind", "DirectoryControl", "DomainTrust", "GroupPolicy",
    "ServerBy", "ServerRule", "ServerRules", "Who",
]  # fmt: skip


class ContainerKind(StrEnum):
    """What objects are in, or take their permissions from."""

    DOMAIN = "domain"
    UNIT = "organizational unit"
    FOLDER = "container"
    TEMPLATE = "AdminSDHolder"  # whose permissions those of administrators are made equal to


@equal_apart_from("place")
class Container(Struct, frozen=True, kw_only=True):
    """A container, with the DNs of the group policies that are linked to it and not switched off; `blocks` those of containers above."""

    dn: str
    kind: ContainerKind
    descriptor: SecurityDescriptor | None
    policies: tuple[str, ...] = ()
    enforced: frozenset[str] = frozenset()  # of these policies, the ones that no container below can block
    blocks: bool = False
    place: Place


@equal_apart_from("place")
class GroupPolicy(Struct, frozen=True, kw_only=True):
    """A group policy as an object of the directory."""

    dn: str
    name: str
    descriptor: SecurityDescriptor | None
    place: Place


@equal_apart_from("place")
class CertificateTemplate(Struct, frozen=True, kw_only=True):
    """A sort of certificates: whether who asks names the subject, whether one can log on by it, and who must agree before it is given."""

    dn: str
    name: str
    descriptor: SecurityDescriptor | None
    subject_is_chosen: bool
    for_logon: bool
    any_purpose: bool
    needs_approval: bool
    signatures: int
    place: Place


@equal_apart_from("place")
class CertificateAuthority(Struct, frozen=True, kw_only=True):
    """An authority that gives certificates by templates, which it names."""

    dn: str
    name: str
    descriptor: SecurityDescriptor | None
    templates: tuple[str, ...]
    place: Place


@equal_apart_from("place")
class DomainTrust(Struct, frozen=True, kw_only=True):
    """A trust: `inbound` lets this domain's accounts use the other, `outbound` the other's accounts use this one ([MS-ADTS] 6.1.6.7)."""

    name: str
    inbound: bool
    outbound: bool
    within_forest: bool
    of_forest: bool
    filters_sids: bool
    place: Place


class Who(StrEnum):
    """Whom a clause of an access rule of a server is about."""

    ANYONE = "*"
    USERS = "users"
    ANONYMOUS = "anonymous"
    ITSELF = "self"
    DN = "dn"
    GROUP = "group"
    UNKNOWN = "unknown"


class ServerBy(Struct, frozen=True, kw_only=True):
    """A clause: whom it is about, and what it allows, as letters: "a" to add values, "z" to take them away, "m" to manage.

    One of the `own` name ("selfwrite") is about values that are the DN of the one who asks, and of others as if it were not there.
    `sign` says whether that is all (``=``), added to what was allowed before (``+``) or taken from it (``-``).  A clause that is not `sure`
    has a further condition.
    """

    who: Who
    style: str
    value: str
    sign: str
    allows: str
    control: str
    sure: bool
    own: bool = False


@equal_apart_from("place")
class ServerRule(Struct, frozen=True, kw_only=True):
    """An access rule of a server: about which objects (a DN and a style) and attributes, all where none is named; `known` if no more."""

    style: str
    dn: str
    attributes: tuple[str, ...]
    known: bool
    by: tuple[ServerBy, ...]
    text: str
    place: Place


@equal_apart_from("place")
class ServerRules(Struct, frozen=True, kw_only=True):
    """The access rules of one database of a server, in their order; `general` ones hold for every database, after its own."""

    suffixes: tuple[str, ...]
    root: str
    general: bool
    rules: tuple[ServerRule, ...]
    place: Place


class DirectoryControl(Struct, frozen=True, kw_only=True):
    """Everything of a directory that decides by permissions; `password_attributes` are GUIDs of attributes that hold machine passwords."""

    containers: tuple[Container, ...] = ()
    policies: tuple[GroupPolicy, ...] = ()
    templates: tuple[CertificateTemplate, ...] = ()
    authorities: tuple[CertificateAuthority, ...] = ()
    trusts: tuple[DomainTrust, ...] = ()
    password_attributes: frozenset[str] = frozenset()
    servers: tuple[ServerRules, ...] = ()
