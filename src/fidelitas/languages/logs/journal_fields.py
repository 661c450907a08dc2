"""What the journal itself knows of a message, beside what its writer says (systemd.journal-fields(7), trusted journal fields).

The kernel tells journald which process wrote a message, of which program and user; names that a process gives itself are another thing:
its command name (``_COMM``) is its own choice, the file that it runs (``_EXE``) is not.
"""

import re
from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache
from typing import Any

__all__ = ["Names", "impostor", "pairs_of"]

# Under which names a program's messages are written; those of a program that is not listed by its own.
_WRITERS = {
    "sudo": {"sudo", "sudoedit", "sudo.ws", "sudo-rs", "visudo", "visudo.ws", "visudo-rs"},
    "su": {"su", "su-rs", "runuser"},
    "cron": {"cron", "crond", "anacron", "crontab", "atd"},
    "sshd": {"sshd", "sshd-session", "sshd-auth"},
    "login": {"login"},
    "useradd": {"useradd", "adduser", "newusers"},
    "pkexec": {"pkexec"},
    "polkit-agent-helper-1": {"polkit-agent-helper-1", "polkit-agent-he"},
    "gdm": {"gdm-session-worker"},
    "newgrp": {"newgrp", "sg"},
}
_SAME = {
    "sudo-i": "sudo", "sudoedit": "sudo", "sudo.ws": "sudo", "sudo-rs": "sudo", "su-l": "su", "su-rs": "su", "runuser": "su",
    "runuser-l": "su", "CRON": "cron", "crond": "cron", "CROND": "cron", "crontab": "cron", "sshd-session": "sshd", "sshd-auth": "sshd",
    "atd": "cron", "sg": "newgrp", "gdm-password]": "gdm", "gdm-autologin]": "gdm", "gdm-fingerprint]": "gdm", "gdm-smartcard]": "gdm",
    "gdm-pin]": "gdm", "sshd(pam_google_authenticator)": "sshd", "sudo(pam_google_authenticator)": "sudo",
    "su(pam_google_authenticator)": "su", "login(pam_google_authenticator)": "login",
}  # fmt: skip
# Write a message of their own for a program that asks them: PAM's helpers, and the manager that starts a session.
_HELPERS = frozenset({"unix_chkpwd", "(sd-pam)"})
# Programs that busybox can be; it has a logger, too, which any user may call.
_APPLETS = frozenset({"su", "cron", "login", "passwd", "chpasswd", "adduser", "addgroup", "deluser", "delgroup"})
_SYSTEM = ("/usr/", "/bin/", "/sbin/", "/lib", "/nix/store/", "/gnu/store/", "/snap/")
_SCRIPTS = frozenset({"adduser", "addgroup", "deluser", "delgroup"})
# Their messages are written with all privileges.
_PRIVILEGED = frozenset({"sudo", "su", "cron", "login", "useradd"})
_COMM_LENGTH = 15  # the kernel keeps as many bytes (proc(5))
_PAIR = re.compile(r"(?<![^\s])([^\s()]+)\(uid=(\d{1,9})\)")
_SWITCHES = ("su", "runuser", "doas", "polkit")
_OPENER = re.compile(r" by \(uid=(\d{1,9})\)\Z")
_MOST, _DIGITS = 100_000, 10


@lru_cache(maxsize=10_000)
def impostor(program: str, name: str = "", path: str = "", uid: str = "", capabilities: str = "") -> str:
    """Return a doubt where the process that wrote a message is another than it says, by what the journal itself knows of it.

    That is its name, its file, its user ID and its effective capabilities (``_COMM``, ``_EXE``, ``_UID``, ``_CAP_EFFECTIVE``).
    """
    base = _SAME.get(program, program)
    by = f"of user ID {uid or '?'}, not by {program}"
    writers = {program, base} | _WRITERS.get(base, set()) | _HELPERS
    ordinary = uid not in ("", "0") and capabilities == "0"
    if path and not _is_one_of(writers, path) and (ordinary or not _is_privileged_name(base, path, name, uid)):
        return f"it was written by {path} {by}"
    if name and not path and name not in {"busybox" if base in _APPLETS and not ordinary else "", *(one[:_COMM_LENGTH] for one in writers)}:
        return f"it was written by {name} {by}"
    # sudoedit gives its privileges up while it copies files: where the file is known, that counts.
    if not path and ordinary and base in _PRIVILEGED:
        return f"it was written by a process without privileges {by}"
    return ""


