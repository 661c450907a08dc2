"""Tables for analysts: what was read and found as rows of plain values, in CSV and in one file of SQLite."""
