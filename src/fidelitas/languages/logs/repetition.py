"""A message that a daemon of syslog wrote once for several alike: ``message repeated 2 times: [ … ]`` (rsyslog, RepeatedMsgReduction)."""

import re
from collections.abc import Iterator

from fidelitas.facts import Event, EventKind

__all__ = ["REPEATED", "once", "repeated"]

REPEATED = (b"message repeated ", b" message repeated ")
_FORM = re.compile(r"\s*message repeated (\d{1,9}) times: \[ ?(.*)\]\s*\Z", re.DOTALL)
# More alike in a row than any daemon waits for; beyond, the text is someone's own.
_MOST = 10_000


def once(message: str) -> str:
    """Return the message that was repeated, or the message itself."""
    found = _FORM.match(message) if message.startswith("message repeated ") else None
    return message if found is None else found[2]


def repeated(event: Event, message: str) -> Iterator[Event]:
    """Yield an event as often as it was repeated: failures as one that counts them, others one by one."""
    found = _FORM.match(message)
    times = min(int(found[1]), _MOST) if found is not None else 1
    if event.kind in (EventKind.FAILED, EventKind.LOGIN_FAILED):
        yield event._replace(times=event.times * times)
    else:
        yield from (event for _ in range(times))
