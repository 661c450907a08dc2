"""What evidence states that is the same whenever it is taken: answers are kept by it."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    """Add the column; of earlier evidence it is not known, and answers are kept by its record."""
    op.add_column("evidence", sa.Column("stated", sa.LargeBinary))
