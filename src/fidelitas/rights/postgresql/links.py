"""Links that rows of the catalogue make: a membership, and what a predefined role reaches."""

import tomllib
from functools import cache
from importlib import resources

from fidelitas.facts import RoleMembership
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, RightKind
from fidelitas.rights.subject import DatabaseServer

__all__ = ["membership_link", "predefined"]

_RIGHTS = {"db-host-escape": RightKind.DB_HOST_ESCAPE, "db-read-all": RightKind.DB_READ_ALL, "db-write-all": RightKind.DB_WRITE_ALL}


@cache
def predefined() -> dict[str, tuple[RightKind, str]]:
    """Return what each predefined role reaches, with the clause that completes "P → right because …"."""
    text = resources.files(__package__).joinpath("predefined.toml").read_text(encoding="utf-8")
    return {name: (_RIGHTS[row["right"]], row["because"]) for name, row in tomllib.loads(text).items()}


def membership_link(server: DatabaseServer, one: RoleMembership) -> Link:
    """Return the link of a membership by which a role has another's grants, or may become it, or both."""
    kind = LinkKind.HAS if one.inherit else LinkKind.MAY_BECOME
    how = "has its grants, and may become it (SET ROLE)" if one.inherit and one.set else "may become it (SET ROLE)"
    how = how if one.set else "has its grants"
    because = f"is a member of {one.role} and {how}"
    return server.link(one.member, server.role(one.role), kind, By(Mechanism.ROLE, one.role), because, one.place)
