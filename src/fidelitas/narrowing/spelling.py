"""What a sudo policy states, written in the form of sudoers(5) again: members, commands, options and tags, with what must be escaped.

The opposite of `languages.sudoers`; a test reads back what is written here.  What cannot be written so that it means the same raises
`ValueError`, and the statement is left as it is.
"""

import re
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

from fidelitas.facts import Command, CommandOptions, Member, MemberKind, SudoRule, Tag

__all__ = [
    "exact_arguments",
    "exact_path",
    "spelled_command",
    "spelled_members",
    "spelled_name",
    "spelled_options",
    "spelled_run_as",
    "spelled_tags",
]

# What can be written as it is: of names and patterns of hosts; of paths.
_NAME = re.compile(r"[%+]?:?#?[A-Za-z0-9_.*?/@-][A-Za-z0-9_.*?/@-]*\$?\Z")
_QUOTABLE = re.compile(r'[^"\\\n\r\0]+\Z')
_PATH_SPECIAL = re.compile(r"[,:=# \t]")
# In arguments a backslash before a sign of patterns stays as it is: it is fnmatch(3)'s.
_ARGUMENT_SPECIAL = re.compile(r"[,:=#]|\\(?![*?\[\]!^])")
_PRINTABLE = re.compile(r"[\x20-\x7e]*\Z")
_VALUE = re.compile(r"[A-Za-z0-9_./*+-]+\Z")


def spelled_member(member: Member) -> str:
    """Return a member of a user, host or run-as list."""
    sign = "!" if member.negated else ""
    if member.kind is MemberKind.MYSELF:
        raise ValueError("an empty run-as list")
    if member.kind in (MemberKind.ALL, MemberKind.WORD, MemberKind.ADDRESS):
        return sign + member.value
    plain = _NAME.match(member.value) is not None and not (member.kind is MemberKind.NAME and member.value.isupper())
    if plain:
        return sign + member.value
    if not _QUOTABLE.match(member.value):
        raise ValueError(f"the name {member.value!r}")
    return f'{sign}"{member.value}"'


def spelled_name(name: str) -> str:
    """Return the name of an account or group as a member of a list, so that it means no alias and no group; raises `ValueError`."""
    if name.startswith("#") and name[1:].isdecimal():
        return name
    if not name or name[0] in "%+#!" or not _QUOTABLE.match(name):
        raise ValueError(f"the name {name!r}")
    return name if _NAME.match(name) and not name.isupper() and not any(sign in name for sign in "*?") else f'"{name}"'


def spelled_members(members: Iterable[Member]) -> str:
    """Return a list of members."""
    return ", ".join(map(spelled_member, members))


def spelled_run_as(rule: SudoRule) -> str:
    """Return the run-as list of a rule with a blank behind it; nothing where it has none."""
    if rule.run_as_users is None and rule.run_as_groups is None:
        return ""
    users, groups = rule.run_as_users or (), rule.run_as_groups or ()
    if any(member.kind is MemberKind.MYSELF for member in users):
        return "() "
    return f"({spelled_members(users)}{' : ' if groups else ''}{spelled_members(groups)}) "


def spelled_options(options: CommandOptions, *, free_choice: bool = True) -> str:
    """Return the options of a rule, each with a blank behind it; without `free_choice` not those that leave folder or root to the user."""
    stated: dict[str, str | None] = {
        "ROLE": options.role,
        "TYPE": options.type,
        "APPARMOR_PROFILE": options.apparmor_profile,
        "CWD": options.cwd,
        "CHROOT": options.chroot,
        "TIMEOUT": options.timeout,
        "NOTBEFORE": _time(options.not_before),
        "NOTAFTER": _time(options.not_after),
    }
    parts = []
    for name, value in stated.items():
        if value is None or (value == "*" and not free_choice):
            continue
        if not _VALUE.match(value):
            raise ValueError(f"the option {name}={value!r}")
        parts.append(f"{name}={value} ")
    return "".join(parts)


def _time(at: datetime | None) -> str | None:
    return at.astimezone(UTC).strftime("%Y%m%d%H%M%SZ") if at is not None else None


def spelled_tags(tags: Sequence[tuple[Tag, bool]]) -> str:
    """Return tags, with a blank behind the last."""
    return "".join(f"{'' if on else 'NO'}{tag.value}: " for tag, on in tags)


def exact_arguments(text: str) -> str:
    """Return arguments, which are taken as they are, as the policy's pattern for just these; none at all are ``""``.

    Raises `ValueError` for what sudoers(5) has no form for, or where two lists of words could be meant.
    """
    if text == "":
        return text
    if not _PRINTABLE.match(text) or re.search(r'["#]|(?:^| )(?: |$)', text) or text.startswith("^"):
        raise ValueError("arguments with quotes, signs of numbers, empty words or what is not ASCII")
    return re.sub(r"[*?\[\]\\]", r"\\\g<0>", text)


def exact_path(path: str) -> str:
    """Return a path as the policy's pattern for just this, signs of patterns in brackets.  Raises `ValueError` for what has no form."""
    if not _PRINTABLE.match(path) or "\\" in path:
        raise ValueError("a path with a backslash or what is not ASCII")
    return re.sub(r"[*?\[]", r"[\g<0>]", path)


def spelled_command(command: Command) -> str:
    """Return a command: its digests, its path and the pattern of its arguments, of which ``""`` means none."""
    digests = "".join(f"{algorithm}:{value} " for algorithm, value in command.digests)
    if not _PRINTABLE.match(command.path) or "\\" in command.path:
        raise ValueError(f"the path {command.path!r}")
    path = command.path if command.path.startswith("^") else _PATH_SPECIAL.sub(r"\\\g<0>", command.path)
    if command.arguments is None:
        return digests + path
    return f"{digests}{path} {_spelled_arguments(command.arguments)}"


def _spelled_arguments(pattern: str) -> str:
    if pattern == "":
        return '""'
    if not _PRINTABLE.match(pattern):
        raise ValueError("arguments that are not ASCII")
    if pattern.startswith("^"):
        return pattern.replace("#", r"\#")
    return _ARGUMENT_SPECIAL.sub(r"\\\g<0>", pattern)
