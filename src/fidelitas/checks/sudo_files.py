"""Checks of the files that a sudo policy is made of."""

from collections.abc import Iterator
from posixpath import dirname

from fidelitas.checks.check import Found, check
from fidelitas.checks.sudo_rules import as_root
from fidelitas.facts import FileKind, FileState, Place, PolicyFileState, SudoRule
from fidelitas.findings import Severity
from fidelitas.rights import HostRights
from fidelitas.rights.sudo import Leaf, leaves
from fidelitas.rights.sudo.patterns import has_wildcards

__all__ = ["missing_command", "skipped_file", "unread_file", "writable_command", "writable_policy"]


@check(
    "sudo.writable-policy",
    Severity.CRITICAL,
    advice="Let root own the file and its folders, and take the right to write from everybody else.",
)
def writable_policy(rights: HostRights) -> Iterator[Found]:
    """A policy file, or a folder on the way to it, can be written by somebody other than root.

    Who writes the policy decides who is root.  sudo refuses some such files, but not the folders above them, and what it refuses today
    it reads tomorrow, when somebody "repairs" the mode; rules that it refuses meanwhile, bans among them, are not in force.
    """
    states = {state.path: state for state in rights.facts.files}
    paths = dict.fromkeys(file.path for file in rights.facts.policy.files if file.state is not PolicyFileState.MISSING)
    if "/etc/sudo.conf" in states:
        paths["/etc/sudo.conf"] = None
    refused = {file.path for file in rights.facts.policy.files if file.state is PolicyFileState.REFUSED}
    below: dict[str, str] = {}
    for path in paths:
        at = path
        while at not in below:
            below[at] = path
            at = dirname(at)
    for path, policy in below.items():
        state = states.get(path)
        writers = writers_of(state) if state else ""
        if writers:
            above = "" if path == policy else f", above {policy},"
            effect = "; sudo refuses to read it as long as that is so" if path in refused else ""
            place = Place(subject=rights.subject, path=path)
            yield Found(about=path, message=f"{path}{above} {writers}{effect}", places=(place,))


def writers_of(state: FileState) -> str:
    """Return who besides root can write, or nothing.

    In a folder with the sticky bit nobody can replace what root owns, so that a bit for the group or for everybody does no harm there.
    """
    if state.mode is None or state.kind is FileKind.ABSENT:
        return ""
    if state.uid != 0:
        return f"belongs to uid {state.uid} (mode {state.mode:04o})"
    if state.kind is FileKind.FOLDER and state.mode & 0o1000:
        return ""
    if state.mode & 0o002:
        return f"is writable by everybody (mode {state.mode:04o})"
    return f"is writable by the group with gid {state.gid} (mode {state.mode:04o})" if state.mode & 0o020 and state.gid != 0 else ""


@check(
    "sudo.skipped-file",
    Severity.MEDIUM,
    advice='Rename the file without "." and "~" if its rules are meant to count; else remove it.',
)
def skipped_file(rights: HostRights) -> Iterator[Found]:
    """A file with rules lies in the policy folder, and sudo silently passes it over because of its name.

    Somebody believes that its rules, or its bans, are in force.  Renamed by a clean-up or a package, they suddenly are.
    """
    for file in rights.facts.policy.files:
        if file.state is PolicyFileState.SKIPPED and file.statements:
            yield Found(
                about=file.path,
                message=f"{file.path} holds {file.statements} statements that are not in force: {file.reason}",
                places=(Place(subject=rights.subject, path=file.path), *([file.by] if file.by else [])),
            )


@check(
    "sudo.unread-file",
    Severity.LOW,
    advice="Put the file in its place, or remove the line that includes it.",
)
def unread_file(rights: HostRights) -> Iterator[Found]:
    """The policy includes a file that sudo cannot read.

    sudo warns and goes on without it: what the file was meant to allow, or to forbid, is not in force.
    """
    states = {state.path: state for state in rights.facts.files}
    for file in rights.facts.policy.files:
        writable = file.path in states and bool(writers_of(states[file.path]))  # writable_policy tells of those
        lost = file.state is PolicyFileState.MISSING and not file.folder  # a folder that is missing is no error for sudo
        if file.by is not None and (lost or (file.state is PolicyFileState.REFUSED and not writable)):
            yield Found(about=file.path, message=f"the policy includes {file.path}, which {file.reason}", places=(file.by,))


@check(
    "sudo.writable-command",
    Severity.CRITICAL,
    advice="Let root own the program and every folder above it, and take the right to write from everybody else.",
)
def writable_command(rights: HostRights) -> Iterator[Found]:
    """A command that a rule lets somebody run as root can be written by somebody other than root.

    Who writes the file, or a folder above it, decides what runs as root; the rule might as well say ALL.
    """
    states = {state.path: state for state in rights.facts.files}
    for rule, leaf, path in _named_commands(rights):
        state = states.get(path)
        real = state.real if state is not None and state.real else path  # where links lead
        for at in dict.fromkeys((*_above(path), *_above(real))):
            who = writers_of(states[at]) if at in states else ""
            if who:
                what = f"{path}, which {', '.join(map(str, rule.users))} may run as root, " if at == path else f"{at}, above {path}, "
                places = (Place(subject=rights.subject, path=at), rule.place)
                yield Found(about=f"{at}\0{leaf.command}", message=f"{what}{who}", places=places, quote=rule.statement)
                break


@check("sudo.missing-command", Severity.LOW, advice="Remove the rule, or correct the path.")
def missing_command(rights: HostRights) -> Iterator[Found]:
    """A rule names a command that does not exist.

    Whoever may create a file of that name decides what runs as root; until then somebody believes that a right or a ban is in place.
    """
    states = {state.path: state for state in rights.facts.files}
    for rule, leaf, path in _named_commands(rights):
        state = states.get(path)
        if state is not None and state.kind is FileKind.ABSENT:
            yield Found(about=str(leaf.command), message=f"{path} does not exist", places=(rule.place,), quote=rule.statement)


def _above(path: str) -> Iterator[str]:
    """Yield a path and every folder above it."""
    while True:
        yield path
        if path == "/":
            return
        path = dirname(path)


def _named_commands(rights: HostRights) -> Iterator[tuple[SudoRule, Leaf, str]]:
    """Yield each literal path that a rule lets somebody run as root, once."""
    seen: set[str] = set()
    for rule in rights.facts.policy.rules:
        if not as_root(rights, rule):
            continue
        for leaf in leaves(rights.policy, rule.command):
            path = leaf.command.path
            literal = path.startswith("/") and not has_wildcards(path) and not path.endswith("/")
            if leaf.allowed and literal and path not in seen:
                seen.add(path)
                yield rule, leaf, path
