"""Wildcards and regular expressions as the C library matches them, which is how sudo does: fnmatch(3) and regex(7), extended.

The C library itself is asked, in the C locale, where characters are bytes, as sudo's own default has it (sudoers(5), sudoers_locale): a
translation to another engine would agree only almost, and an answer about root must not be almost right.
"""

import ctypes
import ctypes.util
import os
import resource
from functools import lru_cache
from pathlib import Path

__all__ = ["PatternError", "compile_regex", "has_wildcards", "regex_matches", "wildcard_matches"]

_LIBC = ctypes.CDLL(ctypes.util.find_library("c") or None)
_FNM_PATHNAME = 1
_FNM_PERIOD = 4
_FNM_CASEFOLD = 16
_REG_EXTENDED = 1
_REG_ICASE = 2
_REG_NOSUB = 8  # glibc: 1 << 3; musl has the same
# regex_t is 64 bytes with glibc and 56 with musl on 64-bit machines.
_REGEX_SIZE = 256
_LC_ALL_MASK = 0x1FBF
_REG_ESPACE = 12
# regcomp(3) can take for ever, and all memory: 2,000 "^" cost four gigabytes, 700 "(a*)*" hours.
_REGEX_MEMORY, _REGEX_SECONDS = 256 << 20, 1
_SHORT = 100  # an expression of so few characters is harmless without groups and bounds

_LIBC.newlocale.restype = ctypes.c_void_p
_LIBC.newlocale.argtypes = (ctypes.c_int, ctypes.c_char_p, ctypes.c_void_p)
_LIBC.uselocale.restype = ctypes.c_void_p
_LIBC.uselocale.argtypes = (ctypes.c_void_p,)
_LIBC.fnmatch.argtypes = (ctypes.c_char_p, ctypes.c_char_p, ctypes.c_int)
_LIBC.regcomp.argtypes = (ctypes.c_void_p, ctypes.c_char_p, ctypes.c_int)
_LIBC.regexec.argtypes = (ctypes.c_void_p, ctypes.c_char_p, ctypes.c_size_t, ctypes.c_void_p, ctypes.c_int)
_LIBC.regerror.argtypes = (ctypes.c_int, ctypes.c_void_p, ctypes.c_char_p, ctypes.c_size_t)
_C_LOCALE = _LIBC.newlocale(_LC_ALL_MASK, b"C", None)


class PatternError(ValueError):
    """A regular expression that the C library does not take."""


class _InCLocale:
    """The C locale for this thread, for a while."""

    def __enter__(self) -> None:
        self._before = _LIBC.uselocale(_C_LOCALE)

    def __exit__(self, *_: object) -> None:
        _LIBC.uselocale(self._before)


_C = _InCLocale()


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


@lru_cache(maxsize=65536)
def has_wildcards(text: str) -> bool:
    """Return whether sudo takes a word for a pattern: a backslash or a closing bracket is enough."""
    return not set(text).isdisjoint("\\?*[]")


@lru_cache(maxsize=65536)
def wildcard_matches(pattern: str, text: str, *, path: bool = False, fold: bool = False, period: bool = False) -> bool:
    """Return whether fnmatch(3) says that a pattern matches the whole text.

    With `path` no wildcard crosses a slash, with `fold` case does not matter, with `period` no wildcard takes a leading dot.
    """
    flags = (_FNM_PATHNAME if path else 0) | (_FNM_CASEFOLD if fold else 0) | (_FNM_PERIOD if period else 0)
    with _C:
        return bool(_LIBC.fnmatch(_bytes(pattern), _bytes(text), flags) == 0)


def _is_costly(text: str, flags: int) -> bool:
    """Return whether an expression takes the C library more time or memory than any honest one: tried in a process of its own."""
    if len(text) <= _SHORT and not set(text) & set("({"):
        return False
    child = os.fork()
    if child == 0:
        resource.setrlimit(resource.RLIMIT_CPU, (_REGEX_SECONDS, _REGEX_SECONDS))
        used = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
        resource.setrlimit(resource.RLIMIT_AS, (used + _REGEX_MEMORY, used + _REGEX_MEMORY))
        with _C:
            os._exit(int(_LIBC.regcomp(ctypes.create_string_buffer(_REGEX_SIZE), _bytes(text), flags) == _REG_ESPACE))
    return os.waitpid(child, 0)[1] != 0


@lru_cache(maxsize=4096)
def compile_regex(pattern: str) -> "ctypes.Array[ctypes.c_char]":
    """Return a compiled extended regular expression; ``(?i)`` after the first ``^`` or at the start ignores case.

    Raises `PatternError` with the C library's own words.
    """
    flags = _REG_EXTENDED | _REG_NOSUB
    text = pattern
    if text.startswith("^(?i)"):
        text, flags = "^" + text[5:], flags | _REG_ICASE
    compiled = ctypes.create_string_buffer(_REGEX_SIZE)
    if _is_costly(text, flags):
        raise PatternError("too large to be compiled")
    with _C:
        status = _LIBC.regcomp(compiled, _bytes(text), flags)
        if status != 0:
            words = ctypes.create_string_buffer(200)
            _LIBC.regerror(status, compiled, words, len(words))
            raise PatternError(words.value.decode("ascii", "replace").lower())
    return compiled


def regex_matches(pattern: str, text: str) -> bool:
    """Return whether a regular expression is found in a text; one that does not compile matches nothing."""
    try:
        compiled = compile_regex(pattern)
    except PatternError:
        return False
    with _C:
        return bool(_LIBC.regexec(compiled, _bytes(text), 0, None, 0) == 0)
