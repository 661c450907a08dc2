"""The first tables: pieces, evidence, surveys and their members, surveys to keep, answers."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None

_ROWS = sa.BigInteger().with_variant(sa.Integer, "sqlite")


def upgrade() -> None:
    """Make them."""
    op.create_table(
        "pieces",
        sa.Column("id", _ROWS, primary_key=True),
        sa.Column("digest", sa.LargeBinary, nullable=False, unique=True),
        sa.Column("size", sa.BigInteger, nullable=False),
        sa.Column("form", sa.SmallInteger, nullable=False),
        sa.Column("base", _ROWS, sa.ForeignKey("pieces.id"), index=True),
        sa.Column("packed", sa.LargeBinary, nullable=False),
    )
    op.create_table(
        "evidence",
        sa.Column("id", _ROWS, primary_key=True),
        sa.Column("record", _ROWS, sa.ForeignKey("pieces.id"), nullable=False, unique=True),
        sa.Column("frame", sa.LargeBinary, nullable=False, index=True),
        sa.Column("platform", sa.String(40), nullable=False),
        sa.Column("host_name", sa.Text, nullable=False),
        sa.Column("machine", sa.Text),
        sa.Column("host_keys", sa.Text, nullable=False),
        sa.Column("taken", sa.Text, nullable=False),
        sa.Column("has_logs", sa.Boolean, nullable=False),
    )
    op.create_table(
        "surveys",
        sa.Column("id", _ROWS, primary_key=True),
        sa.Column("name", sa.String(80), nullable=False, unique=True),
        sa.Column("finished", sa.Boolean, nullable=False),
        sa.Column("seal", sa.LargeBinary),
    )
    op.create_table(
        "members",
        sa.Column("survey", _ROWS, sa.ForeignKey("surveys.id"), primary_key=True),
        sa.Column("subject", sa.Text, primary_key=True, index=True),
        sa.Column("evidence", _ROWS, sa.ForeignKey("evidence.id"), nullable=False, index=True),
        sa.Column("tags", sa.Text, nullable=False),
    )
    op.create_table(
        "keeps",
        sa.Column("survey", _ROWS, sa.ForeignKey("surveys.id"), primary_key=True),
        sa.Column("reason", sa.Text, nullable=False),
    )
    op.create_table(
        "answers",
        sa.Column("key", sa.LargeBinary, primary_key=True),
        sa.Column("rules", sa.LargeBinary, nullable=False, index=True),
        sa.Column("digest", sa.LargeBinary, nullable=False),
        sa.Column("packed", sa.LargeBinary, nullable=False),
    )
