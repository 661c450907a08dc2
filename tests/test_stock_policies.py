"""Policies as families of systems ship them raise nothing at medium or above, and decoys that only look risky stay quiet."""

from pathlib import Path

import pytest

from fidelitas.findings import Severity
from fidelitas.platforms import findings_on
from fidelitas.rights import HostRights
from support import held, rights

SHIPPED = sorted((Path(__file__).parent / "samples/stock-policies").iterdir())
# The groups of a fresh host of those families; none has the group admin, and Ubuntu's have no wheel.
GROUPS = {"ubuntu": "root:x:0:\nadm:x:4:\nsudo:x:27:\n"}
OTHERS = "root:x:0:\nadm:x:4:\nwheel:x:10:\n"


def raised(host: HostRights) -> list[str]:
    return [finding.message for finding in findings_on(host) if finding.severity <= Severity.MEDIUM]


@pytest.mark.parametrize("shipped", SHIPPED, ids=lambda path: path.name)
def test_a_shipped_policy_raises_nothing(shipped: Path) -> None:
    files = {"/etc/group": GROUPS.get(shipped.name, OTHERS), "/etc/os-release": f"ID={shipped.name}\nID_LIKE={shipped.name}\n"}
    host = rights(shipped.read_text(), files)
    assert raised(host) == []
    # SUSE's gives everyone everything for the password of root.
    assert held(host) <= {"root", "%wheel", "%sudo"} or shipped.name == "suse"


@pytest.mark.parametrize(
    ("policy", "raises"),
    [
        ("Defaults targetpw\nALL ALL=(ALL) ALL\n", False),
        ("Defaults targetpw\nALL ALL=(ALL) NOPASSWD: ALL\n", True),
        ("Defaults rootpw\nines ALL=(ALL) ALL\n", False),
        ("Defaults runaspw\nines ALL=(ALL) ALL\n", False),
        ("Defaults runaspw, runas_default=ines\nines ALL=(ALL) ALL\n", True),
        ("Defaults:tomas rootpw\nines, tomas ALL=(ALL) ALL\n", True),
        ("%admin ALL=(ALL) ALL\n", False),
        ("%admin ALL=(ALL) /usr/bin/vi\n", True),
        ("%admins ALL=(ALL) ALL\n", True),
        ("ALL ALL=(ALL) ALL, !ALL\n", False),
    ],
)
def test_what_only_looks_risky_is_quiet(policy: str, raises: bool) -> None:
    assert bool(raised(rights(policy))) is raises


@pytest.mark.parametrize(
    ("rules", "raises"), [("permit ines\ndeny ines\n", False), ("permit :wheel\n", False), ("permit nopass ines\n", True)]
)
def test_doas_takes_the_last_rule(rules: str, raises: bool) -> None:
    assert bool(raised(rights("", {"/etc/doas.conf": rules}))) is raises
