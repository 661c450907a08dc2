"""sudo rules as a directory holds them, sudoRole objects in LDIF: sudoers.ldap(5), RFC 2849.

Knows both syntaxes and states the same facts as the sudoers language.  Roles are ordered by sudoOrder, where the highest wins as the last
line of a file does; the values of an attribute have no order, so that those with "!" come last and win.
"""

import re
from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from fidelitas.facts import (
    Command,
    CommandOptions,
    DefaultScope,
    Gap,
    Member,
    MemberKind,
    Place,
    PolicyFile,
    PolicyFileState,
    SudoDefault,
    SudoPolicy,
    SudoRule,
    Tag,
)
from fidelitas.languages.ldap.ipa_rules import IpaRules
from fidelitas.languages.ldap.ldif import Entry, entries
from fidelitas.languages.sudoers.options import option_fault
from fidelitas.languages.sudoers.times import generalized_time
from fidelitas.text import clipped, escape_control

__all__ = ["read_sudo_ldif"]

_DIGEST = re.compile(r"(sha224|sha256|sha384|sha512):([0-9A-Za-z+/=]+)\s*,?\s*")
_ADDRESS = re.compile(r"[0-9.]+(/[0-9.]+)?\Z|[0-9A-Fa-f:]*:[0-9A-Fa-f:.]*(/[0-9A-Fa-f:]+)?\Z")
_OPTION = re.compile(r"(!?)([a-z_]+)(?:\s*(\+=|-=|=)\s*(.*))?\Z", re.DOTALL)
# Options of a role that a user specification writes as tags.
_TAGS: Mapping[str, tuple[Tag, bool]] = {
    "authenticate": (Tag.PASSWD, True),
    "noexec": (Tag.EXEC, False),
    "setenv": (Tag.SETENV, True),
    "log_input": (Tag.LOG_INPUT, True),
    "log_output": (Tag.LOG_OUTPUT, True),
    "mail_all_cmnds": (Tag.MAIL, True),
    "intercept": (Tag.INTERCEPT, True),
    "sudoedit_follow": (Tag.FOLLOW, True),
}
_PLAIN = {"runcwd": "cwd", "runchroot": "chroot", "command_timeout": "timeout", "role": "role", "type": "type"}


def read_sudo_ldif(text: str, origin: Place, ipa: IpaRules | None = None) -> SudoPolicy:
    """Return the policy that the sudoRole objects of an LDIF text state; of the rules of an `ipa` directory those, and not their copies."""
    gaps: list[Gap] = []
    roles = [
        entry
        for entry in entries(text, origin, gaps, "sudo policy")
        if any(value.lower() == "sudorole" for value, _ in entry.texts("objectClass"))
    ]
    if ipa is not None:
        roles = [*(role for role in roles if role.first("cn") not in ipa.sudo_names), *ipa.sudo_roles()]
    rules: list[SudoRule] = []
    defaults: list[SudoDefault] = []
    for entry in sorted(roles, key=_order):
        if entry.first("cn") == "defaults":
            defaults += _defaults(entry, origin, gaps)
        else:
            gaps += (*_broken_times(entry, origin), *_broken_options(entry, origin))
            rules += _rules(entry, origin)
    reached = PolicyFile(path=origin.path, state=PolicyFileState.READ, statements=len(rules) + len(defaults))
    return SudoPolicy(rules=tuple(rules), defaults=tuple(defaults), files=(reached,), gaps=tuple(gaps))


def _order(entry: Entry) -> float:
    """Return an entry's place among the others: sudoOrder, zero where it is not stated."""
    text = entry.first("sudoOrder") or "0"
    return float(text) if re.match(r"-?\d{1,15}(\.\d{1,15})?\Z", text) else 0.0


# -- roles -------------------------------------------------------------------------------------------------------------------------


def _defaults(entry: Entry, origin: Place, gaps: list[Gap]) -> Iterator[SudoDefault]:
    for text, line in entry.texts("sudoOption"):
        default, fault = _option(text, origin.at(line))
        if default is None:
            gaps.append(Gap(what="sudo policy", why=fault, weakens="sudo ignores this option", place=origin.at(line)))
        else:
            yield replace(default, dn=entry.first("dn") or "")


def _option(text: str, place: Place) -> tuple[SudoDefault | None, str]:
    """Return a value of sudoOption as an option that sudo takes, or why it does not."""
    found = _OPTION.match(text.strip())
    if found is None:
        return None, f'expected an option, found "{clipped(escape_control(text), 40)}"'
    operator, value = found[3] or found[1], None if found[4] is None else found[4].strip('"')
    fault = option_fault(found[2], operator, value)
    default = SudoDefault(scope=DefaultScope.GLOBAL, binding=(), option=found[2], operator=operator, value=value, place=place)
    return (None if fault else default), fault or ""


