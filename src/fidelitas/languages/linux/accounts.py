"""The four account files: passwd(5), shadow(5), group(5) and gshadow(5).

Knows their syntax and nothing else: not which entry wins, not what a membership allows.  A line that the C library would silently skip
is a gap here, because a group that fails to load is a right that fails to show.
"""

from fidelitas.facts import Account, Group, GroupShadow, Place, Shadow
from fidelitas.languages.lines import Broken, Line, Parsed, fields, number, read_lines
from fidelitas.languages.linux.passwords import password

__all__ = ["read_group", "read_gshadow", "read_passwd", "read_shadow"]

# uid_t and gid_t are 32 bits; -1 is the "no change" value of chown(2) and never an ID.
MAX_ID = 2**32 - 2
# Days: shadow(5) keeps longs, but a date past the year 9999 is a mistake in any field.
MAX_DAYS = 2_932_896
_BLANKS = " \t\v\f\r"


def read_passwd(text: str, origin: Place) -> Parsed[Account]:
    """Read a whole passwd file."""
    return read_lines(text, origin, _account, what="account", weakens="this account may hold rights that are not shown")


def read_shadow(text: str, origin: Place) -> Parsed[Shadow]:
    """Read a whole shadow file."""
    return read_lines(text, origin, _shadow, what="password state", weakens="whether this account can log in is not known")


def read_group(text: str, origin: Place) -> Parsed[Group]:
    """Read a whole group file."""
    return read_lines(text, origin, _group, what="group", weakens="members of this group may hold rights that are not shown")


def read_gshadow(text: str, origin: Place) -> Parsed[GroupShadow]:
    """Read a whole gshadow file."""
    return read_lines(text, origin, _group_shadow, what="group administrators", weakens="who may change this group is not known")


def _account(line: Line) -> Account | None:
    """account = name ":" password ":" uid ":" gid [ ":" comment [ ":" home [ ":" shell ] ] ]"""
    if _skipped(line):
        return None
    name, secret, uid, gid, comment, home, shell = fields(line, 4, 7)
    return Account(
        name=_name(name),
        password=password(secret[0], shadowed=True),
        uid=number(uid, "a user ID", MAX_ID),
        gid=number(gid, "a group ID", MAX_ID),
        comment=comment[0],
        home=home[0],
        shell=shell[0],
        place=line.place(),
    )


def _shadow(line: Line) -> Shadow | None:
    """shadow = name ":" password ":" changed ":" minimum ":" maximum ":" warning ":" inactivity ":" expiry ":" reserved"""
    if _skipped(line):
        return None
    name, secret, changed, _, maximum, _, inactivity, expiry, _ = fields(line, 2, 9)
    return Shadow(
        name=_name(name),
        password=password(secret[0]),
        last_change=_days(changed),
        maximum_age=_days(maximum),
        inactivity=_days(inactivity),
        expiry=_days(expiry),
        place=line.place(),
    )


def _group(line: Line) -> Group | None:
    """group = name ":" password ":" gid [ ":" [ member { "," member } ] ]"""
    if _skipped(line):
        return None
    name, secret, gid, members = fields(line, 3, 4)
    return Group(
        name=_name(name),
        password=password(secret[0], shadowed=True),
        gid=number(gid, "a group ID", MAX_ID),
        members=_names(members[0]),
        place=line.place(),
    )


def _group_shadow(line: Line) -> GroupShadow | None:
    """gshadow = name ":" password ":" [ administrators ] ":" [ members ]"""
    if _skipped(line):
        return None
    name, secret, administrators, members = fields(line, 2, 4)
    return GroupShadow(
        name=_name(name),
        password=password(secret[0]),
        administrators=_names(administrators[0]),
        members=_names(members[0]),
        place=line.place(),
    )


def _skipped(line: Line) -> bool:
    """Return whether the C library reads nothing from the line; refuse an entry that points at a directory service."""
    text = line.text.lstrip(_BLANKS)
    if text == "" or text.startswith("#"):
        return True
    if text.startswith(("+", "-")):
        raise Broken("an entry that takes accounts from a directory service is not followed")
    return False


def _name(field: tuple[str, int]) -> str:
    """Return a name; blanks before it are not part of it, and it may be empty, as for the C library."""
    return field[0].lstrip(_BLANKS)


def _names(text: str) -> tuple[str, ...]:
    return tuple(name.lstrip(_BLANKS) for name in text.split(",") if name.strip(_BLANKS))


def _days(field: tuple[str, int]) -> int | None:
    if field[0] in ("", "-1"):
        return None
    return number(field, "a number of days", MAX_DAYS)
