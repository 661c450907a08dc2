"""The list of a subject's accounts, by the built program: what it says of rights is what the list of holders says."""

import json
from pathlib import Path
from typing import Any

import pytest

from fidelitas.ledger import Ledger
from support import NOW, fidelitas
from test_conclusions import of_directory


def document(folder: Path, *words: str) -> dict[str, Any]:
    ran = fidelitas(*words, "--format", "json", "--ledger", folder, cwd=folder)
    assert ran.status in (0, 3), ran.err
    return json.loads(ran.out)  # type: ignore[no-any-return]


@pytest.mark.parametrize("subject", ["dunlin", "plover"])
def test_accounts_of_a_directory_are_listed_with_what_they_hold(subject: str, tmp_path: Path) -> None:
    Ledger(tmp_path).add(of_directory(), NOW)
    listed = document(tmp_path, "accounts", subject)["accounts"]
    held: dict[str, str] = {}
    for holding in document(tmp_path, "holders", "--on", subject)["holdings"]:
        held.setdefault(holding["holder"]["name"], holding["right"])
    names = [one["account"] for one in listed]
    assert {one["account"]: one["right"] for one in listed} == {name: held.get(name) for name in names}
    elevated = document(tmp_path, "accounts", subject, "--elevated")["accounts"]
    assert [one["account"] for one in elevated] == [name for name in names if name in held]
    assert {"bruno", "chiara"} & {one["account"] for one in elevated}  # accounts of the directory
