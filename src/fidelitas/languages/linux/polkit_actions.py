"""What polkit allows where no rule says anything: the actions' own defaults, and the older files of keys (pklocalauthority(8)).

Knows the XML of polkit(8), DECLARING ACTIONS, and the key files; not which actions amount to what.
"""

from collections.abc import Iterator
from xml.parsers import expat

from fidelitas.facts import Gap, Place, PolkitAction, PolkitRule
from fidelitas.languages.lines import lines_of

__all__ = ["read_local_authority", "read_polkit_actions"]

_PROGRAM = "org.freedesktop.policykit.exec.path"
_DEFAULTS = ("allow_any", "allow_inactive", "allow_active")


class _Actions:
    """Takes the actions out of one file, as far as it is well formed; entities, by which a small text becomes endless, end it."""

    def __init__(self, origin: Place) -> None:
        self._origin = origin
        self._parser = expat.ParserCreate()
        self._parser.StartElementHandler = self._start
        self._parser.EndElementHandler = self._end
        self._parser.CharacterDataHandler = self._take
        self._parser.EntityDeclHandler = self._refuse
        self._action: dict[str, str] = {}
        self._line = 0
        self._text: list[str] = []
        self._key = ""
        self.actions: list[PolkitAction] = []

    def read(self, text: str) -> None:
        self._parser.Parse(text.encode("utf-8", "replace"), True)

    def _start(self, name: str, attributes: dict[str, str]) -> None:
        self._text = []
        self._key = attributes.get("key", "") if name == "annotate" else ""
        if name == "action":
            self._action, self._line = {"id": attributes.get("id", "")}, self._parser.CurrentLineNumber

    def _take(self, text: str) -> None:
        self._text.append(text)

    def _end(self, name: str) -> None:
        value = "".join(self._text).strip()
        if name in _DEFAULTS:
            self._action[name] = value
        elif name == "annotate" and self._key == _PROGRAM:
            self._action["program"] = value
        elif name == "action":
            anyone, inactive, active = (self._action.get(key, "no") for key in _DEFAULTS)
            self.actions.append(
                PolkitAction(
                    name=self._action.get("id", ""),
                    anyone=anyone,
                    inactive=inactive,
                    active=active,
                    program=self._action.get("program", ""),
                    place=self._origin.at(self._line),
                )
            )

    def _refuse(self, *_: object) -> None:
        raise _EntityError


class _EntityError(Exception):
    pass


def read_polkit_actions(text: str, origin: Place) -> tuple[list[PolkitAction], list[Gap]]:
    """Return the actions that a file declares, and a gap where it breaks off."""
    reader = _Actions(origin)
    try:
        reader.read(text)
    except expat.ExpatError as error:
        return reader.actions, [_gap(str(error).partition(":")[0], origin.at(error.lineno))]
    except (LookupError, ValueError) as error:  # an encoding that it names and that there is not
        return reader.actions, [_gap(str(error), origin)]
    except _EntityError:
        return reader.actions, [_gap("it defines entities, which are not followed", origin)]
    return reader.actions, []


def _gap(why: str, place: Place) -> Gap:
    return Gap(what="polkit actions", why=why, weakens="what may be done without authenticating", place=place)


def read_local_authority(text: str, origin: Place) -> Iterator[PolkitRule]:
    """Yield what a file of keys says: administrators (``AdminIdentities``), or who is answered "yes" to which actions."""
    section: dict[str, str] = {}
    place = origin
    for line in lines_of(text, origin):
        shown = line.text.strip()
        if shown.startswith("["):
            yield from _authority(section, place)
            section, place = {}, line.place()
        elif "=" in shown and not shown.startswith("#"):
            key, _, value = shown.partition("=")
            section[key.strip()] = value.strip()
    yield from _authority(section, place)


def _authority(section: dict[str, str], place: Place) -> Iterator[PolkitRule]:
    administrators = tuple(_identities(section.get("AdminIdentities", "")))
    if administrators:
        yield PolkitRule(administrators=administrators, actions=(), groups=(), users=(), answer="administrators", place=place)
    if "yes" in (section.get("ResultAny"), section.get("ResultInactive"), section.get("ResultActive")):
        who = list(_identities(section.get("Identity", "")))
        actions = tuple(one.rstrip("*") for one in section.get("Action", "").split(";") if one.rstrip("*"))
        yield PolkitRule(
            administrators=(),
            actions=actions,
            groups=tuple(name for kind, name in who if kind == "group"),
            users=tuple(name for kind, name in who if kind == "user"),
            answer="yes",
            place=place,
        )


def _identities(text: str) -> Iterator[tuple[str, str]]:
    for one in text.split(";"):
        kind, colon, name = one.strip().partition(":")
        if colon and kind in ("unix-user", "unix-group"):
            yield kind.removeprefix("unix-"), "root" if kind == "unix-user" and name == "0" else name
