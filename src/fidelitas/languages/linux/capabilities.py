"""File capabilities: the attribute ``security.capability``, as getfattr(1) prints it in hexadecimal digits, decoded here.

    struct vfs_cap_data { le32 magic_etc; struct { le32 permitted, inheritable; } data[2]; le32 rootid; }

The highest byte of `magic_etc` is the version: 1 has one pair, 2 has two, 3 also the root ID of a user namespace; its lowest bit says
that the capabilities are effective at once (linux/capability.h, capabilities(7)).
"""

import re
import struct

from fidelitas.facts import CapableFile, Gap, Place
from fidelitas.languages.linux.access_lists import unquoted
from fidelitas.text import clipped, decode, escape_control

__all__ = ["CAPABILITIES", "decode_capabilities", "read_attributes", "read_told_capabilities"]

# In the order of their numbers, linux/capability.h.
# fmt: off
CAPABILITIES = (
    "chown", "dac_override", "dac_read_search", "fowner", "fsetid", "kill", "setgid",
    "setuid", "setpcap", "linux_immutable", "net_bind_service", "net_broadcast", "net_admin", "net_raw",
    "ipc_lock", "ipc_owner", "sys_module", "sys_rawio", "sys_chroot", "sys_ptrace", "sys_pacct",
    "sys_admin", "sys_boot", "sys_nice", "sys_resource", "sys_time", "sys_tty_config", "mknod",
    "lease", "audit_write", "audit_control", "setfcap", "mac_override", "mac_admin", "syslog",
    "wake_alarm", "block_suspend", "audit_read", "perfmon", "bpf", "checkpoint_restore",
)
# fmt: on
_LENGTHS = {1: 12, 2: 20, 3: 24}


def decode_capabilities(value: bytes, path: str, place: Place) -> CapableFile:
    """Return what an attribute says; raises `ValueError` for one that the kernel refuses too."""
    version = value[3] if len(value) >= 4 else 0
    if len(value) != _LENGTHS.get(version):
        raise ValueError(f"version {version} of {len(value)} bytes")
    words = struct.unpack(f"<{len(value) // 4}I", value)
    permitted, inheritable = words[1], words[2]
    if version > 1:
        permitted, inheritable = permitted | words[3] << 32, inheritable | words[4] << 32
    return CapableFile(
        path=path,
        permitted=_names(permitted),
        inheritable=_names(inheritable),
        effective=bool(words[0] & 1),
        root_uid=words[5] if version == 3 and words[5] else None,
        place=place,
    )


def _names(bits: int) -> frozenset[str]:
    """Return the names of a set; a bit that has no name yet is told by its number."""
    return frozenset(f"cap_{CAPABILITIES[number] if number < len(CAPABILITIES) else number}" for number in range(64) if bits >> number & 1)


def read_attributes(content: bytes, origin: Place) -> tuple[tuple[CapableFile, ...], tuple[Gap, ...]]:
    """Return what the output of getfattr(1) says, and a gap for each attribute that cannot be decoded."""
    found: list[CapableFile] = []
    gaps: list[Gap] = []
    path = ""
    for number, line in enumerate(content.split(b"\n"), 1):
        if line.startswith(b"# file: "):
            path = unquoted(line.removeprefix(b"# file: "))
        elif line.startswith(b"security.capability=0x"):
            place = origin.at(number)
            try:
                found.append(decode_capabilities(bytes.fromhex(decode(line.partition(b"=0x")[2])), path, _file(place, path)))
            except ValueError as error:
                gaps.append(
                    Gap(what=f"capabilities of {path}", why=str(error), weakens="what this program may do", place=_file(place, path))
                )
    return tuple(found), tuple(gaps)


def _file(place: Place, path: str) -> Place:
    return Place(subject=place.subject, path=path)


_CLAUSES = r"(?:cap_[a-z_,0-9]+|all)?[=+-][eip]*(?: (?:cap_[a-z_,0-9]+|all)?[=+-][eip]+)*"
_TOLD = re.compile(rf"(?P<path>.*?)(?: =)? (?P<clauses>{_CLAUSES})\Z", re.DOTALL)
_CLAUSE = re.compile(r"(?P<names>[a-z_,0-9]*)(?P<sign>[=+-])(?P<flags>[eip]*)\Z")


def read_told_capabilities(content: bytes, origin: Place) -> tuple[tuple[CapableFile, ...], tuple[Gap, ...]]:
    """Return what the output of getcap(8) says (cap_from_text(3)), where there was no getfattr(1)."""
    found: list[CapableFile] = []
    gaps: list[Gap] = []
    for number, line in enumerate(decode(content).split("\n"), 1):
        told = _TOLD.match(line)
        if told is None:
            if line:
                why = f'not understood: "{clipped(escape_control(line), 60)}"'
                gaps.append(Gap(what="file capabilities", why=why, weakens="what a program may do", place=origin.at(number)))
            continue
        sets: dict[str, set[str]] = {"e": set(), "i": set(), "p": set()}
        for clause in told["clauses"].split(" "):
            _apply(clause, sets)
        found.append(
            CapableFile(
                path=told["path"],
                permitted=frozenset(sets["p"]),
                inheritable=frozenset(sets["i"]),
                effective=bool(sets["e"]),
                place=_file(origin, told["path"]),
            )
        )
    return tuple(found), tuple(gaps)


def _apply(clause: str, sets: dict[str, set[str]]) -> None:
    """clause = [ name { "," name } | "all" ] ( "=" | "+" | "-" ) { "e" | "i" | "p" }"""
    parts = _CLAUSE.match(clause)
    if parts is None:
        return
    every = [f"cap_{name}" for name in CAPABILITIES]
    names = every if parts["names"] in ("", "all") else parts["names"].split(",")
    for flag, within in sets.items():
        if parts["sign"] == "=" or (parts["sign"] == "-" and flag in parts["flags"]):
            within.difference_update(names)
        if parts["sign"] in "=+" and flag in parts["flags"]:
            within.update(names)
