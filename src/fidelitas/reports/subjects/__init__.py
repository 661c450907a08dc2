"""What a report says of one subject by itself: its head, what a holder is, an account's page.

One module a platform, of the platform's name, with `WORDS`; a platform without one has the general words.
"""

from functools import cache
from importlib import import_module
from typing import cast

from fidelitas.reports.subjects.words import SubjectWords
from fidelitas.rights import SubjectRights

__all__ = ["SubjectWords", "words_of"]


def words_of(rights: SubjectRights) -> SubjectWords:
    """Return the words for a subject of its platform."""
    return _words(rights.platform)


@cache
def _words(platform: str) -> SubjectWords:
    if not platform.isidentifier():  # of no platform, or of one that is not known
        return SubjectWords()
    name = f"{__name__}.{platform}"
    try:
        module = import_module(name)
    except ModuleNotFoundError as error:
        if error.name != name:
            raise
        return SubjectWords()
    return cast(SubjectWords, module.WORDS)
