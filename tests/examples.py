"""Examples in the documentation, run as they stand.

In a block of ``console`` each line that begins with ``$`` is put to a shell, all blocks of a file to one; what stands below is what
is printed, where a line ``…`` stands for any lines.  Of an example without output it is asked only that it is not refused.  A block that cannot
run on any machine says so behind its name: ``console not run: reason``.
"""

import os
import re
import subprocess
import sys
from pathlib import Path

from msgspec import Struct

_BLOCK = re.compile(r"^```console(?P<mark>[^\n]*)\n(?P<body>.*?)^```$", re.DOTALL | re.MULTILINE)
_MARKER = "-- end of an example --"
_ANY = "…"


class Step(Struct, frozen=True, dict=True):
    """A command of an example, with the lines that are said to follow."""

    line: int
    command: str
    expected: tuple[str, ...]


class Ran(Struct, frozen=True, dict=True):
    """What a command printed, and its exit status."""

    out: tuple[str, ...]
    err: str
    status: int


def steps_of(file: Path) -> list[Step]:
    """Return the commands of all blocks of a file that can run."""
    text = file.read_text(encoding="utf-8")
    found: list[Step] = []
    for block in _BLOCK.finditer(text):
        if block["mark"].strip():
            assert block["mark"].strip().startswith("not run: "), f"{file.name}: a block says {block['mark']!r}"
            continue
        number = text.count("\n", 0, block.start()) + 1
        for at, line in enumerate(block["body"].splitlines(), number + 1):
            if line.startswith("$ "):
                found.append(Step(at, line[2:], ()))
            else:
                assert found, f"{file.name}:{at}: output before any command"
                found[-1] = Step(found[-1].line, found[-1].command, (*found[-1].expected, line))
    return found


def run(steps: list[Step], folder: Path) -> list[Ran]:
    """Put the commands to one shell, in order, as a reader would; return what each printed."""
    script = "\n".join(f"{step.command}\nprintf '\\n{_MARKER} %s\\n' $? | tee /dev/stderr" for step in steps)
    environment = {
        "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}", "HOME": str(folder), "TZ": "UTC", "LC_ALL": "C.UTF-8",
        "FIDELITAS_LEDGER": str(folder / "ledger"), "GIT_CONFIG_NOSYSTEM": "1",
    }  # fmt: skip
    ran = subprocess.run(["bash"], input=script, cwd=folder, env=environment, capture_output=True, text=True, check=False)
    out, err = _parts(ran.stdout), _parts(ran.stderr)
    assert len(out) == len(err) == len(steps), ran.stderr
    return [Ran(tuple(said.rstrip("\n").splitlines()), failed, status) for (said, status), (failed, _) in zip(out, err, strict=True)]


def _parts(text: str) -> list[tuple[str, int]]:
    pieces = re.split(rf"\n{_MARKER} (\d+)\n", text)
    return [(said, int(status)) for said, status in zip(pieces[::2], pieces[1::2], strict=False)]


def agrees(expected: tuple[str, ...], printed: tuple[str, ...]) -> bool:
    """Return whether lines are as stated, ends of lines apart."""
    pattern = "".join(r"(?:.*\n)*" if line.strip() == _ANY else re.escape(line.rstrip()) + r"\n" for line in expected)
    return re.fullmatch(pattern, "".join(f"{line.rstrip()}\n" for line in printed)) is not None
