"""Checks of secrets that others can read, and of logs that others can write."""

import shlex
from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.findings import Severity
from fidelitas.rights.linux.files import Writers
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.population import AccountKind
from fidelitas.rights.linux.sensitive import exposed_logs, exposed_secrets

__all__ = ["CHECKS"]


@check("secrets.readable-file", Severity.HIGH, advice="Let root own the file and nobody else read it, and replace the secret.")
def readable_secret(rights: HostRights) -> Iterator[Found]:
    """Accounts of people, or any account, can read a secret of the system.

    Anyone who can read it can become someone else: by a password from its hash, by a key, or by the files of a disk.
    """
    for one in exposed_secrets(rights.facts, rights.population):
        if _people(one.who, rights):
            message, at = f"{one.at} {one.told}; {one.why}", shlex.quote(one.at)
            severity = Severity.CRITICAL if one.who.everyone else None
            yield Found(about=one.path, message=message, places=(one.place,), severity=severity, safer=f"chown root {at}; chmod go= {at}")


@check("logs.writable-file", Severity.HIGH, advice="Let the log and every folder above it belong to root or to the log service alone.")
def writable_log(rights: HostRights) -> Iterator[Found]:
    """Accounts of people, or any account, can write a log of the use of privilege.

    Anyone who can write it can hide what they did, or make it look as if someone else did it.
    """
    for one in exposed_logs(rights.facts, rights.population):
        if _people(one.who, rights):
            above = "" if one.at == one.path else f", above {one.path},"
            at = shlex.quote(one.at)
            message = f"{one.at}{above} {one.told}; {one.why}"
            yield Found(about=f"{one.at}\0{one.path}", message=message, places=(one.place,), safer=f"chown root {at}; chmod go-w {at}")


def _people(who: Writers, rights: HostRights) -> bool:
    """Return whether people are among them: services own files of theirs as a matter of course."""
    members = (one for gid in who.gids for one in rights.population.in_gid(gid))
    owners = (one for uid in who.uids if (one := rights.population.by_uid(uid)))
    return who.everyone or any(one.kind is AccountKind.PERSON for one in (*members, *owners))


CHECKS: tuple[Check[HostRights], ...] = (readable_secret, writable_log)
