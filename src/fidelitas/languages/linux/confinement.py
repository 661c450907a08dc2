"""SELinux: whether it is enforced, and which logins it confines (selinux_config(5), seusers(5)).

Knows the two files; not what a confined user may do: that is in a compiled policy, which is not judged, and this is said.
"""

from collections.abc import Iterator, Mapping

from fidelitas.facts import Gap, Place

__all__ = ["SETTINGS", "read_confinement"]

SETTINGS = "/etc/selinux/config"
# Users of the policy whose programs run as if there were no SELinux, or that no login is given (semanage-login(8)).
_FREE = frozenset({"unconfined_u", "system_u", "root"})


def read_confinement(texts: Mapping[str, str], subject: str) -> Iterator[Gap]:
    """Yield a gap for each line by which SELinux confines logins, from the copies of /etc/selinux by path."""
    settings = dict(_settings(texts.get(SETTINGS, "")))
    if settings.get("SELINUX", "").lower() != "enforcing":
        return
    path = f"/etc/selinux/{settings.get('SELINUXTYPE', 'targeted')}/seusers"
    for number, line in enumerate(texts.get(path, "").split("\n"), start=1):
        login, _, rest = line.strip().partition(":")
        user = rest.split(":")[0]
        if not user or login.startswith("#") or user in _FREE:
            continue
        who = "every login that is not named" if login == "__default__" else login
        yield Gap(
            what=f"SELinux user {user}",
            why=f"the policy confines {who}; what it forbids is not judged",
            weakens="rights that are shown may not be usable",
            place=Place(subject=subject, path=path, line=number),
        )


def _settings(text: str) -> Iterator[tuple[str, str]]:
    for line in text.split("\n"):
        key, equals, value = line.strip().partition("=")
        if equals and not key.startswith("#"):
            yield key.strip(), value.strip().strip("\"'")
