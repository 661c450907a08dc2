"""The repository that a policy is kept in, read through git's own commands; and one made for a demonstration.

What the repository itself configures is not obeyed: no hook, no filter, no program of its choosing is run, and nothing in it is changed.
"""

import os
import subprocess
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path

from msgspec import Struct

from fidelitas.errors import ReadError

__all__ = ["CommittedFiles", "make_repository", "read_repository"]

_MOST_COMMITS, _SECONDS = 500, 60
_SAFE = ("core.fsmonitor=false", "core.hooksPath=/dev/null", "log.showSignature=false", "diff.external=", "protocol.allow=never")


class CommittedFiles(Struct, frozen=True):
    """A commit: its ID, author, time and comment, and files by the paths that they have on a host."""

    id: str
    author: str
    at: datetime
    comment: str
    files: Mapping[str, bytes]


def read_repository(folder: Path, paths: Mapping[str, str], names: Sequence[str] = ()) -> tuple[list[CommittedFiles], dict[str, str]]:
    """Return the commits that changed a policy, the newest first, and the IDs of commits by some names, such as tags.

    `paths` says which path on a host each file or folder (with a slash at its end) of the repository has.  Raises `ReadError`.
    """
    kept = list(paths.values())
    text = _git(folder, "log", f"--max-count={_MOST_COMMITS}", "-z", "--format=%H%x00%an%x00%aI%x00%s", "HEAD", "--", *kept)
    fields = text.decode("utf-8", "replace").split("\0")
    blobs: dict[str, bytes] = {}
    commits = [
        CommittedFiles(commit, author, datetime.fromisoformat(at), comment, dict(_files(folder, commit, paths, blobs)))
        for commit, author, at, comment in zip(fields[0::4], fields[1::4], fields[2::4], fields[3::4], strict=False)
    ]
    if not commits:
        raise ReadError(f'repository "{folder}" has no commit of {", ".join(kept)}', hint="Which files of it are the policy?")
    by_name = {name: _commit_of(folder, name, kept) for name in names}
    for name, commit in by_name.items():
        # Else nothing would seem to be intended for the hosts with that tag.
        if commit not in {one.id for one in commits}:
            why = f'"{name}" is not among the newest {_MOST_COMMITS} commits of the policy in "{folder}"'
            raise ReadError(why, hint="Is it on the branch that is checked out?")
    return commits, by_name


def _commit_of(folder: Path, name: str, kept: Sequence[str]) -> str:
    """Return the last commit up to a name that changed the policy."""
    found = _git(folder, "log", "--max-count=1", "--format=%H", "--end-of-options", name, "--", *kept).decode().strip()
    if not found:
        raise ReadError(f'repository "{folder}" has no commit of the policy up to "{name}"')
    return found


def _files(folder: Path, commit: str, paths: Mapping[str, str], blobs: dict[str, bytes]) -> Iterator[tuple[str, bytes]]:
    listing = _git(folder, "ls-tree", "-r", "-z", "--full-tree", commit, "--", *paths.values()).decode("utf-8", "surrogateescape")
    for row in filter(None, listing.split("\0")):
        about, _, path = row.partition("\t")
        mode, kind, blob = about.split(" ")
        there = _on_host(path, paths)
        if kind == "blob" and mode != "120000" and there is not None:
            if blob not in blobs:
                blobs[blob] = _git(folder, "cat-file", "blob", blob)
            yield there, blobs[blob]


def _on_host(path: str, paths: Mapping[str, str]) -> str | None:
    for there, here in paths.items():
        if here.endswith("/") and path.startswith(here):
            return there + path.removeprefix(here)
        if path == here:
            return there
    return None


def _git(folder: Path, *arguments: str) -> bytes:
    settings = [word for setting in _SAFE for word in ("-c", setting)]
    command = ["git", "--no-pager", "--no-optional-locks", "--no-replace-objects", *settings, "-C", str(folder), *arguments]
    surroundings = {
        "PATH": os.environ.get("PATH", os.defpath),
        "HOME": os.environ.get("HOME", "/"),
        "LC_ALL": "C.UTF-8",
        "GIT_TERMINAL_PROMPT": "0",
    }
    try:
        done = subprocess.run(command, env=surroundings, stdin=subprocess.DEVNULL, capture_output=True, timeout=_SECONDS, check=False)
    except FileNotFoundError as error:
        raise ReadError("git is not installed, which reads the repository of the policy") from error
    except subprocess.TimeoutExpired as error:
        raise ReadError(f'git did not answer about "{folder}" within {_SECONDS} seconds') from error
    if done.returncode:
        why = done.stderr.decode("utf-8", "replace").strip().split("\n")[0]
        raise ReadError(f'could not read repository "{folder}": {why}', hint="Is it a repository of git that this user owns?")
    return done.stdout


def make_repository(folder: Path, commits: Sequence[tuple[str, datetime, str, Mapping[str, bytes]]]) -> bool:
    """Make a repository of some commits: author, time, comment, and all files; return whether git is there to do it."""
    surroundings = {"PATH": os.environ.get("PATH", os.defpath), "HOME": str(folder), "GIT_CONFIG_NOSYSTEM": "1", "LC_ALL": "C.UTF-8"}

    def git(*arguments: str, **more: str) -> None:
        subprocess.run(["git", "-C", str(folder), *arguments], env={**surroundings, **more}, check=True, capture_output=True)

    try:
        if (folder / ".git").exists():
            return True
        folder.mkdir(parents=True, exist_ok=True)
        git("init", "--quiet", "--initial-branch=main")
        for author, at, comment, files in commits:
            for old in [path for path in folder.rglob("*") if path.is_file() and ".git" not in path.relative_to(folder).parts]:
                old.unlink()
            for path, content in files.items():
                (folder / path).parent.mkdir(parents=True, exist_ok=True)
                (folder / path).write_bytes(content)
            git("add", "--all")
            git("commit", "--quiet", f"--message={comment}", **_signed(author, at))
    except (FileNotFoundError, subprocess.CalledProcessError):
        return False
    return True


def _signed(author: str, at: datetime) -> dict[str, str]:
    """Return the environment in which a commit is of an author and a time."""
    said = {"NAME": author, "EMAIL": f"{author}@saltmarsh.example", "DATE": at.isoformat()}
    return {f"GIT_{who}_{what}": value for who in ("AUTHOR", "COMMITTER") for what, value in said.items()}
