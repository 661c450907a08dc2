"""Which hosts a log names, by a block of it in any of its forms."""

import re
from collections.abc import Callable, Collection, Iterator
from functools import cache
from itertools import islice

from fidelitas.languages.logs.entries import lines_that_matter
from fidelitas.text import decode, short_host_name

__all__ = ["are_of", "hosts_named_in"]

# In JSON a user may anywhere else have typed what looks like a field, but not its quotation marks.
_OF_ENTRY = re.compile(rb'"_HOSTNAME"\s*:\s*"([^"\\\n]+)"')
_OF_EXPORT = re.compile(rb"^(?:    )?_HOSTNAME=(\S+)$", re.MULTILINE)
_OF_RECORD = re.compile(rb"^(?:node=(\S+) )?type=[A-Z0-9_]+ msg=audit\(", re.MULTILINE)
_SAMPLE = 1000


def hosts_named_in(block: bytes) -> Iterator[bytes]:
    """Yield the host of each line of a block, of each entry of the journal, or record of the audit log; nothing of one that names none."""
    start = block.lstrip()
    if start.startswith(b"{"):
        return (found[1] for found in _OF_ENTRY.finditer(block))
    if _OF_RECORD.match(start):
        return (found[1] for found in _OF_RECORD.finditer(block) if found[1])
    if start.startswith(b"__") or _OF_EXPORT.search(start):
        return (found[1] for found in _OF_EXPORT.finditer(block))
    return (line.host for line in lines_that_matter([block]))


def are_of(own: Collection[str], beginning: bytes) -> Callable[[str], bool]:
    """Return what says of a host whether it is the one whose log it is, which has some names of its `own`.

    A log that begins with lines of one other host alone is that host's, whatever it is called elsewhere: a name can have been given.
    """
    names = {short_host_name(name) for name in own}

    @cache  # few logs have numbers that nothing but the host's accounts names
    def known() -> set[str]:
        begin = {short_host_name(decode(host)) for host in islice(hosts_named_in(beginning), _SAMPLE)} - {""}
        return names | begin if len(begin) == 1 else names

    def is_of(host: str) -> bool:
        name = short_host_name(host)
        return not name or name in names or name in known()

    return is_of
