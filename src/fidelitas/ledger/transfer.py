"""Surveys from one ledger to another: exported to a file, imported from one, taken over from the folder that ledgers were before.

An exported survey is a ledger of its own, in a file of SQLite.  What is read of the other ledger is held against its digests, as always.
"""

import os
import re
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path

from fidelitas.errors import LedgerError
from fidelitas.evidence import Bundle, is_valid_subject_name
from fidelitas.ledger.connection import FILE, Place
from fidelitas.ledger.ledger import Ledger, Survey
from fidelitas.ledger.old_folder import old_surveys

__all__ = ["copy_survey", "export_survey", "take_over"]

_NAME = re.compile(r"\d{4}-\d\d-\d\dT\d{6}Z(?:-\d{1,6})?\Z")


def copy_survey(source: Ledger, name: str, into: Ledger) -> Survey:
    """Add a survey of one ledger to another, under its own name where that is free; raises `LedgerError` where it is there already."""
    if name in into.names():
        raise LedgerError(f'ledger "{into}" has a survey {name}', hint="Nothing was imported.")
    stored = source.newest(name)
    bad = [one for one in stored.names if not is_valid_subject_name(one)]
    if bad or not _NAME.match(name):  # who made the file may have meant us to show or write something else
        raise LedgerError(f'ledger "{source}" names what cannot be a survey or a subject', hint="Nothing was imported.")
    tags = stored.tags()
    return _added(into, name, ((stored.evidence(subject), tags[subject]) for subject in stored.names))


def export_survey(source: Ledger, name: str, file: Path) -> Survey:
    """Write one survey to a new file; raises `LedgerError` where there is one, or nothing can be written."""
    if file.exists() or file.is_symlink():
        raise LedgerError(f'"{file}" exists', hint="Name another file.")
    draft = file.with_name(f".{file.name}.{os.getpid()}.sqlite")
    try:
        into = Ledger(draft)
        survey = copy_survey(source, name, into)
        with into.database.alone() as connection:  # so that the file is all of it
            connection.exec_driver_sql("pragma journal_mode = delete")
        into.database.close()
        os.link(draft, file)
    except OSError as error:
        raise LedgerError(f'could not write "{file}": {error.strerror or error}') from error
    finally:
        _remove_draft(draft)
    return survey


def take_over(folder: Path, place: Place) -> None:
    """Import a folder of the old form; the new ledger is there with all of its surveys, or not at all."""
    if not os.access(folder, os.W_OK):
        raise LedgerError(f'ledger "{folder}" is of an earlier version, and is read-only', hint="Copy it, and name the copy.")
    draft = folder / f".{FILE}.{os.getpid()}.sqlite"
    try:
        into = Ledger(draft)
        with into.database.writing():
            pass
        for name, bundles in old_surveys(folder):
            _added(into, name, ((bundle, ()) for bundle in bundles))
        with into.database.alone() as connection:
            connection.exec_driver_sql("pragma journal_mode = delete")
        into.database.close()
        with suppress(FileExistsError):  # another command was faster
            os.link(draft, place.file or folder / FILE)
    except OSError as error:
        raise LedgerError(f'could not import ledger "{folder}": {error.strerror or error}') from error
    finally:
        _remove_draft(draft)


def _remove_draft(draft: Path) -> None:
    """Remove a file of SQLite, and what SQLite leaves beside one that was not closed."""
    for end in ("", "-wal", "-shm", "-journal"):
        draft.with_name(f"{draft.name}{end}").unlink(missing_ok=True)


def _added(into: Ledger, name: str, tagged: Iterable[tuple[Bundle, Sequence[str]]]) -> Survey:
    draft = into.draft()
    for bundle, tags in tagged:
        draft.add(bundle, tags)
    return draft.finish_as(name)
