"""The objects of a directory by what they are: their DN, and their SID; and what each is called, so that no two are called alike.

A name is not an identity: two domains of one export, two parts of one tree, an account and a group can have the same.
"""

from collections.abc import Mapping
from functools import cached_property

from fidelitas.distinguished_names import folded, realm_of
from fidelitas.facts import DirectoryAccount, DirectoryFacts, DirectoryKind, Place, StatedGroup
from fidelitas.rights.graph.links import Principal, PrincipalKind

__all__ = ["Objects", "Thing", "is_of_all", "sid_name"]

Thing = DirectoryAccount | StatedGroup

# Groups that no object lists the members of: they hold anyone who logs on.
_EVERYONE = {"S-1-1-0": "Everyone", "S-1-5-11": "Authenticated Users", "S-1-5-7": "Anonymous Logon", "S-1-5-15": "This Organization"}
_NAMED = {
    "S-1-5-10": "Self", "S-1-5-9": "Enterprise Domain Controllers", "S-1-5-18": "Local System", "S-1-5-4": "Interactive",
    "S-1-5-2": "Network", "S-1-5-1000": "Other Organization", "S-1-3-0": "Creator Owner", "S-1-5-17": "IUSR",
    "S-1-5-19": "Local Service", "S-1-5-20": "Network Service",
}  # fmt: skip
_ENTRA = "S-1-12-1-"


def is_of_all(sid: str | None) -> bool:
    """Return whether a SID is that of everyone who logs on."""
    return sid in _EVERYONE


def sid_name(sid: str) -> str:
    """Return what a SID is called whose object is not in evidence: a well-known one by its name, others as they stand."""
    known = _EVERYONE.get(sid) or _NAMED.get(sid)
    return known or (f"{sid} (Entra ID)" if sid.startswith(_ENTRA) else sid)


