"""The steps that remove a person's accounts, by platform: a further platform is a function and a line of the table."""

import shlex
from collections.abc import Callable, Iterator, Mapping
from typing import Any

from fidelitas.departure.steps import Phase, Step
from fidelitas.facts import JobKind, MemberKind
from fidelitas.memberships import directory, linux, mariadb, windows
from fidelitas.memberships.edits import Named
from fidelitas.memberships.postgresql import identifier, revoke_statement
from fidelitas.rights import DatabaseRights, DirectoryRights, HostRights, Identity, MariadbRights, WindowsRights

__all__ = ["key_steps", "removal_steps"]


def removal_steps(rights: Any, account: str) -> Iterator[Step]:
    """Yield the steps that take an account of a subject, and what it is in, away; none on a platform that has no table of them."""
    found = _REMOVALS.get(rights.platform)
    return iter(()) if found is None else found(rights, account)


def key_steps(rights: HostRights, accounts: set[str], fingerprints: set[str]) -> Iterator[Step]:
    """Yield the steps that take a person's keys out of the files of accounts that are not theirs."""
    for who, grant in rights.key_grants:
        key = grant.key
        if key.fingerprint in fingerprints and who.name not in accounts and key.place.line is not None:
            # As its owner: in a home that someone else can write, root would follow where that someone leads.
            owner = "" if who.uid == 0 else f"runuser -u {shlex.quote(who.name)} -- "
            command = f"{owner}sed --in-place '{key.place.line}d' {shlex.quote(key.place.path)}"
            what = f"remove the key {key.comment or key.fingerprint}, which opens {who.name}"
            yield Step(phase=Phase.KEYS, subject=rights.subject, what=what, command=command, place=key.place)


def _linux(rights: HostRights, account: str) -> Iterator[Step]:
    who = rights.account(account)
    if who is None:
        return
    name = shlex.quote(account)
    place = who.account.place if who.account else None

    def step(phase: Phase, what: str, command: str, at: Any = None) -> Step:
        return Step(phase=phase, subject=rights.subject, what=what, command=command, place=at)

    if not who.of_directory and who.login.possible is not False:
        yield step(Phase.LOCK, "lock the account, keys included", f"usermod --lock --expiredate 1 {name}", place)
    if any(one.account == account for one in rights.facts.login_sessions) or _runs(rights, who):
        yield step(Phase.SESSIONS, "end its sessions and processes", f"loginctl terminate-user {name}")
    for one in who.memberships:
        if not one.primary and not one.nested:
            command = linux.member_command(account, one.group.name, added=False)
            yield step(Phase.RIGHTS, f"take it out of group {one.group.name}", command, one.place)
    yield from _rules(rights, account)
    if any(job.run_as == account and job.kind is JobKind.CRON for job in rights.facts.delegations.jobs):
        yield step(Phase.LEFT_BEHIND, "remove its cron jobs", f"crontab -r -u {name}")
    for file in rights.facts.programs.set_id if rights.facts.programs else ():
        if file.uid == who.uid:
            yield step(
                Phase.LEFT_BEHIND, f"take the set-ID bits from {file.path}, which is its own", f"chmod ug-s {shlex.quote(file.path)}"
            )


def _runs(rights: HostRights, who: Identity) -> bool:
    return any(process.uids[0] == who.uid for process in rights.facts.processes or ())


def _rules(rights: HostRights, account: str) -> Iterator[Step]:
    """Yield an edit for each statement of the sudo policy that names the account."""
    told = set()
    for rule in rights.facts.policy.rules:
        named = any(one.kind in (MemberKind.NAME, MemberKind.WORD) and one.value == account and not one.negated for one in rule.users)
        at = (rule.place.path, rule.place.line)
        if named and at not in told:
            told.add(at)
            command = f"visudo --file={shlex.quote(rule.place.path)}"
            what = f"take {account} out of the sudo rule of line {rule.place.line}: {rule.statement}"
            yield Step(phase=Phase.RIGHTS, subject=rights.subject, what=what, command=command, place=rule.place)


