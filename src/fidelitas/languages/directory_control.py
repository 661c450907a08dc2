"""Objects of a Windows domain that decide over accounts and groups, from LDIF: containers, group policies, certificates, trusts.

Knows attributes and their syntaxes ([MS-ADTS], [MS-CRTD], [MS-GPOL]); not what a permission amounts to.
"""

import re
from collections.abc import Callable, Iterable
from uuid import UUID

from fidelitas.facts import (
    CertificateAuthority,
    CertificateTemplate,
    Container,
    ContainerKind,
    DirectoryControl,
    DomainTrust,
    GroupPolicy,
    Place,
    SecurityDescriptor,
    ServerRules,
)
from fidelitas.languages.binary_descriptors import read_binary_descriptor
from fidelitas.languages.ldap.ldif import Entry
from fidelitas.languages.ldap.server_rules import read_server_rules
from fidelitas.languages.security_descriptors import read_descriptor

__all__ = ["ControlObjects", "descriptor_of"]

# One link of gPLink: the DN of a policy, and whether the link is off (1) or holds below whatever a container there says (2).
_LINK = re.compile(r"\[LDAP://([^\[\];]*(?:;(?!\d+\])[^\[\];]*)*);(\d+)\]", re.IGNORECASE)
_BLOCKS = 1
# Purposes of certificates by which one logs on: client authentication, smart cards, PKINIT, any ([MS-WCCE] 2.2.2.7.7).
_LOGON = frozenset({"1.3.6.1.5.5.7.3.2", "1.3.6.1.4.1.311.20.2.2", "1.3.6.1.5.2.3.4", "2.5.29.37.0"})
_ANY_PURPOSE, _ENROLLS_FOR_OTHERS = "2.5.29.37.0", "1.3.6.1.4.1.311.20.2.1"
# msPKI-Certificate-Name-Flag: the subject, or its alternative name, is as who asks says; msPKI-Enrollment-Flag: someone must agree.
_CHOSEN, _APPROVED = 0x1 | 0x10000, 0x2
# trustAttributes ([MS-ADTS] 6.1.6.7.9): SIDs are filtered, of a forest, within a forest, as if it were outside.
_FILTERED, _OF_FOREST, _WITHIN, _AS_EXTERNAL = 0x4, 0x8, 0x20, 0x40
# Attributes that hold the passwords of local administrators.
_PASSWORDS = frozenset({"ms-mcs-admpwd", "mslaps-password", "mslaps-encryptedpassword"})


def descriptor_of(entry: Entry, name: str = "nTSecurityDescriptor") -> SecurityDescriptor | None:
    """Return a descriptor that an object has, in bytes or in words (SDDL), or nothing."""
    stated = entry.first(name)
    if stated is None:
        return None
    if stated.startswith(("O:", "G:", "D:")):
        return read_descriptor(stated)
    return read_binary_descriptor(stated.encode("utf-8", "surrogateescape"))


