"""What setuid and setgid files and file capabilities amount to: the table in ``data/set_id.toml``, held against packages and powers.

Knows where a file comes from and what its program can do; and who can start it.
"""

import tomllib
from collections.abc import Iterator, Mapping, Sequence
from enum import Enum
from functools import cache
from importlib.resources import files

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.facts import CapableFile, Command, FileKind, FileState, HostFacts, Mount, Packaged, Programs, SetIdFile
from fidelitas.rights.linux.files import Writers, runners
from fidelitas.rights.linux.population import Population
from fidelitas.rights.linux.powers import Power, lesser_power_of, power_of_program
from fidelitas.rights.linux.reach import reachers

__all__ = ["Capability", "Origin", "PrivilegedProgram", "capability_power", "mount_of", "privileged_programs", "who_runs"]


class Origin(Enum):
    """Where a file with such a bit comes from."""

    PACKAGED = "packaged, unchanged"
    CHANGED = "packaged, changed since"
    MADE_SO = "packaged, given the bit since"
    UNPACKAGED = "from no package"
    UNKNOWN = "not known: no package database was read"

    __hash__ = object.__hash__


class Capability(Struct, frozen=True, kw_only=True):
    """What a capability amounts to: root, reading every file, changing what is recorded, or less."""

    name: str
    root: bool
    reads: bool
    hides: bool  # writes, removes or stops what is recorded
    reason: str


class PrivilegedProgram(Struct, frozen=True, kw_only=True):
    """A file with such a bit, where it comes from and what it amounts to.

    `power` is set where the program does whatever its user likes, `lesser` where it reads any file or removes what is recorded, `copy_of`
    where it is a copy of such a program, by its digest.
    `capabilities` are those of its own that matter.  `checks_caller` is the reason why a program of its name, wherever it is, does nothing
    for its caller that the host's files do not allow; `twin` is a packaged program of the same content.  `expected` is the reason why a
    packaged program has the bit, where the table knows it.  `in_force` is false on a mount that honours no such bits.
    """

    path: str
    set_id: SetIdFile | None
    capable: CapableFile | None
    origin: Origin
    package: Packaged | None
    power: Power | None
    copy_of: str | None
    capabilities: tuple[Capability, ...]
    expected: str | None
    in_force: bool
    checks_caller: str | None = None
    twin: str | None = None
    lesser: Power | None = None

    @property
    def is_foreign_copy(self) -> bool:
        """Whether it is an older or foreign copy of a program that checks its caller: one of a chroot, a container or an image."""
        return bool(self.checks_caller) and self.origin is Origin.UNPACKAGED and self.power is None and not self.twin

    @property
    def named(self) -> str:
        """The path, with the program that it is a copy of, as the beginning of a sentence."""
        return f"{self.path}, a copy of {self.copy_of}," if self.copy_of else self.path

    @property
    def odd_capability(self) -> bool:
        """Whether it has a capability that amounts to root, and is none of those to which distributions give one."""
        return _odd(self.path, self.capabilities)

    @property
    def as_root(self) -> bool:
        """Whether the program runs as root, or with capabilities that amount to it."""
        setuid = self.set_id is not None and self.set_id.uid == 0 and bool(self.set_id.mode & 0o4000)
        return setuid or any(one.root for one in self.capabilities)


def _odd(path: str, capabilities: Sequence[Capability]) -> bool:
    return path.rpartition("/")[2] not in _tables()[2] and any(one.root for one in capabilities)


@cache
def _tables() -> tuple[Mapping[str, str], Mapping[str, Capability], frozenset[str]]:
    """Return why programs need a set-ID bit, what capabilities amount to, and the programs that ship with capabilities that are root's."""
    stated = tomllib.loads(files("fidelitas.rights.linux").joinpath("data/set_id.toml").read_text("utf-8"))
    expected = {name: entry["reason"] for entry in stated["program"] for name in entry["name"]}
    capabilities = {
        name: Capability(
            name=name, root=entry["root"], reads=entry.get("reads", False), hides=entry.get("hides", False), reason=entry["reason"]
        )
        for entry in stated["capability"]
        for name in entry["name"]
    }
    return expected, capabilities, frozenset(name for entry in stated["program"] if entry.get("capable") for name in entry["name"])


def capability_power(name: str) -> Capability | None:
    """Return what a capability amounts to, or nothing where it is a small one."""
    return _tables()[1].get(name)


def privileged_programs(facts: HostFacts) -> Iterator[PrivilegedProgram]:
    """Yield every file with such a bit, by path."""
    programs = facts.programs
    if programs is None:
        return
    set_id = {one.path: one for one in programs.set_id}
    capable = {one.path: one for one in programs.capable}
    known, twins = _known(programs), _packaged_twins(programs)
    for path in sorted(set_id.keys() | capable.keys()):
        mount = mount_of(facts.mounts or (), path)
        program = _judged(
            path, set_id.get(path), capable.get(path), programs, known, in_force=mount is None or "nosuid" not in mount.options
        )
        digest = programs.digests.get((path, "sha256"))
        twin = twins.get(digest) if digest else None
        yield replace(program, twin=twin) if twin not in (None, path) and program.package is None else program


