"""Links, routes and holdings: the vocabulary of what follows from the facts.

A link says: *principal P → Q, under conditions C, because of place O*.  A route is as strong as its weakest link.
"""

from collections.abc import Hashable
from enum import Enum, IntEnum
from typing import NamedTuple

from msgspec import Struct

from fidelitas.equality import equal_apart_from
from fidelitas.text import Place

__all__ = [
    "By",
    "Holding",
    "Link",
    "LinkKind",
    "Mechanism",
    "Principal",
    "PrincipalKind",
    "Right",
    "RightKind",
    "Route",
    "Strength",
    "bare_name",
    "sought",
]


class PrincipalKind(Enum):
    """Who can hold a right."""

    ACCOUNT = "account"
    GROUP = "group"
    ANY_ACCOUNT = "any account"
    PASSWORD = "password holder"  # noqa: S105  # anyone who knows the password of an account
    KEY = "key"  # anyone who holds the private half of a key
    ELSEWHERE = "account of another host"
    ROLE = "role of a database"

    __hash__ = object.__hash__


def bare_name(name: str) -> str:
    """Return the name of an account, or of a group as ``%name``, without its domain."""
    bare = name.rpartition("\\")[2].partition("@")[0]
    return f"%{bare}" if name.startswith("%") and not bare.startswith("%") else bare


def sought(name: str) -> str:
    """Return a name as it is looked up: the case of letters does not matter in one with a domain."""
    return name.casefold() if "\\" in name or "@" in name else name


@equal_apart_from("aliases")
class Principal(Struct, frozen=True, kw_only=True):
    """Someone who can hold a right on a subject; `name` is empty for any account."""

    kind: PrincipalKind
    name: str
    subject: str
    aliases: tuple[str, ...] = ()  # further names to ask by: name@realm, DOMAIN\\name, a SID

    def is_called(self, name: str) -> bool:
        """Return whether someone who is asked for by name is this; an account of another host, or for some hosts, also without them."""
        short = self._short
        return name == str(self) or (bool(short) and name == short) or (bool(self.aliases) and self._has_alias(name))

    def is_called_alike(self, name: str) -> bool:
        """Return the same, whatever the case of letters."""
        return name.casefold() in {one.casefold() for one in (str(self), self._short, *self.aliases) if one}

    @property
    def _short(self) -> str:
        return self.name.rpartition("@")[0] if self.kind in (PrincipalKind.ELSEWHERE, PrincipalKind.ROLE) else ""

    @property
    def sought_by(self) -> tuple[str, ...]:
        """Names by which it is looked up: whatever name it is called, `sought` gives one of these."""
        return tuple(sought(name) for name in (str(self), self._short, *self.aliases) if name)

    def _has_alias(self, name: str) -> bool:
        """Return whether a further name is this; the case of letters does not matter in one with a domain."""
        qualified = "\\" in name or "@" in name
        return name in self.aliases or (qualified and name.casefold() in {alias.casefold() for alias in (str(self), *self.aliases)})

    def from_elsewhere(self, home: str, subject: str) -> "Principal":
        """Return an account of a subject, its `home`, as a holder on another: ``account@home``, that can be asked for by all its names."""
        names = (self.name, *self.aliases) if self.aliases else ()
        return Principal(kind=PrincipalKind.ELSEWHERE, name=f"{self.name}@{home}", subject=subject, aliases=names)

    def __hash__(self) -> int:  # by the names alone: an enum's own hash is slow, and nodes are looked up a great deal
        return hash((self.name, self.subject))

    def __str__(self) -> str:
        return (_SHOWN if self.name else _SHOWN_NAMELESS)[self.kind].format(self.name)


_SHOWN = {
    PrincipalKind.ACCOUNT: "{}",
    PrincipalKind.GROUP: "%{}",
    PrincipalKind.ANY_ACCOUNT: "any account",
    PrincipalKind.PASSWORD: "{}'s password",
    PrincipalKind.KEY: "key {}",
    PrincipalKind.ELSEWHERE: "{}",  # "account@host"
    PrincipalKind.ROLE: "{}",
}
_SHOWN_NAMELESS = {**_SHOWN, PrincipalKind.ACCOUNT: "(an account without a name)", PrincipalKind.ROLE: "(a role without a name)"}


