"""Evidence: the raw material of one subject at one time, as a bundle that can be handed on, checked and read again years later.

The format is described in ``docs/evidence-format.md``.  This room knows how a bundle is made, sealed and safely read; it does not know
what the files in it mean.
"""

from pathlib import Path

from fidelitas.evidence.archive import is_archive
from fidelitas.evidence.bundle import UNREAD, Bundle, make_bundle, make_rows_bundle, read_bundle, unread_bundle
from fidelitas.evidence.identity import Identity, Sameness, keep_apart, sameness
from fidelitas.evidence.logs import BROKEN, LogCopy, age_of, bounded, cuts_of, family_of, has_records, in_blocks, tail_of, whole_lines
from fidelitas.evidence.manifest import (
    CopiedLog,
    Item,
    Listing,
    Manifest,
    MissingItem,
    is_valid_subject_name,
    parse_manifest,
)
from fidelitas.evidence.stated import stated_parts
from fidelitas.masking import awk_code, awk_program, command_line_expressions
from fidelitas.recorded import JOURNAL_FIELDS, ONLY_PAM, PROGRAMS, RECORDS, shell_words, tag_expression

__all__ = [
    "BROKEN",
    "UNREAD",
    "Bundle",
    "CopiedLog",
    "Identity",
    "Item",
    "Listing",
    "LogCopy",
    "Manifest",
    "MissingItem",
    "Sameness",
    "age_of",
    "bounded",
    "cuts_of",
    "family_of",
    "has_records",
    "in_blocks",
    "is_archive",
    "is_valid_subject_name",
    "keep_apart",
    "make_bundle",
    "make_rows_bundle",
    "parse_manifest",
    "probe_script",
    "read_bundle",
    "sameness",
    "stated_parts",
    "tail_of",
    "unread_bundle",
    "whole_lines",
    "windows_probe_script",
]

_WINDOWS_PROBE = Path(__file__).with_name("probe.ps1")
# The collector for Unix hosts: a readable shell script that travels with the package, one part a purpose.
_PARTS = Path(__file__).with_name("probe")


def probe_script() -> str:
    """Return the text of the collector script: its parts, in the order of their names, with tables in their places."""
    text = "\n".join(part.read_text(encoding="utf-8") for part in sorted(_PARTS.glob("*.sh")))
    tables = {
        "@SECRETS@\n": awk_program(),
        "@MASK@\n": awk_code(),
        "@LOG_TAGS@": tag_expression(tuple(name for name in PROGRAMS if name not in ONLY_PAM)),
        "@LOG_DOORS@": tag_expression(ONLY_PAM),
        "@LOG_IDENTIFIERS@": shell_words(PROGRAMS),
        "@LOG_RECORDS@": "|".join(RECORDS),
        "@JOURNAL_FIELDS@": ",".join(JOURNAL_FIELDS),
    }
    for place, table in tables.items():
        text = text.replace(place, table)
    return text


def windows_probe_script() -> str:
    """Return the text of the collector script for Windows, with the table of secrets in its place."""
    quoted = ",\n".join("    '" + expression.replace("'", "''") + "'" for expression in command_line_expressions())
    return _WINDOWS_PROBE.read_text(encoding="utf-8").replace("@SECRETS@", quoted)
