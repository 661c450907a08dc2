"""Reading everything that a survey asks for; a subject that cannot be read costs only itself."""

from collections.abc import Generator, Iterable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import cast

from msgspec import Struct

from fidelitas.errors import FidelitasError, ReadError, RequestError
from fidelitas.estate import HostEntry
from fidelitas.platforms import PLATFORMS, load
from fidelitas.sources import FileScan, LogScan, from_file, from_this_machine
from fidelitas.sources.bounded import read_within
from fidelitas.sources.collected import Collected
from fidelitas.sources.directory import with_server_configuration
from fidelitas.sources.file import DumpReader
from fidelitas.sources.many import read_many
from fidelitas.sources.ssh import SshReader
from fidelitas.surveying.asked import Asked
from fidelitas.trouble import told

__all__ = ["Manner", "Reading"]


class Manner(Struct, frozen=True, kw_only=True):
    """How subjects are read: which files and logs, for how many seconds each, with which password on servers."""

    files: FileScan
    logs: LogScan
    deadline: float
    password: str | None = None


class Reading:
    """One pass: what could not be read is in `failures`."""

    def __init__(self, manner: Manner) -> None:
        self._manner = manner
        self.failures: list[FidelitasError] = []

    def each(self, asked: Iterable[Asked]) -> Iterator[Collected]:
        """Yield the evidence of everything that is read from here."""
        for one in asked:
            try:
                yield _named(self._read(one), one.name)
            except FidelitasError as error:
                self.failures.append(error)
            except Exception as error:  # noqa: BLE001 one subject costs only itself
                self.failures.append(ReadError(f'internal error while reading "{one}" (please report): {told(error)}'))

    def far(self, hosts: Sequence[HostEntry], at_once: int, config: Path | None) -> Generator[Collected, None, None]:
        """Yield the evidence of hosts that are read over SSH, many at a time, in the order in which they answer."""
        manner = self._manner
        arguments = [*manner.files.arguments, *manner.logs.arguments]
        reader = SshReader(arguments=arguments, deadline=manner.deadline, config=config)
        return read_many(hosts, reader.read, at_once, lambda _, error: self.failures.append(error), reader.stop)

    def _read(self, one: Asked) -> Collected:
        found = self._reached(one)
        return found if one.access_rules is None else with_server_configuration(found, Path(one.access_rules))

    def _reached(self, one: Asked) -> Collected:
        manner = self._manner
        if one.kind == "host":
            root = Path(one.what) if one.what else None
            return from_this_machine(root, scan=manner.files, logs=manner.logs, deadline=manner.deadline)
        if one.kind == "file":
            return from_file(Path(one.what), one.name, _dumps())
        reach = PLATFORMS[one.kind].reach
        if reach is None:
            raise RequestError(f"{PLATFORMS[one.kind].title} is not read over the network")
        read = partial(load(reach.source), one.what, one.name, manner.password, manner.deadline)
        return read_within(manner.deadline, read, one.what)


def _dumps() -> list[DumpReader]:
    """Return the forms of files other than bundles; what reads one is loaded when a file is of it."""
    rows = (dump for row in PLATFORMS.values() for dump in row.dumps)
    return [(dump.recognise, partial(_read_dump, dump.source)) for dump in rows]


def _read_dump(source: str, content: bytes, name: str) -> Collected:
    return cast(Collected, load(source)(content, name))


def _named(found: Collected, name: str | None) -> Collected:
    bundle = found.bundle.named(name) if name else found.bundle
    if not bundle.subject:
        raise RequestError("the evidence does not contain the name of the host", hint="Say it with --name.")
    return Collected(bundle=bundle, archive=found.archive)
