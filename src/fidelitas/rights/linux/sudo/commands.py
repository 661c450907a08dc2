"""Whether a command that is asked for is one that a policy names (sudoers(5), Cmnd_Spec; sudo's match_command.c)."""

import base64
import binascii
import re
from collections.abc import Callable, Container

from msgspec import Struct

from fidelitas.facts import Command
from fidelitas.masking import is_masked
from fidelitas.patterns import has_wildcards, regex_matches, wildcard_matches
from fidelitas.rights.linux.sudo.files import Files, Identity, glob

__all__ = ["ResolvedCommand", "command_matches", "depends_on_mask", "raw_digest", "resolve_command"]

# What the search for a bare command name goes through when the policy does not say (no secure_path): the usual path of a log-in shell.
USUAL_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"


class ResolvedCommand(Struct, frozen=True):
    """A command line as sudo sees it: where the command was found, and the arguments joined by blanks (``None`` for none)."""

    path: str
    arguments: str | None

    @property
    def name(self) -> str:
        """The base name of the command."""
        return self.path.rpartition("/")[2]


def resolve_command(words: tuple[str, ...], search: str, files: Files, named: Container[str] = ()) -> ResolvedCommand:
    """Return what a command line asks for; a bare name is searched for in the folders of `search`.

    Where the files are not known it is taken to be a path that the policy has (`named`), else to be in the usual place.
    """
    path, arguments = words[0], " ".join(words[1:]) if len(words) > 1 else None
    if path.rpartition("/")[2] == "sudoedit":
        return ResolvedCommand("sudoedit", arguments)
    if "/" in path or path in ("", "list"):
        return ResolvedCommand(path, arguments)
    places = [f"{folder}/{path}" for folder in search.split(":") if folder not in ("", ".")]
    if files.known:
        return ResolvedCommand(next((place for place in places if files.is_program(place)), path), arguments)
    return ResolvedCommand(next((place for place in places if place in named), f"/usr/bin/{path}"), arguments)


def command_matches(
    stated: Command, resolved: ResolvedCommand, files: Files, *, fast: bool = False, refuse: Callable[[int], bool] | None = None
) -> bool:
    """Return whether a stated command covers the one that is asked for.

    `fast` is the option fast_glob; `refuse` may reject a file by its mode.
    """
    path = stated.path
    if path == "ALL":
        return _all(stated, resolved, files, refuse)
    if path.startswith("^"):
        return regex_matches(path, resolved.path) and _checked(stated, resolved, files, refuse)
    if not path.startswith("/"):  # sudoedit and list
        return resolved.path == path and arguments_match(stated, resolved)
    if has_wildcards(path):
        if fast or not files.known:
            return wildcard_matches(path, resolved.path, path=True) and _checked(stated, resolved, files, refuse)
        return _glob(stated, resolved, files, refuse) and arguments_match(stated, resolved)
    if path.endswith("/"):
        return _in_folder(stated, path, resolved, files, refuse)
    return _literal(stated, resolved, files, refuse)


def _accepted(path: str, files: Files, refuse: Callable[[int], bool] | None) -> bool:
    identity = files.identity(path) if refuse else None
    return refuse is None or identity is None or not refuse(identity.mode)


def _all(stated: Command, resolved: ResolvedCommand, files: Files, refuse: Callable[[int], bool] | None) -> bool:
    return (not resolved.path.startswith("/") or _accepted(resolved.path, files, refuse)) and _digest_matches(stated, resolved.path, files)


def _checked(stated: Command, resolved: ResolvedCommand, files: Files, refuse: Callable[[int], bool] | None) -> bool:
    """Return whether the rest fits, where the spelling did: arguments, the file's existence and mode, digests."""
    if not arguments_match(stated, resolved) or (files.known and files.identity(resolved.path) is None):
        return False
    return _accepted(resolved.path, files, refuse) and _digest_matches(stated, resolved.path, files)


def _literal(stated: Command, resolved: ResolvedCommand, files: Files, refuse: Callable[[int], bool] | None) -> bool:
    """A literal path: the same base name and the same file; the same spelling where there is no such file."""
    path = stated.path
    if path.rpartition("/")[2] != resolved.name:
        return False
    theirs = files.identity(path)
    if theirs is not None:
        if not _same(files.identity(resolved.path), theirs) or (refuse and refuse(theirs.mode)):
            return False
    elif resolved.path != path:
        return False
    return arguments_match(stated, resolved) and _digest_matches(stated, path, files)


