"""Every language and reader by name, as a function of bytes: what hostile input is put to."""

import io
import tarfile
from collections.abc import Callable, Iterable, Mapping
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

from msgspec.structs import replace

from fidelitas.charter import read_charter
from fidelitas.errors import FidelitasError
from fidelitas.evidence import Bundle, read_bundle
from fidelitas.evidence.logs import log_copy
from fidelitas.inquiry import Inquiry
from fidelitas.languages.directory import read_directory
from fidelitas.languages.ldap import ldif
from fidelitas.languages.ldap.sudo_role import read_sudo_ldif
from fidelitas.languages.linux import access_lists, accounts, capabilities, cron, delegations, keys, pam, polkit_actions, running, settings
from fidelitas.languages.linux.host import read_host
from fidelitas.languages.linux.programs import read_programs
from fidelitas.languages.linux.sshd import read_sshd
from fidelitas.languages.linux.units import read_units
from fidelitas.languages.logs.reading import LogReading
from fidelitas.languages.logs.sudo_lines import read_sudo_line
from fidelitas.languages.mariadb import read_mariadb
from fidelitas.languages.postgresql import read_postgresql
from fidelitas.languages.security_descriptors import read_descriptor
from fidelitas.languages.windows.code_pages import decoded
from fidelitas.languages.windows.machine import read_windows
from fidelitas.languages.windows.tool_output import read_group_text, read_user_rights
from fidelitas.ledger import Ledger
from fidelitas.masking import masked_lines
from fidelitas.people.map import read_map
from fidelitas.rights import database_rights_of, directory_rights_of, mariadb_rights_of, rights_of, windows_rights_of
from fidelitas.sources.directory import from_ldif
from fidelitas.sources.mariadb_dump import from_mariadb_dump
from fidelitas.sources.postgresql import from_postgresql_dump
from fidelitas.text import Place, decode
from fidelitas.usage.meanings import meaning_of
from fidelitas.usage.sensitive_targets import edited_paths
from support import bundle

Reader = Callable[[bytes], object]
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
HERE = Place(subject="knot", path="/x")


def text(function: Callable[[str, Place], object]) -> Reader:
    """Return a language of texts as a reader; what it yields is taken to the end."""

    def read(content: bytes) -> object:
        made = function(decode(content), HERE)
        return list(made) if isinstance(made, Iterable) and not isinstance(made, (str, bytes, Mapping)) else made

    return read


def raw(function: Callable[[bytes, Place], object]) -> Reader:
    return lambda content: function(content, HERE)


def listed(*names: str, platform: str = "linux") -> Callable[[bytes], Bundle]:
    """Return evidence in which each of some listings holds the content."""
    template = bundle()

    def make(content: bytes) -> Bundle:
        return replace(
            template,
            manifest=replace(template.manifest, platform=platform),
            listings={**dict(template.listings), **dict.fromkeys(names, content)},
        )

    return make


def file(path: str) -> Reader:
    """Return the reader of a host with a file of that content, rights and all."""
    template = bundle("root ALL=(ALL) ALL\n", {path: "x\n"})

    def read(content: bytes) -> object:
        return rights_of(read_host(replace(template, files={**template.files, path: content}))).holdings

    return read


def asked(content: bytes) -> object:
    """The policy, and questions to it."""
    evidence = bundle("root ALL=(ALL) ALL\n")
    inquiry = Inquiry(replace(evidence, files={**evidence.files, "/etc/sudoers": content}))
    return inquiry.decision("ines", None, ("/usr/bin/id", "-a")), inquiry.decision("rada", "root", ("/bin/sh",))


def log(path: str) -> Reader:
    """Return the reader of a log of that name."""

    def read(content: bytes) -> object:
        reading = LogReading([log_copy(path, "knot", NOW, content)], UTC)
        events = list(reading.events())
        lost = [gap.why for gap in reading.gaps if gap.fatal]
        if lost:  # an unexpected error, which an audit would survive
            raise RuntimeError(lost[0])
        return events, reading.gaps, reading.unread

    return read


def ledger(content: bytes) -> object:
    with TemporaryDirectory() as folder:
        (Path(folder) / "surveys").mkdir()
        (Path(folder) / "ledger.json").write_bytes(content)
        (Path(folder) / "surveys" / "2026-11-23T071742Z.json").write_bytes(content)
        return Ledger(Path(folder)).bundles()


def refusing(function: Reader) -> Reader:
    """Return a reader whose errors in words are an answer."""

    def read(content: bytes) -> object:
        with suppress(FidelitasError):
            return function(content)
        return None

    return read


def read_pam(content: bytes) -> object:
    return pam.read_pam_service("su", "knot", lambda path: decode(content) if path == "/etc/pam.d/su" else None)


