"""The one rule of sudo that lets an account run the probe as root and nothing else (sudoers(5), Digest_Spec)."""

import hashlib
import re
from collections.abc import Sequence

__all__ = ["COLLECTOR", "collector_rule", "is_digest"]

COLLECTOR = "/usr/local/lib/fidelitas/probe"
_ACCOUNT = re.compile(r"[a-z_][a-z0-9_-]{0,31}\Z")
_DIGEST = re.compile(r"[0-9a-f]{64}\Z")


def is_digest(text: str) -> bool:
    """Return whether a text is a SHA-256 in hexadecimal."""
    return _DIGEST.match(text) is not None


def collector_rule(script: str, account: str, also: Sequence[str] = ()) -> str:
    """Return the rule for an account, with the commands that install it; `also` are digests of other versions that stay allowed.

    Raises `ValueError` for a name that sudo would not take as that of one account.
    """
    if not _ACCOUNT.match(account):
        raise ValueError(f'"{account}" is not the name of an account in small letters')
    digests = ", ".join(f"sha256:{digest}" for digest in dict.fromkeys([hashlib.sha256(script.encode()).hexdigest(), *also]))
    return f"""\
# Lets {account} run the Fidelitas probe as root, without a password, arguments or any other command.
# The digests stand for the versions of the probe that may be run. As root on each host:
#   install -D -o root -g root -m 0755 probe.sh {COLLECTOR}
#   visudo -cf fidelitas-probe && install -o root -g root -m 0440 fidelitas-probe /etc/sudoers.d/fidelitas-probe
# where probe.sh is what "fidelitas probe" prints, and fidelitas-probe is this file. In estate.toml:
#   collector = "{COLLECTOR}"
{account} ALL=(root) NOPASSWD: {digests} {COLLECTOR} ""
"""
