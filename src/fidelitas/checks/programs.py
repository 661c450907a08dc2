"""Checks of programs that run with more than their caller's rights: setuid and setgid files, file capabilities."""

import shlex
from collections.abc import Iterator

from fidelitas.checks.check import Found, check
from fidelitas.facts import Place
from fidelitas.findings import Severity
from fidelitas.rights import HostRights
from fidelitas.rights.files import above, writers_told
from fidelitas.rights.programs import Judged, Origin, judged_programs

__all__ = ["added_bit", "changed_program", "escaping_program", "stray_program", "writable_program"]


def _in_force(rights: HostRights) -> Iterator[Judged]:
    return (judged for judged in judged_programs(rights.facts) if judged.in_force)


def _bits(judged: Judged) -> str:
    """Return what a file has, in words: "is setuid root, mode 4755", "has cap_net_raw"."""
    told = []
    one = judged.set_id
    if one is not None and one.mode & 0o4000:
        told.append(f"is setuid {'root' if one.uid == 0 else f'uid {one.uid}'}, mode {one.mode:04o}")
    elif one is not None:
        told.append(f"is setgid gid {one.gid}, mode {one.mode:04o}")
    if judged.capable is not None:
        told.append("has " + (", ".join(sorted(judged.capable.permitted | judged.capable.inheritable)) or "an empty set of capabilities"))
    return " and ".join(told)


def _found(rights: HostRights, judged: Judged, message: str, severity: Severity | None = None) -> Found:
    path = shlex.quote(judged.path)
    take_away = [f"chmod u-s,g-s {path}"] if judged.set_id else []
    take_away += [f"setcap -r {path}"] if judged.capable else []
    place = Place(subject=rights.subject, path=judged.path)
    return Found(about=judged.path, message=message, places=(place,), severity=severity, safer="; ".join(take_away))


@check(
    "programs.hands-over-root",
    Severity.CRITICAL,
    advice="Take the bit or the capability away; let sudo give what is needed to those who need it.",
)
def escaping_program(rights: HostRights) -> Iterator[Found]:
    """A shell, an interpreter, an editor or their like runs as root for whoever starts it.

    Such a program does what its user says.  With the setuid bit, or with a capability that amounts to root, it does it as root; a copy
    under another name is the usual back door.
    """
    for judged in _in_force(rights):
        if judged.power is not None and judged.as_root:
            copy = f", a copy of {judged.copy_of}," if judged.copy_of else ""
            mode = judged.set_id.mode if judged.set_id else 0o001
            severity = None if mode & 0o001 else Severity.HIGH
            yield _found(rights, judged, f"{judged.path}{copy} {_bits(judged)} and {judged.power.reason}", severity)
        elif judged.power is not None and judged.set_id is not None and judged.set_id.mode & 0o4000:
            yield _found(rights, judged, f"{judged.path} {_bits(judged)} and {judged.power.reason}", Severity.HIGH)


@check("programs.changed", Severity.HIGH, advice="Find out who changed the file; install the package again.")
def changed_program(rights: HostRights) -> Iterator[Found]:
    """A program that runs with more than its caller's rights is not the one that its package brought.

    Its content differs from the digest in the package database.  Either somebody repaired it by hand, or somebody replaced it.
    """
    for judged in _in_force(rights):
        if judged.origin is Origin.CHANGED and judged.package is not None:
            yield _found(
                rights, judged, f"{judged.path}, which {_bits(judged)}, differs from what the package {judged.package.package} brought"
            )


@check("programs.no-package", Severity.MEDIUM, advice="Find out who put it there and what for; remove it, or package it.")
def stray_program(rights: HostRights) -> Iterator[Found]:
    """A program that runs as root belongs to no package.

    Nobody updates it, and nothing tells what it is meant to do.  Any fault in it makes everybody root who may start it.
    """
    for judged in _in_force(rights):
        if judged.origin is Origin.UNPACKAGED and judged.power is None:
            severity = None if judged.as_root else Severity.LOW
            yield _found(rights, judged, f"{judged.path} {_bits(judged)} and belongs to no package", severity)


@check("programs.bit-added", Severity.MEDIUM, advice="Take the bit away, or register it with the package manager.")
def added_bit(rights: HostRights) -> Iterator[Found]:
    """A packaged program was given a bit or a capability that its package does not give it.

    It was not written to run with more than its caller's rights, and need not take care of what its caller hands it.
    """
    for judged in _in_force(rights):
        if judged.origin is not Origin.MADE_SO or judged.power is not None or judged.package is None:
            continue
        stated = judged.package.mode is not None or judged.package.overridden is not None
        sure = "its package does not have that" if stated else "it is not known to need that, and its package does not tell modes"
        severity = None if stated and judged.as_root else Severity.LOW
        yield _found(rights, judged, f"{judged.path} of package {judged.package.package} {_bits(judged)}; {sure}", severity)


@check(
    "programs.writable",
    Severity.CRITICAL,
    advice="Let root own the file and every folder above it, and nobody else write there.",
)
def writable_program(rights: HostRights) -> Iterator[Found]:
    """A program that runs with more than its caller's rights can be replaced by somebody other than root.

    A write takes the bit away from the file itself (chown(2)), but a folder above it lets one put another file in its place, or
    bring an old version with a known fault back.
    """
    states = {state.path: state for state in rights.facts.files}
    for judged in _in_force(rights):
        for at in above(judged.path):
            told = writers_told(states.get(at), rights.population)
            if told:
                where = "" if at == judged.path else f"{at}, above "
                message = f"{where}{judged.path}, which {_bits(judged)}, {told}"
                place = Place(subject=rights.subject, path=at)
                severity = None if judged.as_root else Severity.MEDIUM
                yield Found(
                    about=f"{at}\0{judged.path}", message=message, places=(place,), severity=severity, safer=f"chmod go-w {shlex.quote(at)}"
                )
                break
