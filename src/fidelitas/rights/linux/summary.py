"""What other hosts, and checks across hosts, need to know of one: a few typed rows, made once, that can be kept without the host.

Joining an estate is work over these; the hosts themselves are looked at only where one leads to another.
"""

from collections.abc import Iterable
from posixpath import dirname
from typing import TYPE_CHECKING

from msgspec import Struct

from fidelitas.facts import AliasKind, Member, MemberKind
from fidelitas.text import Place

if TYPE_CHECKING:
    from fidelitas.rights.linux.host import HostRights

__all__ = ["HostSummary", "KeyUse", "PrivateHalf", "linked_by_keys", "summary_of"]


class KeyUse(Struct, frozen=True, kw_only=True):
    """A public key that opens an account; `confined` says that it is to one command."""

    fingerprint: str
    comment: str | None
    account: str
    uid: int | None
    confined: bool
    place: Place


class PrivateHalf(Struct, frozen=True, kw_only=True):
    """A private key: its path, and the account in whose home it is, if it is in one."""

    fingerprint: str
    path: str
    encrypted: bool
    owner: str | None


class HostSummary(Struct, frozen=True, kw_only=True):
    """One host: the hosts that its sudo policy names, by what and where; the keys that open its accounts; the private keys on it."""

    subject: str
    host_name: str
    hosts_named: tuple[tuple[str, Place], ...]
    uses: tuple[KeyUse, ...]
    halves: tuple[PrivateHalf, ...]

    @property
    def names_places(self) -> bool:
        """Whether a place on the host is named in it."""
        return bool(self.hosts_named or self.uses)


def summary_of(host: "HostRights") -> HostSummary:
    """Return the summary of a host."""
    homes = {who.account.home: who.name for who in reversed(host.population.effective) if who.account} if host.private_keys else {}
    return HostSummary(
        subject=host.subject,
        host_name=host.host_name,
        hosts_named=tuple({(member.value, member.place): None for member in _members(host)}),
        uses=tuple(
            KeyUse(
                fingerprint=grant.key.fingerprint,
                comment=grant.key.comment,
                account=who.name,
                uid=who.uid,
                confined=bool(grant.command),
                place=grant.key.place,
            )
            for who, grant in host.key_grants
        ),
        halves=tuple(
            PrivateHalf(fingerprint=key.fingerprint, path=key.path, encrypted=key.encrypted, owner=homes.get(dirname(dirname(key.path))))
            for key in host.private_keys
            if key.fingerprint
        ),
    )


def linked_by_keys(summaries: Iterable[HostSummary]) -> set[str]:
    """Return the hosts of which one has a private key that opens an account of another."""
    summaries = tuple(summaries)
    opened: dict[str, set[str]] = {}
    stored: dict[str, set[str]] = {}
    for one in summaries:
        for use in one.uses:
            if not use.confined:
                opened.setdefault(use.fingerprint, set()).add(one.subject)
        for half in one.halves:
            stored.setdefault(half.fingerprint, set()).add(one.subject)
    both = (opened[fingerprint] | stored[fingerprint] for fingerprint in opened.keys() & stored.keys())
    return set().union(*(hosts for hosts in both if len(hosts) > 1))


def _members(host: "HostRights") -> Iterable[Member]:
    """Return the members of the policy's host lists that name a host."""
    members = [member for rule in host.facts.policy.rules for member in rule.hosts]
    members += [member for alias in host.facts.policy.aliases if alias.kind is AliasKind.HOST for member in alias.members]
    return [member for member in members if _names_a_host(host, member)]


def _names_a_host(host: "HostRights", member: Member) -> bool:
    alias = (AliasKind.HOST, member.value) in host.policy.aliases
    return not member.negated and not alias and member.kind in (MemberKind.NAME, MemberKind.WORD)