def _is_one_of(writers: set[str], path: str) -> bool:
    """Return whether a file that a process runs is one of some programs of the system."""
    return path.startswith(_SYSTEM) and path.rpartition("/")[2].removesuffix(" (deleted)") in writers


def _is_privileged_name(base: str, path: str, name: str, uid: str) -> bool:
    """Return whether busybox, or a script such as adduser, can be the program: as root, since any user can run both."""
    file = path.rpartition("/")[2]
    script = file.startswith(("perl", "python")) and name == base and base in _SCRIPTS and uid in ("", "0")
    return path.startswith(_SYSTEM) and (script or (file == "busybox" and base in _APPLETS))


@lru_cache(10_000)
def pairs_of(message: str) -> tuple[tuple[str, int], ...]:
    """Return the accounts with their user IDs that PAM's message on a session names; who became root keeps a name with 0."""
    return tuple((name, int(number)) for name, number in _PAIR.findall(message) if int(number) != 0)


class Names:
    """Accounts by user ID: those that are known of a host, and of that and others those that messages name with their IDs."""

    def __init__(self, known: Mapping[int, str], of: Callable[[str], bool] = lambda _: True) -> None:
        """`of` says whether a host, by its name as it is written, is the one whose accounts are `known`: a log can be of many."""
        self._known = known
        self._is_known = lru_cache(maxsize=10_000)(of)
        self._learned: dict[tuple[str, int], str] = {}
        self._numbers: dict[tuple[str, str], int] = {}

    @property
    def lasting(self) -> tuple[object, ...]:
        """What was learned, for others of the same host."""
        return self._learned, self._numbers

    @lasting.setter
    def lasting(self, learned: tuple[Any, ...]) -> None:
        self._learned, self._numbers = learned

    def learn(self, host: str, pairs: Iterable[tuple[str, int]]) -> bool:
        """Take the pairs of PAM's message on a session that is opened, such as ``rada(uid=1013)``; return whether another name had one."""
        turned = False
        for name, number in pairs:
            before = self._learned.get((host, number))
            if before != name and len(self._learned) < _MOST:
                turned = turned or before is not None
                self._learned[host, number] = name
                self._numbers[host, name] = number
        return turned

    def name(self, host: str, number: int) -> str:
        """Return the account of a user ID, empty where nothing tells it."""
        known = self._known.get(number) if self._known and self._is_known(host) else ""
        return known or self._learned.get((host, number), "")

    def account(self, host: str, written: str) -> str:
        """Return an account as it is called, also where a message has its number alone, ``#1013``, which remains where no name is known."""
        number = written[1:] if written[:1] == "#" else ""
        return (self.name(host, int(number)) or written) if number.isdecimal() and len(number) < _DIGITS else written

    def opener(self, host: str, service: str, message: str) -> str:
        """Return the account of which a message of PAM has the number alone: ``session opened for user root(uid=0) by (uid=1013)``.

        A login is opened by a service that runs as root, which is nobody.
        """
        found = _OPENER.search(message)
        if found is None or int(found[1]) == 0:
            return "root" if found is not None and service.startswith(_SWITCHES) else ""
        return self.name(host, int(found[1]))

    def login(self, host: str, number: str, account: str) -> str:
        """Return the account of a login by its user ID: its name, ``#1001`` where that is not known, nothing where it can be the account.

        Unset is 4294967295.
        """
        if not number.isdecimal() or len(number) > 9:
            return ""
        name = self.name(host, int(number))
        if name:
            return name
        other = self._numbers.get((host, account))
        may_be_same = account not in ("", "root") and other in (None, int(number))
        return "" if may_be_same or int(number) == 0 else f"#{int(number)}"
