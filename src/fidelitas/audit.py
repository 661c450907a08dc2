"""The whole flow, from evidence to findings: the map to read first.

    evidence ─ languages ─► facts ─ rights ─► holdings ─ checks ─► findings
                └──── group → map ────┘ └ join ┘

Evidence is read one subject at a time and let go.  Subjects that state the same are one group, which is judged once (`judging`);
directories come before what names their accounts.  What goes across subjects is joined at the end: keys from host to host, sockets into
database servers.  A question about one subject reads that subject, and those that its answer depends on.

Pure but for the evidence that it asks for.  Reaching subjects is the business of `sources`, keeping evidence that of `ledger`, showing an
audit that of `reports`.
"""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from functools import cached_property
from typing import Protocol

from fidelitas.checks import estate_findings
from fidelitas.conclusions import AnswerStore, Recollection, RememberedHost, keep_directory, kept_directory
from fidelitas.errors import ReadError
from fidelitas.facts import Gap, GapKind, Place
from fidelitas.findings import Finding
from fidelitas.judging import Context, HostGroups, judge_host
from fidelitas.languages.evidence import HostEvidence, NothingRead, lost_evidence
from fidelitas.languages.linux.access import private_key_fingerprints
from fidelitas.languages.linux.host import read_host
from fidelitas.memberships import Edits
from fidelitas.platforms import PLATFORMS, Platform, findings_on
from fidelitas.rights import (
    DatabaseServer,
    DirectoryRights,
    HostRights,
    SubjectRights,
    Takings,
    UnreadSubject,
    directory_rights_of,
    rights_of,
)
from fidelitas.rights.estate.directory_logins import directory_links
from fidelitas.rights.estate.keys import across_hosts
from fidelitas.rights.estate.renaming import Renaming
from fidelitas.rights.estate.sockets import is_host_of, socket_links
from fidelitas.text import clipped, escape_control
from fidelitas.trouble import internal_error

__all__ = [
    "Altered",
    "Audit",
    "Conclude",
    "Each",
    "EvidenceSource",
    "InMemory",
    "audit",
    "concluded_of",
    "context_of",
    "judged",
    "rights_in",
    "takings_of",
]


# Returns what is to be kept of hosts by their names, in a process that is forked for it.
Conclude = Callable[[Sequence[str]], dict[bytes, bytes]]
# How that is applied to lists of hosts: in processes that are forked for it, or elsewhere, where what is concluded is kept at once.
Each = Callable[[Conclude, Sequence[Sequence[str]]], Iterable[dict[bytes, bytes]]]
# Fewer hosts are judged before other processes have begun; more shares than cores, so that all end together.
_WORTH_FORKING, _SHARES, _HOSTS_OF_A_SHARE = 24, 16, 50


class EvidenceSource(Protocol):
    """Evidence that is read when it is asked for, one subject at a time: a ledger, or what was just collected."""

    def subjects(self) -> Mapping[str, tuple[str, str]]:
        """Return each subject's platform and what it calls itself, by name."""

    def evidence(self, subject: str, /) -> HostEvidence:
        """Return the evidence of a subject."""

    def stored_answers(self) -> AnswerStore | None:
        """Return what was concluded from it before, where that is kept."""


class InMemory:
    """Evidence that is at hand."""

    def __init__(self, evidence: Iterable[HostEvidence]) -> None:
        self._known = {one.subject: one for one in evidence}

    def subjects(self) -> Mapping[str, tuple[str, str]]:
        """Return each subject's platform and what it calls itself, by name."""
        return {name: (one.platform, one.host_name) for name, one in self._known.items()}

    def evidence(self, subject: str) -> HostEvidence:
        """Return the evidence of a subject."""
        return self._known[subject]

    def stored_answers(self) -> None:
        """Return that nothing is kept."""


