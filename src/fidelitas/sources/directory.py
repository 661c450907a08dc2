"""A directory, over LDAP or from a file of LDIF: objects as text, without any password.

Over LDAP only the attributes of a list are asked for, page by page; of a file what holds passwords is left out.  TLS is verified unless the
server is on this machine or the URI says otherwise.
"""

import base64
import os
import re
import ssl
import warnings
from collections.abc import Iterator, Mapping
from contextlib import suppress
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qs, unquote, urlsplit

from msgspec import Struct

from fidelitas.errors import ReadError, RequestError
from fidelitas.evidence import MissingItem
from fidelitas.extras import installed_extra
from fidelitas.masking.server_configuration import ACCESS_LISTING, only_rules
from fidelitas.sources.bounded import cut_at
from fidelitas.sources.collected import DEADLINE, Collected, sealed
from fidelitas.sources.file import regular_file
from fidelitas.text import decode, in_utf8

if TYPE_CHECKING:
    from ldap3 import Connection

__all__ = ["from_directory", "from_ldif", "with_server_configuration"]

_ATTRIBUTES = (
    "objectClass", "cn", "uid", "uidNumber", "gidNumber", "homeDirectory", "unixHomeDirectory", "loginShell", "gecos", "member",
    "uniqueMember", "memberUid", "sAMAccountName", "objectSid", "primaryGroupID", "userAccountControl", "accountExpires", "adminCount",
    "servicePrincipalName", "lastLogonTimestamp", "groupType", "sudoUser", "sudoHost", "sudoCommand", "sudoRunAs", "sudoRunAsUser",
    "userPrincipalName", "pwdLastSet", "department", "title", "sIDHistory", "msDS-AllowedToDelegateTo", "msDS-KeyCredentialLink",
    "msDS-AllowedToActOnBehalfOfOtherIdentity", "msDS-GroupMSAMembership", "nTSecurityDescriptor",
    "displayName", "givenName", "sn", "mail", "employeeNumber", "employeeID", "departmentNumber", "memberOf", "nETBIOSName", "dnsRoot",
    "sudoRunAsGroup", "sudoOption", "sudoOrder", "sudoNotBefore", "sudoNotAfter",
    "ipaEnabledFlag", "accessRuleType", "userCategory", "hostCategory", "cmdCategory", "serviceCategory", "memberUser", "memberHost",
    "memberService", "memberAllowCmd", "memberDenyCmd", "externalUser", "externalHost", "hostMask", "ipaSudoOpt", "ipaSudoRunAs",
    "ipaSudoRunAsGroup", "ipaSudoRunAsExtUser", "ipaSudoRunAsExtGroup", "ipaSudoRunAsExtUserGroup", "ipaSudoRunAsUserCategory",
    "nisNetgroupTriple", "memberNisNetgroup", "gPLink", "gPOptions", "trustPartner", "trustDirection", "trustAttributes",
    "ipaSudoRunAsGroupCategory", "sudoCmd", "fqdn", "nsAccountLock",
)  # fmt: skip
_KINDS = (
    "posixAccount", "posixGroup", "person", "group", "groupOfNames", "groupOfUniqueNames", "groupOfMembers", "sudoRole", "account",
    "simpleSecurityObject", "organizationalRole", "applicationProcess", "device", "contact", "foreignSecurityPrincipal", "crossRef",
    "domainDNS", "organizationalUnit", "container", "builtinDomain", "groupPolicyContainer", "trustedDomain",
    "nisNetgroup", "ipaSudoRule", "ipaSudoCmd", "ipaSudoCmdGrp", "ipaHBACRule", "ipaHBACServiceGroup", "ipaHost", "ipaHostGroup",
)  # fmt: skip
_WANTED = f"(|{''.join(f'(objectClass={kind})' for kind in _KINDS)})"
# What is asked for beside the domain itself: in which context of the forest, where in it, which objects, which attributes.
_FOREST = (
    ("configurationNamingContext", "CN=Partitions,", "(objectClass=crossRef)", ("objectClass", "cn", "nETBIOSName", "dnsRoot", "nCName")),
    (
        "configurationNamingContext",
        "CN=Public Key Services,CN=Services,",
        "(|(objectClass=pKICertificateTemplate)(objectClass=pKIEnrollmentService))",
        (
            "objectClass", "cn", "displayName", "nTSecurityDescriptor", "certificateTemplates", "pKIExtendedKeyUsage", "msPKI-RA-Signature",
            "msPKI-Certificate-Application-Policy", "msPKI-Certificate-Name-Flag", "msPKI-Enrollment-Flag",
        ),
    ),
    ("configContext", "", "(objectClass=olcDatabaseConfig)", ("objectClass", "olcDatabase", "olcSuffix", "olcRootDN", "olcAccess")),
    (
        "schemaNamingContext",
        "",
        "(|(lDAPDisplayName=ms-Mcs-AdmPwd)(lDAPDisplayName=msLAPS-Password)(lDAPDisplayName=msLAPS-EncryptedPassword))",
        ("objectClass", "lDAPDisplayName", "schemaIDGUID"),
    ),
)  # fmt: skip
# Owner, group and list of permissions ([MS-ADTS] 3.1.1.3.4.1.11).
_PERMISSIONS = 7
_PAGE = 500
_SECONDS = 20
_MOST = 2_000_000
# Attributes that hold a password, a key or what one can be made from: of these only that they are there is kept.
_SECRET = re.compile(
    rb"(?i)(?:[a-z0-9-]*(?:password|passwd|secret)|unicodePwd|dBCSPwd|[a-z]*PwdHistory|supplementalCredentials|krbPrincipalKey|krbMKey|krbExtraData"
    rb"|ipaNTHash|ms-Mcs-AdmPwd(?:History)?|msLAPS-[a-z]*Password[a-z]*|msDS-ManagedPassword[a-z]*|trustAuth(?:Outgoing|Incoming)"
    rb"|initialAuth(?:Outgoing|Incoming)|msFVE-(?:RecoveryPassword|KeyPackage)|msTPM-OwnerInformation[a-z]*|currentValue|priorValue|pekList"
    rb"|msPKI-?(?:CredentialRoamingTokens|AccountCredentials|DPAPIMasterKeys)|msDS-KeyCredentialLink|userPKCS12|olcRootPW|sambaLMHash|sambaNTHash"
    rb"|msSFU30?Password|goldKey|oathSecret|totpSecret[a-z]*|radius[a-z]*Password)\Z"
)
_SAFE = re.compile(rb"[\x21-\x39\x3b\x3d-\x7e][\x20-\x7e]*(?<! )\Z")


