"""Checks of Windows machines: administrators that should be none, what runs as the system from where others write, and weak settings."""

from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.findings import Severity
from fidelitas.rights.graph.links import Mechanism, PrincipalKind, RightKind
from fidelitas.rights.windows.access import TRUSTED
from fidelitas.rights.windows.commands import is_unquoted
from fidelitas.rights.windows.machine import ADMINISTRATORS, WindowsRights
from fidelitas.rights.windows.powers import USER_RIGHT_POWERS
from fidelitas.rights.windows.weak_spots import Tampering, tampering_clause

__all__ = ["CHECKS"]

_SYSTEM = "hklm\\software\\microsoft\\windows\\currentversion\\policies\\system\\"
_LOGON = "hklm\\software\\microsoft\\windows nt\\currentversion\\winlogon\\"
# The SIDs of built-in groups, whose rights every machine gives, and of services.
_BUILT_IN = ("S-1-5-32-", "S-1-5-80-")
# The last numbers of the SIDs of a domain's users, guests and machines, which are everyone of it.
_WHOLE_DOMAIN = ("-513", "-514", "-515")


def _administrators(rights: WindowsRights) -> set[str]:
    """Return the local accounts that administer the machine now."""
    return {
        holding.principal.name
        for holding in rights.holdings
        if holding.right.kind is RightKind.ADMIN
        and holding.principal.kind is PrincipalKind.ACCOUNT
        and holding.principal.subject == rights.subject
    }


@check(
    "windows.everyone-administrator", Severity.CRITICAL, advice="Remove the group from the administrators; add the few who need it by name."
)
def everyone_administrator(rights: WindowsRights) -> Iterator[Found]:
    """All accounts of the machine or of a domain are administrators.

    Any stolen password gives control of the machine.
    """
    for group in rights.facts.groups:
        for member in group.members if group.sid == ADMINISTRATORS else ():
            if member.sid is not None and member.sid.endswith(_WHOLE_DOMAIN) and member.sid.startswith("S-1-5-21-"):
                yield Found(about=member.name or "", message=f"all of {member.called} administer the machine", places=(member.place,))
            elif member.sid and rights.holders.of_sid(member.sid).kind is PrincipalKind.ANY_ACCOUNT:
                yield Found(
                    about=member.name or "",
                    message=f"{member.called} administer the machine: every account does",
                    places=(member.place,),
                )


@check("windows.unknown-administrator", Severity.LOW, advice="Remove the SID from the group.")
def unknown_administrator(rights: WindowsRights) -> Iterator[Found]:
    """A SID without an account is in the administrators group.

    Its account was deleted, or its domain cannot be reached; if the domain returns, so do its rights.
    """
    for group in rights.facts.groups:
        for member in group.members if group.sid == ADMINISTRATORS else ():
            if not member.name and member.sid:
                yield Found(about=member.sid, message=f"{member.sid} is an administrator and has no name", places=(member.place,))


