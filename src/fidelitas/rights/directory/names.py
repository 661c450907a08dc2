"""What a machine is called in the names of services: service principal names ([MS-ADTS] 2.2.21)."""

from collections.abc import Iterator

from fidelitas.facts import DirectoryAccount

__all__ = ["host_of", "names_of"]


def names_of(account: DirectoryAccount) -> Iterator[str]:
    """Yield what a machine is called, in small letters: its own name, and those in the names of its services."""
    yield account.name.rstrip("$").casefold()
    for service in account.service_names:
        yield host_of(service)


def host_of(service: str) -> str:
    """Return the machine of a service principal name, class/host:port/name, in small letters."""
    return service.partition("/")[2].partition("/")[0].partition(":")[0].casefold()
