"""Checks of sudo's options: Defaults entries that ask less, keep more or record nothing."""

from collections.abc import Iterator, Mapping

from fidelitas.checks.check import Check, Found, check
from fidelitas.checks.linux.sudo_rules import as_root
from fidelitas.facts import DefaultScope, FileKind, Place, SudoDefault, Tag
from fidelitas.findings import Severity
from fidelitas.rights.linux.files import above, writers_told
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.sudo.commands import USUAL_PATH

__all__ = ["CHECKS"]

# Variables by which a program takes code from elsewhere: ld.so(8), and the manuals of the interpreters.
LOADER_VARIABLES: Mapping[str, str] = {
    "LD_PRELOAD": "ld.so",
    "LD_LIBRARY_PATH": "ld.so",
    "LD_AUDIT": "ld.so",
    "LD_*": "ld.so",
    "PYTHONPATH": "Python",
    "PYTHONHOME": "Python",
    "PYTHONSTARTUP": "Python",
    "PERL5LIB": "Perl",
    "PERLLIB": "Perl",
    "PERL5OPT": "Perl",
    "RUBYLIB": "Ruby",
    "RUBYOPT": "Ruby",
    "NODE_OPTIONS": "Node.js",
    "NODE_PATH": "Node.js",
    "JAVA_TOOL_OPTIONS": "Java",
    "BASH_ENV": "bash",
    "ENV": "sh",
    "BASH_FUNC_*": "bash",
    "GCONV_PATH": "the C library",
    "*": "everything",
}
# Minutes.  Five is sudo's own default, fifteen Debian's; an hour outlasts most absences from a desk.
LONG_MEMORY = 60.0
USUAL_SECURE_PATH = f'secure_path="{USUAL_PATH}"'


def _entries(rights: HostRights, *names: str) -> Iterator[SudoDefault]:
    """Yield the entries for options that apply to this host."""
    for default in rights.facts.policy.defaults:
        if default.option not in names:
            continue
        match = rights.policy.hosts(default.binding) if default.scope is DefaultScope.HOST else None
        if default.scope is not DefaultScope.HOST or (match is not None and match.allowed):
            yield default


def _bound(default: SudoDefault) -> str:
    return f"Defaults{default.scope.value}{','.join(map(str, default.binding))}"


def _written(default: SudoDefault) -> str:
    value = f"{default.operator}{default.value}" if default.value is not None else ""
    return f"{_bound(default)} {'!' if default.operator == '!' else ''}{default.option}{value}"


def _found(default: SudoDefault, message: str, severity: Severity | None = None, safer: str | None = None) -> Found:
    """Return a finding about an entry; `safer` is the setting to put in its place, with the same binding."""
    text = f"{_bound(default)} {safer}" if safer else None
    return Found(about=_written(default), message=message, places=(default.place,), quote=_written(default), severity=severity, safer=text)


@check("sudo.authentication-disabled", Severity.HIGH, advice="Remove the option; use NOPASSWD for the few commands that need it.")
def authentication_disabled(rights: HostRights) -> Iterator[Found]:
    """An option disables authentication for all rules that it is bound to.

    The option is in another place than the rules that it changes, and it also applies to every rule added later.
    """
    for default in _entries(rights, "authenticate"):
        if default.operator == "!":
            bound = default.scope is not DefaultScope.GLOBAL
            yield _found(
                default,
                "sudo asks for no password" + (" where this is bound to" if bound else " of any account"),
                Severity.MEDIUM if bound else None,
                safer="authenticate",
            )


@check("sudo.long-credential-cache", Severity.MEDIUM, advice="Set timestamp_timeout to 15 minutes or less.")
def long_credential_cache(rights: HostRights) -> Iterator[Found]:
    """sudo accepts a password for a long time after it was typed.

    Anyone who finds the terminal unattended within that time is root without a password.
    """
    for default in _entries(rights, "timestamp_timeout"):
        minutes = float(default.value) if default.value not in (None, "", "+", "-", ".") else 0.0
        if minutes < 0:
            yield _found(default, "sudo accepts a password until the host restarts", Severity.HIGH, safer="timestamp_timeout=15")
        elif minutes > LONG_MEMORY:
            yield _found(default, f"sudo accepts a password for {minutes:g} minutes", safer="timestamp_timeout=15")


