"""What a ledger is asked in SQL: which surveys, which subjects with which evidence.

However many surveys there are: what a question needs is found by indexes, and of daily surveys of thousands of hosts no more is read.
"""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from sqlalchemy import Connection, Row, Select, func, select

from fidelitas.ledger.connection import AT_ONCE, batches
from fidelitas.ledger.seals import Member, members_and_seal
from fidelitas.ledger.tables import evidence, members, pieces, surveys

__all__ = ["COPIES", "ReadSurvey", "finished", "members_of_surveys", "newest_members", "read_survey"]

# So many surveys are read one by one for the subjects that those after them lack.
_LAST = 30
_Listed = Row[int, str, bytes]  # the number of a survey, its name and seal


class ReadSurvey(NamedTuple):
    """A survey with some of its members; `is_whole` says whether all of them are what they were when it was finished."""

    name: str
    members: list[Member]
    is_whole: bool


def finished() -> Select[str]:
    """Return the names of surveys that were finished, the oldest first."""
    return select(surveys.c.name).where(surveys.c.finished).order_by(surveys.c.name)


# Of each member of a survey what tells whether it is of the same machine as those before, the oldest survey first.
COPIES = (
    select(members.c.subject, members.c.evidence, evidence.c.machine, evidence.c.host_keys, evidence.c.has_logs, pieces.c.digest)
    .join(surveys, members.c.survey == surveys.c.id)
    .outerjoin(evidence, evidence.c.id == members.c.evidence)
    .outerjoin(pieces, pieces.c.id == evidence.c.record)
    .where(surveys.c.finished)
    .order_by(surveys.c.name)
)


def members_of_surveys() -> Select[str, str, int, str]:
    """Return which survey has which subject with which evidence, the oldest survey first."""
    columns = select(surveys.c.name, members.c.subject, members.c.evidence, members.c.tags)
    return columns.join(members, members.c.survey == surveys.c.id).where(surveys.c.finished).order_by(surveys.c.name)


def read_survey(connection: Connection, name: str) -> ReadSurvey:
    """Return a finished survey with all its members, by its name."""
    return _read(connection, connection.execute(_listed().where(surveys.c.name == name)).one())


def newest_members(connection: Connection, until: str | None = None) -> Iterator[ReadSurvey]:
    """Yield surveys, of those up to one, each with the members of which none after it has newer evidence; the newest survey first.

    Most are in one of the last surveys: for the others alone all are looked through.
    """
    listed = connection.execute(_listed() if until is None else _listed().where(surveys.c.name <= until)).all()
    lacking = set(connection.execute(_subjects()).scalars()) if listed else set[str]()
    for one in _perhaps_newest(connection, listed, lacking):
        read = _read(connection, one)
        newest = [member for member in read.members if member.subject in lacking]
        lacking -= {member.subject for member in newest}
        if newest or not read.is_whole:
            yield read._replace(members=newest)


def _perhaps_newest(connection: Connection, listed: Sequence[_Listed], lacking: set[str]) -> Iterator[_Listed]:
    """Yield the last survey, and those before it that have some of the subjects that are lacking by then, the newest first."""
    for one in reversed(listed[-_LAST:]):
        if one is listed[-1] or (lacking and _has_some(connection, one, lacking)):
            yield one
    earlier = {number for some in batches(lacking) for number in connection.execute(_last_with(some, listed[-1].name)).scalars()}
    yield from (one for one in reversed(listed) if one.id in earlier)


def _has_some(connection: Connection, one: _Listed, lacking: set[str]) -> bool:
    if len(lacking) > AT_ONCE:
        return True
    found = select(members.c.subject).where(members.c.survey == one.id, members.c.subject.in_(lacking)).limit(1)
    return connection.execute(found).first() is not None


def _last_with(subjects: Sequence[str], until: str) -> Select[int]:
    """Return the number of the last survey up to one that has each of some subjects."""
    every = members_of_surveys().with_only_columns(members.c.subject, func.max(surveys.c.name).label("name"))
    last = every.where(members.c.subject.in_(subjects), surveys.c.name <= until).order_by(None).group_by(members.c.subject).subquery()
    return select(surveys.c.id).where(surveys.c.name.in_(select(last.c.name)))


def _listed() -> Select[int, str, bytes]:
    """Return the number, name and seal of each survey that was finished, the oldest first."""
    return select(surveys.c.id, surveys.c.name, surveys.c.seal).where(surveys.c.finished).order_by(surveys.c.name)


def _read(connection: Connection, one: _Listed) -> ReadSurvey:
    found, seal = members_and_seal(connection, one.id)
    return ReadSurvey(one.name, found, one.seal is not None and bytes(one.seal) == seal)


def _subjects() -> Select[str]:
    """Return the subjects of all surveys, each found by the one before it: an index is not read through for that."""
    first = select(func.min(members.c.subject).label("subject")).cte("named", recursive=True)
    following = select(func.min(members.c.subject)).where(members.c.subject > first.c.subject).scalar_subquery()
    named = first.union_all(select(following).where(first.c.subject.is_not(None)))
    return select(named.c.subject).where(named.c.subject.is_not(None))