class RightKind(IntEnum):
    """The rights, the furthest reaching first."""

    ROOT = 0
    ADMIN = 1  # of a Windows machine
    RUN_AS = 2
    READ_SECRETS = 3
    WRITE_EVIDENCE = 4
    RUN_AS_GROUP = 5
    COMMAND = 6
    READ_EVIDENCE = 7
    DB_SUPERUSER = 8
    DB_HOST_ESCAPE = 9  # of a database, to the operating system
    DB_GRANT = 10
    DB_WRITE_ALL = 11
    DB_READ_ALL = 12
    DB_OBJECT = 13  # a privilege on one object
    DIRECTORY_ADMIN = 14

    @property
    def full(self) -> bool:
        """Whether it is control of the whole subject."""
        return self in _FULL


_FULL = frozenset({
    RightKind.ROOT, RightKind.ADMIN, RightKind.DB_SUPERUSER, RightKind.DB_HOST_ESCAPE, RightKind.DIRECTORY_ADMIN
})  # fmt: skip


class Right(Struct, frozen=True, kw_only=True):
    """A right on a subject.  `detail` is the account, the group, the command, or the privilege on the object `on` of a database."""

    kind: RightKind
    detail: str
    subject: str
    on: str | None = None  # database/object

    def __hash__(self) -> int:
        return hash((self.detail, self.on, self.subject))

    def __str__(self) -> str:
        if self.kind is RightKind.DIRECTORY_ADMIN and not self.detail:
            return "directory-admin"
        return _SHOWN_RIGHTS[self.kind].format(self.detail, self.on)


_SHOWN_RIGHTS = {
    RightKind.ROOT: "root",
    RightKind.ADMIN: "admin",
    RightKind.RUN_AS: "run-as:{}",
    RightKind.RUN_AS_GROUP: "run-as-group:{}",
    RightKind.COMMAND: "command:{}",
    RightKind.READ_SECRETS: "read-secrets",
    RightKind.WRITE_EVIDENCE: "write-evidence",
    RightKind.READ_EVIDENCE: "read-evidence",
    RightKind.DB_SUPERUSER: "db-superuser",
    RightKind.DB_HOST_ESCAPE: "db-host-escape",
    RightKind.DB_GRANT: "db-grant",
    RightKind.DB_WRITE_ALL: "db-write-all",
    RightKind.DB_READ_ALL: "db-read-all",
    RightKind.DB_OBJECT: "{} {}",
    RightKind.DIRECTORY_ADMIN: "directory-admin:{}",
}


class LinkKind(Enum):
    """Three kinds, because they are three risks."""

    HAS = "has"  # holds it now
    MAY_BECOME = "may become"  # on asking
    MAY_GRANT = "may grant"  # can give it to itself or others

    __hash__ = object.__hash__


_KINDS = {kind: rank for rank, kind in enumerate(LinkKind)}


class Mechanism(Enum):
    """By what a link leads on.  The value is the code in documents; the words are made in `reports`."""

    # Of hosts.
    USER_ID = "user-id-0"
    MEMBERSHIP = "membership"
    LOGIN_MEMBERSHIP = "membership-at-login"  # by pam_group(8)
    HELD_MEMBERSHIP = "membership-of-session"  # held by running processes, not given by the files any more
    ACCOUNT = "account-of-host"  # any account of the host
    SUDO = "sudo"
    SU = "su"
    DOAS = "doas"
    PKEXEC = "pkexec"
    POLKIT = "polkit"
    GROUP = "group"  # what a group gives by itself
    GROUP_ADMINISTRATOR = "group-administrator"
    PROGRAM = "privileged-program"
    WRITABLE = "writable"
    READABLE = "readable"
    SSH_KEY = "ssh-key"
    PRIVATE_KEY = "private-key"
    # Of database servers.
    SOCKET = "socket"
    DIRECTORY_LOGIN = "directory-login"
    HOST = "host"  # by way of another account of the host
    ROLE = "role"
    ADMIN_OPTION = "admin-option"
    ATTRIBUTE = "role-attribute"
    PREDEFINED_ROLE = "predefined-role"
    PARAMETER = "parameter"
    CREATE_ROLE = "create-role"  # before PostgreSQL 16
    OWNER = "owner"
    DEFINER = "definer-function"  # a function that acts as its owner
    TRIGGER = "trigger"
    VIEW = "view"  # reaches tables with its owner's rights
    RULE = "rule"  # the same of a table
    GRANT = "grant"
    PUBLIC = "public"
    PRIVILEGE = "global-privilege"
    ALL_PRIVILEGES = "all-privileges"
    PROXY = "proxy"
    GRANT_TABLES = "grant-tables"
    # Of directories and Windows machines.
    ADMIN_GROUP = "administrative-group"
    PERMISSION = "permission"  # on an object of a directory
    SID_HISTORY = "sid-history"
    USER_RIGHT = "user-right"
    SERVICE = "service"
    TASK = "task"
    INSTALLER = "installer"
    # Many links shown as one.
    FURTHER = "further-links"

    __hash__ = object.__hash__


