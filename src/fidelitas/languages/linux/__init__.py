"""The files and listings of a Linux host."""
