"""The lexical forms of sudoers(5), as expressions: what a word, a path, an address, an option is made of.

After the definitions of sudo's own scanner.  Columns and states are the business of `scanner`.
"""

import re

__all__ = [
    "ADDRESS4",
    "ADDRESS6",
    "ALIAS_TYPE",
    "ARGUMENT",
    "BLANKS",
    "COMMENT",
    "COMMON",
    "COMMON_ARGUMENTS",
    "CONTINUATION",
    "DEFAULTS",
    "DEFAULTS_WHOLE",
    "DIGEST",
    "FILE_NAME",
    "GROUP",
    "HEXADECIMAL",
    "ID",
    "KEYWORD_BEGINNINGS",
    "NEGATIONS",
    "NETGROUP",
    "OLD_INCLUDE",
    "OPTION_NAME",
    "OPTION_WORD",
    "PATH",
    "REGEX",
    "REGEX_PART",
    "STRING",
    "TAG",
    "UPPER",
    "WORD",
]

# In the definitions of sudo's scanner an escape may cover any character but a tab or a line break.
WORD = re.compile(r'(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+')
ID = re.compile(r"#-?[0-9]+")
GROUP = re.compile(r'%:?(?:(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+|#-?[0-9]+)')
NETGROUP = re.compile(r'\+(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+')
PATH = re.compile(r"/(?:\\[,:= \t#]|[^,:=\\ \t\r\n#])+")
# A regular expression, up to the "$" that ends it.
REGEX = re.compile(r"\^(?:\\[#$]|[^#\r\n$])*")
TAG = re.compile(r"(NO)?(PASSWD|EXEC|INTERCEPT|SETENV|LOG_OUTPUT|LOG_INPUT|MAIL|FOLLOW)[ \t]*:")
UPPER = re.compile(r"[A-Z][A-Z0-9_]*\Z")
_OCTET = r"(?:25[0-5]|2[0-4][0-9]|1?[0-9]{1,2})"
_IPV4 = rf"{_OCTET}(?:\.{_OCTET}){{3}}"
_HEX = r"[0-9A-Fa-f]{1,4}"
_IPV6 = rf"(?:(?:(?:{_HEX})?:){{2,6}}:{_IPV4}|(?:(?:{_HEX})?:){{2,7}}(?:{_HEX})?)"
ADDRESS4 = re.compile(rf"{_IPV4}(?:/(?:{_IPV4}|3[0-2]|[12]?[0-9]))?")
ADDRESS6 = re.compile(rf"{_IPV6}(?:/(?:{_IPV6}|1[01][0-9]|12[0-8]|[1-9][0-9]|[0-9]))?")
DEFAULTS = re.compile(r'[ \t]*Defaults(?:([:@>!])[ \t]*(?=!*"?(?:#-?[0-9]+|(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+)))?')
DEFAULTS_WHOLE = re.compile(r'[ \t]*Defaults(?:[:@>!][ \t]*!*"?(?:#-?[0-9]+|(?:[^#>!=:,() \t\r\n\\"]|\\[^\t\n])+))?')
ALIAS_TYPE = re.compile(r"[ \t]*(Host|Cmnd|Cmd|User|Runas)_Alias")
OLD_INCLUDE = re.compile(r"#include(dir)?(?=[ \t])")
FILE_NAME = re.compile(r'[^"\s](?:\\[ \t]|\S)*')
CONTINUATION = re.compile(r"\\[ \t]*\r?\n")
BLANKS = re.compile(r"[ \t]+")
COMMENT = re.compile(r"#(?:-[^\r\n0-9].*|[^\r\n0-9-].*)?\r?\n|#\Z")
STRING = re.compile(r'(?:[^"\r\n\\]|\\")+')
ARGUMENT = re.compile(r"[^#\\:, \t\r\n]+")
OPTION_NAME = re.compile(r"[a-z_]+")
OPTION_WORD = re.compile(r'(?:[^#!=, \t\r\n\\"]|\\[^\r\n])(?:[^#=, \t\r\n\\"]|\\[^\r\n])*')
DIGEST = re.compile(r"[A-Za-z0-9+/=]+")
HEXADECIMAL = re.compile(r"[0-9A-Fa-f]+\Z")
# What most of a policy is made of, taken whole; all that could be anything else ends the match, and is left to the methods below.
COMMON = re.compile(
    r"[ \t]*(?:([,=()])|([a-z_][a-z0-9_.-]*|ALL)(?=[ \t\n,=()])|(/[A-Za-z0-9_./+-]+)(?=[ \t\n,])"
    r"|((?:NO)?(?:PASSWD|EXEC|INTERCEPT|SETENV|LOG_OUTPUT|LOG_INPUT|MAIL|FOLLOW)):)"
)
COMMON_ARGUMENTS = re.compile(r"((?:[ \t]+[^#\\:,=^ \t\r\n][^#\\:,= \t\r\n]*)*)[ \t]*(?=[,\n])")
KEYWORD_BEGINNINGS = frozenset(" \t#DHCUR")
NEGATIONS = re.compile(r"!+")
REGEX_PART = re.compile(r"[^#\\\r\n$]+")
