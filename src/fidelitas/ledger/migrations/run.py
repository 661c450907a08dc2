"""Bring the tables of a ledger to the newest version."""

from pathlib import Path

from alembic import command
from alembic.config import Config
from sqlalchemy import Connection

__all__ = ["upgrade"]


def upgrade(connection: Connection) -> None:
    """Bring the tables to the newest version, within the transaction of the connection."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent).replace("%", "%%"))
    config.attributes["connection"] = connection
    command.upgrade(config, "head")
