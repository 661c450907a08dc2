"""A made-up host: the files that a probe would copy from it.

Knows how account files are laid out; passwords are states, written as the probe writes them or, for a root folder, as made-up hashes.
"""

from msgspec import Struct, field

from fidelitas.demo.people import Person

__all__ = ["File", "HostBuilder"]

# Made-up hashes of the right form: no password gives them.
_HASHES = {"yescrypt": "$y$j9T$saltmarsh$tide", "sha512": "$6$saltmarsh$tide"}


class File(Struct, frozen=True):
    """A file that is copied; with no text a folder, or something that is only looked at, by its `kind`."""

    text: str | None
    mode: int = 0o644
    uid: int = 0
    gid: int = 0
    kind: str = "folder"


class HostBuilder(Struct):
    """A host under construction.  Lines are added in the order in which they stand in the files."""

    name: str
    os_release: str
    admin_group: str
    method: str
    accounts: list[str] = field(default_factory=list)
    passwords: list[tuple[str, str]] = field(default_factory=list)
    groups: list[tuple[str, int, list[str]]] = field(default_factory=list)
    policies: dict[str, File] = field(default_factory=dict)
    listings: dict[str, str] = field(default_factory=dict)

    def account(
        self, name: str, uid: int, *, gid: int | None = None, shell: str = "/bin/bash", state: str = "usable", comment: str = ""
    ) -> None:
        """Add an account; `state` is one of usable, locked, none and empty."""
        home = "/root" if name == "root" else f"/home/{name}" if uid >= 1000 else f"/var/lib/{name}"
        self.accounts.append(f"{name}:x:{uid}:{uid if gid is None else gid}:{comment}:{home}:{shell}")
        self.passwords.append((name, state))

    def person(self, person: Person, *, state: str = "usable") -> None:
        """Add a person's account and own group."""
        self.account(person.name, person.uid, comment=f"{person.full_name}, {person.team}", state=state)
        self.group(person.name, person.uid)

    def group(self, name: str, gid: int, *members: str) -> None:
        """Add a group."""
        self.groups.append((name, gid, list(members)))

    def listing(self, name: str, text: str) -> None:
        """Add to what a tool of the host prints."""
        self.listings[name] = self.listings.get(name, "") + text

    def program(self, path: str, mode: int, gid: int = 0, uid: int = 0) -> None:
        """Add a setuid or setgid program."""
        self.listing("set-id", f"{mode:o} {uid} {gid} 31184 1726000000.0000000000 {path}\0")

    def homes(self) -> list[tuple[str, str]]:
        """Return the accounts with their homes."""
        return [(fields[0], fields[5]) for fields in (line.split(":") for line in self.accounts)]

    def files(self, *, redacted: bool = True) -> dict[str, File]:
        """Return all files and folders of the host by path; password fields as the probe writes them, or as on the host itself."""
        shadow = "".join(f"{name}:{self._field(state, redacted)}:20400:0:99999:7:::\n" for name, state in self.passwords)
        locked = "{locked}" if redacted else "!"
        folders = dict.fromkeys(("/", "/etc", "/etc/sudoers.d"), File(None, 0o755))
        return {
            **folders,
            "/etc/os-release": File(self.os_release),
            "/etc/hostname": File(f"{self.name}\n"),
            "/etc/passwd": File("".join(f"{line}\n" for line in self.accounts)),
            "/etc/shadow": File(shadow, 0o640),
            "/etc/group": File("".join(f"{name}:x:{gid}:{','.join(members)}\n" for name, gid, members in self.groups)),
            "/etc/gshadow": File("".join(f"{name}:{locked}::{','.join(members)}\n" for name, _, members in self.groups), 0o640),
            "/etc/login.defs": File("UID_MIN 1000\nUID_MAX 60000\nGID_MIN 1000\nGID_MAX 60000\n"),
            "/etc/nsswitch.conf": File("passwd: files systemd\ngroup: files systemd\nshadow: files\ngshadow: files\n"),
            "/etc/sudo.conf": File("# The defaults are good.\nSet disable_coredump true\n"),
            **self.policies,
        }

    def _field(self, state: str, redacted: bool) -> str:
        if state == "empty":
            return ""
        if redacted:
            return {"usable": f"{{usable {self.method}}}", "locked": f"{{locked {self.method}}}", "none": "{none}"}[state]
        return {"usable": _HASHES[self.method], "locked": f"!{_HASHES[self.method]}", "none": "*"}[state]
