"""Signatures by SSH keys, made and checked by the OpenSSH tool: ssh-keygen(1), "-Y"."""

import subprocess
import tempfile
from pathlib import Path

from fidelitas.errors import ReadError, RequestError

__all__ = ["check_signature", "sign"]

# What a signature is for: one that was made for something else does not count.
NAMESPACE = "fidelitas-review"
_DEADLINE = 300  # a key may ask for its passphrase, or to be touched


def sign(content: bytes, key: Path) -> bytes:
    """Return a signature of some content by a private key, or by the agent where the file is a public key; raises `RequestError`."""
    done = _run(["-Y", "sign", "-f", str(key), "-n", NAMESPACE], content)
    if done.returncode or not done.stdout.startswith(b"-----BEGIN SSH SIGNATURE-----"):
        raise RequestError(f'could not sign with key "{key}": {_said(done)}', hint="Name a private key, or a public one of the agent.")
    return done.stdout


def _signers_of(signature: bytes, allowed: Path) -> list[str]:
    """Return the names that a file of allowed signers (ssh-keygen(1), ALLOWED SIGNERS) has for the key of a signature."""
    with tempfile.NamedTemporaryFile(suffix=".sig") as file:
        file.write(signature)
        file.flush()
        done = _run(["-Y", "find-principals", "-s", file.name, "-f", str(_readable(allowed))], b"")
    return [] if done.returncode else done.stdout.decode("utf-8", "replace").split()


def check_signature(content: bytes, signature: bytes | None, allowed: Path, name: str | None) -> tuple[str | None, str]:
    """Return who signed some content, by a file of allowed signers, and why that does not count; `name` is who must have."""
    if signature is None:
        return None, "it has no signature"
    names = [name] if name is not None else _signers_of(signature, allowed)
    if not names:
        return None, f'the key of its signature is not in "{allowed}"'
    why = _refused(content, signature, allowed, names[0])
    return (None, f"its signature is not valid: {why}") if why else (names[0], "")


def _refused(content: bytes, signature: bytes, allowed: Path, name: str) -> str:
    """Return why a signature of some content is not that of a name that a file of allowed signers has; nothing where it is."""
    with tempfile.NamedTemporaryFile(suffix=".sig") as file:
        file.write(signature)
        file.flush()
        done = _run(["-Y", "verify", "-f", str(_readable(allowed)), "-I", name, "-n", NAMESPACE, "-s", file.name], content)
    return _said(done) if done.returncode else ""


def _readable(path: Path) -> Path:
    try:
        path.read_bytes()
    except OSError as error:
        raise ReadError(f'could not read the allowed signers "{path}": {error.strerror or error}') from error
    return path


def _run(arguments: list[str], content: bytes) -> subprocess.CompletedProcess[bytes]:
    try:
        return subprocess.run(["ssh-keygen", *arguments], input=content, capture_output=True, check=False, timeout=_DEADLINE)
    except FileNotFoundError as error:
        raise RequestError("signatures need ssh-keygen, which is not there", hint="Install the OpenSSH client.") from error
    except subprocess.TimeoutExpired as error:
        raise RequestError("ssh-keygen did not end", hint="Use a key whose passphrase the agent has.") from error


def _said(done: subprocess.CompletedProcess[bytes]) -> str:
    text = " ".join((done.stderr or done.stdout).decode("utf-8", "replace").split())
    return text[:300] or f"ssh-keygen ended with status {done.returncode}"