def _in_folder(stated: Command, folder: str, resolved: ResolvedCommand, files: Files, refuse: Callable[[int], bool] | None) -> bool:
    """A path that ends in a slash: any file directly in that folder."""
    if not files.known:
        return resolved.path.rpartition("/")[0] + "/" == folder and bool(resolved.name)
    if resolved.name not in files.names(folder):
        return False
    path = folder + resolved.name
    there, ours = files.identity(path), files.identity(resolved.path)
    if there is None or (refuse and refuse(there.mode)):
        return False
    return _same(ours, there) and _digest_matches(stated, path, files)


def _same(one: Identity | None, other: Identity | None) -> bool:
    """Return whether two files are one; a file that does not exist is none."""
    return one is not None and other is not None and (one.device, one.inode) == (other.device, other.inode)


def _glob(stated: Command, resolved: ResolvedCommand, files: Files, refuse: Callable[[int], bool] | None) -> bool:
    """A path with wildcards: an existing file that the pattern finds; the same spelling first, then the same name and file."""
    base = stated.path.rpartition("/")[2]
    if base and not has_wildcards(base) and base != resolved.name:
        return False
    found = list(glob(files, stated.path))
    ours = files.identity(resolved.path)
    wrong_digest = False
    if resolved.path in found:
        there = files.identity(resolved.path)
        if there is not None and not (refuse and refuse(there.mode)):
            if _digest_matches(stated, resolved.path, files):
                return True
            wrong_digest = True
    if wrong_digest:
        return False
    for path in found:
        if path.endswith("/"):
            if _in_folder(stated, path, resolved, files, refuse):
                return True
            continue
        there = files.identity(path)
        if path.rpartition("/")[2] != resolved.name or there is None or (refuse and refuse(there.mode)):
            continue
        if _same(ours, there) and _digest_matches(stated, path, files):
            return True
    return False


def arguments_match(stated: Command, resolved: ResolvedCommand) -> bool:
    """Return whether the arguments match: any where none are stated, none at all for ``""``, else as one string.

    Where a secret was masked, on either side, they match if they could: see `depends_on_mask`.
    """
    pattern = stated.arguments
    if pattern is None:
        return True
    if pattern == "":
        return resolved.arguments is None
    text = resolved.arguments or ""
    if is_masked(pattern) or is_masked(text):
        return _could_match(pattern, text)
    if pattern.startswith("^") and pattern.endswith("$"):
        return regex_matches(pattern, text)
    # Files that sudoedit is given are paths, in which a wildcard does not cross a slash.
    return wildcard_matches(pattern, text, path=stated.path == "sudoedit")


def depends_on_mask(stated: Command, resolved: ResolvedCommand) -> bool:
    """Return whether a match hangs on a secret that was masked, in the policy or in the log that the command is from."""
    return bool(stated.arguments) and (is_masked(stated.arguments or "") or is_masked(resolved.arguments or ""))


def _could_match(pattern: str, text: str) -> bool:
    """Return whether arguments could match if what is masked in either were known."""
    if pattern.startswith("^") and pattern.endswith("$"):
        return True
    return wildcard_matches(opened(pattern), text, path=False) or wildcard_matches(opened(escaped(text)), pattern, path=False)


def opened(pattern: str) -> str:
    """Return a pattern in which a mask stands for anything."""
    return _MASK.sub("*", pattern)


def escaped(text: str) -> str:
    """Return a text as a pattern that matches it alone."""
    return _SPECIAL.sub(r"\\\g<0>", text)


_MASK = re.compile("[•¤]+")
_SPECIAL = re.compile(r"[\\*?\[]")


def _digest_matches(stated: Command, path: str, files: Files) -> bool:
    """Return whether a file has one of the digests, or none is stated."""
    for algorithm, value in stated.digests:
        found = files.digest(path, algorithm)
        if found is not None and found == raw_digest(value, len(found)):
            return True
    return not stated.digests


def raw_digest(value: str, length: int) -> bytes:
    """Return a digest of `length` bytes as a policy writes it, hexadecimal or base64; nothing where it is neither."""
    try:
        return bytes.fromhex(value) if len(value) == 2 * length else base64.b64decode(value + "=" * (-len(value) % 4))
    except (ValueError, binascii.Error):
        return b""
