"""Programs that run with more than their caller's rights: setuid and setgid files, file capabilities, and what the packages say of them."""

from msgspec import Struct, field

from fidelitas.equality import equal_apart_from
from fidelitas.text import Place

__all__ = ["CapableFile", "Packaged", "Programs", "SetIdFile"]


@equal_apart_from("place")
class SetIdFile(Struct, frozen=True, kw_only=True):
    """A regular file with the setuid or setgid bit; `mtime` is in seconds since 1970-01-01 UTC."""

    path: str
    mode: int
    uid: int
    gid: int
    size: int
    mtime: int
    place: Place


@equal_apart_from("place")
class CapableFile(Struct, frozen=True, kw_only=True):
    """A file with capabilities (capabilities(7), File capabilities).

    `effective` says that they are in force as soon as the program starts.  `root_uid` is that of the user namespace in which alone they
    count (version 3), or ``None`` for the whole host.
    """

    path: str
    permitted: frozenset[str]
    inheritable: frozenset[str] = frozenset()
    effective: bool = True
    root_uid: int | None = None
    place: Place


class Packaged(Struct, frozen=True, kw_only=True):
    """What a package manager says of a file: `digest` and `mode` as packaged, ``None`` where its database does not tell.

    `algorithm` names that of the digest.  `overridden` is the mode that the administrator registered (dpkg-statoverride(1)).
    """

    package: str
    digest: str | None = None
    algorithm: str | None = None
    mode: int | None = None
    capabilities: str | None = None
    overridden: int | None = None


class Programs(Struct, frozen=True, kw_only=True):
    """What a search of the files found.

    `packaged` maps a path to what the package manager says of it; a path that is not there belongs to no package, where `manager` is
    known.  `digests` maps a path and an algorithm to what the file has now.  `searched` are the folders from which the search began,
    `skipped` pairs of a mount point and its kind of file system.
    """

    set_id: tuple[SetIdFile, ...] = ()
    capable: tuple[CapableFile, ...] = ()
    packaged: dict[str, Packaged] = field(default_factory=dict)
    digests: dict[tuple[str, str], str] = field(default_factory=dict)
    manager: str | None = None
    searched: tuple[str, ...] = ()
    skipped: tuple[tuple[str, str], ...] = ()
