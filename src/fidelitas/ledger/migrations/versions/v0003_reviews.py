"""Reviews, and their decisions."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"

_ROWS = sa.BigInteger().with_variant(sa.Integer, "sqlite")


def upgrade() -> None:
    """Make the tables."""
    op.create_table(
        "reviews",
        sa.Column("id", _ROWS, primary_key=True),
        sa.Column("name", sa.String(80), nullable=False, unique=True),
        sa.Column("digest", sa.LargeBinary, nullable=False),
        sa.Column("packed", sa.LargeBinary, nullable=False),
        sa.Column("closed", sa.Text),
    )
    op.create_table(
        "review_decisions",
        sa.Column("id", _ROWS, primary_key=True),
        sa.Column("review", sa.String(80), sa.ForeignKey("reviews.name"), nullable=False, index=True),
        sa.Column("item", sa.Integer, nullable=False),
        sa.Column("decision", sa.String(20), nullable=False),
        sa.Column("reason", sa.Text, nullable=False),
        sa.Column("reviewer", sa.Text, nullable=False),
        sa.Column("at", sa.Text, nullable=False),
        sa.Column("seal", sa.LargeBinary, nullable=False),
    )
