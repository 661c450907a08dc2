"""Tokens taken one at a time with one to look ahead, and the lists that the productions of sudoers(5) share.

Knows what a list of users, hosts, run-as accounts or commands is made of; not where such lists stand.
"""

from collections.abc import Callable
from typing import NoReturn

from fidelitas.facts import AliasKind, Command, DefaultScope, Member, MemberKind, Place
from fidelitas.languages.sudoers.scanner import Scanner
from fidelitas.languages.sudoers.tokens import Kind, Token

__all__ = ["BINDINGS", "MEMBERS", "Lists", "PolicySyntaxError", "host", "run_as_group", "user"]


class PolicySyntaxError(Exception):
    """The parser gave up at a token."""

    def __init__(self, token: Token, message: str) -> None:
        super().__init__(message)
        self.token = token


class Lists:
    """The tokens of a file as lists of members."""

    def __init__(self, scanner: Scanner, origin: Place) -> None:
        self._scanner = scanner
        self._origin = origin
        self._before_line()
        self._token = scanner.next()

    def _before_line(self) -> None:
        """Read what can be read of the lines that follow before their first token is taken."""

    # -- tokens ------------------------------------------------------------------------------------------------------------------

    def _take(self) -> Token:
        token = self._token
        if token.kind is Kind.NEWLINE:
            self._before_line()
        self._token = self._scanner.next()
        return token

    def _accept(self, kind: Kind) -> Token | None:
        return self._take() if self._token.kind is kind else None

    def _at(self, kind: Kind) -> bool:
        return self._token.kind is kind

    def _expect(self, kind: Kind, expected: str) -> Token:
        if self._token.kind is not kind:
            self._fail(expected)
        return self._take()

    def _fail(self, expected: str, token: Token | None = None) -> NoReturn:
        token = token or self._token
        raise PolicySyntaxError(token, token.value if token.kind is Kind.ERROR else expected)

    def _reject(self, message: str) -> NoReturn:
        """Give up at a token that the grammar admits and the language does not: it is used up, as it is by sudo."""
        raise PolicySyntaxError(self._take(), message)

    def _place(self, token: Token) -> Place:
        return self._origin.at(token.line, token.column)

    # -- lists -------------------------------------------------------------------------------------------------------------------

    def _list(self, member: "Callable[[Lists], Member]") -> tuple[Member, ...]:
        """list = member { "," member }"""
        members = [member(self)]
        while self._accept(Kind.COMMA):
            members.append(member(self))
        return tuple(members)

    def member(self, kinds: dict[Kind, MemberKind], expected: str) -> Member:
        """member = [ "!" ] ( ALL | name | %group | +netgroup | address | ALIAS ), as far as the list admits them"""
        begin = self._token
        negated = self._accept(Kind.NOT) is not None
        kind = kinds.get(self._token.kind)
        if kind is None:
            self._fail(expected)
        token = self._take()
        return Member(kind=kind, value=token.value, negated=negated, place=self._place(begin))

    def command(self) -> Member:
        """command = { digest-type ":" digest "," } [ "!" ] ( ALL | path [ arguments ] | sudoedit | list | ALIAS )"""
        begin = self._token
        digests: list[tuple[str, str]] = []
        while self._at(Kind.DIGEST_TYPE):
            algorithm = self._take().value
            self._expect(Kind.COLON, 'expected ":" after the digest type')
            digests.append((algorithm, self._expect(Kind.DIGEST, "expected a digest of the right length").value))
            if self._accept(Kind.COMMA) and not self._at(Kind.DIGEST_TYPE):
                self._fail("expected another digest")
        negated = self._accept(Kind.NOT) is not None
        token = self._token
        if token.kind not in (Kind.ALL, Kind.ALIAS, Kind.COMMAND, Kind.WORD):
            self._fail("expected a command")
        if token.kind is Kind.WORD and token.value != "list":
            self._reject("expected the full path of a command")
        if token.kind is Kind.ALIAS and digests:
            self._reject("a digest needs the path of a command")
        self._take()
        if token.kind is Kind.ALIAS:
            return Member(kind=MemberKind.WORD, value=token.value, negated=negated, place=self._place(begin))
        arguments = "" if token.arguments == '""' else token.arguments
        command = Command(path=token.value, arguments=arguments, digests=tuple(digests))
        kind = MemberKind.ALL if token.kind is Kind.ALL else MemberKind.COMMAND
        return Member(kind=kind, value=token.value, negated=negated, command=command, place=self._place(begin))


_USER_KINDS = {
    Kind.ALL: MemberKind.ALL,
    Kind.WORD: MemberKind.NAME,
    Kind.ALIAS: MemberKind.WORD,
    Kind.GROUP: MemberKind.GROUP,
    Kind.NETGROUP: MemberKind.NETGROUP,
}
_HOST_KINDS = {
    Kind.ALL: MemberKind.ALL,
    Kind.WORD: MemberKind.NAME,
    Kind.ALIAS: MemberKind.WORD,
    Kind.NETGROUP: MemberKind.NETGROUP,
    Kind.ADDRESS: MemberKind.ADDRESS,
}
_RUN_AS_GROUP_KINDS = {Kind.ALL: MemberKind.ALL, Kind.WORD: MemberKind.NAME, Kind.ALIAS: MemberKind.WORD}


def user(parser: Lists) -> Member:
    """user = ALL | name | #id | %group | +netgroup | ALIAS"""
    return parser.member(_USER_KINDS, "expected a user, a %group, a +netgroup, an alias or ALL")


def host(parser: Lists) -> Member:
    """host = ALL | name | address | +netgroup | ALIAS"""
    return parser.member(_HOST_KINDS, "expected a host, an address, a +netgroup, an alias or ALL")


def run_as_group(parser: Lists) -> Member:
    """run-as-group = ALL | name | #id | ALIAS"""
    return parser.member(_RUN_AS_GROUP_KINDS, "expected a group, an alias or ALL")


def command_member(parser: Lists) -> Member:
    """command, as a member of a list"""
    return parser.command()


MEMBERS = {AliasKind.USER: user, AliasKind.RUNAS: user, AliasKind.HOST: host, AliasKind.COMMAND: command_member}
BINDINGS = {DefaultScope.HOST: host, DefaultScope.USER: user, DefaultScope.RUNAS: user, DefaultScope.COMMAND: command_member}