def from_ldif(content: bytes, name: str) -> Collected:
    """Return the evidence that a file of LDIF holds, in UTF-8 or UTF-16; its lines keep their numbers."""
    return _sealed(name, without_secrets(in_utf8(content)), [])


def with_server_configuration(found: Collected, path: Path) -> Collected:
    """Return the evidence of a directory with what the configuration file of its server (slapd.conf) says of access; raises `ReadError`."""
    if found.bundle.platform != "directory":
        raise ReadError(
            f'"{found.subject}" is not a directory', hint="Access rules are those of a directory: name its export, or its address."
        )
    try:
        content = regular_file(path, "access rules")
    except OSError as error:
        raise ReadError(f'could not read access rules "{path}": {error.strerror or error}') from error
    listings = {**found.bundle.listings, ACCESS_LISTING: only_rules(decode(in_utf8(content))).encode("utf-8", "surrogateescape")}
    return sealed(found.subject, "directory", listings, "LDAP search, slapd.conf", found.bundle.gaps)


def without_secrets(content: bytes) -> bytes:
    """Return LDIF in which the value of every secret attribute is "present"; lines keep their numbers (RFC 2849)."""
    lines = content.split(b"\n")
    out: list[bytes] = []
    at = 0
    while at < len(lines):
        end = at + 1
        while end < len(lines) and lines[end].startswith(b" "):  # a folded line goes on, wherever it was folded: in a name, too
            end += 1
        name = b"".join((lines[at].rstrip(b"\r"), *(line[1:].rstrip(b"\r") for line in lines[at + 1 : end]))).partition(b":")[0]
        if _SECRET.match(name.partition(b";")[0].strip()):
            out += [name + b": present", *([b"# not copied"] * (end - at - 1))]
        else:
            out += lines[at:end]
        at = end
    return b"\n".join(out)


