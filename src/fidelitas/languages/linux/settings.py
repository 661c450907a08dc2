"""The small configuration files of a host: os-release(5), login.defs(5), nsswitch.conf(5) and the Plugin lines of sudo.conf(5).

Knows their syntax.  Their unknown settings are skipped, as their own readers pass them over.
"""

import re

from msgspec import Struct

from fidelitas.facts import LoginLimits, NameService, Netgroup, OperatingSystem, Place
from fidelitas.languages.lines import lines_of
from fidelitas.languages.netgroups import TRIPLE, netgroup_triples
from fidelitas.languages.words import shell_words

__all__ = ["PolicyPlugin", "read_login_defs", "read_netgroup", "read_nsswitch", "read_os_release", "read_policy_plugin"]

_ASSIGNMENT = re.compile(r"([A-Z0-9_]+)=(.*)\Z")


def read_os_release(text: str, origin: Place) -> OperatingSystem:
    """Return the operating system that os-release names; its documented default, "linux", where it names none."""
    values = {}
    for line in lines_of(text, origin):
        assignment = _ASSIGNMENT.match(line.text.strip())
        if assignment:
            values[assignment[1]] = _unquoted(assignment[2])
    own = values.get("ID") or "linux"
    return OperatingSystem(
        name=values.get("PRETTY_NAME") or values.get("NAME") or "Linux",
        family=(own, *(values.get("ID_LIKE") or "").split()),
        version=values.get("VERSION_ID", ""),
    )


def _unquoted(value: str) -> str:
    """Return a value as a shell would assign it; one that a shell would refuse, as it stands."""
    try:
        return " ".join(shell_words(value))
    except ValueError:
        return value


def read_login_defs(text: str, origin: Place) -> LoginLimits:
    """Return the user ID range of login.defs.  A number is decimal, octal (0…) or hexadecimal (0x…); the last setting counts."""
    values = {}
    for line in lines_of(text, origin):
        words = line.text.split(None, 1)
        if len(words) == 2 and words[0] in ("UID_MIN", "UID_MAX"):
            values[words[0]] = _number(words[1].strip().strip('"').strip())
    return LoginLimits(uid_min=values.get("UID_MIN"), uid_max=values.get("UID_MAX"))


_NUMBER = re.compile(r"(0[xX][0-9a-fA-F]{1,8}|0[0-7]{0,11}|[1-9][0-9]{0,9})\Z")


def _number(text: str) -> int | None:
    if not _NUMBER.match(text):
        return None
    return int(text, 16) if text[:2].lower() == "0x" else int(text, 8) if text.startswith("0") else int(text)


# Reactions such as [NOTFOUND=return] stand between the sources; they decide when to stop, which does not matter for who could be asked.
_REACTION = re.compile(r"\[[^\[\]]*\]")


def read_nsswitch(text: str, origin: Place) -> tuple[NameService, ...]:
    """Return the databases of nsswitch.conf, each with the sources that it is looked up in."""
    found = []
    for line in lines_of(text, origin):
        database, colon, sources = line.text.partition("#")[0].partition(":")
        if colon and database.strip():
            names = tuple(_REACTION.sub(" ", sources).split())
            found.append(NameService(database=database.strip(), sources=names, place=line.place()))
    return tuple(found)


def read_netgroup(text: str, origin: Place) -> tuple[Netgroup, ...]:
    """Return the netgroups of netgroup(5): a name, then triples and other names; a backslash joins a line to the next."""
    found = []
    for line in lines_of(text.replace("\\\n", "  "), origin):
        statement = line.text.partition("#")[0].strip()
        name, _, rest = statement.partition(" ") if " " in statement else statement.partition("\t")
        if name:
            triples = tuple(netgroup_triples(rest))
            found.append(Netgroup(name=name, triples=triples, inner=tuple(TRIPLE.sub(" ", rest).split()), place=line.place()))
    return tuple(found)


class PolicyPlugin(Struct, frozen=True, kw_only=True):
    """The policy plugin that sudo.conf names, and the policy file, owner and group that it is told to use."""

    path: str
    sudoers_file: str = "/etc/sudoers"
    sudoers_uid: int = 0
    sudoers_gid: int = 0
    place: Place


def read_policy_plugin(text: str, origin: Place) -> PolicyPlugin | None:
    """Return the policy plugin of a sudo.conf: the first whose name says that it decides, since sudo takes only one."""
    for line in lines_of(text, origin):
        words = line.text.split()
        if len(words) >= 3 and words[0] == "Plugin" and words[1].endswith("policy"):
            options = dict(word.partition("=")[::2] for word in words[3:])
            return PolicyPlugin(
                path=words[2],
                sudoers_file=options.get("sudoers_file", "/etc/sudoers"),
                sudoers_uid=_number(options.get("sudoers_uid", "0")) or 0,
                sudoers_gid=_number(options.get("sudoers_gid", "0")) or 0,
                place=line.place(),
            )
    return None
