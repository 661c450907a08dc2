"""The moments from which on something on a host is judged otherwise: dates of sudo rules, the end of accounts and of passwords."""

from collections.abc import Iterator
from datetime import datetime

from fidelitas.facts import HostFacts, Shadow

__all__ = ["Span", "ends_of", "span_around"]

# From one moment up to another, in seconds since 1970-01-01 UTC; ``None`` where it is open.
Span = tuple[float | None, float | None]
_DAY = 86400
_AFTER = 1e-6  # a rule is in force up to the moment that it names, and that one as well (sudoers(5), NOTAFTER)


def span_around(facts: HostFacts, now: datetime) -> Span:
    """Return from when to when, around a time, the same is in force by the dates that a host's policy and accounts name."""
    moments, at = list(_moments(facts)), now.timestamp()
    return max((one for one in moments if one <= at), default=None), min((one for one in moments if one > at), default=None)


def ends_of(shadow: Shadow) -> Iterator[float]:
    """Yield from when on an account is past its own date, and from when on its password is past its time of grace (shadow(5))."""
    if shadow.expiry is not None:
        yield float(shadow.expiry * _DAY)
    parts = (shadow.last_change, shadow.maximum_age, shadow.inactivity)
    if None not in parts:
        yield float((sum(part for part in parts if part is not None) + 1) * _DAY)


def _moments(facts: HostFacts) -> Iterator[float]:
    for rule in facts.policy.rules:
        if rule.options.not_before is not None:
            yield rule.options.not_before.timestamp()
        if rule.options.not_after is not None:
            yield rule.options.not_after.timestamp() + _AFTER
    for shadow in facts.shadows or ():
        yield from ends_of(shadow)
