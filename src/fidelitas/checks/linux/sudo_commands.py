"""Checks of what sudo rules let people run: programs that hand over more than the rule says, and bans that ban nothing."""

import re
from collections.abc import Iterator
from datetime import UTC

from msgspec.structs import replace

from fidelitas.checks.check import Check, Found, check
from fidelitas.checks.linux.sudo_rules import NEEDED, as_root, named_instead, users_of, without_tag
from fidelitas.facts import AliasKind, Command, MemberKind, SudoRule, Tag
from fidelitas.findings import Severity
from fidelitas.patterns import has_wildcards
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.powers import is_judged, power_of
from fidelitas.rights.linux.sudo import InForce, Leaf

__all__ = ["CHECKS"]


def _bounded(rights: HostRights) -> Iterator[tuple[SudoRule, InForce]]:
    """Yield each rule with the commands that it gives as root and that are not everything, one by one."""
    for rule, commands in as_root(rights):
        yield from ((rule, command) for command in commands if not command.leaf.everything)


def _found(rule: SudoRule, what: object, message: str, severity: Severity | None = None, safer: str | None = None) -> Found:
    about = f"{rule.statement}\0{what}"
    return Found(about=about, message=message, places=(rule.place,), quote=rule.statement, severity=severity, safer=safer)


# Programs that show what is long in a pager unless they are told not to.
_PAGED = frozenset({"journalctl", "systemctl", "loginctl", "timedatectl", "hostnamectl", "networkctl", "machinectl", "resolvectl"})
_EDITORS = frozenset({"vi", "vim", "nvim", "view", "emacs", "nano", "pico", "ed", "ex", "joe"})


def _safer(rule: SudoRule, leaf: Leaf) -> str:
    """Return the rule with a form of the command that does not hand over root, where there is one: other words, or the NOEXEC tag."""
    command = _safer_command(leaf.command)
    if command is not None and power_of(command) is None:
        return _with(rule, leaf, str(command))
    if rule.tag(Tag.EXEC) is None and power_of(leaf.command, noexec=True) is None:
        return _with(rule, leaf, f"NOEXEC: {leaf.command}")
    return _with(rule, leaf, NEEDED)


def _with(rule: SudoRule, leaf: Leaf, command: str) -> str:
    """Return the rule with another command in place of one; nothing where that stands in an alias."""
    text = re.sub(rf"(?<![^\s,:=)!]){re.escape(str(leaf.command))}(?![^\s,:])", lambda _: command, rule.statement)
    return text if text != rule.statement else ""


def _safer_command(command: Command) -> Command | None:
    """Return what does the same with less; only where arguments are fixed, since there is nothing else to keep."""
    name, arguments = command.path.rpartition("/")[2], command.arguments
    if not arguments or has_wildcards(arguments):
        return None
    if name in _PAGED:
        return replace(command, arguments=f"--no-pager {arguments}")
    if name in _EDITORS and all(word.startswith("/") for word in arguments.split()):
        return Command(path="sudoedit", arguments=arguments)
    return None


@check(
    "sudo.root-equivalent-command",
    Severity.HIGH,
    advice="Fix the arguments so that nothing is left to the user, use sudoedit for files, or provide a script for exactly what is needed.",
)
def root_equivalent_command(rights: HostRights) -> Iterator[Found]:
    """A rule for one command gives full root.

    The rule looks narrow, but the program runs anything that its user likes: it is a shell, editor, pager or copies files.
    """
    for rule, command in _bounded(rights):
        leaf = command.leaf
        power = power_of(leaf.command, noexec=rule.tag(Tag.EXEC) is False)
        if power is not None:
            instead = f"; {power.instead} instead" if power.instead else ""
            message = f"{users_of([command])} may run {leaf.command} as root, which {power.reason}{instead}"
            yield _found(rule, leaf.command, message, safer=_safer(rule, leaf))


@check(
    "sudo.unjudged-program",
    Severity.INFO,
    advice="Read its manual for options that run commands or read and write files; write the arguments out where it has any.",
)
def unjudged_program(rights: HostRights) -> Iterator[Found]:
    """A rule leaves the arguments of a program to its user, and what the program can be made to do is not known here.

    It may run other programs, or read and write any file; then the rule gives more than it says.
    """
    scripts = rights.facts.delegations.scripts
    for rule, command in _bounded(rights):
        path, arguments = command.leaf.command.path, command.leaf.command.arguments
        left_open = arguments is None or has_wildcards(arguments)
        named = path.startswith("/") and not path.endswith("/") and not has_wildcards(path)
        if left_open and named and path not in scripts and not is_judged(path):
            message = f"{users_of([command])} may run {command.leaf.command} as root; what that program can be made to do is not known here"
            yield _found(rule, command.leaf.command, message)


@check(
    "sudo.loose-arguments",
    Severity.MEDIUM,
    advice="Write the arguments out, one rule for each case, or use a regular expression without blanks and slashes.",
)
def loose_arguments(rights: HostRights) -> Iterator[Found]:
    """A wildcard in the arguments of a rule matches more than it seems.

    sudo matches all arguments as one string: a star also matches more words, options, and paths with "..".
    """
    for rule, command in _bounded(rights):
        leaf = command.leaf
        pattern = leaf.command.arguments or ""
        star = "*" in pattern.replace("\\*", "") and not pattern.startswith("^")
        if star and leaf.command.path != "sudoedit" and power_of(leaf.command) is None:
            example = pattern.replace("*", "/../../etc/shadow" if "/" in pattern else "x --any-option", 1)
            message = f'"{leaf.command}" also matches the arguments "{example}"'
            yield _found(rule, leaf.command, message, safer=_with(rule, leaf, str(_without_stars(leaf.command))))


