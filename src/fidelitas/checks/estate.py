"""Checks across the hosts of the estate: what no single host can tell."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from posixpath import dirname

from fidelitas.checks.check import AnyCheck, Found, title_and_reason
from fidelitas.facts import AliasKind, Member, MemberKind
from fidelitas.findings import Finding, Severity
from fidelitas.patterns import wildcard_matches
from fidelitas.rights.accounts.identity import Identity
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.ssh import KeyGrant

__all__ = ["ESTATE_CHECKS", "EstateCheck"]


@dataclass(frozen=True, slots=True, kw_only=True)
class EstateCheck(AnyCheck):
    """A check across all hosts in evidence."""

    run: Callable[[Iterable[HostRights]], Iterator[tuple[HostRights, Found]]]

    def findings(self, hosts: Iterable[HostRights]) -> Iterator[Finding]:
        """Yield the findings on all hosts."""
        return (self.finding(host.subject, found) for host, found in self.run(hosts))


_Estate = Callable[[Iterable[HostRights]], Iterator[tuple[HostRights, Found]]]


def estate_check(name: str, severity: Severity, *, advice: str) -> Callable[[_Estate], EstateCheck]:
    """Return the like of `check` for a generator over all hosts."""

    def decorate(run: _Estate) -> EstateCheck:
        title, why = title_and_reason(run)
        return EstateCheck(name=name, severity=severity, advice=advice, title=title, why=why, run=run)

    return decorate


def _names(host: HostRights) -> set[str]:
    """Return what a host may be called in a policy: its own name and the subject's, each also up to the first dot."""
    full = {host.subject.lower(), host.host_name.lower()}
    return full | {name.partition(".")[0] for name in full}


@estate_check("sudo.unknown-host", Severity.INFO, advice="Remove the host from the rule, or survey it.")
def unknown_host(hosts: Iterable[HostRights]) -> Iterator[tuple[HostRights, Found]]:
    """A rule is for a host that is not in the ledger.

    Either the host is gone, and the next host of that name inherits the rule; or it exists and was not surveyed.
    """
    hosts = tuple(hosts)
    known = {name for host in hosts for name in _names(host)}
    known_of: dict[int, list[Found]] = {}
    for host in hosts:
        first = host.like
        if id(first) not in known_of:
            known_of[id(first)] = [_not_there(member) for member in _members(first) if not _is_known(member, known)]
        yield from ((host, found) for found in host.here(known_of[id(first)]))


def _not_there(member: Member) -> Found:
    return Found(about=member.value, message=f'no host in the ledger is called "{member.value}"', places=(member.place,))


def _is_known(member: Member, known: Iterable[str]) -> bool:
    return any(wildcard_matches(member.value.lower(), name) for name in known)


def _members(host: HostRights) -> Iterable[Member]:
    """Return the members of the policy's host lists that name a host."""
    members = [member for rule in host.facts.policy.rules for member in rule.hosts]
    members += [member for alias in host.facts.policy.aliases if alias.kind is AliasKind.HOST for member in alias.members]
    return {(member.value, member.place): member for member in members if _names_a_host(host, member)}.values()


def _names_a_host(host: HostRights, member: Member) -> bool:
    alias = (AliasKind.HOST, member.value) in host.policy.aliases
    return not member.negated and not alias and member.kind in (MemberKind.NAME, MemberKind.WORD)


@estate_check("login.shared-key", Severity.LOW, advice="Give each person their own key for their own account.")
def shared_key(hosts: Iterable[HostRights]) -> Iterator[tuple[HostRights, Found]]:
    """One key opens several accounts, some of them root.

    The logs do not show which person used it, and anyone who controls the host where the private key is stored reaches all the others.
    """
    hosts = tuple(hosts)
    opened: dict[str, list[tuple[HostRights, Identity, KeyGrant]]] = {}
    lying: dict[str, list[tuple[HostRights, str, bool]]] = {}
    for host in hosts:
        for who, key_grant in host.key_grants:
            opened.setdefault(key_grant.key.fingerprint, []).append((host, who, key_grant))
        for key in host.private_keys:
            if key.fingerprint:
                lying.setdefault(key.fingerprint, []).append((host, key.path, key.encrypted))
    for fingerprint, uses in sorted(opened.items()):
        accounts = list(dict.fromkeys((host.subject, who.name) for host, who, _ in uses))
        roots = [f"{who.name} on {host.subject}" for host, who, key_grant in uses if who.uid == 0 and not key_grant.command]
        names = {name for _, name in accounts}
        private = [(host, path, encrypted) for host, path, encrypted in lying.get(fingerprint, ()) if _leads_on(host, path, uses)]
        if len(names) < 2 and not private:
            continue  # one person's key on all of that person's accounts
        host, _, key_grant = uses[0]
        comment = f" ({key_grant.key.comment})" if key_grant.key.comment else ""
        where = ", ".join(f"{name} on {subject}" for subject, name in accounts[:6]) + (" and more" if len(accounts) > 6 else "")
        message = f"key {fingerprint}{comment} opens {where}"
        for at, path, encrypted in private[:3]:
            message += f"; its private key is stored on {at.subject} in {path}{'' if encrypted else ', without a passphrase'}"
        severity = Severity.HIGH if roots and private else Severity.MEDIUM if roots else None
        places = tuple(dict.fromkeys(one.key.place for _, _, one in uses))
        yield host, Found(about=fingerprint, message=message, places=places, severity=severity)


def _leads_on(host: HostRights, path: str, uses: list[tuple[HostRights, Identity, KeyGrant]]) -> bool:
    """Return whether a private half lies where it leads to another host, or to another account than the one whose home it lies in."""
    owner = next((who for who in host.population.effective if who.account and dirname(dirname(path)) == who.account.home), None)
    return any(other.subject != host.subject or owner is None or who.name != owner.name for other, who, _ in uses)


ESTATE_CHECKS: tuple[EstateCheck, ...] = (unknown_host, shared_key)
