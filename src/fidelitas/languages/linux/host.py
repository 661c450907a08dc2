"""All facts of one host: which file of a bundle is in which language.

Knows the paths and what each is read for; not the syntax, nor what follows from the facts.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import TypeVar

from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.facts import (
    AccessEntry,
    FileKind,
    FileState,
    Gap,
    GapKind,
    Group,
    HostFacts,
    LoginLimits,
    NameService,
    Netgroup,
    Place,
    SudoPolicy,
)
from fidelitas.languages.evidence import HostEvidence, ItemLike
from fidelitas.languages.ldap.ldif import is_ldif
from fidelitas.languages.ldap.sudo_role import read_sudo_ldif
from fidelitas.languages.lines import Parsed
from fidelitas.languages.linux.access import AccessReader
from fidelitas.languages.linux.access_lists import read_access_lists
from fidelitas.languages.linux.accounts import read_group, read_gshadow, read_passwd, read_shadow
from fidelitas.languages.linux.confinement import read_confinement
from fidelitas.languages.linux.directory_sources import PATHS as DIRECTORY_PATHS
from fidelitas.languages.linux.directory_sources import read_directory_sources
from fidelitas.languages.linux.programs import read_programs
from fidelitas.languages.linux.running import read_kernel_settings, read_mounts, read_packages, read_processes, read_sudo_version
from fidelitas.languages.linux.sessions import read_login_sessions
from fidelitas.languages.linux.settings import (
    PolicyPlugin,
    read_login_defs,
    read_netgroup,
    read_nsswitch,
    read_os_release,
    read_policy_plugin,
)
from fidelitas.languages.linux.user_records import FOLDERS, UserRecords, read_user_records
from fidelitas.languages.sudoers import read_policy
from fidelitas.masking import masked_lines
from fidelitas.text import decode

__all__ = ["ITEMS", "read_host"]

T = TypeVar("T")

# What each path is read for: what cannot be relied on when it is missing from the evidence.
ITEMS: Mapping[str, str] = {
    "/etc/os-release": "which user IDs belong to people, and which group is the administrators'",
    "/etc/passwd": "which accounts there are, and which of them are root",
    "/etc/group": "who is in a group that holds rights",
    "/etc/shadow": "which accounts have an empty, locked or usable password, and so who can log in or use su",
    "/etc/gshadow": "who may change the members of a group",
    "/etc/login.defs": "which user IDs belong to people",
    "/etc/nsswitch.conf": "whether accounts, groups or sudo rules also come from a directory",
    "/etc/sudo.conf": "which policy sudo uses",
    "/etc/sudoers": "what sudo allows to whom",
}
# These are missing on many a healthy host; their absence is a fact, not a gap.
_OPTIONAL = frozenset({"/etc/gshadow", "/etc/login.defs", "/etc/nsswitch.conf", "/etc/sudo.conf", "/etc/os-release", "/etc/sudoers"})

# The sources of nsswitch.conf that the evidence covers.  "systemd" adds the accounts of running services, which no policy file names,
# and "compat" is "files" with references to NIS, which the languages of those files report.
_COVERED = {
    "passwd": frozenset({"files", "compat", "systemd"}),
    "group": frozenset({"files", "compat", "systemd"}),
    "shadow": frozenset({"files", "compat", "systemd"}),
    "sudoers": frozenset({"files"}),
}
_ELSEWHERE = {
    "passwd": "accounts from there may hold rights that are not shown",
    "group": "memberships from there may give rights that are not shown",
    "shadow": "password states from there are not known",
    "sudoers": "sudo rules from there may give rights that are not shown",
}

# Searches of the probe that always leave a listing, and what cannot be relied on without.
_SEARCHES = {
    "file-systems": ("setuid files and capabilities", "which programs make their user root"),
    "homes": ("authorized keys", "whose keys open which accounts"),
    "kept-passwords": ("passwords of databases in files", "who can read the password of a database"),
}


# Long files that hold no commands and no options; their hashes are reduced to a method by the probe.
_NO_SECRETS = frozenset({"/etc/passwd", "/etc/group", "/etc/shadow", "/etc/gshadow", "/etc/netgroup"})


# Of files up to this size the last that were masked are kept from host to host.
_SHORT = 16_384


def _form(path: str) -> str:
    """Return how the words of a file end: the probe masks in the same way, an older one or another hand may not have."""
    return "sudoers" if "sudoers" in path else "doas" if path.endswith("doas.conf") else "shell"


def _masked(content: bytes, form: str) -> str:
    """Return a text without the secrets in it; many hosts have the same short files."""
    return _masked_before(content, form) if len(content) <= _SHORT else masked_lines(decode(content), form)


@lru_cache(maxsize=500)
def _masked_before(content: bytes, form: str) -> str:
    return masked_lines(decode(content), form)


class _Files(Struct, frozen=True):
    """The files of a bundle, as the languages ask for them."""

    contents: Mapping[str, bytes]
    states: Mapping[str, FileState]
    missing: frozenset[str]
    _texts: dict[str, str] = field(default_factory=dict)  # a policy is asked for by what reads it, what cites it and what compares it

    def text(self, path: str) -> str | None:
        content = self.contents.get(path)
        if content is not None and path not in self._texts:
            self._texts[path] = decode(content) if path in _NO_SECRETS else _masked(content, _form(path))
        return self._texts.get(path)

    def state(self, path: str) -> FileState | None:
        return self.states.get(path)

    def told(self, path: str) -> bool:
        return path in self.missing

    def names(self, folder: str) -> list[str]:
        inside = folder.rstrip("/") + "/"
        return [path.removeprefix(inside) for path in self.states if path.startswith(inside) and "/" not in path.removeprefix(inside)]

    def inside(self, folder: str) -> list[str]:
        """Return the paths of the copies below a folder, which is written with its slash."""
        return sorted(path for path in self.contents if path.startswith(folder))


def read_host(evidence: HostEvidence) -> HostFacts:
    """Return all facts of a host, gaps included."""
    owner = _unpacked_by(evidence)
    origin = Place(subject=evidence.subject, path="listing access-lists")
    lists, gaps = read_access_lists(evidence.listings.get("access-lists", b""), origin)
    states = {item.path: _state(item, lists, read=item.path in evidence.files, owner=owner) for item in evidence.items}
    files = _Files(evidence.files, states, frozenset(gap.path for gap in evidence.gaps))
    return _Host(evidence.subject, files, gaps).facts(evidence)


def _unpacked_by(evidence: HostEvidence) -> tuple[int, int] | None:
    """Return the owner and group of a root folder that an ordinary user unpacked: then owners were not kept, and theirs stands for root."""
    top = next((item for item in evidence.items if item.path == "/"), None)
    if evidence.live or top is None or not top.uid or top.gid is None:
        return None
    return top.uid, top.gid


def _state(item: ItemLike, lists: Mapping[str, tuple[AccessEntry, ...]], *, read: bool, owner: tuple[int, int] | None) -> FileState:
    uid, gid = item.uid, item.gid
    if owner is not None:
        uid, gid = (0 if uid == owner[0] else uid), (0 if gid == owner[1] else gid)
    return FileState(
        path=item.path,
        kind=FileKind(item.kind),
        mode=item.mode,
        uid=uid,
        gid=gid,
        size=item.size,
        real=item.real,
        read=read,
        access=lists.get(item.real or item.path, ()),
        digests=item.digests,
    )


def _from_elsewhere(services: Sequence[NameService]) -> Iterator[Gap]:
    """Yield a gap for each source of accounts, groups or rules that the evidence does not cover."""
    for service in services:
        for source in set(service.sources) - _COVERED.get(service.database, frozenset(service.sources)):
            what, why = f'{service.database} entries from "{source}"', "that source is not read"
            yield Gap(
                what=what,
                why=why,
                weakens=_ELSEWHERE[service.database],
                place=service.place,
                kind=GapKind.NAME_SERVICE,
                source=(service.database, source),
            )


def _asks_winbind(services: Sequence[NameService]) -> bool:
    return any("winbind" in service.sources for service in services if service.database in ("passwd", "group"))


def _asks_by_sudo(services: Sequence[NameService]) -> bool:
    """Return whether sudo asks a directory itself, and sssd is not asked for rules beside it."""
    asked = {source for service in services if service.database == "sudoers" for source in service.sources}
    return "ldap" in asked and "sss" not in asked


class _Host:
    def __init__(self, subject: str, files: _Files, gaps: list[Gap]) -> None:
        self._subject = subject
        self._files = files
        self._gaps = gaps

    def facts(self, evidence: HostEvidence) -> HostFacts:
        self._missing(evidence)
        self._gaps += self._owners_not_kept(evidence)
        access = AccessReader(self._subject, self._files, evidence.listings)
        services = self._read("/etc/nsswitch.conf", read_nsswitch) or ()
        self._gaps += _from_elsewhere(services)
        self._gaps += read_confinement({path: self._files.text(path) or "" for path in self._files.inside("/etc/selinux/")}, self._subject)
        policy = self._policy(evidence.host_name)
        groups = self._entries("/etc/group", read_group) or ()
        records = self._records(services, groups)
        listings = evidence.listings
        programs, gaps = read_programs(listings, evidence.subject)
        logins, delegations = access.logins(), access.delegations()
        self._gaps += (*gaps, *access.gaps, *self._not_looked_for(listings))
        return HostFacts(
            subject=evidence.subject,
            taken=evidence.taken,
            host_name=evidence.host_name,
            system=self._read("/etc/os-release", read_os_release),
            accounts=(*(self._entries("/etc/passwd", read_passwd) or ()), *records.accounts),
            shadows=None if (shadows := self._entries("/etc/shadow", read_shadow)) is None else (*shadows, *records.shadows),
            groups=(*groups, *records.groups),
            group_shadows=self._entries("/etc/gshadow", read_gshadow),
            login_limits=self._read("/etc/login.defs", read_login_defs) or LoginLimits(),
            name_services=services,
            directories=read_directory_sources(
                self._directory_files(), self._subject, winbind=_asks_winbind(services), sudo=_asks_by_sudo(services)
            ),
            policy=policy,
            files=tuple(self._files.states.values()),
            gaps=(*self._gaps, *policy.gaps),
            taken_by=evidence.taken_by,
            live=evidence.live,
            addresses=None if evidence.addresses is None else tuple(evidence.addresses),
            netgroups=self._netgroups(services),
            programs=programs,
            logins=logins,
            delegations=delegations,
            processes=read_processes(listings),
            mounts=read_mounts(listings["mounts"]) if "mounts" in listings else None,
            kernel=read_kernel_settings(listings.get("kernel", b""), self._place("/proc/sys")),
            sudo_version=read_sudo_version(listings.get("sudo-version", b"")),
            packages=read_packages(listings.get("package-versions", b"")),
            log_files=frozenset(decode(listings.get("log-files", b"")).split("\n")) - {""},
            login_sessions=tuple(read_login_sessions(evidence.files.get("/run/utmp", b""))),
        )

    def _records(self, services: Sequence[NameService], groups: Sequence[Group]) -> UserRecords:
        """Return what records of systemd add, where the host looks them up."""
        if not any("systemd" in service.sources for service in services if service.database in ("passwd", "group")):
            return UserRecords(self._subject, ())
        paths = [path for folder in FOLDERS for path in self._files.inside(folder) if path.endswith((".user", ".group", ".identity"))]
        texts = {path: text for path in paths if (text := self._files.text(path)) is not None and not path.rpartition("/")[2][0].isdigit()}
        sizes = {path: state.size for path, state in self._files.states.items() if path.startswith(FOLDERS)}
        records = read_user_records(texts, sizes, groups, self._subject)
        self._gaps += records.gaps
        return records

    def _owners_not_kept(self, evidence: HostEvidence) -> Iterator[Gap]:
        owner = _unpacked_by(evidence)
        if owner is not None:
            why = f"the root folder belongs to uid {owner[0]}: owners were not kept, and files of that uid are taken to be root's"
            yield Gap(what="owners of files", why=why, weakens="whether someone else can write the policy", place=self._place("/"))

    def _netgroups(self, services: Sequence[NameService]) -> tuple[Netgroup, ...] | None:
        """Return the netgroups, or ``None`` where they come from a directory or could not be read."""
        stated = [service.sources for service in services if service.database == "netgroup"]
        if any(set(sources) != {"files"} for sources in stated):
            return None
        read = self._read("/etc/netgroup", read_netgroup)
        state = self._files.state("/etc/netgroup")
        absent = state is not None and state.kind is FileKind.ABSENT
        return () if read is None and absent else read

    def _not_looked_for(self, listings: Mapping[str, bytes]) -> Iterator[Gap]:
        """Yield a gap for each search that the bundle holds no trace of: an older probe made it."""
        for listing, (what, weakens) in _SEARCHES.items():
            if listing not in listings and not self._files.told(what):
                yield Gap(what=what, why="not in the bundle", weakens=weakens, place=self._place(f"listing {listing}"))

    def _place(self, path: str) -> Place:
        return Place(subject=self._subject, path=path)

    def _missing(self, evidence: HostEvidence) -> None:
        """Take over the gaps of the bundle, and note what a bundle should hold and neither has nor mentions."""
        for gap in evidence.gaps:
            weakens = gap.weakens or ITEMS.get(gap.path, "" if "sudoers" not in gap.path else ITEMS["/etc/sudoers"])
            self._gaps.append(Gap(what=gap.path, why=gap.reason, weakens=weakens, place=self._place(gap.path)))
        for path, weakens in ITEMS.items():
            state = self._files.state(path)
            absent = state is not None and state.kind is FileKind.ABSENT
            if self._files.told(path) or path in evidence.files or (absent and path in _OPTIONAL) or path == "/etc/sudoers":
                continue
            why = "there is no such file" if absent else "not in the bundle"
            self._gaps.append(Gap(what=path, why=why, weakens=weakens, place=self._place(path)))

    def _read(self, path: str, language: Callable[[str, Place], T]) -> T | None:
        text = self._files.text(path)
        return None if text is None else language(text, self._place(path))

    def _entries(self, path: str, language: Callable[[str, Place], Parsed[T]]) -> tuple[T, ...] | None:
        parsed = self._read(path, language)
        if parsed is None:
            return None
        self._gaps.extend(parsed.gaps)
        return parsed.entries

    def _directory_files(self) -> dict[str, str]:
        """Return the files that say which directory the host asks, by path."""
        paths = (*DIRECTORY_PATHS, *self._files.inside("/etc/sssd/conf.d/"))
        return {path: text for path in paths if (text := self._files.text(path))}

    def _policy(self, host_name: str) -> SudoPolicy:
        plugin = self._read("/etc/sudo.conf", read_policy_plugin) or PolicyPlugin(path="sudoers.so", place=self._place("/etc/sudo.conf"))
        if not plugin.path.rpartition("/")[2].startswith("sudoers."):
            why = f'sudo asks the plugin "{plugin.path}", which we cannot read'
            self._gaps.append(Gap(what="sudo policy", why=why, weakens=ITEMS["/etc/sudoers"], place=plugin.place))
            return SudoPolicy(known=False)
        state = self._files.state(plugin.sudoers_file)
        if state is not None and state.kind is FileKind.ABSENT and plugin.sudoers_file in _OPTIONAL:
            return SudoPolicy()  # sudo is not installed
        text = self._files.text(plugin.sudoers_file)
        if text is not None and is_ldif(text):  # given in place of the policy, with --policy; sudo itself reads LDIF from a directory only
            return read_sudo_ldif(text, self._place(plugin.sudoers_file))
        origin = self._place(plugin.sudoers_file)
        policy = read_policy(self._files, origin, host=host_name, uid=plugin.sudoers_uid, gid=plugin.sudoers_gid)
        return policy if text is not None else replace(policy, known=False)
