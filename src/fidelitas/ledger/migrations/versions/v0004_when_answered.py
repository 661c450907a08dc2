"""When an answer was kept: pruning leaves those since the surveys that stay."""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    """Add the column; of an answer from before nothing is known."""
    op.add_column("answers", sa.Column("at", sa.String(20), nullable=False, server_default=""))
