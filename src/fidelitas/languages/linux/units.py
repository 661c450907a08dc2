"""Units of systemd: systemd.unit(5), systemd.service(5), systemd.exec(5).

Knows the files, their drop-ins and which of two of one name counts; not what a command does.
"""

import re
from collections.abc import Iterator, Mapping

from msgspec import Struct

from fidelitas.facts import Job, JobKind, Place
from fidelitas.languages.lines import lines_of
from fidelitas.languages.linux.shell import calls_of

__all__ = ["FOLDERS", "read_units"]

# The first that has a unit of a name has it alone; drop-ins of all of them count (systemd.unit(5), UNIT FILE LOAD PATH).
FOLDERS = ("/etc/systemd/system", "/run/systemd/system", "/usr/local/lib/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system")
# Services run something; sockets and timers start services, and sockets run commands of their own.
_KINDS = (".service", ".socket", ".timer", ".path")
_SETTING = re.compile(r"([A-Za-z][A-Za-z0-9]*)\s*=\s*(.*)\Z", re.DOTALL)
# systemd.service(5), COMMAND LINES: "+" and "!!" run with full rights whatever User= says.
_CODE = re.compile(
    r"\b(?:PATH|LD_PRELOAD|LD_LIBRARY_PATH|LD_AUDIT|PYTHONPATH|PYTHONSTARTUP|PERL5LIB|RUBYLIB|BASH_ENV|NODE_PATH)=([^\"'\s]*)"
)
_SPECIFIER = re.compile(r"%[A-Za-z]")
_PREFIX = re.compile(r"[@:|\-+!]*")


class _Setting(Struct, frozen=True):
    section: str
    name: str
    value: str
    place: Place


def read_units(texts: Mapping[str, str], masked: frozenset[str], subject: str) -> list[Job]:
    """Return what the services run; `texts` maps a path to its content, `masked` are paths that lead to /dev/null."""
    jobs: list[Job] = []
    for name in sorted(_names(texts)):
        path = next(at for folder in FOLDERS if (at := f"{folder}/{name}") in texts or at in masked)
        if path in masked:
            continue
        for at in (path, *_drop_ins(name, texts)):  # who writes one decides what runs, and as whom
            place = Place(subject=subject, path=at)
            jobs.append(Job(kind=JobKind.UNIT_FILE, name=name, run_as="root", command="", programs=(), place=place))
        jobs += _jobs(name, _settings(name, path, texts, subject))
    return jobs


def _names(texts: Mapping[str, str]) -> set[str]:
    return {path.rpartition("/")[2] for path in texts if path.endswith(_KINDS) and path.rpartition("/")[0] in FOLDERS}


def _drop_ins(name: str, texts: Mapping[str, str]) -> list[str]:
    """Return the drop-ins of a unit in the order of their names; of two of one name that of the first folder counts."""
    found: dict[str, str] = {}
    for folder in reversed(FOLDERS):
        inside = f"{folder}/{name}.d/"
        found |= {at.removeprefix(inside): at for at in texts if at.startswith(inside) and at.endswith(".conf")}
    return [at for _, at in sorted(found.items())]


def _settings(name: str, path: str, texts: Mapping[str, str], subject: str) -> Iterator[_Setting]:
    """Yield the settings of a unit and then of its drop-ins."""
    for at in (path, *_drop_ins(name, texts)):
        yield from _file(texts[at], Place(subject=subject, path=at))


def _file(text: str, origin: Place) -> Iterator[_Setting]:
    """file = { "[" section "]" | name "=" value }, a line that ends in a backslash goes on in the next"""
    section, parts, first = "", list[str](), None
    for line in lines_of(text, origin):
        shown = line.text.strip()
        if shown.startswith(("#", ";")) or (not shown and not parts):
            continue
        first = first or line.place()
        if shown.endswith("\\"):
            parts.append(shown[:-1] + " ")
            continue
        held = "".join((*parts, shown))
        found = _SETTING.match(held)
        if held.startswith("[") and held.endswith("]"):
            section = held[1:-1]
        elif found is not None:
            yield _Setting(section, found[1], found[2].strip(), first)
        parts, first = [], None


def _jobs(name: str, settings: Iterator[_Setting]) -> Iterator[Job]:
    user, folder, searched = "", None, list[str]()
    commands: dict[str, list[_Setting]] = {}
    loaded: list[tuple[str, _Setting]] = []
    for setting in settings:
        if setting.section not in ("Service", "Socket"):
            continue
        if setting.name == "User":
            user = setting.value
        elif setting.name == "WorkingDirectory":
            folder = setting.value.lstrip("-") if setting.value.lstrip("-").startswith("/") else None
        elif setting.name == "ExecSearchPath":
            searched += setting.value.split(":")
        elif setting.name in ("RootDirectory", "RootImage"):
            loaded.append((setting.value, setting))
        elif setting.name == "Environment":
            loaded += ((path, setting) for found in _CODE.finditer(setting.value) for path in found[1].split(":"))
        elif (setting.name.startswith("Exec") and setting.name != "ExecSearchPath") or setting.name == "EnvironmentFile":
            commands.setdefault(setting.name, [])
            if setting.value:
                commands[setting.name].append(setting)
            else:  # an empty value takes back what was said before
                commands[setting.name].clear()
    for setting in (one for stated in commands.values() for one in stated):
        prefix = _PREFIX.match(setting.value)
        command = setting.value[prefix.end() if prefix else 0 :]
        full = prefix is not None and ("+" in prefix[0] or "!!" in prefix[0])
        run_as = "root" if full or not user else user
        bare = command.split()[0] if command.split() else ""
        words = [command, *(f"{at}/{command}" for at in searched if at.startswith("/") and bare and "/" not in bare)]
        calls = [call for word in words for call in calls_of(_SPECIFIER.sub("x", word), folder=folder)]
        programs = tuple(dict.fromkeys(call.path for call in calls if call.how != "names"))  # of an environment file its own path
        kind = JobKind.ENVIRONMENT if setting.name == "EnvironmentFile" else JobKind.UNIT
        yield Job(kind=kind, name=name, run_as=run_as, command=command, programs=programs, place=setting.place)
        for call in calls:
            if call.how == "names":
                yield Job(kind=kind, name=name, run_as=run_as, command=command, programs=(call.path,), place=setting.place, how="names")
    for path, setting in loaded:
        if path.startswith("/"):
            yield Job(kind=JobKind.UNIT, name=name, run_as=user or "root", command="", programs=(path,), place=setting.place, how="reads")
