"""The tables of a ledger, in SQLite and in PostgreSQL alike; described in ``docs/ledger.md``.

Knows their shape alone.  What a change of them takes for ledgers that exist is a migration in ``migrations/``; a test holds both together.
"""

from sqlalchemy import BigInteger, Boolean, Column, ForeignKey, Integer, LargeBinary, MetaData, SmallInteger, String, Table, Text

__all__ = ["METADATA", "ROWS", "answers", "evidence", "keeps", "members", "pieces", "review_decisions", "reviews", "surveys"]

# SQLite counts rows itself only where the key is an INTEGER; 64 bits all the same.
ROWS = BigInteger().with_variant(Integer, "sqlite")

METADATA = MetaData()

# What evidence is made of, each content once: a file, a listing, a part of a log, a record of one subject at one time.
pieces = Table(
    "pieces",
    METADATA,
    Column("id", ROWS, primary_key=True),
    Column("digest", LargeBinary, nullable=False, unique=True),  # SHA-256 of the content
    Column("size", BigInteger, nullable=False),  # of the content, in bytes
    Column("form", SmallInteger, nullable=False),  # how it is packed: `packing.Form`
    Column("base", ROWS, ForeignKey("pieces.id"), index=True),  # the piece that it is stated against
    Column("packed", LargeBinary, nullable=False),
)

# One subject at one time.
evidence = Table(
    "evidence",
    METADATA,
    Column("id", ROWS, primary_key=True),
    Column("record", ROWS, ForeignKey("pieces.id"), nullable=False, unique=True),
    Column("frame", LargeBinary, nullable=False, index=True),  # what evidence of equal files has in common
    Column("platform", String(40), nullable=False),
    Column("host_name", Text, nullable=False),
    Column("machine", Text),
    Column("host_keys", Text, nullable=False),  # JSON
    Column("taken", Text, nullable=False),  # ISO 8601, UTC
    Column("has_logs", Boolean, nullable=False),
    Column("stated", LargeBinary),  # what it states that is the same whenever it is taken; none of the first version
)

surveys = Table(
    "surveys",
    METADATA,
    Column("id", ROWS, primary_key=True),
    Column("name", String(80), nullable=False, unique=True),
    Column("finished", Boolean, nullable=False),
    Column("seal", LargeBinary),  # SHA-256 of its members, once it is finished
)

# Which subject of a survey has which evidence.
members = Table(
    "members",
    METADATA,
    Column("survey", ROWS, ForeignKey("surveys.id"), primary_key=True),
    Column("subject", Text, primary_key=True, index=True),
    Column("evidence", ROWS, ForeignKey("evidence.id"), nullable=False, index=True),
    Column("tags", Text, nullable=False),  # JSON, as the estate's file had them then
)

# Surveys that pruning leaves, and why.
keeps = Table(
    "keeps",
    METADATA,
    Column("survey", ROWS, ForeignKey("surveys.id"), primary_key=True),
    Column("reason", Text, nullable=False),
)

# What was concluded from evidence: by its key, and by the rules that concluded it.
answers = Table(
    "answers",
    METADATA,
    Column("key", LargeBinary, primary_key=True),
    Column("rules", LargeBinary, nullable=False, index=True),
    Column("at", String(20), nullable=False, server_default=""),  # when it was kept, as surveys are named
    Column("digest", LargeBinary, nullable=False),  # SHA-256 of the packed content
    Column("packed", LargeBinary, nullable=False),
)

# What a review is about, as it was when it began.
reviews = Table(
    "reviews",
    METADATA,
    Column("id", ROWS, primary_key=True),
    Column("name", String(80), nullable=False, unique=True),
    Column("digest", LargeBinary, nullable=False),  # SHA-256 of the packed content
    Column("packed", LargeBinary, nullable=False),
    Column("closed", Text),  # ISO 8601, UTC
)

# What was decided, by whom and when; the last counts, and all are kept.
review_decisions = Table(
    "review_decisions",
    METADATA,
    Column("id", ROWS, primary_key=True),
    Column("review", String(80), ForeignKey("reviews.name"), nullable=False, index=True),
    Column("item", Integer, nullable=False),
    Column("decision", String(20), nullable=False),
    Column("reason", Text, nullable=False),
    Column("reviewer", Text, nullable=False),
    Column("at", Text, nullable=False),
    Column("seal", LargeBinary, nullable=False),  # SHA-256 of the seal before it and of what this one says
)
