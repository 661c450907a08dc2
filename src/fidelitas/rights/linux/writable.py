"""Who decides what an account executes: what root, and every other account, runs, loads or obeys, and others can write.

Knows what runs, where instructions are, and who can write; a path whose state is not in evidence says nothing.
"""

from collections.abc import Iterator, Mapping
from posixpath import dirname

from msgspec import Struct

from fidelitas.facts import FileKind, FileState, HostFacts, Job, JobKind, Place
from fidelitas.rights.linux.files import NOBODY, Writers, above, writers, writers_told
from fidelitas.rights.linux.folder_readers import examined_by, is_read
from fidelitas.rights.linux.homes import home_files
from fidelitas.rights.linux.login_files import login_files
from fidelitas.rights.linux.obeyed import is_stock, obeyed_at
from fidelitas.rights.linux.policy_places import refuses
from fidelitas.rights.linux.population import Identity, Population

__all__ = ["Weak", "weak_places"]


class Weak(Struct, frozen=True, kw_only=True):
    """A path that others can write and that an account runs or loads something from; `account` is ``None`` for root.

    `path` is what is used, `at` what can be written: the same, or above it.  `use` says how it is used, by the line at `place`.
    """

    path: str
    at: str
    use: str
    who: Writers
    told: str
    place: Place
    account: Identity | None = None
    condition: str = ""

    @property
    def what(self) -> str:
        """What can be written, by whom, and how it is used, as a clause."""
        where = "" if self.at == self.path else f", in {self.path}," if self.at.startswith(self.path + "/") else f", above {self.path},"
        return f"{self.at}{where} {self.told}; {self.use}"


def weak_places(facts: HostFacts, population: Population) -> Iterator[Weak]:
    """Yield each place once for each thing that uses it, in a fixed order; of one place, what root does with it alone."""
    found = _Search(facts, population)
    yield from found.used()
    yield from found.obeyed()
    yield from found.in_homes()


class _Search:
    def __init__(self, facts: HostFacts, population: Population) -> None:
        self._facts = facts
        self._population = population
        self._states = facts.states
        self._seen: set[tuple[str, str, str | None]] = set()
        self._roots: set[str] = set()
        self._inside: dict[str, list[str]] = {}
        for path, state in self._states.items():
            if writers(state):
                self._inside.setdefault(dirname(path), []).append(path)

    def used(self) -> Iterator[Weak]:
        """What accounts run or read by name."""
        for account, path, use, place in _used(self._facts, self._population):
            if path.startswith("/dev/"):  # a device does not hold instructions
                continue
            for at in _ways(path, self._states):
                if who := self._others(at, account):
                    yield from self._weak(path, at, use, who, place, account)
                    break
            else:
                yield from self._in_folder(path, use, place, account)

    def _in_folder(self, path: str, use: str, place: Place, account: Identity | None) -> Iterator[Weak]:
        """Everything in a folder that is used, but what its reader skips."""
        state = self._states.get(path)
        if state is not None and state.kind is FileKind.FOLDER:
            for at in self._inside.get(state.real or path, ()):
                if (who := self._others(at, account)) and is_read(at, self._facts.system):
                    yield from self._weak(path, at, use, who, place, account)

    def obeyed(self) -> Iterator[Weak]:
        """What root obeys by where it is."""
        for path, state in self._states.items():
            if state.real is not None and state.real != path and state.kind is not FileKind.FOLDER:
                yield from self._linked(path, state)
            elif (who := writers(state) or _adders(state)) and path not in self._roots and not is_stock(path, state, self._population):
                folder = state.kind is FileKind.FOLDER
                if state.kind is FileKind.OTHER:  # of a socket that a group may use, the group itself says so
                    if not who.everyone:
                        continue
                    who = Writers(everyone=True)
                row = obeyed_at(path, folder=folder, sticky=folder and not writers(state))
                if row is not None and is_read(path, self._facts.system) and not refuses(path, self._facts):
                    yield from self._weak(row.path, path, row.why, who, self._place(path), None)

    def _linked(self, path: str, state: FileState) -> Iterator[Weak]:
        """A link that root obeys, to what others can write."""
        row = obeyed_at(path, folder=False)
        for at in above(state.real or path) if row is not None and state.kind is FileKind.FILE else ():
            if row is not None and (who := self._others(at, None)) and at not in self._roots:
                yield from self._weak(path, at, row.why, who, self._place(path), None)
                break

    def in_homes(self) -> Iterator[Weak]:
        """What the shells and programs of an account read in its home."""
        for who_reads, path, use in home_files(self._facts, self._population):
            account = None if who_reads.uid == 0 else who_reads
            if (who := self._others(path, account)) and path not in self._roots:
                yield from self._weak(path, path, use, who, self._place(path), account)

    def _others(self, at: str, account: Identity | None) -> Writers:
        """Return who besides root and the account itself can write a place; a group in which there is nobody else is the account."""
        state = self._states.get(at)
        found = writers(state)
        if state is not None and found and is_stock(at, state, self._population):
            return NOBODY
        if account is None or not found:
            return found
        alone = {gid for gid in found.gids if {who.uid for who in self._population.in_gid(gid)} <= {account.uid}}
        return Writers(uids=found.uids - {account.uid}, gids=found.gids - alone, everyone=found.everyone)

    def _weak(self, path: str, at: str, use: str, who: Writers, place: Place, account: Identity | None) -> Iterator[Weak]:
        key = (at, path, account.name if account is not None else None)
        if key in self._seen:
            return
        self._seen.add(key)
        if account is None:
            self._roots.add(at)
        state = self._states.get(at)
        told = writers_told(state, self._population) or f"lets everyone add files (mode {(state.mode or 0) if state else 0:04o})"
        reader = examined_by(at)
        condition = f"if {reader} takes it: it refuses files that are not root's alone" if reader else ""
        yield Weak(path=path, at=at, use=use, who=who, told=told, place=place, account=account, condition=condition)

    def _place(self, path: str) -> Place:
        return Place(subject=self._facts.subject, path=path)


