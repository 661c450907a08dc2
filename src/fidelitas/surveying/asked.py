"""What a survey is to read besides the hosts of an estate: this machine, root folders, files, servers; and how each is to be called."""

from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.errors import RequestError
from fidelitas.evidence import is_valid_subject_name

__all__ = ["Asked", "with_access_rules", "with_names"]


class Asked(Struct, frozen=True):
    """One thing to read: its `kind` is "host", "file" or the platform of a server, `what` a folder, a path or an address, or nothing.

    `access_rules` is the configuration file of the server of a directory.
    """

    kind: str
    what: str = ""
    name: str | None = None
    access_rules: str | None = None

    def __str__(self) -> str:
        return self.what or "this machine"


def with_access_rules(asked: Sequence[Asked], path: str | None) -> list[Asked]:
    """Return what is asked, the only directory of it with the configuration file of its server; raises `RequestError`."""
    if path is None:
        return list(asked)
    if len(asked) != 1 or asked[0].kind not in ("file", "directory"):
        raise RequestError("--access-rules is for one directory", hint="Survey it by itself: its export, or its address with --directory.")
    return [replace(asked[0], access_rules=path)]


def with_names(asked: Sequence[Asked], names: Sequence[str]) -> list[Asked]:
    """Return what is asked with the names that were given, ``WHAT=NAME``, or ``NAME`` for the only one; raises `RequestError`."""
    called: dict[str, str] = {}
    subjects = [one.what for one in asked]
    for text in names:
        what, sign, name = text.rpartition("=")
        if not sign or what not in subjects:
            what, name = subjects[0] if subjects else "", text
            if len(asked) > 1:
                raise RequestError(
                    f'--name "{text}" does not say which subject it is for', hint="With several subjects write --name FILE=NAME."
                )
        if not is_valid_subject_name(name):
            raise RequestError(f'"{name}" cannot name the subject')
        called[what] = name
    return [replace(one, name=called.get(one.what, one.name)) for one in asked]