def _broken_times(entry: Entry, origin: Place) -> Iterator[Gap]:
    """Yield a gap for each time of a role that states none: the role is then taken as unlimited."""
    for attribute in ("sudoNotBefore", "sudoNotAfter"):
        for text, line in entry.texts(attribute):
            if generalized_time(text) is None:
                why = f'{attribute} expects a generalized time, found "{clipped(escape_control(text), 40)}"'
                yield Gap(what="sudo policy", why=why, weakens="the role is taken to have no such limit", place=origin.at(line))


def _broken_options(entry: Entry, origin: Place) -> Iterator[Gap]:
    """Yield a gap for each option of a role that sudo passes over, and for each that it honours for this role and we do not."""
    for text, line in entry.texts("sudoOption"):
        default, fault = _option(text, origin.at(line))
        if default is not None and (default.option in _TAGS or default.option in _PLAIN):
            continue
        weakens = "sudo ignores this option" if fault else "what it changes for the commands of this role is not shown"
        why = fault or f'the option "{clipped(escape_control(text), 40)}" of a role is not applied'
        yield Gap(what="sudo policy", why=why, weakens=weakens, place=origin.at(line))


def _rules(entry: Entry, origin: Place) -> Iterator[SudoRule]:
    """Yield one rule for each command of a role."""
    users = _members(entry, "sudoUser", origin)
    hosts = _members(entry, "sudoHost", origin, hosts=True)
    if not users or not hosts:  # such a role matches nobody
        return
    tags, options = _options(entry)
    run_as = _members(entry, "sudoRunAsUser", origin) or _members(entry, "sudoRunAs", origin)
    groups = _members(entry, "sudoRunAsGroup", origin)
    named = f"sudoRole {entry.first('cn') or ''}: {', '.join(map(str, users))} {', '.join(map(str, hosts))}"
    for text, line in _last_negated(entry.texts("sudoCommand")):
        command = _command(text, origin.at(line))
        yield SudoRule(
            users=users,
            hosts=hosts,
            run_as_users=run_as or None,
            run_as_groups=groups or None,
            tags=tags,
            options=options,
            command=command,
            statement=f"{named} = {command}",
            place=origin.at(line),
            last_line=line,
            dn=entry.first("dn") or "",
        )


def _last_negated(values: list[tuple[str, int]]) -> list[tuple[str, int]]:
    return sorted(values, key=lambda value: value[0].startswith("!"))


def _members(entry: Entry, attribute: str, origin: Place, *, hosts: bool = False) -> tuple[Member, ...]:
    return tuple(_member(text, origin.at(line), hosts=hosts) for text, line in _last_negated(entry.texts(attribute)))


def _member(text: str, place: Place, *, hosts: bool) -> Member:
    value = text.lstrip("!").strip()
    negated = (len(text) - len(text.lstrip("!"))) % 2 == 1
    kind = MemberKind.NAME
    if value == "ALL":
        kind = MemberKind.ALL
    elif value == "" and not hosts:
        kind = MemberKind.MYSELF
    elif value.startswith("+"):
        kind = MemberKind.NETGROUP
    elif value.startswith("%"):
        kind = MemberKind.GROUP
    elif hosts and _ADDRESS.match(value):
        kind = MemberKind.ADDRESS
    return Member(kind=kind, value=value, negated=negated, place=place)


def _command(text: str, place: Place) -> Member:
    """command = { digest } [ "!" ] ( "ALL" | path [ arguments ] ), nothing escaped"""
    rest, digests = text.strip(), []
    while found := _DIGEST.match(rest):
        digests.append((found[1], found[2]))
        rest = rest[found.end() :]
    bare = rest.lstrip("!").strip()
    negated = (len(rest) - len(rest.lstrip("!"))) % 2 == 1
    path, _, arguments = bare.partition(" ")
    if path.endswith("/sudoedit"):
        path = "sudoedit"
    stated = None if not arguments.strip() else "" if arguments.strip() == '""' else " ".join(arguments.split())
    command = Command(path=path, arguments=stated, digests=tuple(digests))
    kind = MemberKind.ALL if path == "ALL" else MemberKind.COMMAND
    return Member(kind=kind, value=path, negated=negated, command=command, place=place)


def _options(entry: Entry) -> tuple[tuple[tuple[Tag, bool], ...], CommandOptions]:
    tags: dict[Tag, bool] = {}
    stated: dict[str, str | None] = {}
    for text, _ in entry.texts("sudoOption"):
        found = _OPTION.match(text.strip())
        if found and found[2] in _TAGS:
            tag, meaning = _TAGS[found[2]]
            tags[tag] = meaning != bool(found[1])
        elif found and found[2] in _PLAIN:
            stated[_PLAIN[found[2]]] = found[4]
    before, after = entry.first("sudoNotBefore"), entry.first("sudoNotAfter")
    options = CommandOptions(
        not_before=generalized_time(before) if before else None,
        not_after=generalized_time(after) if after else None,
        **stated,
    )
    return tuple((tag, tags[tag]) for tag in Tag if tag in tags), options