@check("sudo.loader-variables-kept", Severity.HIGH, advice="Remove the variable from env_keep.")
def loader_variables_kept(rights: HostRights) -> Iterator[Found]:
    """sudo keeps a variable from which programs load code.

    Anyone who may run any command as root, however harmless, can make it load their own code as root.
    """
    for default in _entries(rights, "env_keep", "env_check"):
        names = [] if default.operator in ("-=", "!") else (default.value or "").split()
        for name in names:
            loader = LOADER_VARIABLES.get(name.partition("=")[0])
            if loader:
                yield _found(default, f"{name}, from which {loader} loads code, is kept", safer=f'{default.option} -= "{name}"')
    for default in _entries(rights, "env_reset"):
        if default.operator == "!":
            yield _found(default, "sudo keeps the whole environment of the user", safer="env_reset")


@check("sudo.other-account-password", Severity.LOW, advice="Let sudo ask for the user's own password.")
def other_account_password(rights: HostRights) -> Iterator[Found]:
    """sudo asks for another account's password instead of the user's own.

    Everyone who may use sudo has to know that password; anyone who knows it needs no rule, and the logs cannot distinguish these
    people.
    """
    for default in _entries(rights, "rootpw", "targetpw", "runaspw"):
        if default.operator == "":
            whose = {"rootpw": "root", "targetpw": "the account to run as", "runaspw": "the default account"}[default.option]
            yield _found(default, f"sudo asks for the password of {whose}", safer=f"!{default.option}")


@check("sudo.logging-disabled", Severity.MEDIUM, advice="Remove the option, or set a logfile.")
def logging_disabled(rights: HostRights) -> Iterator[Found]:
    """sudo's log is disabled.

    It cannot be established later what was done as root, or by whom.
    """
    logfile = any(default.operator == "=" for default in _entries(rights, "logfile"))
    told = {"syslog": "sudo writes no log", "log_allowed": "what is allowed is not logged", "log_denied": "refusals are not logged"}
    for default in _entries(rights, *told):
        if default.operator == "!" and not (default.option == "syslog" and logfile):
            yield _found(default, told[default.option], safer=default.option)


@check("sudo.unsafe-search-path", Severity.MEDIUM, advice="Set secure_path to folders that only root can write.")
def unsafe_search_path(rights: HostRights) -> Iterator[Found]:
    """sudo searches for commands in folders that others can write, or that the user chooses.

    A command that a script names without its path may be a program of someone else.
    """
    for default in _entries(rights, "secure_path"):
        if default.operator == "!":
            yield _found(default, "the search path of the user is used", safer=USUAL_SECURE_PATH)
        folders = default.value.split(":") if default.value else []
        for folder in folders:
            told = _others(folder.rstrip("/") or "/", rights)
            safer = f'secure_path="{":".join(other for other in folders if other != folder)}"'
            if not folder.startswith("/"):
                yield _found(default, f'secure_path contains "{folder}", which is not an absolute path', safer=safer)
            elif told:
                yield _found(default, f"secure_path contains {folder}, which {told}", Severity.CRITICAL, safer=safer)
    if not any(True for _ in _entries(rights, "secure_path")) and rights.facts.policy.rules and not _has_path_built_in(rights):
        place = rights.facts.policy.rules[0].place
        message = "no secure_path is set, and sudo has none built in on this system: the search path of the user is used"
        place = Place(subject=place.subject, path=place.path)
        yield Found(about="secure_path", message=message, places=(place,), severity=Severity.LOW, safer=f"Defaults {USUAL_SECURE_PATH}")


def _has_path_built_in(rights: HostRights) -> bool:
    """Return whether sudo was built with a secure path (sudo -V says so), as Debian and those that follow it do; or nobody can tell."""
    system = rights.facts.system
    return system is None or "debian" in system.family


@check("sudo.shared-terminal", Severity.LOW, advice="Remove the option; sudo 1.9.14 and newer use use_pty by default.")
def shared_terminal(rights: HostRights) -> Iterator[Found]:
    """Commands run on the terminal of the user who called sudo.

    A hostile program that runs as another account can type into that terminal as if it were the user.
    """
    for default in _entries(rights, "use_pty"):
        if default.operator == "!":
            yield _found(default, "commands run on the user's terminal", safer="use_pty")


