"""Numbers and lists in words: "1 person", "3 people", "tern dunlin and 73 more"."""

from collections.abc import Sequence

__all__ = ["counted", "first_names", "first_rights", "listed"]

_MOST_RIGHTS = 4
# So many subjects are named where several are shown together.
_MOST_NAMES = 12

_PLURALS = {
    "person": "people",
    "key": "keys",
    "policy": "policies",
    "directory": "directories",
    "entry": "entries",
    "refusal": "refusals",
    "likely copy": "likely copies",
    "right or route": "rights or routes",
}


def counted(count: int, noun: str) -> str:
    """Return a number with what it counts, in the singular or the plural."""
    return f"{count} {noun if count == 1 else plural(noun)}"


def plural(noun: str) -> str:
    """Return the plural of a noun, of several words that of the last."""
    return _PLURALS.get(noun, f"{noun}s")


def first_rights(rights: Sequence[str]) -> str:
    """Return the first rights of a cell of a table, and how many more there are: "root, admin and 3 more rights"."""
    more = len(rights) - _MOST_RIGHTS
    return ", ".join(rights[:_MOST_RIGHTS]) + (f" and {counted(more, 'more right')}" if more > 0 else "")


def listed(names: Sequence[str], most: int, noun: str) -> str:
    """Return names with blanks between them; beyond `most` their number: "75 subjects", or with "more" how many follow."""
    if len(names) <= most:
        return " ".join(names)
    return f"{' '.join(names[:most])} and {len(names) - most} more" if noun == "more" else counted(len(names), noun)


def first_names(subjects: Sequence[str]) -> str:
    """Return the first of some subjects by name, and how many more there are."""
    return listed(sorted(subjects), _MOST_NAMES, "more")
