"""Checks of programs that run with more than their caller's rights: setuid and setgid files, file capabilities."""

import re
import shlex
from collections.abc import Iterator, Mapping
from posixpath import dirname

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import FileState, Place
from fidelitas.findings import Severity
from fidelitas.rights.linux.files import above, writers, writers_told
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.obeyed import is_stock
from fidelitas.rights.linux.programs import Origin, PrivilegedProgram, privileged_programs, who_runs
from fidelitas.rights.linux.reach import reachers

__all__ = ["CHECKS"]


def _in_force(rights: HostRights) -> Iterator[PrivilegedProgram]:
    return (program for program in privileged_programs(rights.facts) if program.in_force)


def _bits(program: PrivilegedProgram) -> str:
    """Return what a file has, in words: "is setuid root, mode 4755", "has cap_net_raw"."""
    clauses = []
    one = program.set_id
    if one is not None and one.mode & 0o4000:
        clauses.append(f"is setuid {'root' if one.uid == 0 else f'uid {one.uid}'}, mode {one.mode:04o}")
    elif one is not None:
        clauses.append(f"is setgid gid {one.gid}, mode {one.mode:04o}")
    if program.capable is not None:
        clauses.append(
            "has " + (", ".join(sorted(program.capable.permitted | program.capable.inheritable)) or "an empty set of capabilities")
        )
    return " and ".join(clauses)


def _found(rights: HostRights, program: PrivilegedProgram, message: str, severity: Severity | None = None) -> Found:
    path = shlex.quote(program.path)
    take_away = [f"chmod u-s,g-s {path}"] if program.set_id else []
    take_away += [f"setcap -r {path}"] if program.capable else []
    place = Place(subject=rights.subject, path=program.path)
    return Found(about=program.path, message=message, places=(place,), severity=severity, safer="; ".join(take_away))


@check(
    "programs.root-equivalent",
    Severity.CRITICAL,
    advice="Remove the bit or the capability; use sudo to give the rights that are needed.",
)
def root_equivalent(rights: HostRights) -> Iterator[Found]:
    """A shell, interpreter, editor or similar program runs as root for anyone who starts it.

    Such a program does what its user says. With the setuid bit or a root-equivalent capability it does so as root. A copy under another
    name is a common back door.
    """
    for program in _in_force(rights):
        if program.power is not None and program.as_root:
            who = who_runs(program, _states(rights), rights.population)
            severity = None if who.everyone else Severity.HIGH if who else Severity.LOW
            more = "" if who else "; no account but root can run it"
            yield _found(rights, program, f"{program.named} {_bits(program)} and {program.power.reason}{more}", severity)
        elif (program.power or program.lesser) and any(one.reads or one.hides for one in program.capabilities):
            what = next(one.reason for one in program.capabilities if one.reads or one.hides)
            message = f"{program.named} {_bits(program)}: it {what}, for any account that can run it"
            yield _found(rights, program, message, Severity.HIGH if who_runs(program, _states(rights), rights.population) else Severity.LOW)
        elif program.power is not None and program.set_id is not None and program.set_id.mode & 0o4000:
            yield _found(rights, program, f"{program.path} {_bits(program)} and {program.power.reason}", Severity.HIGH)


@check("programs.modified", Severity.HIGH, advice="Find out who changed the file; reinstall the package.")
def modified(rights: HostRights) -> Iterator[Found]:
    """A program that runs with more rights than its caller differs from its package.

    Its content does not match the digest in the package database. Someone repaired it by hand, or replaced it.
    """
    for program in _in_force(rights):
        if program.origin is Origin.CHANGED and program.package is not None:
            yield _found(rights, program, f"{program.path}, which {_bits(program)}, differs from package {program.package.package}")


@check("programs.unpackaged", Severity.MEDIUM, advice="Find out who installed it and why; remove it, or package it.")
def unpackaged(rights: HostRights) -> Iterator[Found]:
    """A program that runs as root does not belong to any package.

    Nobody updates it and nothing documents its purpose. Any vulnerability in it gives root to everyone who may start it.
    """
    for program in _in_force(rights):
        if program.origin is Origin.UNPACKAGED and program.power is None and not program.twin and not program.is_foreign_copy:
            strong = program.as_root or any(one.reads for one in program.capabilities)
            severity = None if strong else Severity.LOW
            yield _found(rights, program, f"{program.path} {_bits(program)} and belongs to no package", severity)


