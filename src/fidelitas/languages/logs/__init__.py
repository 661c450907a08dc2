"""Logs: lines of syslog and of sudo's own files, what programs say in them, and the times at which they say it."""