@check("windows.disabled-administrator", Severity.MEDIUM, advice="Remove the account from the administrators, or delete it.")
def disabled_administrator(rights: WindowsRights) -> Iterator[Found]:
    """A disabled or expired account is an administrator.

    Enabling it creates an administrator without any change of a group. The built-in account, which cannot be removed, is not reported.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        expired = account.expires is not None and account.expires < rights.taken
        if (account.disabled or expired) and not account.sid.endswith("-500"):
            state = "disabled" if account.disabled else "expired"
            yield Found(about=name, message=f"{name} is {state} and an administrator", places=(account.place,))


@check("windows.password-never-expires", Severity.MEDIUM, advice="Let it expire, or have a tool change it regularly.")
def password_never_expires(rights: WindowsRights) -> Iterator[Found]:
    """The password of a local administrator never expires.

    Anyone who once learned it can administer the machine indefinitely, and often others with the same password.
    """
    for name in sorted(_administrators(rights)):
        account = rights.accounts[name]
        if account.password_never_expires and not account.disabled:
            yield Found(about=name, message=f"the password of local administrator {name} never expires", places=(account.place,))


@check("windows.no-password-required", Severity.HIGH, advice="Require a password: net user NAME /passwordreq:yes.")
def no_password_required(rights: WindowsRights) -> Iterator[Found]:
    """An account may have an empty password.

    Anyone at the machine can log on as this account.
    """
    for account in rights.facts.accounts:
        if account.password_required is False and not account.disabled:
            yield Found(about=account.name, message=f"{account.name} may have an empty password", places=(account.place,))


@check("windows.guest-enabled", Severity.MEDIUM, advice="Disable it.")
def guest_enabled(rights: WindowsRights) -> Iterator[Found]:
    """The guest account is enabled.

    Anyone can use the machine without an account.
    """
    for account in rights.facts.accounts:
        if account.sid.endswith("-501") and account.disabled is False:
            yield Found(about=account.name, message=f"the guest account {account.name} is enabled", places=(account.place,))


@check(
    "windows.user-right",
    Severity.HIGH,
    advice="Remove the user right in the security policy; give the task its own account instead.",
)
def user_right(rights: WindowsRights) -> Iterator[Found]:
    """A user right gives control of the machine outside the administrators group.

    It is not shown in any list of administrators.
    """
    for one in rights.facts.user_rights:
        power = USER_RIGHT_POWERS.get(one.right)
        if power is None or power.right is not RightKind.ADMIN or one.holder in TRUSTED or one.holder.startswith(_BUILT_IN):
            continue
        who = rights.user_right_holder(one)
        yield Found(about=str(who), message=f"{who} holds {one.right}: {power.because}", places=(one.place,))


@check(
    "windows.replaceable-program",
    Severity.HIGH,
    advice="Remove the write permission; keep programs in a folder that only administrators can write.",
)
def replaceable_program(rights: WindowsRights) -> Iterator[Found]:
    """Someone other than an administrator decides what a service or task runs.

    What they put there runs as the account of the service or task.
    """
    for job in rights.facts.jobs:
        reported: set[str] = set()
        for spot in rights.weak_spots(job) if job.enabled else ():
            who = str(rights.holders.of_sid(spot.allowed.sid))
            if who not in reported and spot.how is not Tampering.BEFORE and not spot.condition:
                reported.add(who)
                message = f"{who} can decide what {job.kind} {job.name} runs: {tampering_clause(job, spot)}"
                yield Found(about=f"{job.kind} {job.name}", message=message, places=(job.place, spot.place), quote=job.command)


@check("windows.unquoted-path", Severity.LOW, advice="Put the path of the program in quotes.")
def unquoted_path(rights: WindowsRights) -> Iterator[Found]:
    """The path of a service's or task's program has blanks and no quotes.

    Windows first tries each part before a blank. If someone can create a file there, the severity is high.
    """
    for job in rights.facts.jobs:
        if not job.enabled or not is_unquoted(job.command):
            continue
        makers = [spot for spot in rights.weak_spots(job) if spot.how is Tampering.BEFORE]
        message = f"{job.kind} {job.name} runs a program by a path with blanks and no quotes"
        if makers:
            message += f", and {rights.holders.of_sid(makers[0].allowed.sid)} can use it: {tampering_clause(job, makers[0])}"
        yield Found(
            about=f"{job.kind} {job.name}",
            message=message,
            places=(job.place,),
            quote=job.command,
            severity=Severity.HIGH if makers else None,
        )


@check(
    "windows.administrator-service-account",
    Severity.MEDIUM,
    advice="Give the service or task its own account, preferably a managed one, with only the rights that it needs.",
)
def administrator_service_account(rights: WindowsRights) -> Iterator[Found]:
    """A service or task runs as the account of an administrator.

    The account's password is stored on the machine, where every administrator of the machine can read it and use it elsewhere.
    """
    admins = {str(holding.principal): holding for holding in rights.holdings if holding.right.kind is RightKind.ADMIN}
    elsewhere = {name for directory in rights.holders.directories for name in map(str, (one.principal for one in directory.holdings))}
    for job in rights.facts.jobs:
        if job.enabled and not rights.holders.is_system(job.sid, job.account):
            who = str(rights.runs_as(job))
            if who in admins or who in elsewhere:
                what = "the directory" if who in elsewhere else "the machine"
                yield Found(
                    about=f"{job.kind} {job.name}",
                    message=f"{job.kind} {job.name} runs as {who}, who administers {what}",
                    places=(job.place,),
                )


@check("windows.elevated-installs", Severity.HIGH, advice="Switch AlwaysInstallElevated off.")
def elevated_installs(rights: WindowsRights) -> Iterator[Found]:
    """The installer runs every package as the system, for any user.

    Anyone who can write a package can become an administrator.
    """
    for link in rights.links:
        if link.mechanism is Mechanism.INSTALLER:
            yield Found(
                about="AlwaysInstallElevated", message="the installer runs packages of any account as the system", places=(link.place,)
            )


@check("windows.no-elevation-prompt", Severity.MEDIUM, advice="Set EnableLUA to 1 and ConsentPromptBehaviorAdmin to 2.")
def no_elevation_prompt(rights: WindowsRights) -> Iterator[Found]:
    """Programs of an administrator run with all rights without a prompt.

    Anything that the administrator opens, such as a document with a macro, can administer the machine.
    """
    for name, weak in (
        ("enablelua", "User Account Control is off"),
        ("consentpromptbehavioradmin", "administrators are not asked for consent"),
    ):
        value, place = rights.facts.settings.get(f"{_SYSTEM}{name}", ("1", None))
        if value == "0" and place is not None:
            yield Found(about=name, message=weak, places=(place,))


@check("windows.remote-local-administrators", Severity.MEDIUM, advice="Delete LocalAccountTokenFilterPolicy, or set it to 0.")
def remote_local_administrators(rights: WindowsRights) -> Iterator[Found]:
    """Local administrators have full rights over the network.

    A password or hash that several machines share gives access from one to all.
    """
    value, place = rights.facts.settings.get(f"{_SYSTEM}localaccounttokenfilterpolicy", ("0", None))
    if value == "1" and place is not None:
        yield Found(
            about="LocalAccountTokenFilterPolicy", message="local administrators have full rights over the network", places=(place,)
        )


@check("windows.stored-password", Severity.HIGH, advice="Delete DefaultPassword and switch the automatic logon off; change the password.")
def stored_password(rights: WindowsRights) -> Iterator[Found]:
    """The password of an automatic logon is stored in the registry.

    Every account of the machine can read it.
    """
    value, place = rights.facts.settings.get(f"{_LOGON}defaultpassword", ("", None))
    if value and place is not None:
        name = rights.facts.settings.get(f"{_LOGON}defaultusername", ("someone", None))[0]
        yield Found(about=name, message=f"the password of {name} is stored in the registry", places=(place,))


@check("windows.automatic-logon", Severity.MEDIUM, advice="Switch AutoAdminLogon off; change the password of the account.")
def automatic_logon(rights: WindowsRights) -> Iterator[Found]:
    """An account is logged on automatically, with a password that is stored outside the registry value.

    Every administrator of the machine can read the password, and anyone who starts the machine has the account's session.
    """
    value, place = rights.facts.settings.get(f"{_LOGON}autoadminlogon", ("0", None))
    if value == "1" and place is not None and not rights.facts.settings.get(f"{_LOGON}defaultpassword"):
        name = rights.facts.settings.get(f"{_LOGON}defaultusername", ("someone", None))[0]
        yield Found(about=name, message=f"{name} is logged on automatically when the machine starts", places=(place,))


@check("windows.task-past-the-prompt", Severity.MEDIUM, advice="Take the option to run with highest privileges off the task.")
def task_past_the_prompt(rights: WindowsRights) -> Iterator[Found]:
    """A task of an administrator runs with all rights a program that the administrator can write without elevation.

    Anything that the administrator opens can change that program, and then has all rights without a prompt.
    """
    admins = _administrators(rights)
    for job in rights.facts.jobs:
        own = rights.runs_as(job)
        for spot in rights.own_spots(job) if job.enabled and job.highest and own.name in admins else ():
            message = (
                f"{job.kind} {job.name} runs with all rights of {own.name} what it can change itself: it {tampering_clause(job, spot)}"
            )
            yield Found(about=f"{job.kind} {job.name}", message=message, places=(job.place, spot.place), quote=job.command)
            break


@check("windows.outdated-session", Severity.HIGH, advice="End the session, or have the person log off and on again.")
def outdated_session(rights: WindowsRights) -> Iterator[Found]:
    """A membership changed while a session of the account was open.

    A session keeps the groups that it started with: removed groups are still in force, added ones are not yet.
    """
    for session, change in rights.stale_sessions():
        who = rights.session_holder(session)
        group = rights.holders.of_sid(change.group).name
        done = f"by {change.by} at {change.at:%Y-%m-%d %H:%M} UTC" if change.by else f"at {change.at:%Y-%m-%d %H:%M} UTC"
        since = f"{session.since:%Y-%m-%d %H:%M} UTC" if session.since else "before"
        if change.added:
            message, severity = f"{who} was put into {group} {done}: the session of {since} does not hold it yet", Severity.INFO
        else:
            message, severity = f"{who} was taken out of {group} {done}: the session of {since} still holds it", None
        yield Found(about=str(who), message=message, places=(session.place, change.place), severity=severity)


CHECKS: tuple[Check[WindowsRights], ...] = (
    everyone_administrator,
    unknown_administrator,
    disabled_administrator,
    password_never_expires,
    no_password_required,
    guest_enabled,
    user_right,
    replaceable_program,
    unquoted_path,
    administrator_service_account,
    elevated_installs,
    no_elevation_prompt,
    remote_local_administrators,
    stored_password,
    automatic_logon,
    task_past_the_prompt,
    outdated_session,
)