def _adders(state: FileState) -> Writers:
    """Return who can add files to a sticky folder: they can replace nothing there."""
    sticky = state.kind is FileKind.FOLDER and state.mode is not None and state.mode & 0o1002 == 0o1002
    return Writers(everyone=True) if sticky else NOBODY


def _ways(path: str, states: Mapping[str, FileState]) -> Iterator[str]:
    """Yield a path, where it leads, and every folder above both; of a path that is not there the nearest folder that is, too."""
    state = states.get(path)
    yield from dict.fromkeys((*above(path), *above(state.real if state and state.real else path)))


def _used(facts: HostFacts, population: Population) -> Iterator[tuple[Identity | None, str, str, Place]]:
    """Yield each path that an account runs or loads by name, with how and where that is written; ``None`` is root."""
    roots = {who.name for who in population.identities if who.uid == 0} | {"root", "0", ""}
    by_name = population.by_name
    scripts = facts.delegations.scripts
    for job in facts.delegations.jobs:
        account = None if job.run_as in roots else by_name.get(job.run_as) or _by_number(job.run_as, population)
        if job.run_as not in roots and account is None:
            continue
        how = _how(job, "root" if account is None else account.name)
        if job.kind not in (JobKind.SCRIPT_CALL, JobKind.START_UP, JobKind.HOOK):
            yield account, job.place.path, f"it says what {'root' if account is None else account.name} runs ({job.kind})", job.place
        for program in job.programs:
            yield account, program, how, job.place
            if program in scripts and scripts[program].startswith("/"):
                yield account, scripts[program], f"it is the interpreter of {program}: {how}", job.place
    for folder in facts.delegations.folders:
        state = facts.states.get(folder.path)
        if folder.path.startswith("/") and state is not None and state.kind is FileKind.FOLDER:
            yield None, folder.path, folder.why, folder.place
    for library in facts.delegations.preloaded:
        yield None, library.path, library.why, library.place
    yield from login_files(facts, population)
    for who in population.effective:
        if who.account is not None and who.account.shell.startswith("/"):
            account = None if who.uid == 0 else who
            yield account, who.account.shell, f"it is the login shell of {who.name}", who.account.place


def _by_number(text: str, population: Population) -> Identity | None:
    return population.by_uid(int(text)) if text.isdecimal() and len(text) < 11 else None


def _how(job: Job, who: str) -> str:
    """Return how an account comes by what a job names, as a clause."""
    where = job.place.in_file()
    if job.how == "names":
        return f"{who} runs a program in it that takes names of files there for options ({where})"
    verb = "reads it as code" if job.how == "reads" else "runs it"
    return {
        JobKind.CRON: f"{who} {verb} by cron",
        JobKind.SCRIPT: f"{who} runs it, as everything in its folder",
        JobKind.AT: f"{who} {verb} by at",
        JobKind.UNIT: f"{job.name} {verb} as {who}",
        JobKind.UNIT_FILE: f"{job.name} {verb} as {who}",
        JobKind.ENVIRONMENT: f"{job.name}, which runs as {who}, takes its variables from it",
        JobKind.HOOK: f"{job.name} ({where})",
        JobKind.SCRIPT_CALL: f"{who} {verb}, by the script {where}",
        JobKind.START_UP: f"the shell of {who} {verb} ({where})",
    }[job.kind]