class Objects:
    """Every account and group of a directory, found by DN and SID, each with its principal."""

    def __init__(self, facts: DirectoryFacts) -> None:
        self._facts = facts
        self._short = {domain.realm: domain.short for domain in facts.domains}
        self.by_dn: dict[str, Thing] = {}
        self.every: tuple[Thing, ...] = (*facts.accounts, *facts.groups)
        for one in self.every:
            self.by_dn.setdefault(folded(one.dn), one)
        self._principals: dict[int, Principal] = {}
        self._strangers: dict[str, DirectoryAccount] = {}

    @cached_property
    def by_sid(self) -> Mapping[str, Thing]:
        """The objects that have a SID that is theirs alone; those of groups that every domain has are not (S-1-5-32-…)."""
        return {one.sid: one for one in self.every if one.sid and not one.sid.startswith("S-1-5-32-")}

    def of_sid(self, sid: str) -> Principal:
        """Return who has a SID: an account or group here, a group that every domain has, or someone known by the SID alone."""
        known = self.by_sid.get(sid) or self._built_in.get(sid)
        place = self.every[0].place if self.every else Place(self._facts.subject, "entries")
        return self.principal(known or self._stranger(sid, sid, place))

    def sid_of(self, one: Principal) -> str | None:
        """Return the SID of a holder; nothing where it has none."""
        return self._sids.get(one) or next((sid for sid, stranger in self._strangers.items() if self.principal(stranger) == one), None)

    @cached_property
    def _sids(self) -> Mapping[Principal, str]:
        return {self.principal(one): one.sid for one in self.every if one.sid}

    @cached_property
    def _built_in(self) -> Mapping[str, Thing]:
        return {group.sid: group for group in self._facts.groups if group.sid is not None and group.sid.startswith("S-1-5-32-")}

    def unseen(self, dn: str, place: Place) -> DirectoryAccount:
        """Return an account of which only the DN is known."""
        return self._strangers.setdefault(dn, DirectoryAccount(name=dn, dn=dn, kind=DirectoryKind.ROLE, place=place))

    def everything(self, dn: str) -> Principal:
        """Return what stands for all objects below a container."""
        return Principal(kind=PrincipalKind.GROUP, name=f"all below {dn}", subject=self._facts.subject)

    def sid_of_realm(self, dn: str) -> str:
        """Return the SID of the domain that an object is in, by those of other objects there; empty where none has one."""
        return self._realm_sids.get(realm_of(dn), next(iter(self._realm_sids.values()), ""))

    @cached_property
    def _realm_sids(self) -> Mapping[str, str]:
        found: dict[str, str] = {}
        for one in self.every:
            if one.sid and one.sid.startswith("S-1-5-21-") and getattr(one, "kind", None) is not DirectoryKind.FOREIGN:
                found.setdefault(realm_of(one.dn), one.sid.rpartition("-")[0])
        return found

    @cached_property
    def labels(self) -> Mapping[int, str]:
        """What each object is called, by its identity: its name, else with its domain, else its DN, where others have the same."""
        found: dict[int, str] = {}
        for things in (self._facts.accounts, self._facts.groups):
            groups: dict[str, list[Thing]] = {}
            for one in things:
                groups.setdefault(one.name.casefold(), []).append(one)
            for alike in groups.values():
                found |= self._told_apart(alike)
        return found

    def _told_apart(self, alike: list[Thing]) -> dict[int, str]:
        if len(alike) == 1 or len({folded(one.dn) for one in alike}) == 1:
            return {id(one): one.name for one in alike}
        realms = [realm_of(one.dn) for one in alike]
        apart = len(set(realms)) == len(realms) and all(realms)
        return {id(one): f"{one.name}@{realm}" if apart else f"{one.name} ({one.dn})" for one, realm in zip(alike, realms, strict=True)}

    def principal(self, one: Thing) -> Principal:
        """Return an object as a holder."""
        known = self._principals.get(id(one))
        if known is None:
            kind = PrincipalKind.ACCOUNT if isinstance(one, DirectoryAccount) else PrincipalKind.GROUP
            label = self.labels.get(id(one), one.name)
            known = Principal(kind=kind, name=label, subject=self._facts.subject, aliases=self._aliases(one, label))
            self._principals[id(one)] = known
        return known

    def _aliases(self, one: Thing, label: str) -> tuple[str, ...]:
        """Return by which further names an object can be asked for; a group's begin with ``%``."""
        realm = realm_of(one.dn)
        forms = [one.name, f"{one.name}@{realm}" if realm else "", f"{self.short_of(realm)}\\{one.name}" if realm else ""]
        forms += [one.principal_name] if isinstance(one, DirectoryAccount) else []
        forms += [one.sid or "", one.dn]
        sign = "%" if isinstance(one, StatedGroup) else ""
        return tuple(dict.fromkeys(f"{sign}{form}" for form in forms if form and form != label))

    def short_of(self, realm: str) -> str:
        """Return the short name of a domain; where none is stated, the first part of the long one, as it mostly is."""
        return self._short.get(realm) or realm.partition(".")[0].upper()[:15]

    @cached_property
    def by_qualified_name(self) -> Mapping[str, Principal]:
        r"""The accounts and groups by ``domain\name`` and ``name@realm``, in small letters."""
        found: dict[str, Principal] = {}
        for one in self.every:
            principal = self.principal(one)
            for form in principal.aliases:
                if "\\" in form or "@" in form:
                    found.setdefault(form.lower().removeprefix("%"), principal)
        return found

    def of_dn(self, dn: str, place: Place) -> Thing | None:
        """Return the object of a DN; a stand-in for a member of another domain is the member itself, where that is in evidence."""
        found = self.by_dn.get(folded(dn))
        sid = _foreign_sid(dn)
        if sid is not None and (found is None or getattr(found, "kind", None) is DirectoryKind.FOREIGN):
            return self.by_sid.get(sid) if self._is_other(sid) else self._stranger(sid, dn, place)
        return found

    def _is_other(self, sid: str) -> bool:
        known = self.by_sid.get(sid)
        return known is not None and getattr(known, "kind", None) is not DirectoryKind.FOREIGN

    def _stranger(self, sid: str, dn: str, place: Place) -> DirectoryAccount:
        return self._strangers.setdefault(
            sid, DirectoryAccount(name=sid_name(sid), dn=dn, kind=DirectoryKind.FOREIGN, sid=sid, place=place)
        )


def _foreign_sid(dn: str) -> str | None:
    """Return the SID that an object of ``CN=ForeignSecurityPrincipals`` is called by."""
    first, _, rest = folded(dn).partition(",")
    sid = first.removeprefix("cn=").upper()
    return sid if sid.startswith("S-1-") and rest.startswith("cn=foreignsecurityprincipals") else None