class Altered:
    """Evidence as it would be with each subject's changed."""

    def __init__(self, source: EvidenceSource, change: Callable[[HostEvidence], HostEvidence]) -> None:
        self._source, self._change = source, change

    def subjects(self) -> Mapping[str, tuple[str, str]]:
        """Return each subject's platform and what it calls itself, by name."""
        return self._source.subjects()

    def evidence(self, subject: str) -> HostEvidence:
        """Return the evidence of a subject, changed."""
        return self._change(self._source.evidence(subject))

    def stored_answers(self) -> None:
        """Return that nothing is kept."""


class Audit:
    """What evidence amounts to: subjects by name, findings worst first."""

    def __init__(
        self,
        subjects: Iterable[SubjectRights],
        platforms: Mapping[str, Platform] = PLATFORMS,
        beside: Iterable[HostRights] = (),
        recollection: Recollection | None = None,
    ) -> None:
        self._platforms, self._recollection = platforms, recollection
        self.subjects = tuple(sorted(subjects, key=lambda one: one.subject))
        self._first: dict[SubjectRights, Renaming[list[Finding]]] = {}  # the findings on those that others are told from
        self._beside = tuple(beside)  # hosts that were not asked about, and count for what several hosts show together

    @property
    def hosts(self) -> tuple[HostRights, ...]:
        """The Linux hosts, by name."""
        return tuple(one for one in self.subjects if isinstance(one, HostRights))

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """Everything risky or unexpected, worked out when it is asked for; of a host told from another its twin's, under its own name."""
        found = [finding for one in self.subjects for finding in self.findings_on(one)]
        found += self.findings_across
        self.keep()
        return tuple(sorted(found, key=lambda finding: (finding.severity, finding.subject, finding.check, finding.places[0])))

    def findings_on(self, one: SubjectRights) -> list[Finding]:
        """Return the findings on a subject by itself."""
        like = one.like
        if like not in self._first:
            self._first[like] = Renaming(self._found_on(like), like.subject)
        return self._first[like](one.subject)

    def _found_on(self, one: SubjectRights) -> list[Finding]:
        """Return the findings on a subject: those that are kept, or else what its checks find."""
        memory = self._recollection
        kept = memory.findings_of(one) if memory is not None and isinstance(one, RememberedHost) else None
        if kept is not None:
            return kept
        found = findings_on(one, self._platforms)
        if memory is not None and isinstance(one, HostRights):
            memory.note_findings(one, found)
        return found

    @cached_property
    def findings_across(self) -> list[Finding]:
        """The findings that several hosts show together."""
        names = {one.subject for one in self.subjects}
        try:
            hosts = sorted((*self.hosts, *self._beside), key=lambda host: host.subject)
            every = estate_findings(host.summary for host in hosts)
        except Exception as error:  # noqa: BLE001
            _trouble(self.hosts, error, "checking across hosts", "what several hosts show together")
            return []
        return [finding for finding in every if finding.subject in names]

    def keep(self) -> None:
        """Keep what was concluded since it was kept last."""
        if self._recollection is not None:
            self._recollection.flush()

    @property
    def gaps(self) -> tuple[Gap, ...]:
        """Everything that could not be read."""
        return tuple(gap for one in self.subjects for gap in one.gaps)


def audit(
    evidence: EvidenceSource | Iterable[HostEvidence],
    subjects: Collection[str] | None = None,
    *,
    findings: bool = True,
    platforms: Mapping[str, Platform] = PLATFORMS,
    each: Each | None = None,
    edits: Edits | None = None,
) -> Audit:
    """Return the audit of some subjects, or all; without `findings` only what their holdings depend on is read.

    `each` applies a function to all of some lists in processes that are forked for it; by it many hosts are judged apart from each other
    where the source keeps conclusions.  With `edits`, even none, the answer is what it would be with these memberships changed, and nothing
    that was concluded before is used.
    """
    source = InMemory(evidence) if isinstance(evidence, Iterable) else evidence
    return _Reading(source, platforms, edits).audit(subjects, findings=findings, each=each)


def rights_in(evidence: HostEvidence, takings: Takings | None = None) -> HostRights:
    """Return the rights on the host that the evidence is of; `takings` is what hosts take of directories."""
    return rights_of(*(takings or Takings()).state(read_host(evidence)))


