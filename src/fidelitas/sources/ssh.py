"""Hosts read over SSH: the OpenSSH client as a child, the probe on its standard input, one tar stream back; nothing stays on the host.

The user's configuration, agent, jump hosts and certificates are those of ssh itself.  Host keys are always verified.  A host may be
hostile: what it sends is bounded in size and time, and read by the same reader as any other archive.
"""

import base64
import io
import os
import secrets
import selectors
import signal
import subprocess
import tempfile
import time
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from threading import Event, Lock
from typing import IO

from msgspec import Struct, field

from fidelitas.errors import EvidenceError, ReadError
from fidelitas.estate import Elevation, HostEntry, Shell
from fidelitas.evidence import probe_script, read_bundle, windows_probe_script
from fidelitas.sources.collected import DEADLINE, Collected
from fidelitas.sources.ssh_failures import OTHER, Failure, Unreached, failure_of
from fidelitas.text import decode

__all__ = ["SshReader"]

_LARGEST = 256 << 20  # bytes that one host may send
_NOISE = 1 << 20  # bytes that start-up files of a shell may print before the archive
_SAID = 64 << 10  # bytes of what is written to standard error
_CONNECTING = 20  # seconds
# How long a host may take beyond the deadline of the probe, to connect and to pack: a tenth of it, but in seconds no less and no more than
_LEAST_GRACE, _MOST_GRACE = 5.0, 60.0
_PAUSES = (1.0, 4.0)  # seconds before a second and a third attempt
_BLOCK = 1 << 16
_OPTIONS = (
    "BatchMode=yes", "StrictHostKeyChecking=yes", "UpdateHostKeys=no", f"ConnectTimeout={_CONNECTING}", "ServerAliveInterval=15",
    "ServerAliveCountMax=4", "ForwardAgent=no", "ForwardX11=no", "ClearAllForwardings=yes", "PermitLocalCommand=no", "RemoteCommand=none",
    "ControlMaster=no", "ControlPath=none", "Compression=yes", "LogLevel=INFO",
)  # fmt: skip

_TIME_OUT = Failure("it took too long", 'Give it more time with --deadline, or "deadline" in estate.toml.')
_TOO_LARGE = Failure(f"it sent more than {_LARGEST >> 20} MiB", "Collect it without logs (--no-logs), or by hand.")
_STOPPED = Failure("it was stopped", "Survey with --resume.")


class SshReader(Struct):
    """Reads hosts, of several threads; `arguments` are those of the probe, `config` is a file in place of the user's ssh_config."""

    arguments: Sequence[str] = ()
    deadline: float = DEADLINE
    config: Path | None = None
    _script: Path | None = None
    _running: set[int] = field(default_factory=set)
    _lock: Lock = field(default_factory=Lock)
    _stopped: Event = field(default_factory=Event)

    def stop(self) -> None:
        """End every connection; what is read now, or later, fails."""
        with self._lock:
            self._stopped.set()
            for group in self._running:
                _kill(group)

    def read(self, entry: HostEntry) -> Collected:
        """Return the evidence of a host under the name that the estate gives it; raises `Unreached`, or `EvidenceError`."""
        for pause in (*_PAUSES, None):
            try:
                archive = self._archive(entry)
                break
            except Unreached as error:
                if pause is None or not error.failure.again or self._stopped.wait(pause * (0.75 + secrets.randbelow(500) / 1000)):
                    raise
        try:
            bundle = read_bundle(io.BytesIO(archive))
        except EvidenceError as error:
            raise EvidenceError(f"{entry.name}: what it sent is not evidence: {error}", hint=error.hint) from error
        return Collected(bundle=bundle.named(entry.name), archive=archive)

    def _archive(self, entry: HostEntry) -> bytes:
        mark = f"fidelitas-{secrets.token_hex(12)}"
        deadline = entry.deadline or self.deadline
        with _input(entry) as script:
            run = self._start(entry, mark, script)
        try:
            sent, said, why = _received(
                run, mark.encode() + b"\n", time.monotonic() + deadline + min(max(deadline / 10, _LEAST_GRACE), _MOST_GRACE)
            )
        finally:
            if run.poll() is None:  # the number of one that has ended may be another's by now
                _kill(run.pid)
                run.wait()
            with self._lock:
                self._running.discard(run.pid)
        if why is None and sent and run.returncode == 0:
            return sent
        if self._stopped.is_set():
            why = _STOPPED
        text = decode(said).replace("Pseudo-terminal will not be allocated because stdin is not a terminal.", "").strip()
        failure = why or failure_of(text)
        detail = (
            "" if why is not None else text.rpartition("\n")[2] or f"ssh ended with {run.returncode}, and {len(sent)} bytes of evidence"
        )
        raise Unreached(entry.name, failure, detail, address=entry.address, account=entry.user or "ACCOUNT")

    def _start(self, entry: HostEntry, mark: str, script: IO[bytes]) -> subprocess.Popen[bytes]:
        with self._lock:
            if self._stopped.is_set():
                raise Unreached(entry.name, _STOPPED, "", address=entry.address, account="")
            try:
                run = subprocess.Popen(
                    self.command(entry, mark), stdin=script, stdout=subprocess.PIPE, stderr=subprocess.PIPE, start_new_session=True
                )
            except OSError as error:
                raise ReadError(f"could not start ssh: {error.strerror or error}", hint="Install the OpenSSH client.") from error
            self._running.add(run.pid)
            return run

    def command(self, entry: HostEntry, mark: str) -> list[str]:
        """Return the words that start ssh for a host; what comes before `mark` on its output is noise."""
        words = ["ssh", "-T"]
        words += ["-F", str(self.config)] if self.config is not None else []
        for option in _OPTIONS:
            words += ["-o", option]
        words += ["-p", str(entry.port)] if entry.port is not None else []
        words += ["-l", entry.user] if entry.user is not None else []
        words += ["-i", entry.identity, "-o", "IdentitiesOnly=yes"] if entry.identity is not None else []
        return [*words, "--", entry.address, self._far_command(entry, mark)]

    def _far_command(self, entry: HostEntry, mark: str) -> str:
        """Return what is run on the host: the same words in sh, csh and fish; or in cmd.exe and PowerShell."""
        seconds = max(int(entry.deadline or self.deadline), 1)
        if entry.shell is Shell.POWERSHELL:
            return _in_powershell(mark, seconds, logs="--no-logs" not in self.arguments)
        return f"echo {mark}; {self._in_sh(entry, seconds)}"

    def _in_sh(self, entry: HostEntry, seconds: int) -> str:
        elevation = "" if entry.elevation is Elevation.NONE else f"{entry.elevation.value} "
        if entry.collector is not None:  # the rule of sudo allows it without arguments
            return f"env LC_ALL=C {elevation}{entry.collector} < /dev/null"
        # All of the script is read before any of it is run: nothing that it starts can read the rest of it.
        return f"""env LC_ALL=C {elevation}sh -c 'eval "$(cat)"' probe --deadline {seconds} {" ".join(self.arguments)}""".rstrip()


