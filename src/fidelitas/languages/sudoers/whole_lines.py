"""Lines of a policy that can be read whole: rules and aliases as most policies have them, one expression a part in place of token by token.

The grammar is that of `parser`, and the result is what it would be: whatever could be read another way, by a character or a reserved
word, is left to the parser.  A law in the tests holds both against each other.  Lines that go on at the next are read as one, in which the
backslash and the line break are two blanks.  Columns count from 1; what is not ASCII is left too, since columns are bytes.
"""

import re
from bisect import bisect_right
from collections.abc import Mapping, Sequence
from functools import lru_cache

from fidelitas.facts import AliasKind, Command, CommandOptions, Member, MemberKind, Place, SudoAlias, SudoRule, Tag
from fidelitas.languages.sudoers.tokens import unescaped

__all__ = ["WholeLine", "is_empty"]

# One member of a list of users or hosts, with what may follow it: a comma, or blanks.  Names in small letters, aliases in capitals, groups
# with escapes, IDs, netgroups, and what a host may be called.
_MEMBER = re.compile(
    r"(!?)(?:([a-z_][a-z0-9_.*?-]*)|([A-Z][A-Z0-9_]*)|%((?:[A-Za-z_](?:[\w.-]|\\[\\ ])*|#[0-9]+))|(#[0-9]+)|\+([a-z_][\w.-]*)"
    r"|([0-9]{1,3}(?:\.[0-9]{1,3}){3}(?:/[0-9]{1,2})?))"
    r"(?:[ \t]*,[ \t]*|(?=[ \t=):\n]))",
    re.ASCII,
)
_ADDRESS = re.compile(r"(?:(?:25[0-5]|2[0-4][0-9]|1?[0-9]?[0-9])(?:\.|(?=/|\Z))){4}(?:/(?:3[0-2]|[12]?[0-9]))?\Z")
_BLANKS = re.compile(r"[ \t]*")
_EQUALS = re.compile(r"[ \t]*=[ \t]*")
# What stands before a command: run-as lists, tags; and the command with its arguments and what ends it.
_RUN_AS = re.compile(r"\(([^()\n]*)\)[ \t]*")
_TAGS = re.compile(r"(?:(?:NO)?(?:PASSWD|EXEC|INTERCEPT|SETENV|LOG_OUTPUT|LOG_INPUT|MAIL|FOLLOW):[ \t]*)+")
_COMMAND = re.compile(
    r"(!?)(?:([A-Z][A-Z0-9_]*)|(sudoedit(?=[ \t])|/[A-Za-z0-9_./+*?@~\[\]-]+(?=[ \t\n,:]))"
    r"((?:[ \t]+(?:[^#\\:,=^ \t\r\n]|\\[*?\[\]!:\\,= #])(?:[^#\\:,= \t\r\n]|\\[*?\[\]!:\\,= #])*)*))"
    r"[ \t]*(?:([,:])[ \t]*|(?=\n))"
)
_ALIAS = re.compile(r"[ \t]*(User|Runas|Host|Cmnd|Cmd)_Alias[ \t]+([A-Z][A-Z0-9_]*)[ \t]*=[ \t]*")
_EMPTY = re.compile(r"[ \t]*(?:#(?!include|-?[0-9]).*)?\n\Z")
# Words that are something else than a name.
_SPECIAL = frozenset(
    ("sudoedit", "sha224", "sha256", "sha384", "sha512", "TIMEOUT", "NOTBEFORE", "NOTAFTER", "CWD", "CHROOT", "ROLE", "TYPE")
)
_ARGUMENT_ESCAPE = re.compile(r"\\([:\\,= #])")
_NO_OPTIONS = CommandOptions()
_ALIAS_KINDS = {
    "User": AliasKind.USER, "Runas": AliasKind.RUNAS, "Host": AliasKind.HOST, "Cmnd": AliasKind.COMMAND, "Cmd": AliasKind.COMMAND,
}  # fmt: skip
# By the number of the group of `_MEMBER`, what it is in a list of users and in one of hosts; a kind that a list does not admit is an error.
_USERS: Mapping[int, MemberKind] = {2: MemberKind.NAME, 3: MemberKind.WORD, 4: MemberKind.GROUP, 5: MemberKind.NAME, 6: MemberKind.NETGROUP}
_HOSTS: Mapping[int, MemberKind] = {2: MemberKind.NAME, 3: MemberKind.WORD, 6: MemberKind.NETGROUP, 7: MemberKind.ADDRESS}
_GROUPS: Mapping[int, MemberKind] = {2: MemberKind.NAME, 3: MemberKind.WORD, 5: MemberKind.NAME}
_SIGILS = {4: "%", 6: "+"}