# By these a principal obtains what nobody granted it: a weakness, not a grant.
_WEAKNESSES = frozenset({
    Mechanism.HELD_MEMBERSHIP, Mechanism.GROUP, Mechanism.GROUP_ADMINISTRATOR, Mechanism.PROGRAM, Mechanism.WRITABLE,
    Mechanism.READABLE, Mechanism.PRIVATE_KEY, Mechanism.ADMIN_OPTION, Mechanism.CREATE_ROLE, Mechanism.OWNER, Mechanism.DEFINER,
    Mechanism.TRIGGER,    Mechanism.GRANT_TABLES, Mechanism.SERVICE, Mechanism.TASK, Mechanism.INSTALLER,
})  # fmt: skip


class By(NamedTuple):
    """A mechanism, and the name of what it goes by where there is one: the file, the group, the program, the privilege."""

    mechanism: Mechanism
    name: str | None = None


class Strength(IntEnum):
    """How sure a link is, the strongest first."""

    DIRECT = 0  # the system itself grants it
    CERTAIN = 1  # a documented mechanism turns it into the right
    CONDITIONAL = 2  # it depends on something not in evidence, or on a secret; the condition is written out

    def __str__(self) -> str:
        return self.name.lower()


@equal_apart_from("place", "behind")
class Link(Struct, frozen=True, kw_only=True):
    """One thing that a principal can do to become, or act as, something else.

    `by` is the mechanism; `because` a clause that completes "P → Q because …", for readers alone: nothing decides by it.  `quote` is the
    text at the place.  `asks` says whose password is wanted, if any is, `own_password` that it is that of the account which takes the
    link.  `behind` are the places of rules that would give the same if this one were gone.
    """

    source: Principal
    target: Principal | Right
    kind: LinkKind
    strength: Strength
    by: By
    because: str
    quote: str | None = None
    asks: str | None = None
    own_password: bool = False
    conditions: tuple[str, ...] = ()
    place: Place
    behind: tuple[Place, ...] = ()

    def __hash__(self) -> int:  # chains of links are looked up a great deal; one rule can give thousands that differ in their target alone
        return hash((self.because, self.quote, self.source.name, self.target))

    @property
    def mechanism(self) -> Mechanism:
        """By what it leads on."""
        return self.by.mechanism

    @property
    def key(self) -> Hashable:
        """What makes a link the same at another time: not where it is written, nor in which words it is told."""
        return self.source, self.target, self.by, self.kind, self.strength, self.quote, self.asks, self.conditions


class Route(Struct, frozen=True, kw_only=True):
    """A chain of links from a principal to a right."""

    links: tuple[Link, ...]
    strength: Strength
    conditions: tuple[str, ...] = ()

    @property
    def asks(self) -> str | None:
        """Whose passwords are asked for along the route, if any are."""
        return ", ".join(dict.fromkeys(link.asks for link in self.links if link.asks)) or None

    @property
    def kind(self) -> LinkKind:
        """What it takes: nothing where all is had now, else to ask (SET ROLE, sudo), else to grant."""
        return list(LinkKind)[self.kind_rank]

    @property
    def kind_rank(self) -> int:
        """The place of `kind` among the kinds, the one that takes least first."""
        return max(_KINDS[link.kind] for link in self.links)

    @property
    def granted(self) -> bool:
        """Whether all of it was granted, and no link makes use of a weakness or of what a grant amounts to besides."""
        for link in self.links:  # noqa: SIM110 asked of each route more than once
            if link.strength is Strength.CERTAIN or link.by.mechanism in _WEAKNESSES:
                return False
        return True

    @property
    def place(self) -> Place:
        """The place that decides: that of the last link, which gives the right."""
        return self.links[-1].place


class Holding(Struct, frozen=True, kw_only=True):
    """A principal × a right × a subject, with its routes, the strongest and shortest first."""

    principal: Principal
    right: Right
    routes: tuple[Route, ...]
    cut: int = 0  # routes beyond the limit, which are counted and not kept

    @property
    def strength(self) -> Strength:
        """The strength of the strongest route."""
        return min(route.strength for route in self.routes)

    @property
    def granted(self) -> bool:
        """Whether it was granted; if not, it can be obtained by a weakness.

        A grant under a condition does not count beside a weakness that always works.
        """
        best = min((route.strength for route in self.routes if route.granted), default=None)
        return best is not None and (best is not Strength.CONDITIONAL or self.strength is Strength.CONDITIONAL)