def from_directory(uri: str, name: str | None = None, password: str | None = None, deadline: float = DEADLINE) -> Collected:
    """Return the evidence of the directory at ``ldaps://HOST/BASE?bind=DN``; raises `ReadError` where it cannot be reached.

    What the bound account may not see looks as if it were not there: a directory does not say.  Where the server goes away midway, what
    was read before counts, and the rest is a gap.
    """
    asked = _asked(uri)
    texts: list[bytes] = []
    gaps: list[MissingItem] = []
    with warnings.catch_warnings(), installed_extra():
        warnings.simplefilter("ignore", DeprecationWarning)  # of a library that this one is made with
        from ldap3.core.exceptions import LDAPException  # noqa: PLC0415
        from pyasn1.error import PyAsn1Error  # noqa: PLC0415
    try:
        opened: list[Connection] = []
        with cut_at(deadline, lambda: opened[0].socket.fileno()):  # noqa: PLW0108 there is one only later
            connection = _connection(asked, password if password is not None else os.environ.get("LDAP_PASSWORD"), opened)
            try:
                for entry in _objects(connection, asked.base, gaps):
                    texts.append(_ldif(entry))  # noqa: PERF401 what was read counts, whatever comes
            finally:
                connection.unbind()
    except (
        LDAPException,
        OSError,
        PyAsn1Error,
        ValueError,
        TypeError,
        IndexError,
        KeyError,
        AttributeError,
    ) as error:  # of a driver fed junk
        text = " ".join(str(error).split())
        if not texts:
            raise ReadError(f'could not read directory "{uri}": {text}', hint="See docs/directories.md for what it takes.") from error
        gaps.append(MissingItem(path="entries", reason=f"the server went away after {len(texts)} objects: {text}"))
    return _sealed(name or asked.host or "localhost", without_secrets(b"\n".join(texts)), gaps)


class _Asked(Struct, frozen=True):
    """What a URI of a directory asks for."""

    server: str
    host: str | None
    base: str
    bind: str | None
    tls: str  # "checked", "as it comes", or "off"
    ca: str | None
    seconds: int


def _asked(uri: str) -> _Asked:
    parts = urlsplit(uri)
    if parts.scheme not in ("ldap", "ldaps", "ldapi") or parts.password is not None:
        hint = "Such as ldaps://dc.example/dc=example,dc=org?bind=cn=auditor,dc=example,dc=org; the password comes from LDAP_PASSWORD."
        raise RequestError(f'"{parts.scheme}://{parts.hostname}" names no directory', hint=hint)
    said = parse_qs(parts.query)
    local, off = parts.hostname in ("localhost", "127.0.0.1", "::1", None), said.get("tls") == ["off"]
    server = uri.partition("?")[0].removesuffix("/" + parts.path.lstrip("/"))
    ca = said.get("ca", [None])[0]
    encrypted = "off" if off or (parts.scheme == "ldap" and local and not ca) else "as it comes" if local and not ca else "checked"
    seconds = said.get("timeout", [str(_SECONDS)])[0]
    if not (seconds.isdecimal() and 0 < int(seconds[:6]) <= 3600):
        raise RequestError(f'"{seconds}" is not a time limit', hint="A number of seconds, from 1 to 3600.")
    return _Asked(server, parts.hostname, unquote(parts.path.lstrip("/")), said.get("bind", [None])[0], encrypted, ca, int(seconds))


def _connection(asked: _Asked, password: str | None, opened: "list[Connection]") -> "Connection":
    import ldap3  # noqa: PLC0415

    tls = ldap3.Tls(validate=ssl.CERT_REQUIRED if asked.tls == "checked" else ssl.CERT_NONE, ca_certs_file=asked.ca)
    server = ldap3.Server(asked.server, tls=tls, connect_timeout=asked.seconds, get_info=ldap3.DSA)
    connection = ldap3.Connection(
        server, asked.bind, password, read_only=True, receive_timeout=asked.seconds, raise_exceptions=True, check_names=False
    )
    opened.append(connection)
    try:
        connection.open()
        if asked.tls != "off" and not server.ssl:
            connection.start_tls()
        connection.bind()
    except Exception:
        with suppress(Exception):  # what went wrong first is what is told
            connection.unbind()
        raise
    return connection