def _known(programs: Programs) -> Mapping[str, str]:
    """Return the paths of programs that the table knows, by the digest of their content; not of those that check who their caller is."""
    return {
        digest: path
        for (path, algorithm), digest in sorted(programs.digests.items(), reverse=True)
        if algorithm == "sha256" and path.rpartition("/")[2] not in _tables()[0] and _power(path, full=None) is not None
    }


def _power(path: str, *, full: bool | None) -> Power | None:
    """Return what the table knows of a program: all that its user likes, or less; either, without `full`."""
    all_of_it, less = power_of_program(path), lesser_power_of(Command(path=path))
    return {True: all_of_it, False: less, None: all_of_it or less}[full]


def who_runs(program: PrivilegedProgram, states: Mapping[str, FileState], population: Population) -> Writers:
    """Return who besides root can start a program, by its permissions and those of every folder above it."""
    set_id, state = program.set_id, states.get(program.path)
    if state is None or state.mode is None:
        state = FileState(path=program.path, kind=FileKind.FILE, mode=0o755)
        if set_id is not None:
            state = replace(state, uid=set_id.uid, gid=set_id.gid, mode=set_id.mode)
    found, within = runners(state), reachers(program.path, states, population)
    if within is None and any(one.uid for one in population.in_gid(0)):
        return found
    if within is None:  # in root's own group there is nobody
        return replace(found, gids=found.gids - {0})
    return Writers(uids=frozenset(one.uid for one in population.identities if one.uid in within and found.include(one)))


def _packaged_twins(programs: Programs) -> Mapping[str, str]:
    """Return the packaged programs that have such a bit, by the digest of their content."""
    paths = [one.path for one in programs.set_id if one.path in programs.packaged]
    return {digest: path for path in sorted(paths, reverse=True) if (digest := programs.digests.get((path, "sha256"), ""))}


def _judged(
    path: str, set_id: SetIdFile | None, capable: CapableFile | None, programs: Programs, known: Mapping[str, str], *, in_force: bool
) -> PrivilegedProgram:
    package = programs.packaged.get(path)
    copy_of = known.get(programs.digests.get((path, "sha256"), ""))
    name = path.rpartition("/")[2]
    checks_caller = None if copy_of else _tables()[0].get(name)
    expected = checks_caller if package is not None or not programs.manager else None
    known_as = [] if checks_caller else [one for one in (path, copy_of) if one]
    names = sorted(capable.permitted) if capable is not None and capable.root_uid is None else []
    capabilities = tuple(power for power in map(capability_power, names) if power is not None)
    return PrivilegedProgram(
        path=path,
        set_id=set_id,
        capable=capable,
        origin=_origin(path, set_id, capable, programs, expected=bool(expected), odd=_odd(path, capabilities)),
        package=package,
        power=next(filter(None, (_power(one, full=True) for one in known_as)), None),
        lesser=next(filter(None, (_power(one, full=False) for one in known_as)), None),
        copy_of=None if copy_of == path else copy_of,
        capabilities=capabilities,
        expected=expected,
        in_force=in_force,
        checks_caller=checks_caller,
    )


def _origin(path: str, set_id: SetIdFile | None, capable: CapableFile | None, programs: Programs, *, expected: bool, odd: bool) -> Origin:
    package = programs.packaged.get(path)
    if not programs.manager:
        return Origin.UNKNOWN
    if package is None:
        return Origin.UNPACKAGED
    found = programs.digests.get((path, package.algorithm)) if package.algorithm else None
    if package.digest and found and found != package.digest:
        return Origin.CHANGED
    if odd and not package.capabilities:
        return Origin.MADE_SO
    mode = package.overridden if package.overridden is not None else package.mode
    if mode is not None and set_id is not None:
        return Origin.PACKAGED if mode & 0o6000 == set_id.mode & 0o6000 else Origin.MADE_SO
    if package.mode is not None and capable is not None and set_id is None:
        return Origin.PACKAGED if package.capabilities else Origin.MADE_SO
    return Origin.PACKAGED if expected else Origin.MADE_SO


def mount_of(mounts: Sequence[Mount], path: str) -> Mount | None:
    """Return the mount that a path lies on: of those above it the nearest, and of two at one place the later."""
    above = [mount for mount in mounts if path == mount.path or path.startswith(mount.path.rstrip("/") + "/")]
    return max(enumerate(above), key=lambda one: (len(one[1].path), one[0]))[1] if above else None
