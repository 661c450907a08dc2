"""Why a host could not be read over SSH, and what to do about it (`ssh_failures.toml`)."""

import re
import tomllib
from functools import cache
from importlib import resources
from typing import NamedTuple

from fidelitas.errors import ReadError
from fidelitas.text import clipped, escape_control

__all__ = ["OTHER", "Failure", "Unreached", "failure_of"]


class Failure(NamedTuple):
    """One kind of failure: its cause in a few words, what to do, and whether a second attempt can succeed."""

    cause: str
    remedy: str
    again: bool = False


OTHER = Failure("it failed in another way", "Try by hand: ssh {address}.")


class Unreached(ReadError):  # noqa: N818 it is what became of a host
    """A host that could not be read, with the kind of failure."""

    def __init__(self, name: str, failure: Failure, said: str, *, address: str, account: str) -> None:
        self.name, self.failure = name, failure
        self.detail = clipped(escape_control(" ".join(said.split())), 200)
        remedy = failure.remedy.replace("{address}", address).replace("{account}", account)
        super().__init__(f"{name}: {failure.cause}" + (f": {self.detail}" if self.detail else ""), hint=remedy)


@cache
def _table() -> tuple[tuple[re.Pattern[str], Failure], ...]:
    rows = tomllib.loads(resources.files(__package__).joinpath("ssh_failures.toml").read_text(encoding="utf-8"))["failure"]
    return tuple((re.compile(row["says"]), Failure(row["cause"], row["remedy"], row.get("again", False))) for row in rows)


def failure_of(said: str) -> Failure:
    """Return the kind of failure by what was written about it."""
    return next((failure for pattern, failure in _table() if pattern.search(said)), OTHER)
