"""This machine, or a root folder on it, read by the same script that runs everywhere else."""

import io
import os
import signal
import subprocess
import tempfile
from enum import Enum
from pathlib import Path
from typing import IO

from fidelitas.errors import EvidenceError, ReadError
from fidelitas.evidence import probe_script, read_bundle
from fidelitas.sources.collected import DEADLINE, Collected
from fidelitas.text import clipped, escape_control

__all__ = ["FileScan", "LogScan", "from_this_machine"]

# How long the probe may take, once its deadline has come, to pack what it has read.
_PACKING = 120.0
# What a probe may print: more than it copies at most, logs included.
_LARGEST = 2 * 2**30


class FileScan(Enum):
    """How far to look for setuid files and capabilities."""

    EVERYWHERE = "on every local file system"
    ONE_FILE_SYSTEM = "on the file system of the root folder"
    NOWHERE = "nowhere"

    @property
    def arguments(self) -> list[str]:
        """The arguments of the probe for it."""
        return {"ONE_FILE_SYSTEM": ["--one-file-system"], "NOWHERE": ["--no-file-scan"]}.get(self.name, [])


class LogScan(Enum):
    """Which lines of logs to copy."""

    CONCERNING = "those that concern privilege"
    WHOLE = "all"
    NONE = "none"

    @property
    def arguments(self) -> list[str]:
        """The arguments of the probe for it."""
        return {"WHOLE": ["--whole-logs"], "NONE": ["--no-logs"]}.get(self.name, [])


def from_this_machine(
    root: Path | None = None,
    *,
    shell: str = "/bin/sh",
    deadline: float = DEADLINE,
    scan: FileScan = FileScan.EVERYWHERE,
    logs: LogScan = LogScan.CONCERNING,
) -> Collected:
    """Return the evidence of this machine, or of the files below `root`.

    Raises `ReadError` when nothing at all can be had.  What the probe could not read is a gap of the bundle: also what it had not read
    when `deadline`, in seconds, had passed.
    """
    if root is not None and not root.is_dir():
        raise ReadError(f'could not read root folder "{root}": it is not a folder', hint="Give the folder that holds the host's etc.")
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as messages, tempfile.NamedTemporaryFile() as script:
        script.write(probe_script().encode())
        script.flush()
        place = ["--root", str(root.absolute())] if root is not None else []
        command = [shell, script.name, *place, *scan.arguments, *logs.arguments, "--deadline", str(max(int(deadline), 1))]
        status = _run(command, out, messages, deadline + _PACKING)
        out.seek(0)
        archive = out.read(_LARGEST)
        messages.seek(0)
        said = clipped(escape_control(messages.read(2000).decode("utf-8", "replace").strip()), 200)
    if not archive:
        raise ReadError(f"the probe printed nothing and ended with status {status}: {said or 'no message'}")
    try:
        return Collected(bundle=read_bundle(io.BytesIO(archive)), archive=archive)
    except EvidenceError as error:
        raise EvidenceError(f"what the probe printed could not be used: {error}", hint=error.hint) from error


def _run(command: list[str], out: IO[bytes], messages: IO[bytes], time_limit: float) -> int:
    try:
        # A process group of its own, so that a child that hangs is ended with it.
        process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=out, stderr=messages, start_new_session=True, env=_environment()
        )
    except OSError as error:
        raise ReadError(f'could not start the probe with "{command[0]}": {error.strerror}') from error
    try:
        return process.wait(timeout=time_limit)
    except subprocess.TimeoutExpired:
        return _end(process)
    except BaseException:  # interrupted: leave nothing running
        _end(process)
        raise


def _end(process: subprocess.Popen[bytes]) -> int:
    os.killpg(process.pid, signal.SIGTERM)  # lets the probe remove its temporary folder
    try:
        return process.wait(timeout=20)
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        return process.wait()


def _environment() -> dict[str, str]:
    # Shells read ENV and BASH_ENV as scripts; the probe needs none of what the caller has set but the way to a temporary folder.
    kept = ("PATH", "TMPDIR", "HOME")
    return {name: os.environ[name] for name in kept if name in os.environ}
