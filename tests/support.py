"""What the tests share: small hosts made of text, and questions put to them."""

import atexit
import io
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.evidence import Bundle, Item, Listing, Manifest, make_bundle, probe_script, read_bundle
from fidelitas.facts import SudoPolicy
from fidelitas.findings import Finding, Severity
from fidelitas.languages.linux.host import read_host
from fidelitas.platforms import findings_on
from fidelitas.rights import HostRights, rights_of

# The collector as a file, as an administrator would carry it to a host.
PROBE = Path(tempfile.mkdtemp(prefix="fidelitas-test.")) / "probe.sh"
PROBE.write_text(probe_script(), encoding="utf-8")
atexit.register(shutil.rmtree, PROBE.parent, ignore_errors=True)

NOW = datetime(2026, 11, 20, 6, 0, tzinfo=UTC)

PASSWD = """\
root:x:0:0:root:/root:/bin/bash
daemon:x:1:1::/usr/sbin:/usr/sbin/nologin
ines:x:1001:1001::/home/ines:/bin/bash
tomas:x:1002:1002::/home/tomas:/bin/bash
rada:x:1003:1003::/home/rada:/bin/bash
vesna:x:1004:3001::/home/vesna:/bin/zsh
"""
SHADOW = """\
root:{none}:20000:0:99999:7:::
daemon:{none}:20000:0:99999:7:::
ines:{usable yescrypt}:20000:0:99999:7:::
tomas:{usable yescrypt}:20000:0:99999:7:::
rada:{usable yescrypt}:20000:0:99999:7:::
vesna:{usable yescrypt}:20000:0:99999:7:::
"""
GROUP = """\
root:x:0:
daemon:x:1:
sudo:x:27:ines
ines:x:1001:
tomas:x:1002:
rada:x:1003:
gauges:x:3001:rada
"""
DEBIAN = 'ID=debian\nPRETTY_NAME="Debian GNU/Linux 12 (bookworm)"\nVERSION_ID="12"\n'
FOLDERS = ("/", "/etc", "/etc/sudoers.d")


class Put(Struct, frozen=True, dict=True):
    """A file with a mode and owner of its own."""

    text: str | bytes
    mode: int = 0o440
    uid: int = 0
    gid: int = 0


def bundle(
    sudoers: str | None = "",
    files: Mapping[str, str | bytes | Put | None] | None = None,
    folders: Mapping[str, Put] | None = None,
    name: str = "knot",
) -> Bundle:
    """Return the evidence of a small Debian host with this policy; `files` replaces or adds, or takes away with None."""
    return read_bundle(io.BytesIO(packed(sudoers, files, folders, name)))


def packed(
    sudoers: str | None = "",
    files: Mapping[str, str | bytes | Put | None] | None = None,
    folders: Mapping[str, Put] | None = None,
    name: str = "knot",
) -> bytes:
    """Return that evidence as the collector packs it."""
    contents: dict[str, str | bytes | Put | None] = {
        "/etc/os-release": DEBIAN,
        "/etc/passwd": PASSWD,
        "/etc/shadow": SHADOW,
        "/etc/group": GROUP,
        "/etc/gshadow": "",
        "/etc/sudoers": sudoers,
        **(files or {}),
    }
    puts = {path: text if isinstance(text, Put) else Put(text) for path, text in contents.items() if text is not None}
    states = {path: Item(path=path, kind="folder", mode=0o755, uid=0, gid=0) for path in FOLDERS}
    states |= {path: Item(path=path, kind="folder", mode=put.mode, uid=put.uid, gid=put.gid) for path, put in (folders or {}).items()}
    states |= {path: Item(path=path, kind="file", mode=put.mode, uid=put.uid, gid=put.gid) for path, put in puts.items()}
    optional = ("/etc/login.defs", "/etc/nsswitch.conf", "/etc/sudo.conf", *(path for path, text in contents.items() if text is None))
    states |= {path: Item(path=path, kind="absent") for path in optional if path not in puts}
    manifest = Manifest(
        subject=name, platform="linux", taken=NOW, kernel="", live=True, probe=1, uid=0, items=tuple(states.values()), gaps=()
    )
    raw = {path: put.text.encode() if isinstance(put.text, str) else put.text for path, put in puts.items()}
    searched = {"file-systems": b"searched\t/\n", "homes": b"read\n", "kept-passwords": b"read\n"}
    listings = tuple(Listing(name=name, member=f"listings/{name}", tool=name) for name in searched)
    return make_bundle(replace(manifest, listings=listings), raw, searched)


