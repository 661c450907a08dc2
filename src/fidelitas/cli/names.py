"""Names that are not known: a filter that matches nothing would look like a clean answer."""

import difflib
from collections.abc import Iterable, Sequence

from fidelitas.cli.output import say
from fidelitas.errors import ReadError, RequestError
from fidelitas.reports.holders import lacking
from fidelitas.rights import SubjectRights, bare_name

__all__ = ["note_ambiguous", "refuse_unknown", "same_but_domain", "unknown_name", "unknown_subject"]

_MOST = 5


def refuse_unknown(hosts: Sequence[SubjectRights], places: Sequence[tuple[str, str]]) -> None:
    """Raise the error that an object of a database is not known, or could not be read, where one is not; places are subject and path."""
    lack = lacking(hosts, places)
    if lack is not None and lack.unread:
        raise ReadError(lack.why)
    if lack is not None:
        raise RequestError(lack.why, hint="Such as shop/app.payments; a name with odd characters in the server's quoting.")


def note_ambiguous(subjects: Sequence[SubjectRights], name: str) -> None:
    """Say that a name is that of several accounts, and how each is asked for; thousands of hosts need not be asked where it is not.

    What subjects call by a name of theirs that differs in its domain, or in the case of letters, is one account.
    """
    elsewhere = {one for subject in subjects if subject.has_further_names for one in subject.meant_by(name)}
    each = [subject.meant_by(name) for subject in subjects] if elsewhere - {name} else []
    meant = list(dict.fromkeys(one for some in each for one in some))
    if max(map(len, each), default=0) > 1 or len({bare_name(one).casefold() for one in meant}) > 1:
        say(f'"{name}" can mean {", ".join(meant[:_MOST])}{f" and {len(meant) - _MOST} more" if len(meant) > _MOST else ""}: all are shown')


def same_but_domain(name: str, known: Iterable[str]) -> list[str]:
    """Return the other names that differ from one in their domain, or in the case of letters, alone."""
    bare = bare_name(name).casefold()
    return sorted(one for one in known if one != name and bare_name(one).casefold() == bare)


def unknown_subject(subject: str | None, known: Sequence[str]) -> RequestError:
    """Return the error that no subject in the ledger is called, and of which there is."""
    return unknown_name("no subject in the ledger is called", subject or "", known)


def unknown_name(what: str, name: str, known: Iterable[str]) -> RequestError:
    """Return the error that a name is not known, with the nearest that is: a filter that matches nothing would look like a clean answer."""
    names = sorted({one for one in known if one})
    near = same_but_domain(name, names)[:3] or difflib.get_close_matches(name, names, n=3, cutoff=0.6)
    if near:
        hint = f"Did you mean {' or '.join(near)}?"
    else:
        hint = f"Known are: {', '.join(names[:10])}{' and others' if len(names) > 10 else ''}." if names else "There are none."
    return RequestError(f'{what} "{name}"', hint=hint)
