"""User and group records of systemd in JSON (https://systemd.io/USER_RECORD, nss-systemd(8)): accounts that no passwd file has.

Knows their form, the files whose names say a membership, and which of them nss-systemd uses: what its version 252 does with each was tried.
Of passwords it keeps whether there is one.
"""

import json
from collections.abc import Collection, Iterable, Mapping
from posixpath import basename
from typing import Any

from fidelitas.facts import Account, Gap, Group, Password, PasswordState, Place, Shadow
from fidelitas.languages.linux.accounts import MAX_ID

__all__ = ["FOLDERS", "UserRecords", "read_user_records"]

# Where records are dropped in, those that count first first (nss-systemd(8)), and where systemd-homed(8) keeps its own.
FOLDERS = ("/etc/userdb/", "/run/userdb/", "/run/host/userdb/", "/usr/local/lib/userdb/", "/usr/lib/userdb/", "/var/lib/systemd/home/")
_DAY = 86_400_000_000  # microseconds
_NO_PASSWORD = Password(state=PasswordState.NONE)
_WEAKENS = "this account or group may hold rights that are not shown"


class UserRecords:
    """What the records of a host add, as if they were lines of its files; `gaps` for what was not understood or is not used."""

    def __init__(self, subject: str, paths: Collection[str]) -> None:
        """Begin with the `paths` of all files in FOLDERS: those that hold passwords are not read, but are there."""
        self.accounts: list[Account] = []
        self.shadows: list[Shadow] = []
        self.groups: list[Group] = []
        self.gaps: list[Gap] = []
        self._subject = subject
        self._paths = paths
        self._memberships: list[tuple[str, str, Place]] = []

    def read(self, path: str, text: str) -> None:
        """Take over one record; of two of a name the first counts."""
        place = Place(subject=self._subject, path=path)
        try:
            record = json.loads(text)
            self._group(record, place) if path.endswith(".group") else self._user(record, place)
        except (ValueError, TypeError, KeyError, AttributeError, RecursionError) as error:
            self._gap(f"record {path}", f"not a record that systemd uses: {error or type(error).__name__}"[:200], place)

    def membership(self, path: str, size: int | None) -> None:
        """Take over the name of a file USER:GROUP.membership; an empty one is ignored by nss-systemd, as one that is masked."""
        user, _, group = basename(path).removesuffix(".membership").partition(":")
        place = Place(subject=self._subject, path=path)
        if size:
            self._memberships.append((user, group, place))
        else:
            self._gap(
                f"membership of {user} in {group}", "the file is empty: systemd 252 ignores such a file, later ones were not tried", place
            )

    def join(self, groups: Iterable[Group]) -> None:
        """Add the memberships, by the numbers of the host's groups and of the records."""
        numbers = {group.name: group.gid for group in (*self.groups, *reversed(tuple(groups)))}
        for user, name, place in self._memberships:
            if name in numbers:
                group = Group(name=name, password=_NO_PASSWORD, gid=numbers[name], members=(user,), place=place)
                self.groups.append(group)
            else:
                self._gap(f"membership of {user} in {name}", "there is no group of that name in the files and records", place)

    def _gap(self, what: str, why: str, place: Place) -> None:
        self.gaps.append(Gap(what=what, why=why, weakens=_WEAKENS, place=place))

    def _user(self, record: Mapping[str, Any], place: Place) -> None:
        name = _named(record["userName"], place)
        own = place.path.endswith(".user")
        if own and "privileged" in record:
            raise ValueError("it has a section with passwords, for which there is another file")
        if any(one.name == name for one in self.accounts):
            return
        if "perMachine" in record:
            self._gap(f"record {place.path}", "what it says of single machines is not applied", place)
        record = {**record, **_binding(record)}
        uid = _id(record["uid"])
        self.accounts.append(
            Account(
                name=name,
                password=Password(state=PasswordState.SHADOWED),
                uid=uid,
                gid=_id(record.get("gid", uid)),
                comment=str(record.get("realName", "")),
                home=str(record.get("homeDirectory", f"/home/{name}")),
                shell=str(record.get("shell", "/bin/bash")),
                place=place,
            )
        )
        secret = place.path + "-privileged" in self._paths if own else bool((record.get("privileged") or {}).get("hashedPassword"))
        self.shadows.append(_shadow(name, record, secret, place))
        if not own:  # systemd-homed(8) gives the memberships itself; those of a dropped-in record are not used
            self._memberships += [(name, str(group), place) for group in record.get("memberOf", ())]

    def _group(self, record: Mapping[str, Any], place: Place) -> None:
        """Its list of members is shown by getgrnam(3), but gives no process the group."""
        name = _named(record["groupName"], place)
        self.groups.append(Group(name=name, password=_NO_PASSWORD, gid=_id(record["gid"]), members=(), place=place))


def read_user_records(texts: Mapping[str, str], sizes: Mapping[str, int | None], groups: Iterable[Group], subject: str) -> UserRecords:
    """Return what the records say: `texts` by path, the `sizes` of all files in FOLDERS by path, and the `groups` of the group file."""
    found = UserRecords(subject, sizes.keys())
    for path in sorted(texts, key=_order):
        found.read(path, texts[path])
    for path in sorted(sizes, key=_order):
        if path.endswith(".membership"):
            found.membership(path, sizes[path])
    found.join(groups)
    return found


def _order(path: str) -> tuple[int, str]:
    return next((at for at, folder in enumerate(FOLDERS) if path.startswith(folder)), len(FOLDERS)), path


def _binding(record: Mapping[str, Any]) -> Mapping[str, Any]:
    """Return what a home folder was given on this machine; of several machines' the first, since the bundle does not tell which this is."""
    bound = record.get("binding") or {}
    return next(iter(bound.values()), {}) if isinstance(bound, dict) else {}


def _shadow(name: str, record: Mapping[str, Any], secret: bool, place: Place) -> Shadow:
    state = PasswordState.LOCKED if record.get("locked") is True else PasswordState.USABLE if secret else PasswordState.NONE
    until = record.get("notAfterUSec")
    expiry = until // _DAY if isinstance(until, int) and until >= 0 else None
    return Shadow(
        name=name, password=Password(state=state), last_change=None, maximum_age=None, inactivity=None, expiry=expiry, place=place
    )


def _named(value: object, place: Place) -> str:
    """Return the name of a record, which has to be that of its file."""
    if not isinstance(value, str) or not value or "\n" in value or ":" in value:
        raise ValueError("the name is not one")
    if value != basename(place.path).rpartition(".")[0]:
        raise ValueError(f"it is about {value}, which is not the name of the file")
    return value


def _id(value: object) -> int:
    if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value <= MAX_ID:
        raise ValueError("the number is not a user or group ID")
    return value
