"""The statements of a sudo policy, in the words of sudoers(5).

A user specification is stated flat: one `SudoRule` per command, with everything that sudo hands down along the list (run-as list, tags,
options) filled in.  Their order is the order of the file, includes expanded in place.  Nothing is resolved: a member may name an
account that does not exist, an upper-case word may or may not be an alias.
"""

from collections.abc import Sequence
from datetime import datetime
from enum import Enum

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.facts.gaps import Gap
from fidelitas.text import Place

__all__ = [
    "AliasKind",
    "Command",
    "CommandOptions",
    "DefaultScope",
    "Member",
    "MemberKind",
    "PolicyFile",
    "PolicyFileState",
    "SudoAlias",
    "SudoDefault",
    "SudoPolicy",
    "SudoRule",
    "Tag",
    "joined_policies",
]


class AliasKind(Enum):
    """The four name spaces of aliases; one name may be in all of them."""

    USER = "User_Alias"
    RUNAS = "Runas_Alias"
    HOST = "Host_Alias"
    COMMAND = "Cmnd_Alias"

    __hash__ = object.__hash__


class MemberKind(Enum):
    """The forms that a member of a list can have, as sudo's own lexer tells them apart."""

    ALL = "ALL"
    NAME = "name"  # a name, or "#" and a number
    WORD = "upper-case word"  # an alias if there is one of that name, else a name
    GROUP = "group"  # "%name", "%#gid" or "%:name"
    NETGROUP = "netgroup"  # "+name"
    ADDRESS = "address"  # an IP address or network
    MYSELF = "myself"  # "()" or "(:)": the invoking user
    COMMAND = "command"

    __hash__ = object.__hash__


class Command(Struct, frozen=True, kw_only=True):
    """A command as the policy spells it, escapes undone.

    `arguments` is ``None`` for "any", ``""`` for "none at all" (written ``""``), else the pattern as one string.  `digests` are pairs
    of algorithm and value.  `path` is ``ALL`` for the word ALL.
    """

    path: str
    arguments: str | None = None
    digests: tuple[tuple[str, str], ...] = ()

    def __str__(self) -> str:
        words = [f"{algorithm}:{value}" for algorithm, value in self.digests] + [self.path]
        if self.arguments is not None:
            words.append(self.arguments or '""')
        return " ".join(words)


@equal_apart_from("place")
class Member(Struct, frozen=True, kw_only=True):
    """One member of a user, host, run-as or command list."""

    kind: MemberKind
    value: str
    negated: bool = False
    command: Command | None = None
    place: Place

    def __str__(self) -> str:
        shown = str(self.command) if self.command else self.value
        return f"!{shown}" if self.negated else shown


class Tag(Enum):
    """The tags of sudoers(5), Tag_Spec, by their positive form; NOPASSWD is PASSWD switched off."""

    PASSWD = "PASSWD"  # noqa: S105
    EXEC = "EXEC"
    SETENV = "SETENV"
    INTERCEPT = "INTERCEPT"
    LOG_INPUT = "LOG_INPUT"
    LOG_OUTPUT = "LOG_OUTPUT"
    MAIL = "MAIL"
    FOLLOW = "FOLLOW"

    __hash__ = object.__hash__


class CommandOptions(Struct, frozen=True, kw_only=True):
    """The options of sudoers(5), Option_Spec; ``None`` where not stated."""

    cwd: str | None = None
    chroot: str | None = None
    timeout: str | None = None
    not_before: datetime | None = None
    not_after: datetime | None = None
    role: str | None = None
    type: str | None = None
    apparmor_profile: str | None = None

    def in_time(self, now: datetime) -> bool:
        """Return whether what has these options counts at a time (NOTBEFORE, NOTAFTER)."""
        return (self.not_before is None or now >= self.not_before) and (self.not_after is None or now <= self.not_after)


@equal_apart_from("place", "last_line", "dn")
class SudoRule(Struct, frozen=True, kw_only=True):
    """One command of a user specification with all that applies to it.

    `run_as_users` and `run_as_groups` are ``None`` where the rule has no such list.  `tags` holds the tags in force; one that is not
    there was not stated.  `statement` is the text of the whole specification, `last_line` its last physical line, by which sudo names it.
    `dn` is the object of a directory that states it.
    """

    users: tuple[Member, ...]
    hosts: tuple[Member, ...]
    run_as_users: tuple[Member, ...] | None
    run_as_groups: tuple[Member, ...] | None
    tags: tuple[tuple[Tag, bool], ...]
    options: CommandOptions
    command: Member
    statement: str
    place: Place
    last_line: int
    dn: str = ""

    def tag(self, tag: Tag) -> bool | None:
        """Return whether a tag is on or off, or ``None`` where the rule does not say."""
        return dict(self.tags).get(tag)


@equal_apart_from("place")
class SudoAlias(Struct, frozen=True, kw_only=True):
    """The definition of an alias."""

    kind: AliasKind
    name: str
    members: tuple[Member, ...]
    place: Place


class DefaultScope(Enum):
    """What a Defaults entry is bound to, by the character that follows the word."""

    GLOBAL = ""
    HOST = "@"
    USER = ":"
    RUNAS = ">"
    COMMAND = "!"

    __hash__ = object.__hash__


@equal_apart_from("place", "dn")
class SudoDefault(Struct, frozen=True, kw_only=True):
    """One option of a Defaults entry; `operator` is one of ``""`` (switched on), ``"!"``, ``"="``, ``"+="`` and ``"-="``.

    `dn` is the object of a directory that states it.
    """

    scope: DefaultScope
    binding: tuple[Member, ...]
    option: str
    operator: str
    value: str | None
    place: Place
    dn: str = ""


class PolicyFileState(Enum):
    """What sudo does with a file that a policy reaches."""

    READ = "read"
    SKIPPED = "skipped because of its name"
    REFUSED = "refused by sudo"
    MISSING = "missing"
    NOT_SEEN = "not in evidence"

    __hash__ = object.__hash__


@equal_apart_from("by")
class PolicyFile(Struct, frozen=True, kw_only=True):
    """A file or folder that a policy reaches; `reason` says why it is not read, `by` is the place of the include directive.

    `statements` counts the rules, aliases and options that the file states, also where sudo passes it over.
    """

    path: str
    state: PolicyFileState
    folder: bool = False
    reason: str | None = None
    statements: int = 0
    by: Place | None = None


class SudoPolicy(Struct, frozen=True, kw_only=True):
    """A whole sudo policy: statements in the order in which sudo reads them."""

    rules: tuple[SudoRule, ...] = ()
    aliases: tuple[SudoAlias, ...] = ()
    defaults: tuple[SudoDefault, ...] = ()
    files: tuple[PolicyFile, ...] = ()
    gaps: tuple[Gap, ...] = ()
    visudo_refusals: tuple[Gap, ...] = ()  # what visudo(8) would not install, though sudo takes it
    known: bool = True  # False: the main file could not be read, which is not the same as a policy without rules


def joined_policies(policies: Sequence[SudoPolicy]) -> SudoPolicy:
    """Return policies as one, in the order in which sudo asks for them; files and what visudo refuses are of each."""
    return SudoPolicy(
        rules=tuple(rule for one in policies for rule in one.rules),
        aliases=tuple(alias for one in policies for alias in one.aliases),
        defaults=tuple(default for one in policies for default in one.defaults),
        files=tuple(file for one in policies for file in one.files),
        gaps=tuple(gap for one in policies for gap in one.gaps),
        visudo_refusals=tuple(gap for one in policies for gap in one.visudo_refusals),
        known=all(one.known for one in policies),
    )
