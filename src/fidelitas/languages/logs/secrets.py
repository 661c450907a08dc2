"""Passwords and tokens in command lines, put out of sight before anything is kept of them."""

import re

__all__ = ["MASK", "masked"]

MASK = "[masked]"
_NAMES = r"(?:[A-Za-z0-9_-]*(?:password|passwd|passphrase|secret|token|api-?key|access-?key|credentials?)|PGPASSWORD|MYSQL_PWD)"
_STATED = re.compile(rf"(?i)((?:^|[\s'\"])(?:-{{0,2}}|/){_NAMES}(?:=\s*|:|\s+))('[^']*'|\"[^\"]*\"|[^\s'\"]+)")
# The short options of database clients and of curl, and passwords in URLs.
_CLIENT = re.compile(r"((?:^|/|\s)(?:mysql|mysqldump|mysqladmin|mariadb|mariadb-dump)\b[^|;&]*?\s-p)([^\s'\"]+|'[^']*')")
_CURL = re.compile(r"((?:^|/|\s)curl\b[^|;&]*?\s(?:-u|--user)[\s=]+[^\s:]+:)(\S+)")
_URL = re.compile(r"([a-z][a-z0-9+.-]*://[^\s/:@]+:)([^\s@/]+)(@)")
# What gives an account of Windows its password.
_NET_USER = re.compile(r"(?i)(\bnet1?(?:\.exe)?[\"']?\s+user\s+\S+\s+)([^\s/*\"']\S*|\"[^\"]*\")")
_BEARER = re.compile(r"(?i)(\bauthorization:\s*(?:bearer|basic)\s+)([^\s'\"]+)")


def masked(command: str) -> str:
    """Return a command line without the passwords and tokens that its words name; what follows a bare word such as "passwd" stays."""
    if not _LOOKS.search(command):
        return command
    for pattern in (_BEARER, _CLIENT, _CURL, _NET_USER):
        command = pattern.sub(rf"\1{MASK}", command)
    command = _URL.sub(rf"\1{MASK}\3", command)
    return _STATED.sub(_mask, command)


_LOOKS = re.compile(r"(?i)pass|pwd|secret|token|key|credential|://|\s-p|\s-u|--user|authorization|\bnet1?\S*\s+user")


def _mask(found: re.Match[str]) -> str:
    head = found[1]
    option = head.lstrip("'\" \t").startswith(("-", "/")) or head.rstrip().endswith(("=", ":"))
    return f"{head}{MASK}" if option and found[2] != MASK else found[0]
