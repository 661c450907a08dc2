"""A directory, over LDAP or from a file of LDIF: objects as text, without any password.

Over LDAP only the attributes of a list are asked for, page by page; of a file what holds passwords is left out.  TLS is verified unless the
server is on this machine or the URI says otherwise.
"""

import base64
import os
import re
import ssl
import warnings
from collections.abc import Mapping
from urllib.parse import parse_qs, unquote, urlsplit

from fidelitas.errors import ReadError, RequestError
from fidelitas.evidence import MissingItem
from fidelitas.sources.collected import Collected, sealed

__all__ = ["from_directory", "from_ldif"]

_ATTRIBUTES = (
    "objectClass", "cn", "uid", "uidNumber", "gidNumber", "homeDirectory", "unixHomeDirectory", "loginShell", "gecos", "member",
    "uniqueMember", "memberUid", "sAMAccountName", "objectSid", "primaryGroupID", "userAccountControl", "accountExpires", "adminCount",
    "servicePrincipalName", "lastLogonTimestamp", "groupType", "sudoUser", "sudoHost", "sudoCommand", "sudoRunAs", "sudoRunAsUser",
    "sudoRunAsGroup", "sudoOption", "sudoOrder", "sudoNotBefore", "sudoNotAfter",
)  # fmt: skip
_KINDS = ("posixAccount", "posixGroup", "person", "group", "groupOfNames", "groupOfUniqueNames", "sudoRole")
_WANTED = f"(|{''.join(f'(objectClass={kind})' for kind in _KINDS)})"
_PAGE = 500
_SECONDS = 20
_MOST = 2_000_000
_SECRET = re.compile(
    rb"(?im)^(?:userPassword|unicodePwd|dBCSPwd|ntPwdHistory|lmPwdHistory|supplementalCredentials|samba\w*Password|krbPrincipalKey|ms-Mcs-AdmPwd|"
    rb"pwdHistory)(?:;[^:\n]*)?:.*(?:\n .*)*"
)
_SAFE = re.compile(rb"[\x21-\x39\x3b\x3d-\x7e][\x20-\x7e]*(?<! )\Z")


def from_ldif(content: bytes, name: str) -> Collected:
    """Return the evidence that a file of LDIF holds; its lines keep their numbers."""
    return _sealed(name, _SECRET.sub(lambda found: b"# not copied" + b"\n# not copied" * found[0].count(b"\n"), content), [])


def from_directory(uri: str, name: str | None = None, password: str | None = None) -> Collected:
    """Return the evidence of the directory at ``ldaps://HOST/BASE?bind=DN``; raises `ReadError` where it cannot be reached.

    What the bound account may not see looks as if it were not there: a directory does not tell.
    """
    parts = urlsplit(uri)
    asked = parse_qs(parts.query)
    if parts.scheme not in ("ldap", "ldaps", "ldapi") or parts.password is not None:
        hint = "Such as ldaps://dc.example/dc=example,dc=org?bind=cn=auditor,dc=example,dc=org; the password comes from LDAP_PASSWORD."
        raise RequestError(f'"{parts.scheme}://{parts.hostname}" names no directory', hint=hint)
    base = unquote(parts.path.lstrip("/"))
    local = parts.hostname in ("localhost", "127.0.0.1", "::1", None)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)  # of a library that this one is made with
        import ldap3  # noqa: PLC0415
        from ldap3.core.exceptions import LDAPException  # noqa: PLC0415
    tls = ldap3.Tls(
        validate=ssl.CERT_NONE if local or asked.get("tls") == ["off"] else ssl.CERT_REQUIRED, ca_certs_file=asked.get("ca", [None])[0]
    )
    gaps: list[MissingItem] = []
    try:
        server = ldap3.Server(
            uri.partition("?")[0].removesuffix("/" + parts.path.lstrip("/")), tls=tls, connect_timeout=_SECONDS, get_info=ldap3.DSA
        )
        bind = asked.get("bind", [None])[0]
        secret = password if password is not None else os.environ.get("LDAP_PASSWORD")
        connection = ldap3.Connection(
            server, bind, secret, read_only=True, receive_timeout=_SECONDS, auto_range=True, raise_exceptions=True, check_names=False
        )
        connection.open()
        if parts.scheme == "ldap" and not local and asked.get("tls") != ["off"]:
            connection.start_tls()
        connection.bind()
        base = base or (server.info.naming_contexts[0] if server.info and server.info.naming_contexts else "")
        texts = []
        pages = connection.extend.standard.paged_search(base, _WANTED, attributes=list(_ATTRIBUTES), paged_size=_PAGE, generator=True)
        for number, entry in enumerate(pages):
            if number >= _MOST:
                gaps.append(MissingItem(path="entries", reason=f"more than {_MOST} objects"))
                break
            if entry.get("type") == "searchResEntry":
                texts.append(_ldif(entry))
        connection.unbind()
    except (LDAPException, OSError) as error:
        text = " ".join(str(error).split())
        raise ReadError(f'could not read directory "{uri}": {text}', hint="See docs/directories.md for what it takes.") from error
    return _sealed(name or f"{parts.hostname or 'localhost'}", b"\n".join(texts), gaps)


def _ldif(entry: dict[str, object]) -> bytes:
    lines = [_line(b"dn", str(entry["dn"]).encode())]
    raw = entry.get("raw_attributes")
    for attribute, values in sorted(raw.items()) if isinstance(raw, Mapping) else ():
        lines += [_line(attribute.encode(), value) for value in values]
    return b"\n".join(lines) + b"\n"


def _line(name: bytes, value: bytes) -> bytes:
    return name + b": " + value if _SAFE.match(value) else name + b":: " + base64.b64encode(value)


def _sealed(subject: str, entries: bytes, gaps: list[MissingItem]) -> Collected:
    return sealed(subject, "directory", {"entries": entries}, "LDAP search", gaps)