def _without_stars(command: Command) -> Command:
    """Return a command whose stars take in one plain word each: a regular expression, which sudo 1.9.10 and newer understand."""
    parts = re.split(r"(?<!\\)\*", command.arguments or "")
    escaped = [re.sub(r"([.+?()|{}$^])", r"\\\1", part) for part in parts]
    return replace(command, arguments=f"^{'[[:alnum:]_][[:alnum:]_.-]*'.join(escaped)}$")


@check("sudo.bypassable-exclusion", Severity.MEDIUM, advice="List the commands that are needed instead of ALL with exceptions.")
def bypassable_exclusion(rights: HostRights) -> Iterator[Found]:
    """Commands are excluded from ALL.

    sudo compares paths and arguments: a copy of the program under another name, or a shell or editor, runs the excluded command. The
    exclusion hides that the rule gives full root.
    """
    for rule, commands in as_root(rights):
        for command in commands:
            if command.leaf.everything and command.excluded:
                banned = ", ".join(map(str, reversed(command.excluded)))  # walked from the last
                message = f"{users_of([command])} may run everything as root; excluding {banned} does not restrict it"
                yield _found(rule, "exclusion", message, safer=named_instead(rule))


@check("sudo.settable-environment", Severity.MEDIUM, advice="Remove the SETENV tag; keep the variables that are needed with env_keep.")
def settable_environment(rights: HostRights) -> Iterator[Found]:
    """A rule lets the user set any environment variable for a command.

    With variables such as LD_PRELOAD or PYTHONPATH, a harmless command loads the user's code and runs it as root.
    """
    for rule, commands in as_root(rights):
        bounded = [command for command in commands if not command.leaf.everything]
        if bounded and rule.tag(Tag.SETENV):
            what = ", ".join(str(command.leaf.command) for command in bounded)
            message = f"{users_of(bounded)} may set any environment variable for {what}"
            yield _found(rule, rule.command, message, safer=without_tag(rule, "SETENV"))


@check("sudo.run-as-any-user", Severity.LOW, advice="Name the account that the command is to run as.")
def run_as_any_user(rights: HostRights) -> Iterator[Found]:
    """A rule allows commands as any account, root included.

    Usually one service account was meant.
    """
    for rule, commands in as_root(rights):
        anyone = any(member.kind is MemberKind.ALL and not member.negated for member in rule.run_as_users or ())
        bounded = [command for command in commands if not command.leaf.everything]
        if anyone and bounded:
            yield _found(rule, rule.command, f"{users_of(bounded)} may run {rule.command} as any user", safer=_as_one(rule))


def _as_one(rule: SudoRule) -> str:
    """Return the rule with root, which ALL includes, in place of anyone."""
    return re.sub(r"\(\s*ALL\s*(:[^()]*)?\)", "(root)", rule.statement)


@check("sudo.expired-rule", Severity.LOW, advice="Remove the rule.")
def expired_rule(rights: HostRights) -> Iterator[Found]:
    """The period of a rule has ended.

    The rule allows nothing any more; an expired exclusion forbids nothing any more.
    """
    for rule in rights.facts.policy.rules:
        until = rule.options.not_after
        if until is not None and until < rights.facts.taken:
            banned = rule.command.negated
            message = (
                f"the {'exclusion' if banned else 'rule'} for {', '.join(map(str, rule.users))} ended on {until.astimezone(UTC):%Y-%m-%d}"
            )
            yield _found(rule, rule.command, message, Severity.MEDIUM if banned else None)


@check("sudo.unused-alias", Severity.INFO, advice="Remove the alias, or correct the name where it was meant to be used.")
def unused_alias(rights: HostRights) -> Iterator[Found]:
    """An alias is defined and not used.

    Often the rule that was meant to use it has another spelling, and has no effect.
    """
    policy = rights.facts.policy
    used: set[tuple[AliasKind, str]] = set()
    for rule in policy.rules:
        lists = {AliasKind.USER: rule.users, AliasKind.HOST: rule.hosts, AliasKind.COMMAND: (rule.command,)}
        used |= {(kind, member.value) for kind, members in lists.items() for member in members if member.kind is MemberKind.WORD}
        used |= {(AliasKind.RUNAS, member.value) for member in (*(rule.run_as_users or ()), *(rule.run_as_groups or ()))}
    used |= {(kind, member.value) for default in policy.defaults for member in default.binding for kind in AliasKind}
    agenda = [alias for alias in policy.aliases if (alias.kind, alias.name) in used]
    for alias in agenda:
        inner = {(alias.kind, member.value) for member in alias.members if member.kind is MemberKind.WORD} - used
        used |= inner
        agenda += [other for other in policy.aliases if (other.kind, other.name) in inner]
    for alias in policy.aliases:
        if (alias.kind, alias.name) not in used:
            yield Found(
                about=f"{alias.kind.value} {alias.name}", message=f"{alias.kind.value} {alias.name} is not used", places=(alias.place,)
            )


CHECKS: tuple[Check[HostRights], ...] = (
    root_equivalent_command,
    unjudged_program,
    loose_arguments,
    bypassable_exclusion,
    settable_environment,
    run_as_any_user,
    expired_rule,
    unused_alias,
)
