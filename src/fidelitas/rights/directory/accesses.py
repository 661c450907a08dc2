"""What can be done to an object of a directory by which an account obtains what the object is or holds.

Each row: what is shown, on which objects, by which bits of a permission and on which parts of the object.  The GUIDs are those of [MS-ADA1]
to [MS-ADA3] (attributes), [MS-ADTS] 3.1.1.2.3.3 (sets of attributes) and 5.1.3.2.1 (extended rights).
"""

from enum import Flag, auto
from typing import NamedTuple

from fidelitas.rights.directory.permissions import Access
from fidelitas.rights.graph.links import Strength

__all__ = ["ACTED_FOR", "COPY_ALL", "COPY_SOME", "ENROL", "LINK_POLICY", "TAKE_OVER", "WRITE_POLICY", "Row", "Sort", "accesses_on"]

_SELF, _WRITE, _EXTENDED, _WRITE_DAC, _WRITE_OWNER = 0x8, 0x20, 0x100, 0x40000, 0x80000


class Sort(Flag):
    """What an object is, as far as it matters for what can be done to it."""

    GROUP = auto()
    PERSON = auto()
    MACHINE = auto()
    SERVICE = auto()  # a managed service account: nobody sets its password


class Row(NamedTuple):
    """A access: `sure` follows from the permission alone, others hang on the `condition`."""

    because: str
    on: Sort
    access: Access
    condition: str = ""

    @property
    def strength(self) -> Strength:
        """How sure the way is."""
        return Strength.CONDITIONAL if self.condition else Strength.CERTAIN


_MEMBER, _MEMBERSHIP = "bf9679c0-0de6-11d0-a285-00aa003049e2", "bc0ac240-79a9-11d0-9020-00c04fc2d4cf"
_RESET = "00299570-246d-11d0-a768-00aa006e0529"
_KEYS = "5b47d60f-6090-40b2-9f37-2a4de88f3063"
_NAMES = "f3a64788-5306-11d1-a9c5-0000f80367c1"
_MAPPING, _PUBLIC = "00fbf30c-91fe-11d1-aebc-0000f80367c1", "e48d0154-bcf8-11d1-8702-00c04fb96050"
_CONTROL, _RESTRICTIONS = "bf967a68-0de6-11d0-a285-00aa003049e2", "4c164200-20c0-11d0-a768-00aa006e0529"
_ACTED_FOR = "3f78c3e5-f79a-46bd-a0b8-9d18116ddc79"
_SCRIPT, _LOGON = "bf9679a8-0de6-11d0-a285-00aa003049e2", "5f202010-79a5-11d0-9020-00c04fc2d4cf"
_READERS = "888eedd6-ce04-df40-b462-b8a50e41ba38"
_POLICY_LINK = "f30e3bbe-9ff0-11d1-b603-0000f80367c1"
_GET, _GET_ALL = "1131f6aa-9c07-11d1-f79f-00c04fc2dcd2", "1131f6ad-9c07-11d1-f79f-00c04fc2dcd2"
_ENROL, _AUTO_ENROL = "0e10c968-78fb-11d2-90d4-00c04f79dc55", "a05b8cc2-17bc-4802-a710-e7c15ab866a2"


def _on(bits: int, *parts: str) -> Access:
    return Access(bits, frozenset(parts))


TAKE_OVER = (
    Row("may change the permissions of {}", ~Sort(0), _on(_WRITE_DAC)),
    Row("may make itself the owner of {}", ~Sort(0), _on(_WRITE_OWNER)),
)
ACTED_FOR = Row(
    "may change which machines act as anyone on {}",
    Sort.MACHINE,
    _on(_WRITE, _ACTED_FOR, _RESTRICTIONS),
    "if it also has an account with a service name, such as a machine that it joined to the domain",
)
# Rows of one object in the order in which the plainest way stands first: of several that one holder has the first is shown.
_ROWS = (
    Row("may change the members of {}", Sort.GROUP, _on(_WRITE, _MEMBER, _MEMBERSHIP)),
    Row("may add itself to {}", Sort.GROUP, _on(_SELF, _MEMBER)),
    Row("may reset the password of {}", Sort.PERSON | Sort.MACHINE, _on(_EXTENDED, _RESET)),
    Row("may change who reads the password of {}", Sort.SERVICE, _on(_WRITE, _READERS)),
    ACTED_FOR,
    Row(
        "may write keys by which one logs on as {}",
        Sort.PERSON | Sort.MACHINE | Sort.SERVICE,
        _on(_WRITE, _KEYS),
        "if the domain controllers take such keys (Windows Server 2016 and later)",
    ),
    Row(
        "may say which certificates log on as {}",
        Sort.PERSON | Sort.MACHINE,
        _on(_WRITE, _MAPPING, _PUBLIC),
        "if the domain controllers take certificates, and it can get one that fits",
    ),
    Row("may set the logon script of {}", Sort.PERSON, _on(_WRITE, _SCRIPT, _LOGON), "if that account logs on at a machine"),
    Row(
        "may give a service name to {}, or take one",
        Sort.PERSON,
        _on(_WRITE, _NAMES, _PUBLIC),
        "if the password of that account can be guessed from what is encrypted with it",
    ),
    Row(
        "may switch off pre-authentication for {}",
        Sort.PERSON,
        _on(_WRITE, _CONTROL, _RESTRICTIONS),
        "if the password of that account can be guessed from what is encrypted with it",
    ),
)
# Both are needed to copy the passwords of a domain.
COPY_SOME, COPY_ALL = _on(_EXTENDED, _GET), _on(_EXTENDED, _GET_ALL)
LINK_POLICY = _on(_WRITE, _POLICY_LINK)
WRITE_POLICY = _on(_WRITE)
ENROL = _on(_EXTENDED, _ENROL, _AUTO_ENROL)


def accesses_on(sort: Sort) -> tuple[Row, ...]:
    """Return what can be done to an object of a sort, the plainest first."""
    return (*(row for row in _ROWS if row.on & sort), *TAKE_OVER)