def _input(entry: HostEntry) -> IO[bytes]:
    """Return what is sent to a host, as a file: a pipe would have to be written while the answer is read."""
    stream = tempfile.TemporaryFile()  # noqa: SIM115 the caller closes it
    if entry.collector is None:
        stream.write((windows_probe_script() if entry.shell is Shell.POWERSHELL else probe_script()).encode())
        stream.seek(0)
    return stream


def _in_powershell(mark: str, seconds: int, *, logs: bool) -> str:
    """Return the command that runs the probe for Windows from standard input, and writes its archive to standard output.

    It is encoded, since the shell there can be cmd.exe or PowerShell, which quote differently; the policy for script files is not about a
    script that is in no file.
    """
    script = f"""$ErrorActionPreference = 'Stop'
$Text = (New-Object System.IO.StreamReader([Console]::OpenStandardInput(), [System.Text.Encoding]::UTF8)).ReadToEnd()
$Mark = [System.Text.Encoding]::ASCII.GetBytes("{mark}`n")
$Out = [Console]::OpenStandardOutput()
$Out.Write($Mark, 0, $Mark.Length)
$Out.Flush()
& ([scriptblock]::Create($Text)) -OutFile '-' -Deadline {seconds}{"" if logs else " -NoLogs"} | Out-Null"""
    encoded = base64.b64encode(script.encode("utf-16-le")).decode()
    return f"powershell -NoProfile -NonInteractive -EncodedCommand {encoded}"


def _received(run: subprocess.Popen[bytes], mark: bytes, until: float) -> tuple[bytes, bytes, Failure | None]:
    """Return what follows the mark on standard output, the beginning of standard error, and why reading ended early, if it did."""
    sent, said = bytearray(), bytearray()
    begun = False
    assert run.stdout is not None  # noqa: S101 both are pipes
    assert run.stderr is not None  # noqa: S101
    with selectors.DefaultSelector() as streams, run.stdout, run.stderr:
        streams.register(run.stdout, selectors.EVENT_READ)
        streams.register(run.stderr, selectors.EVENT_READ)
        while streams.get_map():
            left = until - time.monotonic()
            if left <= 0:
                return b"", bytes(said), _TIME_OUT
            for key, _ in streams.select(left):
                block = os.read(key.fd, _BLOCK)
                if not block:
                    streams.unregister(key.fileobj)
                elif key.fileobj is run.stderr:
                    said += block[: max(_SAID - len(said), 0)]
                else:
                    sent += block
                    if not begun and (at := sent.find(mark)) >= 0:
                        begun = True
                        del sent[: at + len(mark)]
                    if len(sent) > (_LARGEST if begun else _NOISE):
                        return b"", bytes(said), _TOO_LARGE if begun else OTHER
    with suppress(subprocess.TimeoutExpired):
        run.wait(max(until - time.monotonic(), 0.1))
    return bytes(sent) if begun else b"", bytes(said), None


def _kill(group: int) -> None:
    with suppress(ProcessLookupError, PermissionError):
        os.killpg(group, signal.SIGKILL)
