"""The whole flow, from evidence to findings: the map to read first.

    evidence ─ languages ─► facts ─ rights ─► holdings ─ checks ─► findings

Pure: evidence in, audit out.  Reaching hosts is the business of `sources`, keeping evidence that of `ledger`, showing an audit that of
`reports`.
"""

from collections.abc import Hashable, Iterable, Mapping, Sequence
from functools import cached_property

from fidelitas.checks import estate_findings, findings_of
from fidelitas.facts import Directory, Gap, Place
from fidelitas.findings import Finding
from fidelitas.languages.linux.content_digest import LIVE, content_digest
from fidelitas.languages.linux.host import HostEvidence, lost_evidence, read_host
from fidelitas.languages.linux.running import read_processes
from fidelitas.memberships import Memberships, with_memberships
from fidelitas.platforms import PLATFORMS, Judge, Platform, server_findings
from fidelitas.rights import (
    DirectoryRights,
    HostRights,
    ServerRights,
    SubjectRights,
    UnreadServer,
    for_hosts,
    rights_of,
    unread_host,
)
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.estate.keys import across_hosts
from fidelitas.rights.estate.overlay import HostOverlay, OwnDetails, host_specific_key
from fidelitas.rights.estate.sockets import join_sockets
from fidelitas.text import clipped, escape_control
from fidelitas.trouble import internal_error

__all__ = ["Audit", "audit", "rights_in", "rights_of_estate"]


