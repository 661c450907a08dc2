"""Which files of a host are one policy, family by family."""

from collections.abc import Callable, Mapping

from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.linux.host import read_host

__all__ = ["FAMILIES", "family_files"]


def _sudo(evidence: HostEvidence) -> list[str]:
    """Return the main file, and what it includes."""
    return [file.path for file in read_host(evidence).policy.files]


def _below(*beginnings: str) -> Callable[[HostEvidence], list[str]]:
    return lambda evidence: [path for path in evidence.files if path.startswith(beginnings)]


# What each family is called on the command line, in words, and which paths of a host it has.
FAMILIES: Mapping[str, tuple[str, Callable[[HostEvidence], list[str]]]] = {
    "sudo": ("sudo policy", _sudo),
    "pam": ("PAM configuration", _below("/etc/pam.d/", "/etc/pam.conf")),
    "sshd": ("sshd configuration", _below("/etc/ssh/sshd_config")),
    "root-keys": ("root's authorized keys", _below("/root/.ssh/authorized_keys")),
}


def family_files(family: str, evidence: HostEvidence) -> dict[str, bytes]:
    """Return the files of a family on a host, by path."""
    paths = FAMILIES[family][1](evidence)
    return {path: evidence.files[path] for path in sorted(paths) if path in evidence.files}
