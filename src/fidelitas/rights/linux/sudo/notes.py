"""What should be known of the command that a rule names before relying on the rule: a link, a missing file, one that its user can write.

Knows file states; a decision does not depend on them.
"""

from collections.abc import Iterator, Mapping

from fidelitas.facts import Command, FileKind, FileState
from fidelitas.patterns import has_wildcards
from fidelitas.rights.linux.files import above, is_link, writers
from fidelitas.rights.linux.population import Identity
from fidelitas.rights.linux.sudo.commands import raw_digest

__all__ = ["digest_differs", "notes_on", "stated_file"]


def stated_file(command: Command) -> str:
    """Return the one file that a command of a policy names, or nothing for patterns, folders and words."""
    path = command.path
    return path if path.startswith("/") and not has_wildcards(path) and not path.endswith("/") else ""


def notes_on(command: Command, who: Identity, states: Mapping[str, FileState]) -> Iterator[str]:
    """Yield what is worth knowing of a rule's command for an account that uses the rule."""
    path = stated_file(command)
    state = states.get(path)
    if state is None:
        return
    if state.kind is FileKind.ABSENT:
        yield f"{path} does not exist"
        return
    target = is_link(path, states)
    if target:
        yield f"{path} is a symbolic link to {target}"
    if digest_differs(command, state):
        yield f"{path} has none of the digests that the rule wants"
    for at in dict.fromkeys((*above(path), *above(state.real or path))):
        if who.uid != 0 and writers(states.get(at)).include(who):
            yield f"{who.name} can change {at}" + ("" if at == path else f", above {path}") + ": the rule amounts to everything"
            return


def digest_differs(command: Command, state: FileState) -> bool:
    """Return whether a file is known to have none of the digests that a command wants."""
    found = dict(state.digests)
    wanted = {algorithm for algorithm, _ in command.digests}
    if not wanted or not wanted <= set(found):
        return False
    return not any(raw_digest(value, len(found[algorithm]) // 2) == bytes.fromhex(found[algorithm]) for algorithm, value in command.digests)
