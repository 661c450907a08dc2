"""Settings by which services that run anything as root listen for everyone; device rules of disks; capability.conf(5).

Knows the few settings that matter; not the rest of those files.
"""

import re
from collections.abc import Iterator

from fidelitas.facts import OpenService, Place
from fidelitas.languages.lines import lines_of

__all__ = ["read_capabilities", "read_device_rules", "read_open_service"]

# In which files, what of a line, and what it means.
_SETTINGS = (
    (re.compile(r"/docker/daemon\.json$"), re.compile(r"tcp://(?!127\.|localhost|\[::1\])"),
     "dockerd listens on the network: anyone who connects is root"),
    (re.compile(r"/(docker|containerd|podman)[^/]*\.(service|conf)$"), re.compile(r"(?:-H|--host)[ =]*tcp://(?!127\.|localhost)"),
     "dockerd listens on the network: anyone who connects is root"),
    (re.compile(r"/(docker|podman|containerd|lxd|incus|crio)\.socket(\.d/.*)?$"),
     re.compile(r"^\s*SocketMode\s*=\s*0?\d?\d?[2367]\s*$"),
     "everyone can connect to its socket, and is root by it"),
    (re.compile(r"/libvirt/(libvirtd|virtqemud|virtproxyd)\.conf$"), re.compile(r"^\s*unix_sock_rw_perms\s*=\s*[\"']?0?\d\d[2367]"),
     "everyone can manage machines, and is root by them"),
    (re.compile(r"/libvirt/(libvirtd|virtqemud)\.conf$"), re.compile(r"^\s*auth_unix_rw\s*=\s*[\"']none"),
     "libvirt asks nobody who can connect to its socket, and machines are made as root"),
    (re.compile(r"/libvirt/(libvirtd|virtproxyd)\.conf$"), re.compile(r"^\s*auth_tcp\s*=\s*[\"']none"), "libvirt asks nobody"),
    (re.compile(r"/(rsyncd\.conf)$"), re.compile(r"^\s*uid\s*=\s*(root|0)\s*$"), "rsyncd writes as root for its clients"),
)  # fmt: skip
_TLS = re.compile(r"tlsverify|--tlsverify|\"tlsverify\"\s*:\s*true")
_DISK = re.compile(r'KERNEL\s*==\s*"(?:sd|vd|xvd|nvme|mmcblk|dm-|md|loop|mem|kmem|port)|SUBSYSTEM\s*==\s*"(?:block|mem)"')
_GIVES = re.compile(r"\b(?:MODE|GROUP|OWNER)\s*:?=(?!=)")


def read_open_service(path: str, text: str, subject: str) -> Iterator[OpenService]:
    """Yield the settings of a file that let everyone use such a service."""
    for file, setting, why in _SETTINGS:
        if file.search(path):
            for line in lines_of(text, Place(subject=subject, path=path)):
                if setting.search(line.text) and not line.text.lstrip().startswith(("#", ";")):
                    yield OpenService(path=path, text=line.text.strip(), why=why, less=bool(_TLS.search(text)), place=line.place())


def read_device_rules(path: str, text: str, subject: str) -> Iterator[tuple[str, str, Place]]:
    """Yield the lines of udev rules that give disks or memory to someone (udev(7))."""
    for line in lines_of(text, Place(subject=subject, path=path)):
        if not line.text.lstrip().startswith("#") and _DISK.search(line.text) and _GIVES.search(line.text):
            yield path, line.text.strip(), line.place()


def read_capabilities(text: str, origin: Place) -> Iterator[tuple[frozenset[str], tuple[str, ...], Place]]:
    """Yield the lines of capability.conf(5): capabilities, then users."""
    for line in lines_of(text, origin):
        words = line.text.partition("#")[0].split()
        if len(words) > 1 and words[0] != "none":
            names = frozenset(name.lstrip("^!") for name in words[0].split(",") if not name.startswith("!"))
            yield names, tuple(words[1:]), line.place()
