"""Security descriptors: who owns an object, and who is allowed or denied what on it ([MS-DTYP] 2.4.6)."""

from msgspec import Struct

__all__ = ["AccessControlEntry", "SecurityDescriptor"]


class AccessControlEntry(Struct, frozen=True, kw_only=True):
    """An entry of an access control list: who (a SID) is allowed or denied which bits; `inherit_only` ones do not concern the object.

    `object_type` is the GUID, in small letters, of the one attribute, set of attributes or extended right that it is about; empty for all.
    `inherited` says that it comes from a container above.  `conditional` ones hang on a condition that is not read.
    """

    allowed: bool
    mask: int
    sid: str
    inherit_only: bool = False
    object_type: str = ""
    inherited: bool = False
    conditional: bool = False


class SecurityDescriptor(Struct, frozen=True, kw_only=True):
    """Owner and access control list; with ``None`` for `entries` there is no list, and everyone may do everything.

    A `protected` one takes nothing from the containers above.
    """

    owner: str
    entries: tuple[AccessControlEntry, ...] | None
    protected: bool = False