def takings_of(source: EvidenceSource) -> Takings:
    """Return what hosts take of the directories in evidence."""
    return context_of(source).takings


def judged(evidence: Iterable[HostEvidence], context: Context | None = None) -> list[SubjectRights]:
    """Return the rights on each of some hosts, in their order, with what leads from one to the other."""
    context, judge = context or Context(), HostGroups().judge
    return _joined([_guarded(one, judge, context) for one in evidence])


def context_of(source: EvidenceSource) -> Context:
    """Return what the directories in evidence give to hosts, as an audit of them judges it."""
    return _Reading(source, PLATFORMS, None).directories()


def concluded_of(source: EvidenceSource, context: Context, names: Sequence[str]) -> dict[bytes, bytes]:
    """Return what is to be kept of some hosts, as an audit of all would work it out by the directories of the `context`."""
    reading = _Reading(source, PLATFORMS, None)
    reading.remember(context)
    return reading.concluded(names)


class _Reading:
    """One pass over evidence: what is read, in which order."""

    def __init__(self, source: EvidenceSource, platforms: Mapping[str, Platform], edits: Edits | None) -> None:
        self._source, self._edits = source, edits
        self._platforms = platforms
        self._heads = source.subjects()
        self._known: dict[str, SubjectRights] = {}
        self._groups = HostGroups()
        self._context = Context(edits=edits)
        self._memory: Recollection | None = None  # what is kept depends on the directories, which are judged first

    def audit(self, wanted: Collection[str] | None, *, findings: bool, each: Each | None = None) -> Audit:
        chosen = self._heads if wanted is None else set(wanted)
        names = [name for name in self._heads if name in chosen]
        if any(self._needs_directories(name) for name in names):
            self.directories()
        self._judge(name for name in names if not self._needs_directories(name))
        self.remember(self._directories_known())
        if each is not None:
            self._judge_apart(names, each)
        self._judge(names)
        if wanted is not None:
            self._judge(self._depended_on(findings=findings))
        every = _joined(list(self._known.values()))
        asked = set(names)
        beside = [one for one in every if one.subject not in asked and isinstance(one, HostRights)]
        found = Audit((one for one in every if one.subject in asked), self._platforms, beside, self._memory)
        found.keep()
        return found

    def directories(self) -> Context:
        """Judge the directories, and return what they give to hosts."""
        for name in self._heads:
            if self._heads[name][0] == DirectoryRights.platform and name not in self._known:
                self._known[name] = self._recalled_directory(name) or self._judged_first(name)
        return self._directories_known()

    def _recalled_directory(self, name: str) -> DirectoryRights | None:
        """Return the rights in a directory by what is kept of its evidence; nothing where that is to be read."""
        facts = kept_directory(self._answers, name) if self._answers is not None else None
        with suppress(Exception):  # the evidence itself says what is wrong with it
            if facts is not None:
                rights = directory_rights_of(facts)
                _ = rights.gaps
                rights.attempt()
                return rights
        return None

    def _directories_known(self) -> Context:
        return Context([one for one in self._known.values() if isinstance(one, DirectoryRights)], self._edits)

    def remember(self, context: Context) -> None:
        """Judge by the directories of a context from now on, and recall what is kept of that."""
        self._context = context
        self._memory = None if self._answers is None else Recollection(self._answers, context, self._judged_now)

    @cached_property
    def _answers(self) -> AnswerStore | None:
        """What was concluded before, where that is asked."""
        return self._source.stored_answers() if self._edits is None else None

    def _needs_directories(self, name: str) -> bool:
        row = self._platforms.get(self._heads[name][0])
        return row is not None and row.needs_directories

    def _depended_on(self, *, findings: bool) -> list[str]:
        """Return the hosts and directories, beyond what was asked about, that what is known depends on."""
        servers = [one for one in self._known.values() if isinstance(one, DatabaseServer)]
        hosts, directories = (
            [name for name in self._heads if self._heads[name][0] == kind.platform] for kind in (HostRights, DirectoryRights)
        )
        hosts = [name for name in hosts if name not in self._known]
        asked = directories if any(one.asks_directories for one in servers) else []
        if findings or self._is_opened_from(hosts):
            return [*hosts, *asked]
        return [*(name for name in hosts if any(is_host_of(one.host_name, (name, self._heads[name][1])) for one in servers)), *asked]

    def _is_opened_from(self, hosts: Iterable[str]) -> bool:
        """Return whether a private key of some host opens an account of one that is known."""
        known = (one for one in self._known.values() if isinstance(one, HostRights))
        opened = {use.fingerprint for one in known for use in one.summary.uses}
        return bool(opened) and any(opened & self._private_keys(name) for name in self._recalled(hosts))

    def _private_keys(self, name: str) -> frozenset[str]:
        """Return the fingerprints of the private keys on a host."""
        remembered = self._memory.recall([name]).get(name) if self._memory is not None else None
        if remembered is not None:
            return frozenset(half.fingerprint for half in remembered.conclusion.summary.halves)
        return private_key_fingerprints(self._source.evidence(name))

    def _recalled(self, names: Iterable[str]) -> list[str]:
        """Recall what is kept of some hosts, at once; return their names."""
        wanted = list(names)
        if self._memory is not None:
            self._memory.recall([name for name in wanted if self._is_kept(name)])
        return wanted

    def _is_kept(self, name: str) -> bool:
        row = self._platforms.get(self._heads[name][0])
        return row is not None and row.grouped

    def _judge(self, names: Iterable[str]) -> None:
        for name in self._recalled(names):
            if name not in self._known:
                self._known[name] = self._remembered(name) or self._judged_first(name)
                if self._memory is not None:
                    self._memory.flush_much()

    def _judge_apart(self, names: Iterable[str], each: Each) -> None:
        """Have hosts of which nothing is kept judged in several processes: what those conclude is learned, and recalled like the rest."""
        if self._memory is None:
            return
        unknown = [name for name in self._recalled(names) if self._is_kept(name) and not self._memory.recall([name])]
        if len(unknown) >= _WORTH_FORKING:
            with _forked(self), suppress(ReadError):  # processes that cannot be had, or are ended, cost time and nothing else
                for kept in each(_conclude, self._memory.shares(unknown, max(_SHARES, len(unknown) // _HOSTS_OF_A_SHARE))):
                    self._memory.learn(kept)
                    self._memory.flush_much()

    def concluded(self, names: Sequence[str]) -> dict[bytes, bytes]:
        """Return what is to be kept of some hosts: their findings too, whatever is asked now, since a host is judged for them again."""
        if self._memory is None:
            return {}
        self._groups = HostGroups()  # what is judged here is let go, but for what is kept of it
        known = self._memory.recall(names)
        judged = [self._judged_first(name) for name in names if name not in known]
        for first in {id(one.like): one.like for one in judged if isinstance(one, HostRights)}.values():
            self._memory.note_findings(first, findings_on(first, self._platforms))
        self._groups = HostGroups()
        return self._memory.taken()

    def _remembered(self, name: str) -> SubjectRights | None:
        return self._memory.recall([name]).get(name) if self._memory is not None and self._is_kept(name) else None

    def _judged_first(self, name: str) -> SubjectRights:
        rights = _guarded(self._source.evidence(name), self._judged, self._context)
        if self._memory is not None and isinstance(rights, HostRights):
            try:
                self._memory.note(rights)
            except Exception as error:  # noqa: BLE001 what cannot be worked out to be kept is a gap where it is asked for
                _trouble([rights], error, f"summing up {name}", "what other hosts have to do with it")
        if self._answers is not None and isinstance(rights, DirectoryRights) and not rights.troubles:
            keep_directory(self._answers, rights.facts)
        return rights

    def _judged_now(self, name: str) -> HostRights:
        """Return the rights on a host that was remembered.

        Where its evidence is lost since then, or judging it fails unexpectedly, nothing is known of it but the gap that says so.
        """
        evidence = self._source.evidence(name)
        lost = lost_evidence(evidence)
        rights = None if lost is not None else _guarded(evidence, self._judged, self._context, whole=False)
        if isinstance(rights, HostRights):
            return rights
        gaps = [lost] if lost is not None else rights.gaps if rights is not None else []
        if self._memory is not None:
            troubles = self._memory.recall([name])[name].troubles
            troubles.extend(gap for gap in gaps if gap not in troubles)  # a host of many can be judged more than once
        return judge_host(NothingRead(name, evidence.taken), Context())

    def _judged(self, evidence: HostEvidence, context: Context) -> SubjectRights:
        row = self._platforms.get(evidence.platform)
        if row is None:
            return UnreadSubject(evidence.subject, evidence.taken, (_of_no_platform(evidence),))
        return (self._groups.judge if row.grouped else row.judge)(evidence, context)


# What processes that are forked in the course of a reading find it by: evidence and rights are not to be carried to them.
_READINGS: list[_Reading] = []


def _conclude(names: Sequence[str]) -> dict[bytes, bytes]:
    return _READINGS[-1].concluded(names)


@contextmanager
def _forked(reading: _Reading) -> Iterator[None]:
    _READINGS.append(reading)
    try:
        yield
    finally:
        _READINGS.pop()


def _guarded(
    evidence: HostEvidence, judge: Callable[[HostEvidence, Context], SubjectRights], context: Context, *, whole: bool = True
) -> SubjectRights:
    """Return the rights on a subject; of one that fails unexpectedly, now or when its holdings are worked out, a gap.

    Those of one of which they were worked out before need not be tried: unless it is `whole`, who holds what waits until it is asked for.
    """
    gaps: Sequence[Gap] = ()
    try:
        lost = lost_evidence(evidence)
        if lost is not None:
            return UnreadSubject(evidence.subject, evidence.taken, (lost,))
        rights = judge(evidence, context)
        gaps = rights.gaps
        if whole:
            rights.attempt()
    except Exception as error:  # noqa: BLE001 one subject costs only itself
        name = evidence.subject
        return UnreadSubject(name, evidence.taken, (*gaps, internal_error(error, _place(name), f"reading {name}", "everything about it")))
    return rights


def _joined(subjects: Sequence[SubjectRights]) -> list[SubjectRights]:
    """Return the subjects with what leads into each from others: keys from host to host, sockets of their hosts into servers."""
    hosts = [one for one in subjects if isinstance(one, HostRights)]
    into: dict[str, SubjectRights] = {}
    try:
        into |= {name: host.joined_with(holdings) for name, (host, holdings) in across_hosts(hosts).items()}
    except Exception as error:  # noqa: BLE001
        _trouble(hosts, error, "following keys between hosts", "which keys of other hosts open it")
    directories = [one for one in subjects if isinstance(one, DirectoryRights)]
    for server in (one for one in subjects if isinstance(one, DatabaseServer)):
        try:
            links = (*socket_links(server, hosts), *directory_links(server, directories))
            into[server.subject] = server.joined_with(links) if links else server
        except Exception as error:  # noqa: BLE001
            _trouble(
                [server], error, "following sockets from hosts and logins of directories into it", "who becomes what there by way of them"
            )
    return [into.get(one.subject, one) for one in subjects]


def _trouble(subjects: Iterable[SubjectRights], error: Exception, doing: str, weakens: str) -> None:
    for one in subjects:
        one.troubles.append(internal_error(error, _place(one.subject), doing, weakens))


def _place(subject: str) -> Place:
    return Place(subject=subject, path="evidence")


def _of_no_platform(evidence: HostEvidence) -> Gap:
    """Return the gap of evidence that was collected of something that this version does not know."""
    why = f'it is of the platform "{clipped(escape_control(evidence.platform), 40)}", which this version does not know'
    place = _place(evidence.subject)
    return Gap(what="evidence", why=why, weakens="everything about it", place=place, kind=GapKind.LOST, fatal=True)
