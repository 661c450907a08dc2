"""Whose a holder is, by the identity map: decided here for charters, reviews, reports and departures alike."""

from fidelitas.people.map import MappedPerson
from fidelitas.rights import Principal, PrincipalKind

__all__ = ["owns"]

_OWN = frozenset({PrincipalKind.ACCOUNT, PrincipalKind.ROLE})


def owns(person: MappedPerson, subject: str, holder: Principal) -> bool:
    """Return whether a holder on a subject is an account of a person: by any of its names, there or in the directory that it comes from.

    One of another host is named with it, ``account@host``; a role that is for some hosts also without them.
    """
    if holder.kind is PrincipalKind.ELSEWHERE:
        account, _, host = holder.name.rpartition("@")
        return any(person.owns(host, name) for name in (account, *holder.aliases))
    if holder.kind not in _OWN:
        return False
    short = holder.name.rpartition("@")[0] if holder.kind is PrincipalKind.ROLE else ""
    names = [name for name in (holder.name, short, *holder.aliases) if name]
    return any(person.owns(at, name) for at in {subject, holder.subject} for name in names)