def _postgresql(rights: DatabaseRights, account: str) -> Iterator[Step]:
    role = rights.privileges.roles.get(account)
    if role is None:
        return
    name, literal = identifier(account), "'" + account.replace("'", "''") + "'"
    lock = "NOLOGIN NOSUPERUSER NOCREATEROLE" if role.superuser or role.create_role else "NOLOGIN"
    if role.login or role.superuser or role.create_role:
        what = "let the role log in no more" + (", and take its attributes" if lock != "NOLOGIN" else "")
        yield Step(phase=Phase.LOCK, subject=rights.subject, what=what, command=f"ALTER ROLE {name} {lock};", place=role.place)
    if any(session.role == account for session in rights.facts.sessions):
        command = f"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = {literal};"  # noqa: S608 printed, and quoted
        yield Step(phase=Phase.SESSIONS, subject=rights.subject, what="end its connections", command=command)
    for one in rights.facts.memberships:
        if one.member == account:
            command = revoke_statement(rights.facts, one)
            yield Step(phase=Phase.RIGHTS, subject=rights.subject, what=f"take it out of {one.role}", command=command, place=one.place)


def _mariadb(rights: MariadbRights, account: str) -> Iterator[Step]:
    found = rights.accounts.get(account)
    if found is None or found.role:
        return
    name = mariadb.account_text(found)
    if not found.locked:
        command = f"ALTER USER {name} ACCOUNT LOCK;"
        yield Step(phase=Phase.LOCK, subject=rights.subject, what="lock the account", command=command, place=found.place)
    if any(session == found.user for session, _ in rights.facts.sessions):
        yield Step(phase=Phase.SESSIONS, subject=rights.subject, what="end its connections", command=f"KILL USER {name};")
    for one in rights.facts.roles:
        if (one.user, one.host) == (found.user, found.host):
            command = mariadb.role_change(found, one.role, added=False)
            yield Step(phase=Phase.RIGHTS, subject=rights.subject, what=f"take role {one.role} from it", command=command, place=one.place)
    if found.privileges or any((one.user, one.host) == (found.user, found.host) for one in rights.facts.grants):
        command = f"REVOKE ALL PRIVILEGES, GRANT OPTION FROM {name};"
        yield Step(phase=Phase.RIGHTS, subject=rights.subject, what="take all its privileges", command=command, place=found.place)


def _directory(rights: DirectoryRights, account: str) -> Iterator[Step]:
    found = rights.accounts.get(account)
    if found is None:
        return
    has_sid = found.sid is not None
    if has_sid and not found.disabled:
        command = f"samba-tool user disable {shlex.quote(found.name)}"
        yield Step(phase=Phase.LOCK, subject=rights.subject, what="disable the account", command=command, place=found.place)
    elif not has_sid:
        record = directory.change_record(found.dn, "replace", ("loginShell", "/usr/sbin/nologin"), ("shadowExpire", "1"))
        command = directory.in_shell(record)
        yield Step(phase=Phase.LOCK, subject=rights.subject, what="expire the account", command=command, place=found.place)
    for group in rights.facts.groups:
        for member, place in rights.members(group):
            if member is found and not directory.is_primary_group(group, found):
                command = directory.in_shell(directory.member_change(group, found, added=False))
                yield Step(phase=Phase.RIGHTS, subject=rights.subject, what=f"take it out of {group.name}", command=command, place=place)


def _windows(rights: WindowsRights, account: str) -> Iterator[Step]:
    local = rights.accounts.get(account)
    if local is not None and not local.disabled:
        command = f"Disable-LocalUser -Name {windows.quoted(local.name)}"
        yield Step(phase=Phase.LOCK, subject=rights.subject, what="disable the local account", command=command, place=local.place)
    for session in rights.facts.sessions:
        if rights.session_holder(session).is_called(account):
            what = f"end its session of {session.since:%Y-%m-%d %H:%M} UTC" if session.since else "end its session"
            yield Step(phase=Phase.SESSIONS, subject=rights.subject, what=what, command="quser; logoff ID", place=session.place)
    for group in rights.facts.groups:
        for member in group.members:
            node = rights.holders.of_sid(member.sid) if member.sid else rights.holders.of_name(member.called)
            if node.is_called(account):
                who, of = Named(member.sid or member.called, member.called), Named(group.sid or group.name, group.name)
                command = windows.member_command(who, of, added=False)
                yield Step(
                    phase=Phase.RIGHTS, subject=rights.subject, what=f"take it out of {group.name}", command=command, place=member.place
                )


_REMOVALS: Mapping[str, Callable[[Any, str], Iterator[Step]]] = {
    HostRights.platform: _linux,
    DatabaseRights.platform: _postgresql,
    MariadbRights.platform: _mariadb,
    DirectoryRights.platform: _directory,
    WindowsRights.platform: _windows,
}
