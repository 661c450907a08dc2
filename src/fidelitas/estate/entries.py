"""What an estate is made of: hosts that are reached over SSH, servers that are reached by URI, and tags on both."""

from collections.abc import Mapping, Sequence
from enum import Enum
from pathlib import Path

from msgspec import Struct

__all__ = ["Elevation", "Estate", "HostEntry", "PolicySource", "ServerEntry", "Shell", "has_tag"]


class Elevation(Enum):
    """How the account that logs in becomes root on a host."""

    NONE = "none"
    SUDO = "sudo -n"
    DOAS = "doas -n"


class Shell(Enum):
    """What the probe is written in that a host runs."""

    SH = "sh"
    POWERSHELL = "powershell"  # of a Windows machine, by its OpenSSH server


class HostEntry(Struct, frozen=True, kw_only=True):
    """A host.  What is ``None`` is left to the configuration of ssh; `collector` is where the probe is installed on it."""

    name: str
    address: str
    tags: tuple[str, ...] = ()
    elevation: Elevation = Elevation.SUDO
    shell: Shell = Shell.SH
    port: int | None = None
    user: str | None = None
    identity: str | None = None
    collector: str | None = None
    deadline: float | None = None
    line: int = 0


class ServerEntry(Struct, frozen=True, kw_only=True):
    """A database server or a directory, by its URI without a password; `kind` is its platform."""

    name: str | None
    kind: str
    uri: str
    tags: tuple[str, ...] = ()
    line: int = 0

    @property
    def shown(self) -> str:
        """What it is called: its name, else its URI."""
        return self.name or self.uri


class PolicySource(Struct, frozen=True, kw_only=True):
    """The git repository that a policy is kept in.

    `files` says which file of it, or folder with a slash at its end, a path on a host is; `intended` which commit, tag or branch is to be
    on the subjects with a tag.
    """

    repository: Path
    files: Mapping[str, str]
    intended: Mapping[str, str]


class Estate(Struct, frozen=True, kw_only=True):
    """All hosts and servers, in the order of the file; `ssh_config` is the configuration file of ssh to use in place of the user's."""

    hosts: Sequence[HostEntry]
    servers: Sequence[ServerEntry]
    ssh_config: Path | None = None
    policy: PolicySource | None = None

    def chosen(self, tags: Sequence[str] = (), names: Sequence[str] = ()) -> "Estate":
        """Return what has one of some tags, where any are asked for, and one of some names, where any are."""

        def fits(one: HostEntry | ServerEntry) -> bool:
            name = one.name if isinstance(one, HostEntry) else one.shown
            return (not tags or any(has_tag(one.tags, tag) for tag in tags)) and (not names or name in names)

        return Estate(
            hosts=[one for one in self.hosts if fits(one)],
            servers=[one for one in self.servers if fits(one)],
            ssh_config=self.ssh_config,
            policy=self.policy,
        )

    @property
    def names(self) -> list[str]:
        """The names of all subjects."""
        return [*(one.name for one in self.hosts), *(one.shown for one in self.servers)]

    def tags_by_name(self) -> dict[str, tuple[str, ...]]:
        """Return the tags of each subject whose name is known."""
        hosts = {one.name: one.tags for one in self.hosts}
        return hosts | {one.name: one.tags for one in self.servers if one.name}

    @property
    def tags(self) -> list[str]:
        """All tags, each once."""
        return sorted(
            {tag for some in ([one.tags for one in self.hosts], [one.tags for one in self.servers]) for tags in some for tag in tags}
        )


def has_tag(tags: Sequence[str], wanted: str) -> bool:
    """Return whether a tag is among others: ``web`` also fits ``role=web``, ``role=web`` only itself."""
    return any(tag == wanted or ("=" not in wanted and tag.partition("=")[2] == wanted) for tag in tags)