class ControlObjects:
    """What decides by permissions; `add` takes the objects of a directory one by one."""

    def __init__(self, origin: Place) -> None:
        self._origin = origin
        self._containers: list[Container] = []
        self._policies: list[GroupPolicy] = []
        self._templates: list[CertificateTemplate] = []
        self._authorities: list[CertificateAuthority] = []
        self._trusts: list[DomainTrust] = []
        self._password_attributes: set[str] = set()
        self._servers: list[ServerRules] = []
        self._by_class: dict[str, Callable[[Entry], None]] = {
            "grouppolicycontainer": self._policy,
            "pkicertificatetemplate": self._template,
            "pkienrollmentservice": self._authority,
            "trusteddomain": self._trust,
            "attributeschema": self._attribute,
            "domaindns": lambda entry: self._container(entry, ContainerKind.DOMAIN),
            "organizationalunit": lambda entry: self._container(entry, ContainerKind.UNIT),
            "container": lambda entry: self._container(entry, ContainerKind.FOLDER),
            "olcdatabaseconfig": self._server,
            "builtindomain": lambda entry: self._container(entry, ContainerKind.FOLDER),
        }

    def add(self, entry: Entry, classes: set[str]) -> bool:
        """Take an object; return whether it is one of these."""
        read = next((read for name, read in self._by_class.items() if name in classes), None)
        if read is not None:
            read(entry)
        return read is not None

    def found(self) -> DirectoryControl:
        """Return all objects."""
        return DirectoryControl(
            containers=tuple(self._containers),
            policies=tuple(self._policies),
            templates=tuple(self._templates),
            authorities=tuple(self._authorities),
            trusts=tuple(self._trusts),
            servers=tuple(self._servers),
            password_attributes=frozenset(self._password_attributes),
        )

    def _container(self, entry: Entry, kind: ContainerKind) -> None:
        dn = entry.first("dn") or ""
        if dn.lower().startswith("cn=adminsdholder,cn=system,"):
            kind = ContainerKind.TEMPLATE
        links = [(found[1], int(found[2])) for found in _LINK.finditer(entry.first("gPLink") or "") if len(found[2]) < 10]
        self._containers.append(
            Container(
                dn=dn,
                kind=kind,
                descriptor=descriptor_of(entry),
                policies=tuple(policy for policy, options in links if not options & 1),
                enforced=frozenset(policy for policy, options in links if options & 2 and not options & 1),
                blocks=bool(_number(entry, "gPOptions") & _BLOCKS),
                place=self._place(entry),
            )
        )

    def _place(self, entry: Entry) -> Place:
        """Return where the permissions of an object are stated, or the object."""
        stated = entry.texts("nTSecurityDescriptor")
        return self._origin.at(stated[0][1] if stated else entry.line)

    def _policy(self, entry: Entry) -> None:
        name = entry.first("displayName") or entry.first("cn") or ""
        place = self._place(entry)
        self._policies.append(GroupPolicy(dn=entry.first("dn") or "", name=name, descriptor=descriptor_of(entry), place=place))

    def _template(self, entry: Entry) -> None:
        purposes = {value for value, _ in (*entry.texts("pKIExtendedKeyUsage"), *entry.texts("msPKI-Certificate-Application-Policy"))}
        self._templates.append(
            CertificateTemplate(
                dn=entry.first("dn") or "",
                name=entry.first("cn") or "",
                descriptor=descriptor_of(entry),
                subject_is_chosen=bool(_number(entry, "msPKI-Certificate-Name-Flag") & _CHOSEN),
                for_logon=not purposes or bool(purposes & _LOGON),
                any_purpose=not purposes or bool(purposes & {_ANY_PURPOSE, _ENROLLS_FOR_OTHERS}),
                needs_approval=bool(_number(entry, "msPKI-Enrollment-Flag") & _APPROVED),
                signatures=_number(entry, "msPKI-RA-Signature"),
                place=self._place(entry),
            )
        )

    def _authority(self, entry: Entry) -> None:
        self._authorities.append(
            CertificateAuthority(
                dn=entry.first("dn") or "",
                name=entry.first("displayName") or entry.first("cn") or "",
                descriptor=descriptor_of(entry),
                templates=tuple(value for value, _ in entry.texts("certificateTemplates")),
                place=self._place(entry),
            )
        )

    def _trust(self, entry: Entry) -> None:
        direction, attributes = _number(entry, "trustDirection"), _number(entry, "trustAttributes")
        self._trusts.append(
            DomainTrust(
                name=entry.first("trustPartner") or entry.first("cn") or "",
                inbound=bool(direction & 1),
                outbound=bool(direction & 2),
                within_forest=bool(attributes & _WITHIN),
                of_forest=bool(attributes & _OF_FOREST),
                # Of a forest trust what is not of the forest is filtered, unless it is to be treated as one to a single domain.
                filters_sids=bool(attributes & _FILTERED) or bool(attributes & _OF_FOREST and not attributes & _AS_EXTERNAL),
                place=self._place(entry),
            )
        )

    def add_servers(self, servers: Iterable[ServerRules]) -> None:
        """Add the access rules of a server that are not an object of the directory."""
        self._servers += servers

    def _server(self, entry: Entry) -> None:
        rules = read_server_rules(entry, self._origin)
        if rules.rules or rules.root:
            self._servers.append(rules)

    def _attribute(self, entry: Entry) -> None:
        raw = (entry.first("schemaIDGUID") or "").encode("utf-8", "surrogateescape")
        if (entry.first("lDAPDisplayName") or "").lower() in _PASSWORDS and len(raw) == 16:
            self._password_attributes.add(str(UUID(bytes_le=raw)))


def _number(entry: Entry, name: str) -> int:
    text = entry.first(name) or ""
    return int(text) if text.lstrip("-").isdecimal() and len(text) < 12 else 0