# What a Place is made by, without the detour of its keywords: there are some in each line.
_tuple = tuple.__new__
_RunAs = tuple[tuple[Member, ...] | None, tuple[Member, ...] | None]
_Tags = tuple[tuple[Tag, bool], ...]
# How a line ends that may go on, or not.
_ODD_END = re.compile(r"\\[ \t\r]+\n\Z|\\\\\n\Z")
# A statement of more lines than this is rare, and left to the parser.
_MOST_LINES = 40


def is_empty(line: str) -> bool:
    """Return whether a line, with its line feed, holds nothing but blanks or a comment."""
    return _EMPTY.match(line) is not None


class _Otherwise(Exception):  # noqa: N818 it ends the reading of one line, and is no error
    """The line is not as most are: the parser is to read it."""


class WholeLine:
    """A statement on one line, or on lines that are joined by backslashes; `number` is that of the first, and `count` how many they are."""

    def __init__(self, lines: Sequence[str], row: int, origin: Place) -> None:
        self._subject, self._path = origin.subject, origin.path
        self.number, self.count = row + 1, 1
        text = lines[row]
        self._starts: list[int] = []
        if "\\" in text[-8:] or (len(text) > 8 and text[-2] in " \t\r"):
            text = self._joined(lines, row)
        self._text = text

    def _joined(self, lines: Sequence[str], row: int) -> str:
        """Return the line with those that it goes on at; what the parser is to read as an empty line."""
        text = lines[row]
        while text.endswith("\\\n") and row + self.count < len(lines) and self.count < _MOST_LINES:
            self._starts.append(len(text))
            text = f"{text[:-2]}  {lines[row + self.count]}"
            self.count += 1
        # Blanks behind a backslash, and a backslash that is escaped itself, are the parser's business, as is what is not ASCII.
        odd = any(_ODD_END.search(line) for line in lines[row : row + self.count]) or not text.isascii()
        return "\n" if odd else text

    def _place(self, at: int) -> Place:
        if not self._starts:
            return _tuple(Place, (self._subject, self._path, self.number, at + 1))
        line = bisect_right(self._starts, at)
        return Place(self._subject, self._path, self.number + line, at + 1 - (self._starts[line - 1] if line else 0))

    def rules(self) -> list[SudoRule] | None:
        """Return the rules that it states, one a command, or ``None`` where the parser is to read it."""
        try:
            return self._rules()
        except _Otherwise:
            return None

    def alias(self) -> SudoAlias | None:
        """Return the alias that it defines, or ``None`` where the parser is to read it."""
        try:
            return self._alias()
        except _Otherwise:
            return None

    def _alias(self) -> SudoAlias:
        found = _ALIAS.match(self._text)
        if found is None or found[2] in _SPECIAL or found[2] == "ALL":
            raise _Otherwise
        kind = _ALIAS_KINDS[found[1]]
        if kind is AliasKind.COMMAND:
            members, end, stop = self._commands(found.end())
        else:
            members, end = self._list(found.end(), _HOSTS if kind is AliasKind.HOST else _USERS)
            stop = None
        if stop is not None or self._text[end:].strip(" \t") != "\n":
            raise _Otherwise
        return SudoAlias(kind=kind, name=found[2], members=tuple(members), place=self._place(found.start(2)))

    def _rules(self) -> list[SudoRule]:
        """rule = users privilege { ":" privilege } newline"""
        text = self._text
        begin = _end_of_blanks(text, 0)
        users, at = self._list(begin, _USERS)
        if text[at] not in " \t":
            raise _Otherwise
        who, statement, place = tuple(users), " ".join(text.split()), self._place(begin)
        last = self.number + self.count - 1
        rules: list[SudoRule] = []
        stop: str | None = ":"
        while stop == ":":
            hosts, at = self._list(_end_of_blanks(text, at), _HOSTS)
            equals = _EQUALS.match(text, at)
            if equals is None:
                raise _Otherwise
            where = tuple(hosts)
            specs, at, stop = self._specs(equals.end())
            for run_as, tags, command in specs:
                first = place if command.place.line == place.line else command.place
                rules.append(
                    SudoRule(
                        users=who, hosts=where, run_as_users=run_as[0], run_as_groups=run_as[1], tags=tags, options=_NO_OPTIONS,
                        command=command, statement=statement, place=first, last_line=last,
                    )
                )  # fmt: skip
        return rules

    def _specs(self, at: int) -> tuple[list[tuple[_RunAs, _Tags, Member]], int, str | None]:
        """Return the commands of a privilege with what is handed down to each: whom to act as, and tags; and what ends them."""
        text = self._text
        run_as: _RunAs = (None, None)
        tags: _Tags = ()
        specs = []
        while True:
            if text[at] == "(":
                run_as, at = self._run_as(at)
            found = _TAGS.match(text, at)
            if found is not None:
                tags, at = _stated_tags(found[0], tags), found.end()
            command = _COMMAND.match(text, at)
            specs.append((run_as, tags, self._command(command)))
            if command is None or command[5] != ",":
                return specs, command.end() if command else at, command[5] if command else None
            at = command.end()

    def _commands(self, at: int) -> tuple[list[Member], int, str | None]:
        members = []
        while True:
            command = _COMMAND.match(self._text, at)
            members.append(self._command(command))
            if command is None or command[5] != ",":
                return members, command.end() if command else at, command[5] if command else None
            at = command.end()

    def _run_as(self, at: int) -> tuple[_RunAs, int]:
        """run-as = "(" [ users ] [ ":" groups ] ")"; both missing, and a colon with nothing behind it, are left to the parser"""
        text = self._text
        found = _RUN_AS.match(text, at)
        inner = found[1].strip(" \t") if found is not None else ""
        if found is None or not inner:
            raise _Otherwise
        at = text.index(inner[0], found.start(1))
        end = at + len(inner)
        users: tuple[Member, ...] | None = None
        groups: tuple[Member, ...] | None = None
        if text[at] != ":":
            listed, at = self._list(at, _USERS)
            users, at = tuple(listed), _end_of_blanks(text, at)
        if at < end:
            at = _end_of_blanks(text, at + 1) if text[at] == ":" else end
            listed, at = self._list(at, _GROUPS)
            groups = tuple(listed)
        if _end_of_blanks(text, at) < end:
            raise _Otherwise
        return (users, groups), found.end()

    def _list(self, at: int, kinds: Mapping[int, MemberKind]) -> tuple[list[Member], int]:
        """Return a list of members and where it ends."""
        text = self._text
        members = []
        while True:
            found = _MEMBER.match(text, at)
            if found is None:
                raise _Otherwise
            which = found.lastindex or 0
            kind, value = kinds.get(which), found[which]
            if kind is None or value in _SPECIAL or (which == 7 and _ADDRESS.match(value) is None):
                raise _Otherwise
            if which == 3 and value == "ALL":
                kind = MemberKind.ALL
            elif which in (4, 6):
                value = unescaped(_SIGILS[which] + value)
            members.append(Member(kind=kind, value=value, negated=bool(found[1]), place=self._place(at)))
            at = found.end()
            if found.end(which) == at:
                return members, at

    def _command(self, found: re.Match[str] | None) -> Member:
        if found is None:
            raise _Otherwise
        negated, word, path, arguments, _ = found.groups()
        place = self._place(found.start())
        if word is not None:
            if word in _SPECIAL:
                raise _Otherwise
            if word != "ALL":
                return Member(kind=MemberKind.WORD, value=word, negated=bool(negated), place=place)
            return Member(kind=MemberKind.ALL, value=word, negated=bool(negated), command=_stated("ALL", ""), place=place)
        if path.endswith("/sudoedit") or (path.endswith("/") and arguments):
            raise _Otherwise
        return Member(kind=MemberKind.COMMAND, value=path, negated=bool(negated), command=_stated(path, arguments), place=place)


def _end_of_blanks(text: str, at: int) -> int:
    if text[at] not in " \t":
        return at
    found = _BLANKS.match(text, at)
    return found.end() if found else at


@lru_cache(maxsize=256)
def _stated_tags(text: str, before: _Tags) -> _Tags:
    tags = dict(before)
    for word in text.replace(":", " ").split():
        tags[Tag(word.removeprefix("NO"))] = not word.startswith("NO")
    return tuple((tag, tags[tag]) for tag in Tag if tag in tags)


@lru_cache(maxsize=4096)
def _stated(path: str, text: str) -> Command:
    """Return a command with its arguments, blanks made one and escapes undone; ``""`` is no argument at all."""
    if "\\" in text:
        words = _ARGUMENT_ESCAPE.sub(lambda found: "\0" if found[1] == " " else found[1], text).split()
        arguments = " ".join(words).replace("\0", " ")
    else:
        arguments = " ".join(text.split())
    return Command(path=path, arguments="" if arguments == '""' else arguments or None)
