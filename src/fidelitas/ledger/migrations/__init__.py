"""Migrations of the ledger's tables: one file a version, run by Alembic when an older ledger is written to."""
