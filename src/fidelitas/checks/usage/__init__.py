"""Checks of the use of privilege."""
