"""A host whose accounts come by a real sssd from a real OpenLDAP server, as a judge: in a mount namespace of its own."""

import json
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from slapd_server import BASE, Slapd

__all__ = ["CONFIGURATION", "asked", "need_sssd"]

CONFIGURATION = """\
[sssd]
domains = tides
services = nss, pam
[nss]
{nss}
[pam]
[domain/tides]
id_provider = ldap
auth_provider = none
ldap_uri = ldap://127.0.0.1:{port}
ldap_default_bind_dn = cn=admin,{base}
ldap_default_authtok = admin-pw
ldap_id_use_start_tls = false
{domain}
"""
# Everything that sssd writes to lies in memory, and vanishes with the namespace.
_WORLD = """
set -e
for place in /var/lib/sss /etc/sssd /var/log/sssd /run /etc/pam.d; do mount -t tmpfs none $place; done
cd /var/lib/sss && mkdir -p db pipes/private mc pubconf/krb5.include.d gpo_cache keytabs secrets deskprofile
cp "$1/sssd.conf" /etc/sssd/ && chmod 600 /etc/sssd/sssd.conf
printf 'account required pam_sss.so\\n' > /etc/pam.d/tidegate
sssd -i > "$1/sssd.log" 2>&1 &
shift
"$@" || echo "failed" >&2
kill $! && wait $! || true
"""
# What the C library and PAM say of some accounts, once sssd answers for the one that every configuration lets it see.
_ASK = """
import ctypes, json, subprocess, sys, time
def get(*asked):
    return subprocess.run(["getent", "-s", "sss", *asked], capture_output=True, text=True).stdout.strip()
def admitted(name):
    class Conversation(ctypes.Structure):
        _fields_ = [("conv", ctypes.c_void_p), ("data", ctypes.c_void_p)]
    pam, handle, talk = ctypes.CDLL("libpam.so.0"), ctypes.c_void_p(), Conversation()
    pam.pam_start(b"tidegate", name.encode(), ctypes.byref(talk), ctypes.byref(handle))
    answer = pam.pam_acct_mgmt(handle, 0)
    pam.pam_end(handle, 0)
    return answer == 0
first, names, groups = json.load(sys.stdin)
for _ in range(300):
    if get("passwd", first):
        break
    time.sleep(0.05)
said = {}
for name in names:
    entry = get("passwd", name).split(":")
    if len(entry) < 4:
        continue
    numbers = get("initgroups", name).split()[1:]
    shown = [get("group", number).split(":")[0] for number in dict.fromkeys([entry[3], *numbers])]
    said[entry[0]] = [entry[2], entry[3], sorted(filter(None, shown)), admitted(name)]
json.dump([said, [name for name in groups if get("group", name)]], sys.stdout)
"""


def need_sssd() -> None:
    if shutil.which("sssd") is None or shutil.which("getent") is None:
        pytest.skip("sssd is not installed (apt-get install sssd-ldap libnss-sss libpam-sss)")


def asked(
    folder: Path, server: Slapd, configuration: str, first: str, names: list[str], groups: list[str]
) -> tuple[dict[str, Any], list[str]]:
    """Return what a host says of accounts by name: user ID, group ID, names of groups, and whether it lets them log in; and its groups."""
    folder.mkdir(exist_ok=True)
    (folder / "sssd.conf").write_text(configuration)
    command = ["unshare", "--mount", "sh", "-c", _WORLD, "sh", str(folder), sys.executable, "-c", _ASK]
    done = subprocess.run(command, input=json.dumps([first, names, groups]), capture_output=True, text=True, check=False, timeout=300)
    assert done.stdout, (done.stderr[-2000:], (folder / "sssd.log").read_text()[-2000:], BASE, server.port)
    said, known = json.loads(done.stdout)
    return said, known
