"""The grammar of sudoers(5): tokens to statements.

Recursive descent, one method a production, its grammar as its docstring.  One wrong statement costs what it costs sudo: the rest of its
logical line, no more and no less.  Knows the grammar and where its statements stand; not what they allow, nor where files come from:
include directives are handed to the caller in place.
"""

from collections.abc import Callable
from datetime import datetime
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.facts import (
    AliasKind,
    CommandOptions,
    DefaultScope,
    Gap,
    Member,
    MemberKind,
    Place,
    SudoAlias,
    SudoDefault,
    SudoRule,
    Tag,
)
from fidelitas.languages.sudoers.lists import BINDINGS, MEMBERS, Lists, PolicySyntaxError, host, run_as_group, user
from fidelitas.languages.sudoers.options import option_fault
from fidelitas.languages.sudoers.scanner import Scanner
from fidelitas.languages.sudoers.times import generalized_time, timeout_seconds
from fidelitas.languages.sudoers.tokens import Kind, Token
from fidelitas.languages.sudoers.whole_lines import WholeLine, is_empty
from fidelitas.text import decode

__all__ = ["Statements", "parse_policy"]

# sudoers(5): these cannot name an alias.
RESERVED = frozenset({"ALL", "CHROOT", "CWD", "TIMEOUT", "NOTBEFORE", "NOTAFTER", "ROLE", "TYPE"})
# Past this many errors a file is not a policy at all, and each more would only bury the rest of the report.
MOST_ERRORS = 50
_ALIAS_KINDS = {
    "User": AliasKind.USER,
    "Runas": AliasKind.RUNAS,
    "Host": AliasKind.HOST,
    "Cmnd": AliasKind.COMMAND,
    "Cmd": AliasKind.COMMAND,
}
_OPTION_FIELDS = {
    "CWD": "cwd",
    "CHROOT": "chroot",
    "TIMEOUT": "timeout",
    "NOTBEFORE": "not_before",
    "NOTAFTER": "not_after",
    "ROLE": "role",
    "TYPE": "type",
}


class Statements(Struct):
    """What a policy states, in the order in which sudo reads it; filled by `parse_policy`, over all files of the policy."""

    rules: list[SudoRule] = field(default_factory=list)
    aliases: list[SudoAlias] = field(default_factory=list)
    defaults: list[SudoDefault] = field(default_factory=list)
    gaps: list[Gap] = field(default_factory=list)
    visudo_refusals: list[Gap] = field(default_factory=list)
    defined: set[tuple[AliasKind, str]] = field(default_factory=set)

    def count(self) -> int:
        """Return how many statements there are."""
        return len(self.rules) + len(self.aliases) + len(self.defaults)


_NO_OPTIONS = CommandOptions()

# Called for an include directive, with the path as written, whether it names a folder, and the directive's place.
Include = Callable[[str, bool, Place], None]


def parse_policy(text: str, origin: Place, include: Include, statements: Statements, *, token_by_token: bool = False) -> None:
    """Add what a policy file states to `statements`, calling `include` where a directive stands.

    Lines that can be read whole are; with `token_by_token` none is, which gives the same and takes longer.
    """
    _Parser(text, origin, include, statements, token_by_token=token_by_token).policy()


class _CommandSpec(Struct, frozen=True):
    """What is handed down along a command list."""

    run_as_users: tuple[Member, ...] | None = None
    run_as_groups: tuple[Member, ...] | None = None
    tags: tuple[tuple[Tag, bool], ...] = ()
    options: CommandOptions = _NO_OPTIONS


