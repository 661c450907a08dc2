"""The repository that tern's policy is kept in: four commits, of which the last is what should be on it; and the file of the estate."""

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

from fidelitas.demo.people import Person

__all__ = ["commits_of", "estate_text"]

_LAST = ("/etc/sudoers.d/90-lockdown.conf", "/etc/sudoers.d/README.txt")
_Committed = tuple[str, datetime, str, Mapping[str, bytes]]


def commits_of(files: Mapping[str, bytes], team: Mapping[str, Sequence[Person]]) -> list[_Committed]:
    """Return the commits, the oldest first, from the files that are on tern: author, time, comment, and all files."""
    keeper, deputy = (person.name for person in team["administrators"][:2])
    main, ingest = files["/etc/sudoers"], files["/etc/sudoers.d/20-ingest"]
    before = b"".join(line for line in ingest.splitlines(keepends=True) if b"journalctl" not in line)
    first = {"sudoers": main}
    second = {**first, "sudoers.d/20-ingest": before}
    third = {**second, "sudoers.d/20-ingest": ingest}
    fourth = {**third, **{path.removeprefix("/etc/"): files[path] for path in _LAST}}
    return [
        (keeper, datetime(2026, 3, 2, 9, 0, tzinfo=UTC), "The policy as it was found", first),
        (deputy, datetime(2026, 5, 11, 14, 30, tzinfo=UTC), "Those on duty restart the ingest", second),
        (deputy, datetime(2026, 7, 6, 10, 15, tzinfo=UTC), "Scientists read the journal of the model", third),
        (keeper, datetime(2026, 9, 3, 8, 40, tzinfo=UTC), "No shells on the ingest server", fourth),
    ]


def estate_text(tags: Mapping[str, Sequence[str]], hosts: Sequence[str]) -> str:
    """Return the file of the estate: its hosts, and where tern's policy is kept."""
    entries = "".join(_entry(name, tags[name]) for name in hosts)
    return f"""\
# The Saltmarsh Tide Observatory.
format = 1

[policy]
repository = "policy"                     # a git repository

[policy.files]
"/etc/sudoers" = "sudoers"
"/etc/sudoers.d/" = "sudoers.d/"

[policy.intended]
"role=database" = "main"
{entries}"""


def _entry(name: str, tags: Sequence[str]) -> str:
    listed = ", ".join(f'"{tag}"' for tag in tags)
    return f'\n[[host]]\nname = "{name}"\naddress = "{name}.saltmarsh.example"\ntags = [{listed}]\n'
