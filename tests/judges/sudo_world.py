"""A small world in which real sudo answers: a chroot with sudo, made-up commands, accounts, a host name and addresses.

Reads one case as JSON on standard input and writes one answer per question as JSON Lines.  A case:
{"root", "files": {path: text}, "modes": {path: octal}, "commands": [path], "links": {path: target}, "questions": [...]}.
The verdict and the rule come from sudo's own debug log; a second run with -n tells whether a password is wanted.  Nothing here decides
anything by itself.  Must run as root.
"""

import ctypes
import json
import os
import re
import shutil
import socket
import stat
import subprocess
import sys
from pathlib import Path
from typing import Any

NEWNS, NEWUTS, NEWNET = 0x00020000, 0x04000000, 0x40000000
LIBC = ctypes.CDLL(None, use_errno=True)
SUDO = [
    "/usr/bin/sudo",
    *(f"/usr/libexec/sudo/{name}" for name in ("sudoers.so", "group_file.so", "sudo_noexec.so", "sudo_intercept.so", "libsudo_util.so.0")),
]
VERDICT = re.compile(rb"userspec matched @ (.*?):(\d+):(\d+): (allowed|denied)")


def unshare(flags: int) -> None:
    if LIBC.unshare(flags) != 0:
        raise OSError(ctypes.get_errno(), "unshare")


def libraries(path: str) -> set[str]:
    told = subprocess.run(["ldd", path], capture_output=True, text=True, check=False).stdout
    return {word for line in told.splitlines() for word in line.split() if word.startswith("/")}


def build(root: Path) -> None:
    """Make the chroot: sudo, what it loads, and the devices that it opens."""
    pam = [str(path) for path in Path("/lib").glob("*/security/pam_permit.so")]
    nss = [str(path) for path in Path("/lib").glob("*/libnss_files.so.2")]
    wanted = {*SUDO, *pam, *nss}
    for path in list(wanted):
        if Path(path).exists():
            wanted |= libraries(path)
    for path in sorted(wanted):
        if Path(path).exists():
            target = root / path.lstrip("/")
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(os.path.realpath(path), target)
    (root / "usr/bin/sudo").chmod(0o4755)
    (root / "usr/bin/sudoedit").symlink_to("sudo")
    for folder in ("dev", "etc/pam.d", "run/sudo", "var/log", "var/lib/sudo/lectured", "var/tmp", "tmp", "proc", "root"):
        (root / folder).mkdir(parents=True, exist_ok=True)
    for name, minor in (("null", 3), ("zero", 5), ("urandom", 9)):
        os.mknod(root / "dev" / name, stat.S_IFCHR | 0o666, os.makedev(1, minor))
        (root / "dev" / name).chmod(0o666)
    permit = "".join(f"{kind} required pam_permit.so\n" for kind in ("auth", "account", "session", "password"))
    for name in ("sudo", "other"):
        (root / "etc/pam.d" / name).write_text(permit)
    (root / "etc/nsswitch.conf").write_text("passwd: files\ngroup: files\nshadow: files\nhosts: files\nnetgroup: files\nsudoers: files\n")
    (root / "etc/sudo.conf").write_text("Set disable_coredump false\nDebug sudoers.so /var/log/sudo_debug parser@debug\n")


def fill(root: Path, case: dict[str, Any]) -> None:
    """Lay the case's files, commands and links into the chroot."""
    for path, text in case["files"].items():
        target = root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(text.encode("utf-8", "surrogateescape"))
        target.chmod(int(case["modes"].get(path, "440" if "sudo" in path else "644"), 8))
    for path in case["commands"]:
        target = root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(f"#!/no/such/interpreter\n{path}\n")
        target.chmod(0o755)
    for path, link in case["links"].items():
        target = root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.symlink_to(link)


def networks(addresses: list[str]) -> int:
    """Return a network namespace, as an open file, with a host's addresses."""
    unshare(NEWNET)
    commands = ["link set lo up", "link add v0 type veth peer name v1", "link set v0 addrgenmode none", "link set v1 addrgenmode none"]
    commands += [f"addr add {address} dev v0{' nodad' if ':' in address else ''}" for address in addresses]
    for command in [*commands, "link set v0 up", "link set v1 up"]:
        subprocess.run(["ip", *command.split()], check=True, capture_output=True)
    return os.open("/proc/self/ns/net", os.O_RDONLY)


def run(root: Path, arguments: list[str], question: dict[str, Any], ids: tuple[int, int, list[int]], network: int) -> bytes:
    """Run sudo as the invoking account on the host of the question, and return what it printed on standard error."""
    reader, writer = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            LIBC.setns(network, NEWNET)
            unshare(NEWUTS)
            socket.sethostname(question["host"])
            null = os.open("/dev/null", os.O_RDWR)
            os.dup2(null, 0)
            os.dup2(null, 1)
            os.dup2(writer, 2)
            os.setsid()
            os.chroot(root)
            os.chdir("/")
            os.setgroups(ids[2])
            os.setgid(ids[1])
            os.setuid(ids[0])
            os.execve(
                "/usr/bin/sudo", ["sudo", *arguments], {"PATH": "/usr/local/bin:/usr/bin:/bin", "LC_ALL": "C", "SUDO_EDITOR": "/bin/true"}
            )
        finally:
            os._exit(126)
    os.close(writer)
    said = b""
    while block := os.read(reader, 65536):
        said += block
    os.close(reader)
    os.waitpid(child, 0)
    return said


def answer(root: Path, question: dict[str, Any], ids: tuple[int, int, list[int]], network: int) -> dict[str, Any]:
    (root / "etc/hosts").write_text(f"127.0.0.1 localhost\n127.0.1.1 {question['host']}\n")
    options = [
        *(["-u", question["run_as"]] if question.get("run_as") else []),
        *(["-g", question["run_as_group"]] if question.get("run_as_group") else []),
    ]
    command = question["command"]
    tail = ["-e", *options, "--", *command[1:]] if command[0] == "sudoedit" else [*options, "--", *command]
    log = root / "var/log/sudo_debug"
    log.unlink(missing_ok=True)
    said = run(root, ["-k", *tail], question, ids, network)
    found = VERDICT.findall(log.read_bytes()) if log.exists() else []
    told: dict[str, Any] = {
        "id": question["id"],
        "decision": "no-rule",
        "rule": None,
        "password": None,
        "said": said.decode("utf-8", "replace"),
    }
    if found:
        path, line, _, verdict = found[-1]
        told |= {"decision": verdict.decode(), "rule": {"path": path.decode(), "line": int(line)}}
    if told["decision"] == "allowed":
        told["password"] = b"a password is required" in run(root, ["-k", "-n", *tail], question, ids, network)
    return told


def main() -> None:
    case = json.load(sys.stdin)
    root = Path(case["root"])
    build(root)
    fill(root, case)
    unshare(NEWNS)
    passwd = {
        fields[0]: (int(fields[2]), int(fields[3])) for fields in (line.split(":") for line in case["files"]["/etc/passwd"].splitlines())
    }
    groups = [(int(fields[2]), fields[3].split(",")) for fields in (line.split(":") for line in case["files"]["/etc/group"].splitlines())]
    spaces: dict[str, int] = {}
    for question in case["questions"]:
        key = " ".join(question["addresses"])
        if key not in spaces:
            spaces[key] = networks(question["addresses"])
        uid, gid = passwd[question["account"]]
        ids = (uid, gid, sorted({gid, *(number for number, members in groups if question["account"] in members)}))
        print(json.dumps(answer(root, question, ids, spaces[key])), flush=True)


if __name__ == "__main__":
    main()
