"""Names that are not known: a filter that matches nothing would look like a clean answer."""

import difflib
from collections.abc import Iterable, Sequence

from fidelitas.errors import RequestError

__all__ = ["unknown_name", "unknown_subject"]


def unknown_subject(subject: str | None, known: Sequence[str]) -> RequestError:
    """Return the error that no subject in the ledger is called, and of which there is."""
    return unknown_name("no subject in the ledger is called", subject or "", known)


def unknown_name(what: str, name: str, known: Iterable[str]) -> RequestError:
    """Return the error that a name is not known, with the nearest that is: a filter that matches nothing would look like a clean answer."""
    names = sorted({one for one in known if one})
    near = difflib.get_close_matches(name, names, n=3, cutoff=0.6)
    if near:
        hint = f"Did you mean {' or '.join(near)}?"
    else:
        hint = f"Known are: {', '.join(names[:10])}{' and others' if len(names) > 10 else ''}." if names else "There are none."
    return RequestError(f'{what} "{name}"', hint=hint)