# Where programs are in a root folder; what is before that in a path is the root folder of a chroot, a container's layer or an image.
_IN_A_ROOT = re.compile(r"(?:/usr)?(?:/local)?/s?bin/[^/]+\Z|/usr/lib(?:exec|64|32)?/.+\Z")
# As many parts of the path of such a root folder name the tree that it is in: /var/lib/docker, /srv/chroot/bookworm.
_TREE_PARTS = 3


def _tree_of(path: str) -> str:
    """Return the tree that a copy is in."""
    found = _IN_A_ROOT.search(path)
    above_it = path[: found.start()] if found is not None else ""
    return "/".join(above_it.split("/")[: _TREE_PARTS + 1]) or dirname(path)


@check(
    "programs.foreign-copies",
    Severity.MEDIUM,
    advice="Remove the tree if nothing uses it; otherwise close it (chmod 0700 on its top folder) or mount it with nosuid.",
)
def foreign_copies(rights: HostRights) -> Iterator[Found]:
    """Set-ID programs of another root folder, such as su and mount in a chroot, can be executed on this host.

    They check the caller against this host's files, so they give no rights by design; but updates of this host do not cover them, and a
    known vulnerability in one is a vulnerability of this host.
    """
    trees: dict[str, list[PrivilegedProgram]] = {}
    for program in _in_force(rights):
        if program.is_foreign_copy:
            trees.setdefault(_tree_of(program.path), []).append(program)
    states = _states(rights)
    for tree, copies in sorted(trees.items()):
        barred = all(reachers(one.path, states, rights.population) == frozenset() for one in copies)
        names = sorted({one.path.rpartition("/")[2] for one in copies})
        shown = ", ".join(names[:6]) + (" and others" if len(names) > 6 else "")
        reach = "; no account but root can reach them" if barred else ""
        message = f"{len(copies)} older or foreign copies of set-ID programs below {tree} ({shown}){reach}"
        places = tuple(Place(subject=rights.subject, path=one.path) for one in copies[:20])
        yield Found(about=tree, message=message, places=places, severity=Severity.LOW if barred else None)


def _states(rights: HostRights) -> Mapping[str, FileState]:
    return rights.facts.states


@check("programs.added-set-id", Severity.MEDIUM, advice="Remove the bit or capability, or register it with the package manager.")
def added_set_id(rights: HostRights) -> Iterator[Found]:
    """A packaged program has a set-ID bit or a capability that its package does not give it.

    It was not written to run with more rights than its caller, and may trust its caller's input.
    """
    for program in _in_force(rights):
        if program.origin is Origin.UNKNOWN and program.power is None and program.odd_capability:
            yield _found(rights, program, f"{program.path} {_bits(program)}; no package database was read that gives it that")
        if program.origin is not Origin.MADE_SO or program.power is not None or program.package is None:
            continue
        stated = program.package.mode is not None or program.package.overridden is not None
        sure = "its package does not have that" if stated else "it is not known to need that, and its package does not record modes"
        strong = any(one.root for one in program.capabilities) or (stated and program.as_root)
        severity = None if strong else Severity.LOW
        yield _found(rights, program, f"{program.path} of package {program.package.package} {_bits(program)}; {sure}", severity)


@check(
    "programs.writable",
    Severity.HIGH,
    advice="Let root own the file and every folder above it, and remove write permission for all others.",
)
def writable(rights: HostRights) -> Iterator[Found]:
    """An account other than root can replace a program that runs with more rights than its caller.

    Writing to the file removes its set-ID bit (chown(2)), so it does not give root directly. But other users and scripts keep calling
    it, and then run what that account put there.
    """
    states = _states(rights)
    for program in _in_force(rights):
        within = reachers(program.path, states, rights.population)
        for at in above(program.path):
            who, clauses = writers(states.get(at)), writers_told(states.get(at), rights.population)
            if not clauses or is_stock(at, states[at], rights.population):
                continue
            if within is not None and not who.everyone and not who.gids and within <= who.uids:
                break  # anyone who can reach it are those who can replace it: they fool themselves alone
            where = "" if at == program.path else f"{at}, above "
            message = f"{where}{program.path}, which {_bits(program)}, {clauses}"
            state = states[at]
            owner = f"chown root {shlex.quote(at)}; " if state.uid else ""
            yield Found(
                about=f"{at}\0{program.path}",
                message=message,
                places=(Place(subject=rights.subject, path=at),),
                severity=None if program.as_root else Severity.MEDIUM,
                safer=f"{owner}chmod go-w {shlex.quote(at)}",
            )
            break


CHECKS: tuple[Check[HostRights], ...] = (
    root_equivalent,
    modified,
    unpackaged,
    foreign_copies,
    added_set_id,
    writable,
)