@check("sudo.no-terminal-required", Severity.LOW, advice="Remove the exception; give a scheduled job its own account and rule.")
def no_terminal_required(rights: HostRights) -> Iterator[Found]:
    """The policy requires a terminal, but not for an account that has root without a password.

    Any program that runs as that account, such as a script of a web server, becomes root without a person at a keyboard.
    """
    entries = list(_entries(rights, "requiretty"))
    unasked = any(default.operator == "!" for default in _entries(rights, "authenticate")) or any(
        rule.tag(Tag.PASSWD) is False for rule, _ in as_root(rights)
    )
    for index, default in enumerate(entries):
        if default.operator == "!" and any(one.operator == "" for one in entries[:index]):
            message = "no terminal is required here, although the policy requires one elsewhere"
            yield _found(default, message, None if unasked else Severity.INFO, safer="requiretty")


def _others(path: str, rights: HostRights) -> str:
    """Return who else can write a path, or where it is missing the nearest folder above, as a clause; empty where nobody can."""
    states = rights.facts.states
    here = states.get(path)
    missing = here is None or here.kind is FileKind.ABSENT
    for at in above(path):
        state = states.get(at)
        if state is None or state.kind is FileKind.ABSENT:
            continue
        told = writers_told(state, rights.population)
        if not told and state.kind is FileKind.FOLDER and state.mode is not None and state.mode & 0o002:
            told = f"lets everyone add files (mode {state.mode:04o})" if at == path or missing else ""
        if told:
            return told if at == path else f"is below {at}, which {told}"
    return ""


# Options whose value is a file that sudo reads, loads or runs as root (sudoers(5)).
_FILES = (
    "env_file",
    "restricted_env_file",
    "mailerpath",
    "noexec_file",
    "intercept_file",
    "editor",
    "plugin_dir",
    "group_plugin",
    "iolog_file",
)


@check("sudo.writable-option-file", Severity.HIGH, advice="Name a file that only root can write, in folders that only root can write.")
def writable_option_file(rights: HostRights) -> Iterator[Found]:
    """An option names a file that others can write, which sudo reads, loads or runs as root.

    Anyone who can write it decides what the next use of sudo does as root.
    """
    for default in _entries(rights, *_FILES):
        for path in (default.value or "").split(":"):
            told = _others(path, rights) if path.startswith("/") else ""
            if told:
                yield _found(default, f"{default.option} names {path}, which {told}")


# Options that let users do more than their rules say, whatever the rules (sudoers(5)).
_UNSAFE = {
    (
        "runchroot",
        "=",
    ): "users choose the folder that their command runs in as root folder (CHROOT): they bring their own programs and libraries",
    ("sudoedit_follow", ""): "sudoedit follows symbolic links: in a folder that its user can write it edits any file",
    ("sudoedit_checkdir", "!"): "sudoedit edits files in folders that its user can write, where a link can take their place",
    ("timestamp_type", "="): "a password counts for all terminals of the account, a stolen session among them",
    ("setenv", ""): "users set any variable for their commands, those among them from which programs load code",
    ("visiblepw", ""): "passwords are typed in the clear where the terminal cannot hide them",
    ("env_editor", ""): "visudo runs the editor that its caller's environment names: any account that may run visudo runs any program",
    ("exempt_group", "="): "members of the group are not asked for a password, and keep their own search path",
}


@check("sudo.unsafe-option", Severity.MEDIUM, advice="Remove the option, or bind it to the few users or commands that need it.")
def unsafe_option(rights: HostRights) -> Iterator[Found]:
    """An option of the policy lets users do more than their rules say.

    The option is in another place than the rules that it changes, and applies to every rule added later.
    """
    for default in _entries(rights, *dict.fromkeys(name for name, _ in _UNSAFE)):
        why = _UNSAFE.get((default.option, default.operator))
        if default.option == "runchroot" and default.value != "*":
            why = None
        if default.option == "timestamp_type" and default.value != "global":
            why = None
        if default.option == "exempt_group" and not rights.population.members(default.value or ""):
            why = None
        if why:
            yield _found(default, why, Severity.LOW if default.option in ("visiblepw", "env_editor") else None)


CHECKS: tuple[Check[HostRights], ...] = (
    authentication_disabled,
    long_credential_cache,
    loader_variables_kept,
    other_account_password,
    logging_disabled,
    unsafe_search_path,
    shared_terminal,
    no_terminal_required,
    writable_option_file,
    unsafe_option,
)
