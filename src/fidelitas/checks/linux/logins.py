"""Checks of log-ins: root over SSH, keys and whom they open, what su asks."""

import shlex
from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import PamTask, PasswordState, Place
from fidelitas.findings import Severity
from fidelitas.rights.linux.files import above, readers, readers_told, writers, writers_told
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.pam import su_rules
from fidelitas.rights.linux.pam_stack import passage
from fidelitas.rights.linux.population import AccountKind, Identity
from fidelitas.rights.linux.ssh import is_elsewhere, may_connect, sshd_for

__all__ = ["CHECKS"]


@check("login.root-password", Severity.MEDIUM, advice="Set PermitRootLogin to no; let people log in as themselves and use sudo.")
def root_password(rights: HostRights) -> Iterator[Found]:
    """Root can log in over SSH with a password.

    Everyone who knows the password is root, the log does not show which person it was, and attackers can guess passwords over the
    network.
    """
    accepted: dict[Place, list[tuple[Identity, bool]]] = {}
    for who in rights.population.identities:
        place = _takes_password(rights, who) if who.uid == 0 and who.account is not None else None
        if place is not None:
            accepted.setdefault(place, []).append((who, who.password is not None and who.password.state is PasswordState.EMPTY))
    for place, accounts in accepted.items():
        names = ", ".join(f"{who.name}{' (empty)' if empty else ''}" for who, empty in accounts)
        severity = Severity.CRITICAL if any(empty for _, empty in accounts) else None
        message = f"root can log in over SSH with a password: {names}"
        yield Found(about="root", message=message, places=(place,), severity=severity, safer="PermitRootLogin no")
    if not accepted:
        yield from _from_some_addresses(rights)


def _from_some_addresses(rights: HostRights) -> Iterator[Found]:
    """Yield the lines that let root in from some addresses alone, which are not held against any connection."""
    for setting in rights.facts.logins.sshd or ():
        if setting.keyword == "permitrootlogin" and setting.arguments == ("yes",) and is_elsewhere(setting):
            where = ", ".join(f"{name} {patterns}" for name, patterns in setting.matches)
            message = f"root can log in over SSH with a password if the connection matches {where}"
            yield Found(about=where, message=message, places=(setting.place,), severity=Severity.LOW)


def _takes_password(rights: HostRights, who: Identity) -> Place | None:
    """Return the place of the setting by which sshd takes the password of a root account, where there is one to take."""
    if rights.facts.logins.sshd is None:
        return None
    effective = sshd_for(rights.facts.logins, who, rights.population)
    asked = effective.on("passwordauthentication") or (effective.on("kbdinteractiveauthentication") and effective.on("usepam"))
    if effective.values["permitrootlogin"].lower() != "yes" or not asked or may_connect(effective, who, rights.population):
        return None
    if who.password is not None and who.password.state is not PasswordState.USABLE:
        empty = who.password.state is PasswordState.EMPTY and effective.on("permitemptypasswords")
        if not empty:
            return None
    return effective.stated["permitrootlogin"].place


@check("login.empty-password", Severity.HIGH, advice="Set PermitEmptyPasswords to no, and lock the account or set a password.")
def empty_password(rights: HostRights) -> Iterator[Found]:
    """sshd accepts an account with an empty password.

    Anyone who reaches the host can log in as this account.
    """
    for who in rights.population.effective:
        if rights.facts.logins.sshd is None or who.password is None or who.password.state is not PasswordState.EMPTY:
            continue
        effective = sshd_for(rights.facts.logins, who, rights.population)
        stated = effective.stated.get("permitemptypasswords")
        if stated is not None and effective.on("permitemptypasswords") and not may_connect(effective, who, rights.population):
            yield Found(about=who.name, message=f"{who.name} has an empty password, and sshd accepts it", places=(stated.place,))


# Services that act on the password that PAM takes, and how bad it is where PAM takes any: sudo asks its policy first.
_UNASKED = {"sudo": Severity.HIGH, "sudo-i": Severity.HIGH, "login": Severity.CRITICAL, "sshd": Severity.CRITICAL}


@check("login.su-without-password", Severity.CRITICAL, advice="Remove the line from the PAM settings of the service.")
def su_without_password(rights: HostRights) -> Iterator[Found]:
    """su, sudo or login does not ask for a password.

    The rule is in the PAM settings, where reviews of the sudo policy do not look.
    """
    pam = rights.facts.logins.pam
    rules = su_rules(pam.get("su")) if "su" in pam else None
    if rules is not None and rules.open_to_all is not None:
        yield Found(
            about="su",
            message="any account becomes root with su, without a password (pam_permit)",
            places=(rules.open_to_all.place,),
        )
    for service, severity in _UNASKED.items():
        passing = su_rules(pam[service]).open_to_all if service in pam else None
        if passing is not None:
            message = f"{service} does not ask anyone for a password (pam_permit)"
            yield Found(about=service, message=message, places=(passing.place,), severity=severity)
        elif service in pam:
            yield from _by_name(service, severity, rights)
    if rules is not None and rules.trusted is not None and rules.trusted_by is not None:
        names = ", ".join(who.name for who in rights.population.members(rules.trusted)) or "nobody today"
        message = f"the members of group {rules.trusted} ({names}) become root with su, without a password (pam_wheel trust)"
        yield Found(about=rules.trusted, message=message, places=(rules.trusted_by.place,), severity=Severity.HIGH)


