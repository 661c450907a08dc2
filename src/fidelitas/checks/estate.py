"""Checks across the hosts of the estate: what no single host can tell."""

from collections.abc import Iterable, Iterator

from fidelitas.checks.check import EstateCheck, Found, estate_check
from fidelitas.facts import AliasKind, Member, MemberKind
from fidelitas.findings import Severity
from fidelitas.patterns import wildcard_matches
from fidelitas.rights import HostRights

__all__ = ["ESTATE_CHECKS"]


def _names(host: HostRights) -> set[str]:
    """Return what a host may be called in a policy: its own name and the subject's, each also up to the first dot."""
    full = {host.subject.lower(), host.host_name.lower()}
    return full | {name.partition(".")[0] for name in full}


@estate_check("sudo.unknown-host", Severity.INFO, advice="Remove the host from the rule, or survey it.")
def unknown_host(hosts: Iterable[HostRights]) -> Iterator[tuple[HostRights, Found]]:
    """A rule is about a host that is not in evidence.

    Either the host is gone, and the next one of its name inherits the rule; or it is there, and nobody has looked at it.
    """
    hosts = tuple(hosts)
    known = {name for host in hosts for name in _names(host)}
    told: dict[HostRights, list[Found]] = {}
    for host in hosts:
        if host.like not in told:
            told[host.like] = [_not_there(member) for member in _members(host.like) if not _is_known(member, known)]
        yield from ((host, found) for found in host.here(told[host.like]))


def _not_there(member: Member) -> Found:
    return Found(about=member.value, message=f'no host in evidence is called "{member.value}"', places=(member.place,))


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


ESTATE_CHECKS: tuple[EstateCheck, ...] = (unknown_host,)
