"""Checks of sudo rules: to whom they give what, and whether they count at all."""

import re
from collections.abc import Iterable, Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import AliasKind, Member, MemberKind, SudoRule, Tag
from fidelitas.findings import Severity
from fidelitas.rights.linux.host import HostRights
from fidelitas.rights.linux.powers import power_of
from fidelitas.rights.linux.sudo import InForce, Leaf, leaves

__all__ = ["CHECKS", "NEEDED", "as_root", "named_instead", "users_of", "without_tag"]

# Stands in a safer rule where only those who use it can tell what to write.
NEEDED = "/path/of/what/is/needed its-arguments"


def as_root(rights: HostRights) -> Iterator[tuple[SudoRule, list[InForce]]]:
    """Yield each rule that gives an account of this host something as root, with the commands that it still gives."""
    for rule, effect in rights.effective.of(rights.facts.policy.rules):
        if effect.as_root:
            yield rule, list(effect.as_root.values())


def users_of(commands: Iterable[InForce]) -> str:
    """Return those to whom a rule gives some commands, as the rule names them."""
    return ", ".join(dict.fromkeys(user for command in commands for user in command.users))


def _positive(rights: HostRights, members: Iterable[Member], kind: AliasKind) -> Iterator[Member]:
    """Yield the members of a list that are not negated, aliases followed once each."""
    met: set[str] = set()
    agenda = list(members)
    for member in agenda:
        alias = rights.policy.aliases.get((kind, member.value)) if member.kind is MemberKind.WORD else None
        if alias is None:
            if not member.negated:
                yield member
        elif alias.name not in met and not member.negated:
            met.add(alias.name)
            agenda.extend(alias.members)


@check(
    "sudo.full-root-outside-admin-group",
    Severity.HIGH,
    advice="Put the person into the administrators' group, or list the few commands that are needed.",
)
def full_root_outside_admin_group(rights: HostRights) -> Iterator[Found]:
    """A rule outside the administrators' group allows every command as root.

    Administrators should be in one list. A separate rule is missed in reviews of that list and stays when the person changes jobs. Where
    sudo asks for the password of root, such a rule gives no more than su does, and is information.
    """
    usual = {f"%{name}" for name in rights.population.admin_groups} | {"root", "#0"}
    for rule, commands in as_root(rights):
        everything = [command for command in commands if command.leaf.everything]
        members = _positive(rights, rule.users, AliasKind.USER) if everything else ()
        others = [str(one) for one in members if str(one) not in usual and any(command.is_about(one) for command in everything)]
        if others:
            who = ", ".join(dict.fromkeys(others))
            admins = " or ".join(sorted(f"%{name}" for name in rights.population.admin_groups))
            as_su = all(command.needs_another_password for command in everything)
            yield Found(
                about=rule.statement,
                message=f"{who} may run every command as root by a rule outside {admins}{', with the password of root' if as_su else ''}",
                places=(rule.place,),
                quote=rule.statement,
                safer=named_instead(rule),
                severity=Severity.INFO if as_su else None,
            )


def named_instead(rule: SudoRule) -> str:
    """Return the rule with named commands in place of everything."""
    head = rule.statement.rpartition("=")[0]
    run_as = re.match(r"\s*(\([^)]*\))?", rule.statement[len(head) + 1 :])
    return f"{head}={run_as[1] + ' ' if run_as and run_as[1] else ''}{NEEDED}" if "!" not in head and ":" not in head else ""


@check(
    "sudo.full-root-without-password",
    Severity.HIGH,
    advice="Remove the NOPASSWD tag, or list the few commands that need it.",
)
def full_root_without_password(rights: HostRights) -> Iterator[Found]:
    """A broad rule gives root without a password.

    Anyone who uses the open terminal, steals a key or takes over a process of the account is root too.
    """
    for rule, commands in as_root(rights):
        broad = [command for command in commands if _broad(command.leaf)]
        if broad and rule.tag(Tag.PASSWD) is False:
            what = ", ".join(str(command.leaf.command) for command in broad)
            yield Found(
                about=f"{rule.statement}\0{rule.command}",
                message=f"{users_of(broad)} may run {what} as root without a password",
                places=(rule.place,),
                quote=rule.statement,
                safer=without_tag(rule, "NOPASSWD"),
            )


def without_tag(rule: SudoRule, tag: str) -> str:
    """Return the text of a rule without a tag, or nothing where that cannot be written so."""
    text = re.sub(rf"\b{tag}\s*:\s*", "", rule.statement)
    return text if text != rule.statement else ""


def _broad(leaf: Leaf) -> bool:
    """Return whether a command is everything, a whole folder, a wildcard over names, or a program whose purpose is to run others."""
    path, power = leaf.command.path, power_of(leaf.command)
    return leaf.everything or path.endswith(("/", "/*")) or (power is not None and not power.escape)


