"""What root runs by itself and others can write: programs, scripts, their interpreters, the folders where programs and libraries lie.

Knows what runs and who can write; a path whose state is not in evidence says nothing.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from fidelitas.facts import FileKind, FileState, HostFacts, JobKind, Place
from fidelitas.rights.linux.files import Writers, above, writers, writers_told
from fidelitas.rights.linux.population import Population

__all__ = ["Weak", "weak_places"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Weak:
    """A path that others can write and that root runs or loads something from.

    `path` is what root uses, `at` what can be written: the same, or above it.  `use` says how it is used, by the line at `place`.
    """

    path: str
    at: str
    use: str
    who: Writers
    told: str
    place: Place


def weak_places(facts: HostFacts, population: Population) -> Iterator[Weak]:
    """Yield each place once for each thing that uses it, in a fixed order."""
    states = facts.states
    seen: set[tuple[str, str]] = set()
    for path, use, place in _used_by_root(facts, population):
        for at in _ways(path, states):
            found = writers(states.get(at))
            if found and (at, path) not in seen:
                seen.add((at, path))
                yield Weak(path=path, at=at, use=use, who=found, told=writers_told(states.get(at), population), place=place)
                break


# How root comes by what a job names, by the kind of job.
_HOW = {
    JobKind.CRON: "root runs it by cron",
    JobKind.SCRIPT: "root runs it, as everything in its folder",
    JobKind.AT: "root runs it by at",
    JobKind.UNIT: "{} runs it as root",
    JobKind.UNIT_FILE: "{} runs it as root",
    JobKind.ENVIRONMENT: "{}, which runs as root, takes its variables from it",
}


def _ways(path: str, states: Mapping[str, FileState]) -> Iterator[str]:
    """Yield a path, where it leads, and every folder above both; of a path that is not there the nearest folder that is, too."""
    state = states.get(path)
    yield from dict.fromkeys((*above(path), *above(state.real if state and state.real else path)))


def _used_by_root(facts: HostFacts, population: Population) -> Iterator[tuple[str, str, Place]]:
    """Yield each path that root runs or loads, with how and where that is written."""
    roots = {who.name for who in population.identities if who.uid == 0} | {"root", "0", ""}
    states = facts.states
    scripts = facts.delegations.scripts
    for job in facts.delegations.jobs:
        if job.run_as not in roots:
            continue
        how = _HOW[job.kind].format(job.name)
        yield job.place.path, f"it says what root runs ({job.kind})", job.place
        for program in job.programs:
            yield program, how, job.place
            if program in scripts and scripts[program].startswith("/"):
                yield scripts[program], f"it is the interpreter of {program}: {how}", job.place
    for folder in facts.delegations.folders:
        state = states.get(folder.path)
        if folder.path.startswith("/") and state is not None and state.kind is FileKind.FOLDER:
            yield folder.path, folder.why, folder.place
    for library in facts.delegations.preloaded:
        yield library.path, library.why, library.place
    yield from _by_name(states, facts.subject)


# Files that root's programs read as instructions, wherever they are named.
_INSTRUCTIONS = {
    "/etc/ld.so.preload": "every program loads what it names",
    "/etc/ld.so.conf": "it says where libraries are loaded from",
    "/etc/crontab": "it says what root runs by cron",
    "/etc/profile": "root's shell runs it",
    "/etc/bash.bashrc": "root's shell runs it",
    "/root/.bashrc": "root's shell runs it",
    "/root/.profile": "root's shell runs it",
    "/root/.bash_profile": "root's shell runs it",
    "/root/.ssh/authorized_keys": "its keys are root's",
    "/etc/ssh/sshd_config": "it says who can log in as root",
    "/etc/doas.conf": "it says who may act as root",
    "/etc/pam.d/su": "it says who may become root",
    "/etc/pam.d/sudo": "it says what sudo asks",
    "/etc/passwd": "it says who is root",
    "/etc/shadow": "it holds root's password",
    "/etc/group": "it says who is in the administrators' group",
}


def _by_name(states: Mapping[str, FileState], subject: str) -> Iterator[tuple[str, str, Place]]:
    for path, use in _INSTRUCTIONS.items():
        state = states.get(path)
        if state is not None and state.kind is FileKind.FILE:
            yield path, use, Place(subject=subject, path=path)