def rights(sudoers: str | None = "", files: Mapping[str, str | bytes | Put | None] | None = None, **kwargs: Any) -> HostRights:
    """Return the rights on a small host."""
    return rights_of(read_host(bundle(sudoers, files, **kwargs)))


def policy(sudoers: str, files: Mapping[str, str | bytes | Put | None] | None = None) -> SudoPolicy:
    """Return the facts of a policy."""
    return read_host(bundle(sudoers, files)).policy


def held(host: HostRights, right: str = "root") -> set[str]:
    """Return who holds a right, those with user ID 0 left out."""
    return {str(holding.principal) for holding in host.holdings if str(holding.right) == right} - {"root"}


def found(host: HostRights, check: str, worst: Severity = Severity.INFO) -> list[Finding]:
    """Return the findings of a check."""
    return [finding for finding in findings_on(host) if finding.check == check and finding.severity <= worst]


def open_up(folder: Path) -> None:
    """Let every account of this machine into a folder of the tests."""
    for path in (folder, *folder.parents):
        if path.name.startswith(("pytest-", "popen-")) or path == folder:
            path.chmod(0o755)


class Ran(Struct, frozen=True, dict=True):
    """What the built program did."""

    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


# What takes so long stands still: a slow machine alone fails no test.
_HANGS = 900


def _doing(process: int) -> Iterator[str]:
    """Yield what a process and those that it began are doing, by the kernel."""
    folder = Path(f"/proc/{process}")
    with suppress(OSError):
        stated = {name: (folder / name).read_text().strip() for name in ("stat", "wchan", "syscall")}
        opened = {path.name: str(path.readlink()) for path in (folder / "fd").iterdir()}
        yield f"{stated} {opened}"
        for task in (folder / "task").iterdir():
            for child in (task / "children").read_text().split():
                yield from _doing(int(child))


def fidelitas(*arguments: str | Path, cwd: Path, env: Mapping[str, str] | None = None, typed: str = "", **kwargs: Any) -> Ran:
    """Run the built program in a folder, with a ledger of its own there; a traceback is a failure wherever it comes; `typed` is its input."""
    program = Path(sys.executable).with_name("fidelitas")
    surroundings = {
        "PATH": os.environ["PATH"],
        "HOME": str(cwd),
        "FIDELITAS_LEDGER": str(cwd / "ledger"),
        "LC_ALL": "C.UTF-8",
        **(env or {}),
    }
    command = [program, *map(str, arguments)]
    pipes = dict.fromkeys(("stdin", "stdout", "stderr"), subprocess.PIPE)
    with subprocess.Popen(command, cwd=cwd, env=surroundings, **pipes, **kwargs) as process:  # type: ignore[call-overload]
        try:
            out, err = process.communicate(typed.encode(), timeout=_HANGS)
        except subprocess.TimeoutExpired:
            where = "\n".join(_doing(process.pid))
            process.kill()
            raise AssertionError(f"does not end: {command}\n{where}") from None
        except BaseException:
            process.kill()
            raise
    ran = Ran(process.returncode, out.decode(), err.decode())
    assert "Traceback" not in ran.err, ran.err
    return ran


def calls_of(work: Callable[[], object]) -> int:
    """Return how many calls of functions something takes: what it costs, whichever machine it runs on."""
    count = 0

    def called(*_: object) -> None:
        nonlocal count
        count += 1

    before = sys.getprofile()
    sys.setprofile(called)
    try:
        work()
    finally:
        sys.setprofile(before)
    return count
