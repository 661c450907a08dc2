"""The charter file, in TOML; ``docs/charter.md`` describes it.

::

    format = 1

    [[must]]                      # or [[never]]: account, on, as and command, or right; why
    [[warrant]]                   # who, right, on, why, owner, ticket, from, until, review-by, conditions
    [[segregation]]               # rights, on, within, why
    [[exception]]                 # key, or check, on and about; reason, owner, until
"""

import tomllib
from collections.abc import Callable, Iterator
from typing import Any, TypeVar

from fidelitas.charter.entries import AcceptedFinding, Charter, Clause, Condition, Kind, Segregation, Warrant, Within
from fidelitas.charter.fields import Fields
from fidelitas.errors import RequestError
from fidelitas.text import has_endless_key

__all__ = ["FORMAT", "read_charter"]

T = TypeVar("T")
FORMAT = 1
_CLAUSE = ("account", "on", "as", "command", "right", "why")
_WARRANT = ("who", "right", "on", "why", "owner", "ticket", "from", "until", "review-by", "conditions")
_SEGREGATION = ("rights", "on", "within", "why")
_EXCEPTION = ("key", "check", "on", "about", "reason", "owner", "until")
_PARTS = ("must", "never", "warrant", "segregation", "exception")


def read_charter(text: str, origin: str) -> Charter:
    """Return a charter; raises `RequestError` that names the entry that is not as documented."""
    stated = _parsed(text, origin)
    return Charter(
        origin=origin,
        clauses=tuple(clause for kind in Kind for some in _each(stated, kind.value, origin, _clauses(kind)) for clause in some),
        warrants=tuple(_each(stated, "warrant", origin, _warrant)),
        segregations=tuple(_each(stated, "segregation", origin, _segregation)),
        exceptions=tuple(_each(stated, "exception", origin, _exception)),
    )


def _parsed(text: str, origin: str) -> dict[str, Any]:
    if has_endless_key(text):
        raise RequestError(f'charter "{origin}" has a line with more than a hundred dots: it is not read')
    try:
        stated = tomllib.loads(text)
    except (ValueError, RecursionError) as error:  # also numbers of more digits than Python reads
        raise RequestError(f'charter "{origin}" is not TOML: {error}') from error
    unknown = set(stated) - {"format", *_PARTS}
    if stated.get("format") != FORMAT or unknown:
        what = f"has unknown parts: {', '.join(sorted(unknown))}" if unknown else f'does not say "format = {FORMAT}"'
        raise RequestError(f'charter "{origin}" {what}')
    return stated


def _each(stated: dict[str, Any], name: str, origin: str, read: Callable[[Any, int, str], T]) -> Iterator[T]:
    entries = stated.get(name, [])
    if not isinstance(entries, list):
        raise RequestError(f'charter "{origin}": write [[{name}]] with two brackets')
    return (read(entry, number, f'charter "{origin}", [[{name}]] number {number}') for number, entry in enumerate(entries, 1))


def _clauses(kind: Kind) -> Callable[[Any, int, str], list[Clause]]:
    def read(entry: Any, number: int, where: str) -> list[Clause]:
        fields = Fields(entry, where, _CLAUSE)
        if fields.has("right") and (fields.has("command") or fields.has("as")):
            raise fields.wrong("a right and a command are two demands", "State them in two entries.")
        rights: tuple[str | None, ...] = fields.names("right") if fields.has("right") else (None,)
        command = () if fields.has("right") else fields.words("command")
        return [
            Clause(
                kind=kind,
                number=number,
                account=account,
                subject=subject,
                run_as=fields.text("as") or None,
                command=command,
                why=fields.text("why"),
                right=right,
            )
            for right in rights
            for subject in fields.names("on")
            for account in fields.names("account")
        ]

    return read


def _warrant(entry: Any, number: int, where: str) -> Warrant:
    fields = Fields(entry, where, _WARRANT)
    return Warrant(
        number=number,
        who=fields.names("who"),
        rights=fields.names("right"),
        on=fields.names("on"),
        why=fields.text("why"),
        owner=fields.text("owner"),
        ticket=fields.text("ticket"),
        begins=fields.day("from"),
        until=fields.day("until"),
        review_by=fields.day("review-by"),
        conditions=fields.choices("conditions", Condition, Condition),
    )


def _segregation(entry: Any, number: int, where: str) -> Segregation:
    fields = Fields(entry, where, _SEGREGATION)
    rights = fields.names("rights")
    if len(set(rights)) < 2:
        raise fields.wrong("a segregation is of two rights or more")
    within = fields.choices("within", Within, Within) or (Within.SUBJECT,)
    return Segregation(number=number, rights=rights, on=fields.names("on", needed=False), within=within[0], why=fields.text("why"))


def _exception(entry: Any, number: int, where: str) -> AcceptedFinding:
    fields = Fields(entry, where, _EXCEPTION)
    if fields.has("key") == fields.has("check"):
        raise fields.wrong("an exception names findings by key or by check", 'Write key = "…", or check = "…" with on and about.')
    if not fields.text("reason"):
        raise fields.wrong("an exception has a reason")
    return AcceptedFinding(
        number=number,
        reason=fields.text("reason"),
        key=fields.text("key") or None,
        check=fields.text("check") or None,
        on=fields.names("on", needed=False),
        about=fields.text("about") or None,
        owner=fields.text("owner"),
        until=fields.day("until"),
    )