@check(
    "sudo.unknown-name",
    Severity.MEDIUM,
    advice="Remove the name from the policy, or correct it.",
)
def unknown_name(rights: HostRights) -> Iterator[Found]:
    """A rule names an account, group or alias that does not exist.

    Nobody has rights by it today. The next account or group of that name inherits the rule, and an exclusion of an unknown name
    excludes nothing. Rules of the administrators' group that distributions ship for hosts that may lack the group are information.
    """
    for rule in rights.facts.policy.rules:
        for kind, member in _unknown(rights, rule):
            elsewhere = _elsewhere(rights, "group" if kind == "group" else "passwd") if kind in ("account", "group") else ""
            yield Found(
                about=f"{rule.statement}\0{member.value}",
                message=f'the rule names the {kind} "{member.value}", which does not exist{elsewhere}',
                places=(rule.place, member.place) if member.place.line != rule.place.line else (rule.place,),
                quote=rule.statement,
                severity=Severity.INFO if elsewhere or _is_shipped(rule, member) else None,
            )


# Debian, Ubuntu and their kin, Red Hat, SUSE, Arch and the BSDs ship a policy with rules for these, whether or not the group is there.
_SHIPPED = {"%admin", "%sudo", "%wheel"}


def _is_shipped(rule: SudoRule, member: Member) -> bool:
    """Return whether a rule gives everything to an administrators' group that a distribution's policy names."""
    return str(member) in _SHIPPED and not member.negated and rule.command.kind is MemberKind.ALL


def _elsewhere(rights: HostRights, database: str) -> str:
    """Return a clause that says where else a name may come from."""
    local = {"files", "compat", "systemd"}
    services = [service for service in rights.facts.name_services if service.database == database]
    others = [source for service in services for source in service.sources if source not in local]
    return f" on this host; it may come from {', '.join(others)}, which was not read" if others else ""


def _unknown(rights: HostRights, rule: SudoRule) -> Iterator[tuple[str, Member]]:
    seen: set[tuple[str, str]] = set()
    lists = ((rule.users, AliasKind.USER), (rule.run_as_users or (), AliasKind.RUNAS))
    for members, kind in lists:
        for member in _positive(rights, members, kind):
            missing = _missing(rights, member)
            if missing and (missing, member.value) not in seen:
                seen.add((missing, member.value))
                yield missing, member
    for member in _positive(rights, rule.run_as_groups or (), AliasKind.RUNAS):
        if member.kind in (MemberKind.NAME, MemberKind.WORD) and not _is_group(rights, member.value):
            yield "group", member
    command = rule.command
    if command.kind is MemberKind.WORD and (AliasKind.COMMAND, command.value) not in rights.policy.aliases:
        yield "command alias", command


def _missing(rights: HostRights, member: Member) -> str:
    """Return what kind of thing a member names that does not exist, or nothing."""
    if member.kind is MemberKind.GROUP and not member.value.startswith("%:"):
        return "" if _is_group(rights, member.value[1:]) else "group"
    if member.kind in (MemberKind.NAME, MemberKind.WORD) and not _is_account(rights, member.value):
        return "alias or account" if member.kind is MemberKind.WORD else "account"
    return ""


def _is_group(rights: HostRights, name: str) -> bool:
    if name.startswith("#"):
        return any(name == f"#{group.gid}" for group in rights.population.groups)
    return rights.population.has_group(name)


def _is_account(rights: HostRights, name: str) -> bool:
    if name.startswith("#"):
        return any(name == f"#{who.uid}" for who in rights.population.identities)
    return bool(rights.population.called(name))


@check(
    "sudo.overridden-rule",
    Severity.LOW,
    advice="Move the rule after the one that overrides it if it is meant to count, or remove it.",
)
def overridden_rule(rights: HostRights) -> Iterator[Found]:
    """A rule has no effect because a later rule overrides it.

    sudo uses the last rule that matches. An exclusion, tag or exception before a general rule is not in force.
    """
    for rule, effect in rights.effective.of(rights.facts.policy.rules):
        if effect.is_overridden:
            yield _dead(rights, rule, [by for _, by in sorted(effect.overridden_by.items())])


def _dead(rights: HostRights, rule: SudoRule, over: list[SudoRule]) -> Found:
    by = list(dict.fromkeys(other.place for other in over))
    # What was written and what happens differ where one allows and the other forbids, or where only one of them asks for a password.
    allows = _senses(rights, rule)
    differs = any(not _senses(rights, other) <= allows or other.tag(Tag.PASSWD) != rule.tag(Tag.PASSWD) for other in over)
    one_line = all(other.statement == rule.statement and other.place.line == rule.place.line for other in over)
    where = " and ".join(place.in_file() for place in by)
    users = ", ".join(str(member) for member in rule.users)
    effect = "which decides otherwise" if differs else "which says the same"
    return Found(
        about=f"{rule.statement}\0{rule.command}",
        message=f"the rule for {users} ({rule.command}) is overridden by {where}, {effect}",
        places=(rule.place, *by),
        quote=rule.statement,
        # ALL, !ALL in one line hides nothing from its reader, and allows nothing.
        severity=Severity.MEDIUM if differs and not (one_line and _senses(rights, rule) == {True}) else None,
    )


def _senses(rights: HostRights, rule: SudoRule) -> set[bool]:
    """Return whether a rule allows, forbids, or both."""
    return {leaf.allowed for leaf in leaves(rights.policy, rule.command)}


CHECKS: tuple[Check[HostRights], ...] = (
    full_root_outside_admin_group,
    full_root_without_password,
    unknown_name,
    overridden_rule,
)
