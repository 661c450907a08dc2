"""What a ledger is asked in SQL: which surveys, which subjects with which evidence.

However many surveys there are: what a question needs is found by indexes, and of daily surveys of thousands of hosts no more is read.
"""

from collections.abc import Collection

from sqlalchemy import Connection, Row, Select, func, select

from fidelitas.ledger.connection import AT_ONCE, batches
from fidelitas.ledger.tables import evidence, members, pieces, surveys

__all__ = ["COPIES", "Member", "finished", "members_of_surveys", "newest_members"]

# So many surveys are read one by one for the subjects that those after them lack.
_LAST = 30
Member = Row[str, str, int, str]  # the name of a survey, a subject, the number of its evidence, its tags


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


def newest_members(connection: Connection, until: str | None = None) -> list[Member]:
    """Return each subject with the evidence of the last survey that has it, of those up to one.

    Most are in one of the last surveys: of the others alone all are looked through.
    """
    upto = finished() if until is None else finished().where(surveys.c.name <= until)
    names = list(connection.execute(upto).scalars())
    lacking, found = set(connection.execute(_subjects()).scalars()), dict[str, Member]()
    for name in reversed(names[-_LAST:]):
        if lacking:
            rows = _members_among(lacking).where(surveys.c.name == name)
            found |= {row.subject: row for row in connection.execute(rows).all() if row.subject in lacking}
            lacking -= found.keys()
    for some in batches(lacking if names else ()):
        earlier = _members_among(some).where(surveys.c.name <= names[-1])
        found |= {row.subject: row for row in connection.execute(earlier).all()}
    return list(found.values())


def _members_among(subjects: Collection[str]) -> Select[str, str, int, str]:
    every = members_of_surveys()
    return every.where(members.c.subject.in_(subjects)) if len(subjects) <= AT_ONCE else every


def _subjects() -> Select[str]:
    """Return the subjects of all surveys, each found by the one before it: an index is not read through for that."""
    first = select(func.min(members.c.subject).label("subject")).cte("named", recursive=True)
    following = select(func.min(members.c.subject)).where(members.c.subject > first.c.subject).scalar_subquery()
    named = first.union_all(select(following).where(first.c.subject.is_not(None)))
    return select(named.c.subject).where(named.c.subject.is_not(None))
