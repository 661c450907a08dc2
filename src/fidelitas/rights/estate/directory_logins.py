"""From a directory into a database server: an account whose password, or Kerberos ticket, the server takes for a role."""

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from fidelitas.rights.directory import DirectoryRights
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Strength
from fidelitas.rights.subject import DatabaseServer

__all__ = ["directory_links"]

_HOW = {"ldap": "asks the directory for the password of"}


def directory_links(server: DatabaseServer, directories: Sequence[DirectoryRights]) -> tuple[Link, ...]:
    """Return the links that lead into a server from accounts of the directories in evidence, disabled ones left out."""
    return tuple(link for directory in directories for link in _links(server, directory))


def _links(server: DatabaseServer, directory: DirectoryRights) -> Iterator[Link]:
    accounts = {account.name: account for account in directory.facts.accounts if not account.disabled}
    known = {name: account.dn for name, account in accounts.items()}
    for name, role, method, place in server.directory_logins(known):
        yield Link(
            source=replace(directory.node(accounts[name]), name=name).from_elsewhere(directory.subject, server.subject),
            target=role,
            kind=LinkKind.MAY_BECOME,
            strength=Strength.DIRECT,
            by=By(Mechanism.DIRECTORY_LOGIN),
            because=f"the server {_HOW.get(method, 'takes a Kerberos ticket of')} {name} of {directory.subject} ({method}) for role {role}",
            conditions=(),
            place=place,
        )
