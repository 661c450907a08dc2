"""Arguments that were seen, as few patterns that allow them and hardly more: exact ones, a list of values, or a bounded form of a value.

A wildcard of sudoers(5) matches slashes, dots and further words, so none is ever made.  A regular expression is made only where all
arguments but one are the same: of the values that were seen, or of numbers and dates, which cannot be an option, a path or a second word.
"""

import re
from collections.abc import Collection, Iterator, Mapping, Sequence

from msgspec import Struct

from fidelitas.narrowing.spelling import exact_arguments

__all__ = ["Form", "forms_of"]

# Fewer lists of arguments are stated each; fewer values of one argument, too.
_FEW, _WORTH_A_FORM = 8, 5
# Values that may be bounded by their form.
_NUMBER, _DATE = re.compile(r"[0-9]{1,9}\Z"), re.compile(r"[0-9]{4}-[0-9]{2}-[0-9]{2}\Z")
# A value in a list of a regular expression: what is no sign of one, and does not end the expression in a policy.
_LISTED = re.compile(r"[A-Za-z0-9_./@%+:=,-]+\Z")


class Form(Struct, frozen=True):
    """A pattern of arguments, as a policy has it once read, and the texts that were seen and that it allows.

    `bounded` says that it also allows what was not seen.
    """

    pattern: str
    seen: tuple[str, ...]
    bounded: bool = False


def forms_of(texts: Collection[str], *, expressions: bool, bounds: bool) -> Iterator[Form]:
    """Yield forms that together allow exactly some lists of arguments, each as one text with single blanks.

    `expressions` says that the policy's sudo knows regular expressions (1.9.10 and later); `bounds` that numbers and dates may be allowed
    by their form.  Texts that cannot be stated are in none.
    """
    known = sorted(text for text in texts if _can_be_stated(text))
    if expressions and len(known) > _FEW:
        for form in _templates(known, bounds=bounds):
            yield form
            taken = set(form.seen)
            known = [text for text in known if text not in taken]
    for text in known:
        yield Form(exact_arguments(text), (text,))


def _can_be_stated(text: str) -> bool:
    try:
        exact_arguments(text)
    except ValueError:
        return False
    return True


def _templates(texts: Sequence[str], *, bounds: bool) -> Iterator[Form]:
    """Yield a form for each set of at least some texts that differ in one word alone; a text is in one of them."""
    taken: set[str] = set()
    alike = _alike(texts)
    for key in sorted(alike, key=lambda key: (-len(alike[key]), key)):
        values = {value: text for value, text in alike[key].items() if text not in taken}
        if len(values) >= _WORTH_A_FORM:
            before, after = key
            value, bounded = _value(sorted(values), bounds=bounds)
            taken |= set(values.values())
            words = [*map(_literal, before), value, *map(_literal, after)]
            yield Form(f"^{' '.join(words)}$", tuple(sorted(values.values())), bounded)


def _alike(texts: Sequence[str]) -> Mapping[tuple[tuple[str, ...], tuple[str, ...]], dict[str, str]]:
    """Return the values of the word in which texts differ, and the text of each, by the words before and behind it."""
    found: dict[tuple[tuple[str, ...], tuple[str, ...]], dict[str, str]] = {}
    for text in texts:
        words = tuple(text.split(" "))
        if all(map(_LISTED.match, words)):
            for at, value in enumerate(words):
                found.setdefault((words[:at], words[at + 1 :]), {})[value] = text
    return found


def _value(values: Sequence[str], *, bounds: bool) -> tuple[str, bool]:
    """Return an expression for one word, and whether it allows others than were seen."""
    if bounds and all(map(_DATE.match, values)):
        return "[0-9]{4}-[0-9]{2}-[0-9]{2}", True
    if bounds and all(map(_NUMBER.match, values)):
        lengths = sorted({len(value) for value in values})
        return f"[0-9]{{{lengths[0]},{lengths[-1]}}}", True
    return f"({'|'.join(map(_literal, values))})", False


def _literal(word: str) -> str:
    """Return an expression of POSIX for a word, of which only these signs mean something in one."""
    return re.sub(r"[.+]", r"[\g<0>]", word)
