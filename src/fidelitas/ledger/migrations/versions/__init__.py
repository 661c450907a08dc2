"""The versions of the tables, the oldest first."""
