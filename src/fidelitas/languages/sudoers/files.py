"""A whole sudo policy: the main file and all that it includes, as sudo itself would open them.

Knows the include rules of sudoers(5): which names are skipped, which owners and modes make sudo refuse a file.  Files are had
through `PolicyFiles`; where those come from is not known here.
"""

from posixpath import dirname, normpath
from typing import Protocol

from msgspec import Struct, field

from fidelitas.facts import FileKind, FileState, Gap, Place, PolicyFile, PolicyFileState, SudoPolicy
from fidelitas.languages.sudoers.parser import Statements, parse_policy

__all__ = ["PolicyFiles", "read_policy"]

# toke.l, MAX_SUDOERS_DEPTH
DEPTH_LIMIT = 128
# The probe copies no more than this either.
FILES_LIMIT = 4096
_WEAKENS = "any account may hold more, or less, than is shown"


class PolicyFiles(Protocol):
    """What a policy is read from."""

    def text(self, path: str) -> str | None:
        """Return the text of a file, or ``None`` where it is not in evidence."""

    def state(self, path: str) -> FileState | None:
        """Return what stands at a path, or ``None`` where that is not known."""

    def told(self, path: str) -> bool:
        """Return whether the evidence itself says that a path could not be read."""

    def names(self, folder: str) -> list[str]:
        """Return the names in a folder."""


class _Includes(Struct):
    files: PolicyFiles
    origin: Place
    host: str
    uid: int
    gid: int
    into: Statements = field(default_factory=Statements)
    reached: list[PolicyFile] = field(default_factory=list)
    open: list[str] = field(default_factory=list)  # the files that are being read, outermost first

    def file(self, path: str, by: Place | None, depth: int) -> None:
        """Read a file in place, or record why sudo would not."""
        state = self.files.state(path)
        refused = _refused(state, FileKind.FILE, self.uid, self.gid)
        text = self.files.text(path)
        if path in self.open:
            # sudo reads it again, up to its depth limit; since the last match wins, the same rules once more decide nothing new.
            self._reach(path, PolicyFileState.REFUSED, by, reason="includes itself, over and over up to sudo's limit")
        elif len(self.reached) >= FILES_LIMIT or depth > DEPTH_LIMIT:
            self._gap(path, by, "too many levels of includes" if depth > DEPTH_LIMIT else f"more than {FILES_LIMIT} policy files")
        elif state is not None and state.kind is FileKind.ABSENT:
            self._reach(path, PolicyFileState.MISSING, by, reason="does not exist")
        elif refused:
            self._reach(path, PolicyFileState.REFUSED, by, reason=refused, statements=_count(text, self.origin, path))
        elif text is None:
            self._reach(path, PolicyFileState.NOT_SEEN, by, reason="its content is not in evidence")
            self._not_seen(path, by)
        else:
            self._parse(path, text, by, depth)

    def _parse(self, path: str, text: str, by: Place | None, depth: int) -> None:
        index = len(self.reached)
        before = self.into.count()
        self._reach(path, PolicyFileState.READ, by)

        def include(written: str, folder: bool, place: Place) -> None:
            target = self._target(written, path)
            if folder:
                self.folder(target, place, depth + 1)
            else:
                self.file(target, place, depth + 1)

        self.open.append(path)
        parse_policy(text, Place(subject=self.origin.subject, path=path), include, self.into)
        self.open.pop()
        self.reached[index] = PolicyFile(path=path, state=PolicyFileState.READ, statements=self.into.count() - before, by=by)

    def _target(self, written: str, path: str) -> str:
        """Return the path that a directive means: %h is the short host name, relative paths start at the including file's folder."""
        named = written.replace("%h", self.host.partition(".")[0])
        absolute = named if named.startswith("/") else f"{dirname(path)}/{named}"
        return normpath(absolute).replace("//", "/")

    def folder(self, path: str, by: Place, depth: int) -> None:
        """Read the files of a folder in the order of their names, those that sudo passes over excepted."""
        state = self.files.state(path)
        if state is None:
            self._reach(path, PolicyFileState.NOT_SEEN, by, folder=True, reason="it is not in evidence")
            self._not_seen(path, by)
            return
        if state.kind is FileKind.ABSENT:  # nothing to read, and sudo says nothing either
            self._reach(path, PolicyFileState.MISSING, by, folder=True, reason="there is no such folder")
            return
        refused = _refused(state, FileKind.FOLDER, self.uid, self.gid)
        self._reach(path, PolicyFileState.REFUSED if refused else PolicyFileState.READ, by, folder=True, reason=refused)
        if refused:
            return
        for name in sorted(self.files.names(path), key=lambda name: name.encode("utf-8", "surrogateescape")):
            inside = f"{path}/{name}"
            kind = self.files.state(inside)
            if kind is not None and kind.kind in (FileKind.FOLDER, FileKind.OTHER):
                continue
            skipped = _skipped(name)
            if skipped:
                text = self.files.text(inside)
                self._reach(inside, PolicyFileState.SKIPPED, by, reason=skipped, statements=_count(text, self.origin, inside))
            else:
                self.file(inside, by, depth)

    def _reach(
        self, path: str, state: PolicyFileState, by: Place | None, *, folder: bool = False, reason: str = "", statements: int = 0
    ) -> None:
        self.reached.append(PolicyFile(path=path, state=state, folder=folder, reason=reason, statements=statements, by=by))

    def _not_seen(self, path: str, by: Place | None) -> None:
        if not self.files.told(path):
            self._gap(path, by, "not in evidence")

    def _gap(self, path: str, by: Place | None, why: str) -> None:
        what = f"sudo policy {path}"
        self.into.gaps.append(Gap(what=what, why=why, weakens=_WEAKENS, place=by or Place(subject=self.origin.subject, path=path)))


def _refused(state: FileState | None, wanted: FileKind, uid: int, gid: int) -> str:
    """Return why sudo does not trust a file or folder (sudo_secure_path), or nothing; what is not known is taken to be trusted."""
    if state is None or state.mode is None:
        return ""
    if state.kind is not wanted:
        return f"is not a {wanted.value}"
    if state.uid is not None and state.uid != uid:
        return f"belongs to uid {state.uid}, not to {uid}"
    if state.mode & 0o002:
        return "is writable by everyone"
    if state.mode & 0o020 and state.gid != gid:
        return f"is writable by the group with gid {state.gid}"
    return ""


def _skipped(name: str) -> str:
    if name.endswith("~"):
        return 'its name ends in "~"'
    return 'its name contains "."' if "." in name else ""


def _count(text: str | None, origin: Place, path: str) -> int:
    """Return how many statements a file holds that sudo does not read."""
    statements = Statements()
    if text is not None:
        parse_policy(text, Place(subject=origin.subject, path=path), lambda *_: None, statements)
    return statements.count()


def read_policy(files: PolicyFiles, origin: Place, *, host: str, uid: int = 0, gid: int = 0) -> SudoPolicy:
    """Return the policy that begins at `origin`, on a host of the given name.

    `uid` and `gid` own the policy files: 0, unless sudo.conf(5) says otherwise.
    """
    reader = _Includes(files=files, origin=origin, host=host, uid=uid, gid=gid)
    reader.file(origin.path, None, 0)
    return SudoPolicy(
        rules=tuple(reader.into.rules),
        aliases=tuple(reader.into.aliases),
        defaults=tuple(reader.into.defaults),
        files=tuple(reader.reached),
        gaps=tuple(reader.into.gaps),
        visudo_refusals=tuple(reader.into.visudo_refusals),
    )