def _objects(connection: "Connection", base: str, gaps: list[MissingItem]) -> Iterator[Mapping[str, object]]:
    """Yield the objects that are wanted, page by page; an attribute that comes in ranges with all of them."""
    info = connection.server.info
    root = base or (info.naming_contexts[0] if info and info.naming_contexts else "")
    pages = connection.extend.standard.paged_search(
        root, _WANTED, attributes=list(_ATTRIBUTES), paged_size=_PAGE, generator=True, controls=_with_permissions()
    )
    for number, entry in enumerate(chain(pages, _of_forest(connection, root, gaps))):
        if number >= _MOST:
            gaps.append(MissingItem(path="entries", reason=f"more than {_MOST} objects"))
            return
        if entry.get("type") == "searchResEntry":
            yield {**entry, "raw_attributes": {**entry["raw_attributes"], **_further(connection, entry)}}


def _with_permissions() -> list[Any]:
    """Return the control that asks for owners and permissions without those for auditing, which an ordinary account is not shown."""
    from ldap3.protocol.microsoft import security_descriptor_control  # noqa: PLC0415

    return list(security_descriptor_control(criticality=False, sdflags=_PERMISSIONS))


def _of_forest(connection: "Connection", root: str, gaps: list[MissingItem]) -> Iterator[Mapping[str, object]]:
    """Yield objects of the configuration and the schema of a forest; none where the server has no such parts, or shows none.

    What it refuses is a gap, but for its own configuration, which is not for ordinary accounts.
    """
    from ldap3.core.exceptions import LDAPNoSuchObjectResult, LDAPOperationResult  # noqa: PLC0415

    info = connection.server.info
    for context, below, wanted, attributes in _FOREST:
        named = (info.other.get(context) or [""])[0] if info else ""
        if named and (context == "configContext" or named.lower().endswith(root.lower())):
            try:
                yield from connection.extend.standard.paged_search(
                    below + named, wanted, attributes=list(attributes), generator=True, controls=_with_permissions()
                )
            except LDAPNoSuchObjectResult:
                continue
            except LDAPOperationResult as error:
                if context != "configContext":
                    gaps.append(MissingItem(path=below + named, reason=f"the directory refused it: {error.description}"))


def _further(connection: "Connection", entry: Mapping[str, Any]) -> dict[str, list[bytes]]:
    """Return the ranges of an object's attributes beyond the first, under their names as the server gives them."""
    found: dict[str, list[bytes]] = {}
    for attribute in list(entry["raw_attributes"]):
        name, _, ends = str(attribute).partition(";range=")
        upto = ends.rpartition("-")[2]
        while upto.isdecimal():
            connection.search(entry["dn"], "(objectClass=*)", "BASE", attributes=[f"{name};range={int(upto) + 1}-*"])
            raw = connection.response[0].get("raw_attributes", {}) if connection.response else {}
            more = {str(one): values for one, values in raw.items() if str(one).startswith(f"{name};range=") and values}
            found |= more
            reached = next((one.rpartition("-")[2] for one in more), "*")
            upto = reached if reached != upto else "*"
    return found


def _ldif(entry: Mapping[str, object]) -> bytes:
    lines = [_line(b"dn", str(entry["dn"]).encode())]
    raw = entry.get("raw_attributes")
    for attribute, values in sorted(raw.items()) if isinstance(raw, Mapping) else ():
        lines += [_line(attribute.encode(), value) for value in values]
    return b"\n".join(lines) + b"\n"


def _line(name: bytes, value: bytes) -> bytes:
    return name + b": " + value if _SAFE.match(value) else name + b":: " + base64.b64encode(value)


def _sealed(subject: str, entries: bytes, gaps: list[MissingItem]) -> Collected:
    return sealed(subject, "directory", {"entries": entries}, "LDAP search", gaps)