def from_manifest(content: bytes) -> object:
    """A bundle with this manifest, read, audited and its logs looked at."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        entry = tarfile.TarInfo("manifest.json")
        entry.size = len(content)
        archive.addfile(entry, io.BytesIO(content))
    with suppress(FidelitasError):
        found = read_bundle(io.BytesIO(out.getvalue()))
        return found.zone, found.logs(), rights_of(read_host(found)).holdings
    return None


_PG = (
    "server",
    "roles",
    "passwords",
    "memberships",
    "databases",
    "access-rules",
    "cluster-grants",
    "settings",
    "grants x",
    "schemas x",
    "functions x",
)
_MY = (
    "server",
    "global_priv",
    "user",
    "user_privileges",
    "roles_mapping",
    "role_edges",
    "db",
    "tables_priv",
    "columns_priv",
    "procs_priv",
    "sessions",
)
_WINDOWS = (
    "computer",
    "local-accounts",
    "local-groups",
    "members",
    "services",
    "tasks",
    "access",
    "settings",
    "sessions",
    "group",
    "user-rights",
)


def command(content: bytes) -> object:
    """What is concluded from a command of sudo."""
    event = read_sudo_line(f"ines : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/bin/sh -c {decode(content)}")
    return event is not None and (meaning_of(event), edited_paths(event.command, event.folder))


READERS: Mapping[str, Reader] = {
    "passwd": text(accounts.read_passwd),
    "shadow": text(accounts.read_shadow),
    "group": text(accounts.read_group),
    "gshadow": text(accounts.read_gshadow),
    "passwd, rights": file("/etc/passwd"),
    "group, rights": file("/etc/group"),
    "os-release": text(settings.read_os_release),
    "login.defs": text(settings.read_login_defs),
    "nsswitch": text(settings.read_nsswitch),
    "netgroup": text(settings.read_netgroup),
    "sudo.conf": text(settings.read_policy_plugin),
    "sudoers": file("/etc/sudoers"),
    "sudoers, asked": refusing(asked),
    "sudo ldif": text(read_sudo_ldif),
    "ldif": lambda content: (ldif.is_ldif(decode(content)), list(ldif.entries(decode(content), HERE, [], "x"))),
    "crontab": text(cron.read_crontab),
    "crontab of an account": lambda content: cron.read_crontab(decode(content), HERE, "ines"),
    "anacrontab": text(cron.read_anacrontab),
    "unit": lambda content: read_units({"/etc/systemd/system/a.service": decode(content)}, frozenset(), "knot"),
    "doas": text(delegations.read_doas),
    "exports": text(delegations.read_exports),
    "ld.so.conf": text(delegations.read_library_folders),
    "profile": text(delegations.read_path_lines),
    "polkit rules": text(delegations.read_polkit_rules),
    "polkit actions": text(polkit_actions.read_polkit_actions),
    "polkit authority": text(polkit_actions.read_local_authority),
    "pam": read_pam,
    "group.conf": text(pam.read_lent_groups),
    "sshd": lambda content: read_sshd("/x", "knot", lambda path: decode(content) if path == "/x" else None, lambda _: ()),
    "authorized keys": text(keys.read_authorized_keys),
    "access lists": raw(access_lists.read_access_lists),
    "attributes": raw(capabilities.read_attributes),
    "capabilities": raw(capabilities.read_told_capabilities),
    "set-id": lambda content: read_programs({"set-id": content, "file-systems": b"searched\t/\n"}, "knot"),
    "program listings": lambda content: (
        rights_of(
            read_host(
                listed(
                    "file-systems",
                    "scripts",
                    "md5",
                    "dpkg-owners",
                    "dpkg-md5sums",
                    "rpm-files",
                    "dpkg-overrides",
                    "program-digests",
                    "homes",
                    "private-keys",
                    "kept-passwords",
                )(content)
            )
        ).holdings
    ),
    "processes": lambda content: running.read_processes({"processes": content, "login-ids": content}),
    "mounts": lambda content: (running.read_mounts(content), running.read_packages(content), running.read_kernel_settings(content, HERE)),
    "utmp": file("/run/utmp"),
    "postgresql rows": lambda content: database_rights_of(read_postgresql(listed(*_PG, platform="postgresql")(content))).holdings,
    "mariadb rows": lambda content: mariadb_rights_of(read_mariadb(listed(*_MY, platform="mariadb")(content))).holdings,
    "directory": lambda content: directory_rights_of(read_directory(listed("entries", platform="directory")(content))).holdings,
    "windows rows": lambda content: windows_rights_of(read_windows(listed(*_WINDOWS, platform="windows")(content)), []).holdings,
    "windows text": lambda content: (read_group_text(decoded(content), HERE), list(read_user_rights(decoded(content), HERE))),
    "security descriptor": lambda content: read_descriptor(decode(content)),
    "syslog": log("/var/log/auth.log"),
    "command in a log": command,
    "sudo's log": log("/var/log/sudo.log"),
    "audit log": log("/var/log/audit/audit.log"),
    "journal": log("/var/log/journal.json"),
    "postgresql log": log("/var/log/postgresql.csv"),
    "event xml": log("/Security.xml"),
    "wtmp": log("/var/log/wtmp"),
    "lastlog": log("/var/log/lastlog"),
    "bundle": refusing(lambda content: read_bundle(io.BytesIO(content))),
    "manifest": from_manifest,
    "ldif file": refusing(lambda content: from_ldif(content, "x")),
    "postgresql dump": refusing(lambda content: from_postgresql_dump(content, "x")),
    "mariadb dump": refusing(lambda content: from_mariadb_dump(content, "x")),
    "charter": refusing(lambda content: read_charter(decode(content), "x")),
    "people": refusing(lambda content: read_map(decode(content), "x.toml")),
    "people, csv": refusing(lambda content: read_map(decode(content), "x.csv")),
    "ledger": refusing(ledger),
    "batch": lambda content: list(Inquiry(bundle()).batch(decode(content).split("\n"), NOW)),
    "masking": lambda content: [masked_lines(decode(content), form) for form in ("shell", "sudoers", "doas", "json")],
}