class _Parser(Lists):
    def __init__(self, text: str, origin: Place, include: Include, statements: Statements, *, token_by_token: bool) -> None:
        self._include = include
        self._into = statements
        self._errors = 0
        self._token_by_token = token_by_token
        super().__init__(Scanner(text), origin)

    # -- lines read whole ----------

    def _before_line(self) -> None:
        """Read the statements that follow as far as they can be read whole, which most can."""
        scanner, into = self._scanner, self._into
        while self._errors < MOST_ERRORS and not self._token_by_token and (line := scanner.fresh_line()):
            count = 1
            if not is_empty(line):
                whole = WholeLine(scanner.lines, scanner.row, self._origin)
                rules = whole.rules()
                if rules is not None:
                    into.rules += rules
                elif not self._is_alias(whole):
                    return
                count = whole.count
            scanner.skip_lines(count)

    def _is_alias(self, whole: WholeLine) -> bool:
        """Return whether a line defined an alias, which is taken; one that is defined twice is left to the grammar, which says so."""
        alias = whole.alias()
        if alias is None or (alias.kind, alias.name) in self._into.defined:
            return False
        self._into.defined.add((alias.kind, alias.name))
        self._into.aliases.append(alias)
        return True

    def _report(self, error: PolicySyntaxError) -> None:
        self._errors += 1
        place = self._origin.at(error.token.end_line, error.token.end_column)
        weakens = "sudo drops this statement too: what it was meant to allow or forbid is not in force"
        begin = error.token.column if error.token.line == error.token.end_line else None
        self._into.gaps.append(Gap(what="sudo policy", why=f"syntax error: {error}", weakens=weakens, place=place, begin=begin))

    # -- statements --------------------------------------------------------------------------------------------------------------

    def policy(self) -> None:
        """policy = { statement }"""
        self._statements()
        broken = {gap.place.line for gap in self._into.gaps if gap.place.path == self._origin.path}
        for line, column, why in self._scanner.visudo_refusals:
            if line in broken:  # the line is refused by both
                continue
            weakens = "sudo itself takes it; visudo would not install the file"
            place = self._origin.at(line, column)
            self._into.visudo_refusals.append(Gap(what="sudo policy", why=f"refused by visudo: {why}", weakens=weakens, place=place))

    def _statements(self) -> None:
        while self._token.kind is not Kind.END:
            try:
                self._statement()
            except PolicySyntaxError as error:
                self._report(error)
                self._skip_line()
            if self._errors >= MOST_ERRORS:
                why = f"{MOST_ERRORS} syntax errors: the rest of the file is not read"
                self._into.gaps.append(
                    Gap(what="sudo policy", why=why, weakens="rules after this line are not known", place=self._place(self._token))
                )
                return

    def _skip_line(self) -> None:
        while self._token.kind not in (Kind.NEWLINE, Kind.END):
            self._take()
        self._accept(Kind.NEWLINE)

    def _statement(self) -> None:
        """statement = [ include | alias-list | defaults | user-specification ] newline"""
        kind = self._token.kind
        if kind is Kind.NEWLINE:
            self._take()
        elif kind in (Kind.INCLUDE, Kind.INCLUDE_FOLDER):
            self._directive()
        elif kind is Kind.ALIAS_TYPE:
            self._alias_list()
        elif kind is Kind.DEFAULTS:
            self._defaults()
        else:
            self._user_specification()

    def _directive(self) -> None:
        """include = ( "@include" | "@includedir" ) path newline

        What follows the path is reported and skipped; the file is included all the same.
        """
        directive = self._take()
        path = self._expect(Kind.WORD, "expected a file name")
        if self._token.kind is not Kind.NEWLINE:
            self._report(PolicySyntaxError(self._token, "expected the end of the line after the file name"))
            while self._token.kind not in (Kind.NEWLINE, Kind.END):
                self._take()
        # The line feed is left for the next statement, so that the scanner has read nothing beyond the directive.
        self._include(path.value, directive.kind is Kind.INCLUDE_FOLDER, self._place(directive))

    def _alias_list(self) -> None:
        """alias-list = alias-type alias { ":" alias } newline

        Each definition stands once it is complete, whatever becomes of the next.
        """
        kind = _ALIAS_KINDS[self._take().value]
        while True:
            self._alias(kind)
            if not self._accept(Kind.COLON):
                break
        self._expect(Kind.NEWLINE, "expected a comma, a colon or the end of the line")

    def _alias(self, kind: AliasKind) -> None:
        """alias = NAME "=" member { "," member }"""
        name = self._token
        if name.kind in (Kind.ALL, Kind.OPTION):
            self._reject(f'the reserved word "{name.value}" cannot name an alias')
        self._expect(Kind.ALIAS, "expected the name of an alias: upper-case letters, digits and underscores")
        self._expect(Kind.EQUALS, 'expected "=" after the name of an alias')
        members = self._list(MEMBERS[kind])
        if (kind, name.value) in self._into.defined:
            raise PolicySyntaxError(self._token, f'alias "{name.value}" is already defined')
        self._into.defined.add((kind, name.value))
        self._into.aliases.append(SudoAlias(kind=kind, name=name.value, members=members, place=self._place(name)))

    def _defaults(self) -> None:
        """defaults = "Defaults" [ ( "@" hosts | ":" users | ">" users | "!" commands ) ] setting { "," setting } newline"""
        scope = DefaultScope(self._take().value)
        binding = self._list(BINDINGS[scope]) if scope is not DefaultScope.GLOBAL else ()
        settings = [self._setting(scope, binding)]
        while self._accept(Kind.COMMA):
            settings.append(self._setting(scope, binding))
        self._expect(Kind.NEWLINE, "expected a comma or the end of the line")
        for setting, where in settings:
            fault = option_fault(setting.option, setting.operator, setting.value)
            if fault:
                self._into.gaps.append(Gap(what="sudo policy", why=fault, weakens="sudo ignores this option", place=where))
            else:
                self._into.defaults.append(setting)

    def _setting(self, scope: DefaultScope, binding: tuple[Member, ...]) -> tuple[SudoDefault, Place]:
        """setting = [ "!" ] name | name ( "=" | "+=" | "-=" ) value

        Returned with the place at which sudo would complain of it: that of the value, else behind the name.
        """
        negated = self._accept(Kind.NOT)
        name = self._expect(Kind.VARIABLE, "expected the name of an option")
        operator, value, last = "!" if negated else "", None, name if negated else self._token
        if not negated and self._token.kind in (Kind.EQUALS, Kind.PLUS, Kind.MINUS):
            operator = self._take().kind.value
            last = self._expect(Kind.WORD, "expected a value")
            value = last.value
        where = self._origin.at(last.end_line, last.end_column)
        return SudoDefault(scope=scope, binding=binding, option=name.value, operator=operator, value=value, place=self._place(name)), where

    # -- user specifications -----------------------------------------------------------------------------------------------------

    def _user_specification(self) -> None:
        """user-specification = users privilege { ":" privilege } newline

        An error after a colon costs only what follows the colon, if the parser gives up right at the next colon or the line's end.
        """
        first = self._token
        users = self._list(user)
        specs = self._privilege()
        while self._accept(Kind.COLON):
            try:
                specs += self._privilege()
            except PolicySyntaxError as error:
                self._report(error)
                if self._token.kind not in (Kind.COLON, Kind.NEWLINE):
                    self._fail("expected a colon or the end of the line")
        if self._token.kind is not Kind.NEWLINE:
            self._fail("expected a comma, a colon or the end of the line")
        text, place, last = self._text(first.line, self._token), self._place(first), self._token.line
        for hosts, spec, command in specs:
            self._into.rules.append(
                SudoRule(
                    users=users,
                    hosts=hosts,
                    run_as_users=spec.run_as_users,
                    run_as_groups=spec.run_as_groups,
                    tags=spec.tags,
                    options=spec.options,
                    command=command,
                    statement=text,
                    place=place if command.place.line == place.line else command.place,
                    last_line=last,
                )
            )
        self._take()

    def _text(self, first: int, end: Token) -> str:
        """Return the text of a statement up to the token that ends it, in one line, a comment left out."""
        lines = self._scanner.lines[first - 1 : end.line]
        lines[-1] = decode(lines[-1].encode("utf-8", "surrogateescape")[: end.column - 1])
        return " ".join(" ".join(line.rstrip().removesuffix("\\") for line in lines).split())

    def _privilege(self) -> "list[tuple[tuple[Member, ...], _CommandSpec, Member]]":
        """privilege = hosts "=" command-spec { "," command-spec }"""
        hosts = self._list(host)
        self._expect(Kind.EQUALS, 'expected "=" after the hosts')
        specs = []
        handed_down = _CommandSpec()
        while True:
            handed_down, command = self._command_spec(handed_down)
            specs.append((hosts, handed_down, command))
            if not self._accept(Kind.COMMA):
                return specs

    def _command_spec(self, before: _CommandSpec) -> tuple[_CommandSpec, Member]:
        """command-spec = [ "(" run-as ")" ] { option "=" value } { tag } command

        What is not stated is taken from the command before.
        """
        users, groups = before.run_as_users, before.run_as_groups
        if self._accept(Kind.OPEN):
            users, groups = self._run_as()
        options, tags = before.options, before.tags
        if self._token.kind is Kind.OPTION:
            options = self._options(options)
        if self._token.kind is Kind.TAG:
            tags = self._tags(tags)
        return _CommandSpec(users, groups, tags, options), self.command()

    def _options(self, before: CommandOptions) -> CommandOptions:
        """options = { name "=" value }; SELinux role and type are handed down together or not at all"""
        stated: dict[str, Any] = {}
        while self._at(Kind.OPTION):
            name = self._take().value
            self._expect(Kind.EQUALS, f'expected "=" after {name}')
            stated[_OPTION_FIELDS[name]] = self._option_value(name)
        if "role" in stated or "type" in stated:
            before = replace(before, role=None, type=None)
        return replace(before, **stated)

    def _tags(self, before: tuple[tuple[Tag, bool], ...]) -> tuple[tuple[Tag, bool], ...]:
        """tags = { [ "NO" ] name ":" }; of tags that contradict one another the last counts"""
        tags = dict(before)
        while self._at(Kind.TAG):
            word = self._take().value
            tags[Tag(word.removeprefix("NO"))] = not word.startswith("NO")
        return tuple((tag, tags[tag]) for tag in Tag if tag in tags)

    def _option_value(self, name: str) -> str | datetime:
        token = self._token
        if token.kind is not Kind.WORD:
            self._fail(f"expected a value for {name}")
        if name in ("CWD", "CHROOT") and not token.value.startswith(("/", "~")) and token.value != "*":
            self._reject(f"values for {name} begin with / or ~, or are *")
        if name in ("NOTBEFORE", "NOTAFTER"):
            time = generalized_time(token.value)
            if time is None:
                self._reject(f"{name} needs a generalized time such as 20261120060000Z")
            self._take()
            return time
        if name == "TIMEOUT" and timeout_seconds(token.value) is None:
            self._reject("TIMEOUT needs a time such as 1d2h3m4s")
        return self._take().value

    def _run_as(self) -> tuple[tuple[Member, ...] | None, tuple[Member, ...] | None]:
        """run-as = [ users ] [ ":" groups ] ")"; where both are missing the invoking user is meant"""
        opened = self._place(self._token)
        users = groups = None
        if self._token.kind not in (Kind.COLON, Kind.CLOSE):
            users = self._list(user)
        if self._accept(Kind.COLON) and (users is not None or self._token.kind is not Kind.CLOSE):
            groups = self._list(run_as_group)
        self._expect(Kind.CLOSE, 'expected ")" after the run-as list')
        if users is None and groups is None:
            users = (Member(kind=MemberKind.MYSELF, value="", place=opened),)
        return users, groups