class Audit:
    """What an estate's evidence amounts to: hosts, and servers and directories, by name, findings worst first."""

    def __init__(
        self, hosts: Iterable[HostRights], servers: Iterable[ServerRights] = (), platforms: Mapping[str, Platform] = PLATFORMS
    ) -> None:
        self._platforms = platforms
        self.hosts = tuple(sorted(hosts, key=lambda host: host.subject))
        self.servers = tuple(sorted(servers, key=lambda server: server.subject))

    @property
    def subjects(self) -> tuple[SubjectRights, ...]:
        """Hosts, servers and directories, by name."""
        return tuple(sorted((*self.hosts, *self.servers), key=lambda one: one.subject))

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """Everything risky or unexpected, worked out when it is asked for; of a host told from another its twin's, under its own name."""
        told: dict[HostRights, list[Finding]] = {}
        for host in self.hosts:
            if host.like not in told:
                told[host.like] = findings_of(host.like)
        found = [finding for host in self.hosts for finding in host.here(told[host.like])]
        try:
            found += estate_findings(self.hosts)
        except Exception as error:  # noqa: BLE001
            for host in self.hosts:
                host.troubles.append(
                    internal_error(error, _place(host.subject), "checking across hosts", "what several hosts show together")
                )
        found += [finding for server in self.servers for finding in server_findings(server, self._platforms)]
        return tuple(sorted(found, key=lambda finding: (finding.severity, finding.subject, finding.check, finding.places[0])))

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read."""
        return tuple(gap for one in self.subjects for gap in one.gaps)


def rights_in(evidence: HostEvidence, memberships: Memberships | None = None) -> HostRights:
    """Return the rights on the host that the evidence is of; with `memberships` as they would be after that change."""
    facts = read_host(evidence)
    return rights_of(with_memberships(facts, memberships.changes(facts)) if memberships else facts)


def rights_of_estate(evidence: Iterable[HostEvidence], directory: Directory | None = None) -> list[HostRights]:
    """Return the rights on each host, in the order of the evidence; hosts that state the same are worked out once.

    `directory` is where the hosts whose nsswitch.conf(5) says so have further accounts and groups from.
    """
    nesting = None if directory is None else Nesting(directory)
    known: dict[bytes, dict[Hashable, HostRights]] = {}
    hosts: list[HostRights] = []
    for bundle in evidence:
        try:
            hosts.append(_rights_among(bundle, known, nesting))
        except Exception as error:  # noqa: BLE001 one subject costs only itself
            hosts.append(unread_host(bundle.subject, bundle.taken, _lost(bundle.subject, error)))
    try:
        elsewhere = across_hosts(hosts)
    except Exception as error:  # noqa: BLE001
        for host in hosts:
            host.troubles.append(
                internal_error(error, _place(host.subject), "following keys between hosts", "which keys of other hosts open it")
            )
        return hosts
    for host in hosts:
        host.from_elsewhere = elsewhere.get(host.subject, ())
    return hosts


def _rights_among(bundle: HostEvidence, known: dict[bytes, dict[Hashable, HostRights]], nesting: Nesting | None) -> HostRights:
    """Return the rights on a host, from those of another that states the same where there is one."""
    lost = lost_evidence(bundle)
    if lost is not None:
        return unread_host(bundle.subject, bundle.taken, lost)
    alike = known.setdefault(content_digest(bundle), {})
    own, one = _own(bundle), next(iter(alike.values()), None)
    key = host_specific_key(one.facts, one.population, own) if one is not None else None
    first = alike.get(key) if key is not None else None
    if first is not None:
        return HostOverlay(first, own)
    rights = rights_of(read_host(bundle), nesting)
    alike[key or host_specific_key(rights.facts, rights.population, own) or bundle.subject] = rights
    return rights


def _place(subject: str) -> Place:
    return Place(subject=subject, path="evidence")


def _lost(subject: str, error: Exception) -> Gap:
    return internal_error(error, _place(subject), f"reading {subject}", "everything about it")


def _server(evidence: HostEvidence, judge: Judge, directories: Sequence[DirectoryRights]) -> ServerRights:
    """Return the rights on a server or machine; of one that fails unexpectedly a gap."""
    try:
        return judge(evidence, directories)
    except Exception as error:  # noqa: BLE001 one subject costs only itself
        return UnreadServer(evidence.subject, evidence.taken, (_lost(evidence.subject, error),))


def _of_no_platform(evidence: HostEvidence) -> Gap:
    """Return the gap of evidence that was collected of something that this version does not know."""
    why = f'it is of the platform "{clipped(escape_control(evidence.platform), 40)}", which this version does not know'
    return Gap(what="evidence", why=why, weakens="everything about it", place=_place(evidence.subject), fatal=True)


def _held(server: ServerRights) -> ServerRights:
    """Return the rights on a server once its holdings are worked out; of one where that fails a gap."""
    try:
        server.holdings  # noqa: B018 for what it may raise
    except Exception as error:  # noqa: BLE001
        return UnreadServer(server.subject, server.taken, (*server.gaps, _lost(server.subject, error)))
    return server


def _own(evidence: HostEvidence) -> OwnDetails:
    listings = {name: content for name, content in evidence.listings.items() if name in LIVE}
    return OwnDetails(
        subject=evidence.subject,
        host_name=evidence.host_name,
        taken=evidence.taken,
        addresses=None if evidence.addresses is None else tuple(evidence.addresses),
        processes=lambda: read_processes(listings),
    )


def audit(evidence: Iterable[HostEvidence], platforms: Mapping[str, Platform] = PLATFORMS) -> Audit:
    """Return the audit of the hosts and servers that the evidence is of."""
    hosts: list[HostEvidence] = []
    first: list[tuple[HostEvidence, Judge]] = []
    later: list[tuple[HostEvidence, Judge]] = []
    servers: list[ServerRights] = []
    for one in evidence:
        platform = platforms.get(one.platform)
        if platform is None:
            servers.append(UnreadServer(one.subject, one.taken, (_of_no_platform(one),)))
        elif platform.rights is None:
            hosts.append(one)
        else:
            (later if platform.needs_directories else first).append((one, platform.rights))
    servers += [_server(one, judge, ()) for one, judge in first]
    # A host names no directory in a way that can be relied on: with one in evidence it is that one, with several nobody knows which.
    directories = [one for one in servers if isinstance(one, DirectoryRights)]
    servers += [_server(one, judge, directories) for one, judge in later]
    rights = rights_of_estate(hosts, for_hosts(directories[0]) if len(directories) == 1 else None)
    try:
        join_sockets(servers, rights)
    except Exception as error:  # noqa: BLE001
        for server in servers:
            doing = "following sockets from hosts into it"
            server.troubles.append(internal_error(error, _place(server.subject), doing, "who becomes what there by way of its host"))
    return Audit(rights, map(_held, servers), platforms)
