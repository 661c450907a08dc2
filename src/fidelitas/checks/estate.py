"""Checks across the hosts of the estate: what no single host can tell."""

from collections.abc import Callable, Iterable, Iterator, Sequence

from fidelitas.checks.check import AnyCheck, Found, title_and_reason
from fidelitas.findings import Finding, Severity
from fidelitas.patterns import wildcard_matches
from fidelitas.rights.linux.summary import HostSummary, KeyUse, PrivateHalf

__all__ = ["ESTATE_CHECKS", "EstateCheck"]


class EstateCheck(AnyCheck, frozen=True, kw_only=True):
    """A check across all hosts in evidence, by what is to be known of each."""

    run: Callable[[Sequence[HostSummary]], Iterator[tuple[str, Found]]]

    def findings(self, hosts: Sequence[HostSummary]) -> Iterator[Finding]:
        """Yield the findings on all hosts."""
        return (self.finding(subject, found) for subject, found in self.run(hosts))


_Estate = Callable[[Sequence[HostSummary]], Iterator[tuple[str, Found]]]


def estate_check(name: str, severity: Severity, *, advice: str) -> Callable[[_Estate], EstateCheck]:
    """Return the like of `check` for a generator over all hosts."""

    def decorate(run: _Estate) -> EstateCheck:
        title, why = title_and_reason(run)
        return EstateCheck(name=name, severity=severity, advice=advice, title=title, why=why, run=run)

    return decorate


def _names(host: HostSummary) -> set[str]:
    """Return what a host may be called in a policy: its own name and the subject's, each also up to the first dot."""
    full = {host.subject.lower(), host.host_name.lower()}
    return full | {name.partition(".")[0] for name in full}


@estate_check("sudo.unknown-host", Severity.INFO, advice="Remove the host from the rule, or survey it.")
def unknown_host(hosts: Sequence[HostSummary]) -> Iterator[tuple[str, Found]]:
    """A rule is for a host that is not in the ledger.

    Either the host is gone, and the next host of that name inherits the rule; or it exists and was not surveyed.
    """
    names = {name for host in hosts for name in _names(host)}
    known: dict[str, bool] = {}
    for host in hosts:
        for value, place in host.hosts_named:
            if value not in known:
                known[value] = any(wildcard_matches(value.lower(), name) for name in names)
            if not known[value]:
                yield host.subject, Found(about=value, message=f'no host in the ledger is called "{value}"', places=(place,))


@estate_check("login.shared-key", Severity.LOW, advice="Give each person their own key for their own account.")
def shared_key(hosts: Sequence[HostSummary]) -> Iterator[tuple[str, Found]]:
    """One key opens several accounts, some of them root.

    The logs do not show which person used it, and anyone who controls the host where the private key is stored reaches all the others.
    """
    opened: dict[str, list[tuple[str, KeyUse]]] = {}
    stored: dict[str, list[tuple[str, PrivateHalf]]] = {}
    for host in hosts:
        for use in host.uses:
            opened.setdefault(use.fingerprint, []).append((host.subject, use))
        for half in host.halves:
            stored.setdefault(half.fingerprint, []).append((host.subject, half))
    for fingerprint, uses in sorted(opened.items()):
        accounts = list(dict.fromkeys((subject, use.account) for subject, use in uses))
        roots = any(use.uid == 0 and not use.confined for _, use in uses)
        names = {name for _, name in accounts}
        private = [(subject, half) for subject, half in stored.get(fingerprint, ()) if _leads_on(subject, half, uses)]
        if len(names) < 2 and not private:
            continue  # one person's key on all of that person's accounts
        subject, first = uses[0]
        comment = f" ({first.comment})" if first.comment else ""
        where = ", ".join(f"{name} on {at}" for at, name in accounts[:6]) + (" and more" if len(accounts) > 6 else "")
        message = f"key {fingerprint}{comment} opens {where}"
        for at, half in private[:3]:
            message += f"; its private key is stored on {at} in {half.path}{'' if half.encrypted else ', without a passphrase'}"
        severity = Severity.HIGH if roots and private else Severity.MEDIUM if roots else None
        places = tuple(dict.fromkeys(use.place for _, use in uses))
        yield subject, Found(about=fingerprint, message=message, places=places, severity=severity)


def _leads_on(subject: str, half: PrivateHalf, uses: Iterable[tuple[str, KeyUse]]) -> bool:
    """Return whether a private half leads to another host, or to another account than the one in whose home it is stored."""
    return any(other != subject or half.owner is None or use.account != half.owner for other, use in uses)


ESTATE_CHECKS: tuple[EstateCheck, ...] = (unknown_host, shared_key)