def _by_name(service: str, severity: Severity, rights: HostRights) -> Iterator[Found]:
    """Yield the accounts that a service lets pass without a password, because of their names, groups or numbers."""
    stack = [rule for rule in rights.facts.logins.pam[service] if rule.task is PamTask.AUTH]
    passed = [(who, found) for who in rights.population.effective if who.account and (found := passage(stack, who)) is not None]
    if passed:
        names = [who.name for who, _ in passed]
        shown = (
            "anyone" if len(names) == len(rights.population.effective) else ", ".join(names[:6]) + (" and others" if len(names) > 6 else "")
        )
        rule = passed[0][1].rule
        message = f"{service} does not ask {shown} for a password ({rule.module})"
        yield Found(about=service, message=message, places=(rule.place,), severity=severity)


@check(
    "login.writable-authorized-keys",
    Severity.HIGH,
    advice="Let the account own its keys and its home, and remove write permission for others.",
)
def writable_authorized_keys(rights: HostRights) -> Iterator[Found]:
    """Someone other than the account and root can write its authorized_keys file, or a folder above it.

    Anyone who can write the file can add a key and log in as the account. sshd ignores such files while StrictModes is on.
    """
    states = rights.facts.states
    for who, key_grant in rights.key_grants:
        if who.uid == 0:
            continue  # for root's own see running.writable
        strict = sshd_for(rights.facts.logins, who, rights.population).on("strictmodes")
        for at in above(key_grant.path):
            able = writers(states.get(at))
            if able.everyone or able.uids - {who.uid} or able.gids - {who.gid}:
                told = writers_told(states.get(at), rights.population)
                message = f"{at}, which lets keys log in as {who.name}, {told}" + (
                    "; sshd ignores it until that is fixed" if strict else ""
                )
                place = Place(subject=rights.subject, path=at)
                yield Found(about=f"{who.name}\0{at}", message=message, places=(place,), severity=Severity.LOW if strict else None)
                break


@check("login.unencrypted-private-key", Severity.LOW, advice="Set a passphrase (ssh-keygen -p), or keep the key in an agent or on a token.")
def unencrypted_private_key(rights: HostRights) -> Iterator[Found]:
    """A private key without a passphrase is stored on the host.

    Anyone who can read the file, root included, can log in wherever the key is accepted.
    """
    states = rights.facts.states
    for key in rights.facts.logins.private_keys:
        if key.path.startswith("/etc/ssh/ssh_host_"):
            continue
        state = states.get(key.path)
        place = Place(subject=rights.subject, path=key.path)
        others = readers_told(key.path, states, rights.population)
        if others and state is not None and state.mode is not None:
            message = f"the private key {key.path} can be read by {others} (mode {state.mode:04o})"
            yield Found(
                about=key.path, message=message, places=(place,), severity=Severity.HIGH, safer=f"chmod go= {shlex.quote(key.path)}"
            )
        elif not key.encrypted:
            yield Found(about=key.path, message=f"the private key {key.path} has no passphrase", places=(place,))


@check(
    "login.stored-database-password",
    Severity.MEDIUM,
    advice="Let only the owner read the file, or authenticate through the database's local socket.",
)
def stored_database_password(rights: HostRights) -> Iterator[Found]:
    """Accounts other than the owner can read a file that contains a database password.

    Anyone who reads it can connect as that database account.
    """
    states = rights.facts.states
    for kept in rights.facts.logins.kept_passwords:
        if kept.file_kind == "password hashes":  # of accounts: another check
            continue
        state, able = states.get(kept.path), readers(kept.path, states)
        owner = state.uid if state is not None else None
        others = sorted(who.name for who in rights.population.effective if who.uid not in (0, owner) and able.include(who))
        if not others:
            continue
        by = "any account" if able.everyone else f"{', '.join(others[:5])}{' and others' if len(others) > 5 else ''}"
        mode = f" (mode {state.mode:04o})" if state is not None and state.mode is not None else ""
        message = f"{kept.file_kind} {kept.path} contains a database password; {by} can read it{mode}"
        services = {who.name for who in rights.population.identities if who.kind is AccountKind.SYSTEM}
        severity = Severity.HIGH if able.everyone else Severity.LOW if services.issuperset(others) else None
        place = Place(subject=rights.subject, path=kept.path)
        yield Found(about=kept.path, message=message, places=(place,), severity=severity, safer=f"chmod go= {shlex.quote(kept.path)}")


@check("login.trusted-hosts", Severity.HIGH, advice="Remove the line; let people log in with keys of their own.")
def trusted_hosts(rights: HostRights) -> Iterator[Found]:
    """Other hosts, or Kerberos principals, may log in as root or as any account without a password of this host.

    Anyone who controls such a host or principal, or can pretend to be it, is that account here.
    """
    sshd = [one for one in rights.facts.logins.sshd or () if one.keyword == "hostbasedauthentication"]
    hostbased = any(one.arguments[:1] == ("yes",) for one in sshd)
    for one in rights.facts.delegations.trusts:
        kerberos = one.path.endswith((".k5login", ".k5users"))
        if hostbased or kerberos or one.text.startswith("+"):
            whom = "root" if one.path.startswith("/root/") else "any account"
            severity = Severity.CRITICAL if one.text.startswith("+") else Severity.MEDIUM if kerberos else None
            message = f'{one.path} lets "{one.text}" log in as {whom} without its password'
            yield Found(about=f"{one.path}\0{one.text}", message=message, places=(one.place,), quote=one.text, severity=severity)


CHECKS: tuple[Check[HostRights], ...] = (
    root_password,
    empty_password,
    su_without_password,
    writable_authorized_keys,
    unencrypted_private_key,
    stored_database_password,
    trusted_hosts,
)
