"""Who is let act as whom by other programs than sudo: doas, polkit; and who is root from another host, by NFS."""

from msgspec import Struct, field

from fidelitas.equality import equal_apart_from
from fidelitas.facts.jobs import Job, SearchFolder
from fidelitas.text import Place

__all__ = ["Delegations", "DoasRule", "NfsExport", "OpenService", "PolkitAction", "PolkitRule", "SubordinateRange", "Trust"]


@equal_apart_from("place")
class DoasRule(Struct, frozen=True, kw_only=True):
    """A line of doas.conf(5): `target` and `command` are ``None`` for any, `arguments` ``None`` for any."""

    permit: bool
    identity: str
    options: frozenset[str]
    target: str | None
    command: str | None
    arguments: tuple[str, ...] | None
    text: str
    place: Place


@equal_apart_from("place")
class NfsExport(Struct, frozen=True, kw_only=True):
    """A folder that is exported to some clients (exports(5)), with the options for them."""

    path: str
    client: str
    options: frozenset[str]
    place: Place


@equal_apart_from("place")
class PolkitRule(Struct, frozen=True, kw_only=True):
    """A rule of polkit(8): either `administrators`, pairs of user or group and name, or an `answer` "yes" for some without asking.

    `actions` are the beginnings of the names of the actions that it is about; none for all.
    """

    administrators: tuple[tuple[str, str], ...]
    actions: tuple[str, ...]
    groups: tuple[str, ...]
    users: tuple[str, ...]
    answer: str
    place: Place


@equal_apart_from("place")
class PolkitAction(Struct, frozen=True, kw_only=True):
    """What polkit guards, with its answers where no rule has one: to anyone, and in sessions at the console, idle or in use.

    `program` is what pkexec(1) runs for the action, if it is for a program.
    """

    name: str
    anyone: str
    inactive: str
    active: str
    program: str
    place: Place


@equal_apart_from("place")
class SubordinateRange(Struct, frozen=True, kw_only=True):
    """User IDs that an account may map into namespaces of its own (subuid(5)): `count` of them from `first` on."""

    owner: str
    first: int
    count: int
    place: Place


@equal_apart_from("place")
class Trust(Struct, frozen=True, kw_only=True):
    """A line of a file that lets others log in without the account's password: hosts.equiv(5), .rhosts, .k5login(5)."""

    path: str
    text: str
    place: Place


@equal_apart_from("place")
class OpenService(Struct, frozen=True, kw_only=True):
    """A setting by which a service that runs anything as root listens for everyone; `less` where a password or key is still asked."""

    path: str
    text: str
    why: str
    less: bool = False
    place: Place


class Delegations(Struct, frozen=True, kw_only=True):
    """What else leads to root: what runs by itself, where programs are taken from, and rules of other programs.

    `doas` is ``None`` where there is no doas.conf; `scripts` maps a path to the interpreter that its first line names.
    """

    jobs: tuple[Job, ...] = ()
    folders: tuple[SearchFolder, ...] = ()
    preloaded: tuple[SearchFolder, ...] = ()
    doas: tuple[DoasRule, ...] | None = None
    polkit: tuple[PolkitRule, ...] = ()
    polkit_actions: tuple[PolkitAction, ...] = ()
    exports: tuple[NfsExport, ...] = ()
    scripts: dict[str, str] = field(default_factory=dict)
    services: tuple[OpenService, ...] = ()
    devices: tuple[tuple[str, str, Place], ...] = ()  # rules of udev about disks: file, line, place
    calls: dict[str, tuple[str, ...]] = field(default_factory=dict)  # what each script that was copied runs and reads
    subordinates: tuple[SubordinateRange, ...] = ()
    trusts: tuple[Trust, ...] = ()
    texts: dict[str, str] = field(default_factory=dict)  # of programs of sshd that say whose keys open an account
