"""Checks of the files that a sudo policy is made of, and of those that it names."""

import shlex
from collections.abc import Iterator

from msgspec.structs import replace

from fidelitas.checks.check import Check, Found, check
from fidelitas.checks.linux.sudo_rules import as_root
from fidelitas.facts import FileKind, FileState, Place, PolicyFileState, SudoRule
from fidelitas.findings import Severity
from fidelitas.rights.linux.files import above, is_link, writers_told
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.policy_places import policy_places, refuses
from fidelitas.rights.linux.sudo import Leaf, digest_differs, leaves, stated_file

__all__ = ["CHECKS"]


@check(
    "sudo.writable-policy",
    Severity.CRITICAL,
    advice="Let root own the file and its folders, and remove write permission for others.",
)
def writable_policy(rights: HostRights) -> Iterator[Found]:
    """Someone other than root can write a policy file, or a folder above it.

    Anyone who can write the policy decides who is root. sudo ignores some such files, but not folders above them; rules that it
    ignores, exclusions among them, are not in force, and all of them are once the mode is corrected.
    """
    states = rights.facts.states
    for path, policy in policy_places(rights.facts).items():
        state = states.get(path)
        writers = writers_told(state, rights.population)
        if writers:
            upper = "" if path == policy else f", above {policy},"
            effect = "; sudo ignores it until that is fixed" if refuses(path, rights.facts) else ""
            place = Place(subject=rights.subject, path=path)
            yield Found(about=path, message=f"{path}{upper} {writers}{effect}", places=(place,), safer=_repair(states[path]))


def _repair(state: FileState) -> str:
    """Return the commands that leave a path to root alone."""
    path = shlex.quote(state.path)
    steps = [f"chown root {path}"] if state.uid else []
    steps += [f"setfacl -b {path}"] if state.access else []
    return "; ".join([*steps, f"chmod go-w {path}"])


@check(
    "sudo.skipped-file",
    Severity.MEDIUM,
    advice='Rename the file without "." and "~" if its rules are meant to count; otherwise remove it.',
)
def skipped_file(rights: HostRights) -> Iterator[Found]:
    """sudo skips a file in the policy folder because of its name.

    Its rules and exclusions are not in force, although they look as if they were. If the file is renamed, they take effect.
    """
    for file in rights.facts.policy.files:
        if file.state is PolicyFileState.SKIPPED and file.statements:
            yield Found(
                about=file.path,
                message=f"{file.path} has {file.statements} statements that are not in force: {file.reason}",
                places=(Place(subject=rights.subject, path=file.path), *([file.by] if file.by else [])),
            )


@check(
    "sudo.unread-file",
    Severity.LOW,
    advice="Put the file in its place, or remove the line that includes it.",
)
def unread_file(rights: HostRights) -> Iterator[Found]:
    """The policy includes a file that sudo cannot read.

    sudo warns and continues without it: what the file allows or forbids is not in force.
    """
    states = rights.facts.states
    for file in rights.facts.policy.files:
        writable = bool(writers_told(states.get(file.path), rights.population))  # writable_policy tells of those
        lost = file.state is PolicyFileState.MISSING and not file.folder  # a folder that is missing is no error for sudo
        if file.by is not None and (lost or (file.state is PolicyFileState.REFUSED and not writable)):
            yield Found(about=file.path, message=f"the policy includes {file.path}, which {file.reason}", places=(file.by,))


@check(
    "sudo.writable-command",
    Severity.CRITICAL,
    advice="Let root own the program and every folder above it, and remove write permission for others.",
)
def writable_command(rights: HostRights) -> Iterator[Found]:
    """Someone other than root can write a command that a rule runs as root.

    Anyone who can write the file, or a folder above it, decides what runs as root.
    """
    states = rights.facts.states
    for rule, leaf, path in _named_commands(rights):
        state = states.get(path)
        real = state.real if state is not None and state.real else path  # where links lead
        for at in dict.fromkeys((*above(path), *above(real))):
            who = writers_told(states.get(at), rights.population)
            if who:
                what = f"{path}, which {', '.join(map(str, rule.users))} may run as root, " if at == path else f"{at}, above {path}, "
                places = (Place(subject=rights.subject, path=at), rule.place)
                about = f"{at}\0{leaf.command}"
                yield Found(about=about, message=f"{what}{who}", places=places, quote=rule.statement, safer=_repair(states[at]))
                break


@check("sudo.missing-command", Severity.LOW, advice="Remove the rule, or correct the path.")
def missing_command(rights: HostRights) -> Iterator[Found]:
    """A rule names a command that does not exist.

    Anyone who can create a file of that name decides what runs as root; until then the right or exclusion has no effect.
    """
    states = rights.facts.states
    for rule, leaf, path in _named_commands(rights):
        state = states.get(path)
        if state is not None and state.kind is FileKind.ABSENT:
            yield Found(about=str(leaf.command), message=f"{path} does not exist", places=(rule.place,), quote=rule.statement)


@check("sudo.symlinked-command", Severity.INFO, advice="Name the file itself in the rule.")
def symlinked_command(rights: HostRights) -> Iterator[Found]:
    """A rule names a symbolic link.

    The target of the link decides what runs. Changing the link changes what the rule allows, without a change of the policy.
    """
    states = rights.facts.states
    for rule, leaf, path in _named_commands(rights):
        target = is_link(path, states)
        if target:
            safer = rule.statement.replace(path, target) if path in rule.statement else None
            message = f"{path} is a symbolic link to {target}"
            yield Found(about=str(leaf.command), message=message, places=(rule.place,), quote=rule.statement, safer=safer)


@check("sudo.wrong-digest", Severity.MEDIUM, advice="Find out who changed the file and when; then correct the digest or the file.")
def wrong_digest(rights: HostRights) -> Iterator[Found]:
    """A file does not have the digest that its rule requires.

    sudo does not run the command by this rule. The file was replaced, or it was updated and the rule was not; an exclusion with a
    digest excludes nothing any more.
    """
    states = rights.facts.states
    for rule in rights.facts.policy.rules:
        for leaf in leaves(rights.policy, rule.command):
            state = states.get(stated_file(leaf.command))
            if state is None or not digest_differs(leaf.command, state):
                continue
            (algorithm, _), *_ = leaf.command.digests
            value = dict(state.digests)[algorithm]
            message = f"{state.path} does not have a digest that the rule requires; its {algorithm} is {value}"
            old = str(leaf.command)
            safer = (
                rule.statement.replace(old, f"{algorithm}:{value} {replace(leaf.command, digests=())}") if old in rule.statement else None
            )
            yield Found(about=f"{rule.statement}\0{state.path}", message=message, places=(rule.place,), quote=rule.statement, safer=safer)


def _named_commands(rights: HostRights) -> Iterator[tuple[SudoRule, Leaf, str]]:
    """Yield each literal path that a rule lets someone run as root, once."""
    seen: set[str] = set()
    for rule, commands in as_root(rights):
        for command in commands:
            path = stated_file(command.leaf.command)
            if path and path not in seen:
                seen.add(path)
                yield rule, command.leaf, path


CHECKS: tuple[Check[HostRights], ...] = (
    writable_policy,
    skipped_file,
    unread_file,
    writable_command,
    missing_command,
    symlinked_command,
    wrong_digest,
)
