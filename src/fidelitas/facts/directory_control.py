"""Objects of a directory that decide over accounts and groups: where they lie, what is linked there, which certificates there are."""

from dataclasses import dataclass, field
from enum import StrEnum

from fidelitas.facts.security import SecurityDescriptor
from fidelitas.text import Place

__all__ = ["CertificateAuthority", "CertificateTemplate", "Container", "ContainerKind", "DirectoryControl", "DomainTrust", "GroupPolicy"]


class ContainerKind(StrEnum):
    """What objects lie in, or take their permissions from."""

    DOMAIN = "domain"
    UNIT = "organizational unit"
    FOLDER = "container"
    TEMPLATE = "AdminSDHolder"  # whose permissions those of administrators are made equal to


@dataclass(frozen=True, slots=True, kw_only=True)
class Container:
    """A container, with the DNs of the group policies that are linked to it and not switched off; `blocks` those of containers above."""

    dn: str
    kind: ContainerKind
    descriptor: SecurityDescriptor | None
    policies: tuple[str, ...] = ()
    enforced: frozenset[str] = frozenset()  # of these policies, the ones that no container below can block
    blocks: bool = False
    place: Place = field(compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupPolicy:
    """A group policy as an object of the directory."""

    dn: str
    name: str
    descriptor: SecurityDescriptor | None
    place: Place = field(compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class CertificateTemplate:
    """A sort of certificates: whether who asks names the subject, whether one can log on by it, and who must agree before it is given."""

    dn: str
    name: str
    descriptor: SecurityDescriptor | None
    subject_is_chosen: bool
    for_logon: bool
    any_purpose: bool
    needs_approval: bool
    signatures: int
    place: Place = field(compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class CertificateAuthority:
    """An authority that gives certificates by templates, which it names."""

    dn: str
    name: str
    descriptor: SecurityDescriptor | None
    templates: tuple[str, ...]
    place: Place = field(compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class DomainTrust:
    """A trust: `inbound` lets this domain's accounts use the other, `outbound` the other's accounts use this one ([MS-ADTS] 6.1.6.7)."""

    name: str
    inbound: bool
    outbound: bool
    within_forest: bool
    of_forest: bool
    filters_sids: bool
    place: Place = field(compare=False)


@dataclass(frozen=True, slots=True, kw_only=True)
class DirectoryControl:
    """Everything of a directory that decides by permissions; `password_attributes` are GUIDs of attributes that hold machine passwords."""

    containers: tuple[Container, ...] = ()
    policies: tuple[GroupPolicy, ...] = ()
    templates: tuple[CertificateTemplate, ...] = ()
    authorities: tuple[CertificateAuthority, ...] = ()
    trusts: tuple[DomainTrust, ...] = ()
    password_attributes: frozenset[str] = frozenset()
