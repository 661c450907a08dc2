"""Who a SID is: an account or group of the machine, one of a directory in evidence, everyone, or someone known by the SID alone."""

from collections import Counter
from collections.abc import Sequence
from functools import cached_property

from fidelitas.facts import LocalAccount, WindowsFacts
from fidelitas.rights.domain import Domain
from fidelitas.rights.graph.links import Principal, PrincipalKind
from fidelitas.rights.windows.access import EVERYONE

__all__ = ["SYSTEM", "Holders"]

SYSTEM = "S-1-5-18"
# What a service says that runs as the system, and as two accounts with few rights.
_SYSTEM_NAMES = frozenset({"localsystem", "system", "nt authority\\system", "nt authority\\localsystem", ".\\localsystem", ""})
# The built-in administrator and guest, which in a list are those of the machine.
_OF_MACHINE = ("500", "501")
_WELL_KNOWN = {
    "S-1-5-7": "ANONYMOUS LOGON", "S-1-5-2": "NETWORK", "S-1-5-19": "LOCAL SERVICE", "S-1-5-20": "NETWORK SERVICE", "S-1-5-6": "SERVICE",
    "S-1-5-32-546": "Guests", "S-1-5-32-549": "Server Operators", "S-1-5-32-550": "Print Operators", "S-1-5-32-551": "Backup Operators",
    "S-1-2-0": "LOCAL", "S-1-5-3": "BATCH", "S-1-5-10": "SELF", "S-1-5-113": "local accounts", "S-1-5-114": "local administrators",
}  # fmt: skip


_ENTRA = "S-1-12-1-"


class Holders:
    """The principals of one machine, by SID and by name."""

    def __init__(self, facts: WindowsFacts, directories: Sequence[Domain]) -> None:
        self._facts = facts
        self.directories = directories
        self.anyone = self._here(PrincipalKind.ANY_ACCOUNT, "")

    def _here(self, kind: PrincipalKind, name: str, *aliases: str) -> Principal:
        return Principal(kind=kind, name=name, subject=self._facts.subject, aliases=aliases)

    def local(self, account: LocalAccount) -> Principal:
        """Return an account of the machine as a holder: with the machine before its name where a domain has an account of that name."""
        shared = account.name.lower() in self._names_of_domains and self._facts.sid not in self._domain_sids
        name = f"{self._facts.computer}\\{account.name}" if shared else account.name
        aliases = (account.name, f".\\{account.name}") if shared else (f"{self._facts.computer}\\{account.name}",)
        return Principal(kind=PrincipalKind.ACCOUNT, name=name, subject=self._facts.subject, aliases=(*aliases, account.sid))

    @cached_property
    def _domain_sids(self) -> frozenset[str]:
        return frozenset[str]().union(*(directory.domain_sids for directory in self.directories))

    @cached_property
    def _names_of_domains(self) -> frozenset[str]:
        every = (account.name.lower() for directory in self.directories for account in directory.accounts.values() if account.sid)
        return frozenset(every)

    @cached_property
    def by_sid(self) -> dict[str, Principal]:
        """Everyone whose SID the evidence tells, with those of directories."""
        found: dict[str, Principal] = {}
        for group in self._facts.groups:
            for member in group.members:
                if member.sid and member.name:
                    found[member.sid] = self._elsewhere(member.name, is_group=bool(member.group))
        for directory in self.directories:
            found |= directory.by_sid
            if self._facts.sid in directory.domain_sids:  # a domain controller, whose groups are the domain's
                found |= directory.built_in
        found |= {group.sid: self._here(PrincipalKind.GROUP, group.name) for group in self._facts.groups if group.sid}
        found |= {account.sid: self.local(account) for account in self._facts.accounts}
        return found | dict.fromkeys(EVERYONE, self.anyone)

    @cached_property
    def _by_name(self) -> dict[str, Principal]:
        """Everyone by domain and name; those of the machine by their name alone, too."""
        found: dict[str, Principal] = {}
        for group in self._facts.groups:
            found |= {one.name.lower(): self.by_sid[one.sid] for one in group.members if one.name and one.sid in self.by_sid}
        for account in self._facts.accounts:
            here = self.local(account)
            found |= {f"{prefix}{account.name}".lower(): here for prefix in ("", ".\\", f"{self._facts.computer}\\")}
        return found

    def of_sid(self, sid: str) -> Principal:
        """Return who has a SID."""
        number = sid.removeprefix("domain-")
        if number != sid:  # short for an account of the machine, or a group of its domain
            prefix = self._facts.sid if number in _OF_MACHINE else self._domain
            sid = f"{prefix}-{number}" if prefix else sid
        known = self.by_sid.get(sid)
        name = _WELL_KNOWN.get(sid) or (f"{sid} (Entra ID)" if sid.startswith(_ENTRA) else sid)
        return known or self._here(PrincipalKind.ELSEWHERE, name)

    def of_name(self, name: str) -> Principal:
        """Return who has a name, with the domain before it or that of a local account."""
        return self._by_name.get(name.lower()) or self._in_directory(name) or self._elsewhere(name, is_group=False)

    def is_system(self, sid: str, account: str) -> bool:
        """Return whether what runs so runs as the system itself."""
        return sid == SYSTEM or (not sid and account.lower() in _SYSTEM_NAMES)

    @cached_property
    def _domain(self) -> str:
        """The SID of the machine's domain: the one that most members of its groups are of."""
        members = (member.sid.rpartition("-")[0] for group in self._facts.groups for member in group.members if member.sid)
        counted = Counter(prefix for prefix in members if prefix.startswith("S-1-5-21-") and prefix != self._facts.sid)
        return counted.most_common(1)[0][0] if counted else ""

    def _in_directory(self, name: str) -> Principal | None:
        """Return who of a directory has a name with its domain; of one whose domains are not known by name, by the name alone."""
        domain, backslash, short = name.rpartition("\\")
        if not backslash or domain.lower() in (self._facts.computer.lower(), "."):
            return None
        known = (directory.by_qualified_name.get(name.lower()) for directory in self.directories)
        found = next((one for one in known if one is not None), None)
        if found is not None or len(self.directories) != 1:
            return found
        return next((one for one in self.directories[0].by_sid.values() if one.name.lower() == short.lower()), None)

    def _elsewhere(self, name: str, *, is_group: bool) -> Principal:
        r"""Return someone of a domain that is not in evidence: ``name@DOMAIN``, to be asked for as ``DOMAIN\name``, too."""
        domain, _, short = name.rpartition("\\")
        if not domain:
            return self._here(PrincipalKind.GROUP if is_group else PrincipalKind.ELSEWHERE, short)
        if is_group:
            return self._here(PrincipalKind.GROUP, f"{short}@{domain}", f"%{name}", f"%{short}")
        return self._here(PrincipalKind.ELSEWHERE, f"{short}@{domain}", name)
