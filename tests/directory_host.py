"""A host whose accounts come by a real sssd or nslcd from a real OpenLDAP server, as a judge: in a mount namespace of its own."""

import json
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any, NamedTuple

import pytest

__all__ = ["MEMBER", "NSLCD", "SSSD", "WINBIND", "Daemon", "as_member", "asked", "asked_of_sudo", "asked_of_sudo_ldap"]


class Daemon(NamedTuple):
    """What looks accounts up: its program, its file, the source that nsswitch.conf names, and the shell that starts it."""

    program: str
    path: str
    source: str
    configuration: str
    start: str
    packages: str


_SSSD = """\
[sssd]
domains = tides
services = nss, pam, sudo
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
# All that a daemon writes to is in memory, in a namespace that ends with it.
_START_SSSD = """
for place in /var/lib/sss /etc/sssd /var/log/sssd /run /etc/pam.d; do mount -t tmpfs none $place; done
cd /var/lib/sss && mkdir -p db pipes/private mc pubconf/krb5.include.d gpo_cache keytabs secrets deskprofile
cp "$1/conf" /etc/sssd/sssd.conf && chmod 600 /etc/sssd/sssd.conf
printf 'account required pam_sss.so\\n' > /etc/pam.d/tidegate
sssd -i > "$1/log" 2>&1 &
"""
_NSLCD = """\
uid nslcd
gid nslcd
uri ldap://127.0.0.1:{port}
binddn cn=admin,{base}
bindpw admin-pw
{domain}
"""
_START_NSLCD = """
mount --bind "$1/conf" /etc/nslcd.conf
for place in /run /etc/pam.d; do mount -t tmpfs none $place; done
mkdir /run/nslcd && chown nslcd:nslcd /run/nslcd
printf 'account required pam_permit.so\\n' > /etc/pam.d/tidegate
nslcd --nofork > "$1/log" 2>&1 &
"""
# A member of a domain: its keys, the names of it and of the domain controller, and where the Kerberos server is.
_START_MEMBER = """
hostname tern.tides.saltmarsh.example
mount --bind "$1/hosts" /etc/hosts
export KRB5_CONFIG="$1/krb5.conf"
{sssd}"""
_MEMBER = """\
[sssd]
domains = tides.saltmarsh.example
services = nss, pam
{nss}
[pam]
[domain/tides.saltmarsh.example]
id_provider = ad
auth_provider = none
ad_server = dc1.tides.saltmarsh.example
ad_hostname = tern.tides.saltmarsh.example
ldap_sasl_authid = TERN$
krb5_keytab = {keytab}
dyndns_update = false
ad_enable_gc = false
{domain}
"""
_KRB5 = """\
[libdefaults]
default_realm = TIDES.SALTMARSH.EXAMPLE
rdns = false
dns_lookup_kdc = false
dns_lookup_realm = false
dns_canonicalize_hostname = false
[realms]
TIDES.SALTMARSH.EXAMPLE = {{
 kdc = {host}
}}
[domain_realm]
.tides.saltmarsh.example = TIDES.SALTMARSH.EXAMPLE
"""
_WORLD = """
set -e
{start}
shift
"$@" || echo "failed" >&2
kill $! && wait $! || true
"""
# It joins the domain first: a second way into one, besides keys in a file.
_WINBIND = """\
[global]
security = ads
realm = TIDES.SALTMARSH.EXAMPLE
workgroup = TIDES
netbios name = TERN
disable netbios = yes
private dir = /run/w/private
state directory = /run/w/state
cache directory = /run/w/cache
lock directory = /run/w/lock
pid directory = /run/w
ncalrpc dir = /run/w/ncalrpc
log file = /run/w/log.%m
winbindd socket directory = /run/samba/winbindd
{domain}
"""
_START_WINBIND = """
hostname tern
mount --bind "$1/hosts" /etc/hosts
export KRB5_CONFIG="$1/krb5.conf"
for place in /run /etc/pam.d; do mount -t tmpfs none $place; done
(cd /run && mkdir -p w/private w/state w/cache w/lock w/ncalrpc samba/winbindd)
printf 'account required pam_permit.so\\n' > /etc/pam.d/tidegate
net ads join -s "$1/conf" -S dc1.tides.saltmarsh.example -U "Administrator%$(cat "$1/password")" --no-dns-updates > "$1/log" 2>&1
winbindd -F --debug-stdout --no-process-group -s "$1/conf" >> "$1/log" 2>&1 &
"""
SSSD = Daemon("sssd", "etc/sssd/sssd.conf", "sss", _SSSD, _START_SSSD, "sssd-ldap libnss-sss libpam-sss libsss-sudo")
MEMBER = SSSD._replace(
    configuration=_MEMBER,
    start=_START_MEMBER.replace("{sssd}", _START_SSSD),
    packages="sssd-ad libsasl2-modules-gssapi-mit libnss-sss libpam-sss",
)
WINBIND = Daemon("winbindd", "etc/samba/smb.conf", "winbind", _WINBIND, _START_WINBIND, "winbind libnss-winbind samba-common-bin")
NSLCD = Daemon("nslcd", "etc/nslcd.conf", "ldap", _NSLCD, _START_NSLCD, "nslcd libnss-ldapd")
# What the C library and PAM say of some accounts, once sssd answers for the one that every configuration lets it see.  Asked again,
# sssd asks the directory about an account anew, and knows what the lookups before have found.
_ASK = """
import ctypes, json, subprocess, sys, time
def get(*asked):
    return subprocess.run(["getent", "-s", source, *asked], capture_output=True, text=True).stdout.strip()
def admitted(name):
    class Conversation(ctypes.Structure):
        _fields_ = [("conv", ctypes.c_void_p), ("data", ctypes.c_void_p)]
    pam, handle, talk = ctypes.CDLL("libpam.so.0"), ctypes.c_void_p(), Conversation()
    pam.pam_start(b"tidegate", name.encode(), ctypes.byref(talk), ctypes.byref(handle))
    answer = pam.pam_acct_mgmt(handle, 0)
    pam.pam_end(handle, 0)
    return answer == 0
source, first, names, groups, rounds = json.load(sys.stdin)
for _ in range(300):
    if get("passwd", first):
        break
    time.sleep(0.05)
said = {}
for number, name in ((number, name) for number in range(rounds) for name in names):
    if number:
        subprocess.run(["sss_cache", "-u", name], capture_output=True)
    entry = get("passwd", name).split(":")
    if len(entry) < 4:
        continue
    numbers = get("initgroups", name).split()[1:]
    shown = [get("group", number).split(":")[0] for number in dict.fromkeys([entry[3], *numbers])]
    said[entry[0]] = [entry[2], entry[3], sorted(filter(None, shown)), admitted(name)]
json.dump([said, [name for name in groups if get("group", name)]], sys.stdout)
"""


# Which of some commands real sudo allows to some accounts: [account, command] pairs, by a host of this name without rules of its own.
_SUDO = """
hostname tern
for name in nsswitch.conf sudoers hosts; do mount --bind "$1/$name" /etc/$name; done
"""
_SUDO_PAM = """
for task in auth account session; do printf '%s required pam_permit.so\\n' $task; done > /etc/pam.d/sudo
"""
_ASK_SUDO = """
import json, subprocess, sys, time
first, users, commands = json.load(sys.stdin)
for _ in range(300):
    if subprocess.run(["getent", "passwd", first], capture_output=True).returncode == 0:
        break
    time.sleep(0.05)
allowed = []
for user in users:
    for command in commands:
        # The first question of an account can come before sssd has its rules.
        for _ in range(2):
            done = subprocess.run(["sudo", "-n", "-l", "-U", user, command], capture_output=True, text=True)
        if done.returncode == 0 and done.stdout.strip():
            allowed.append([user, command])
json.dump(allowed, sys.stdout)
"""


# sudo with the plugin that asks the directory itself, on a host whose accounts are files; they lie over those of this machine.
_SUDO_LDAP = """
hostname tern
mount -t tmpfs none /run && mkdir -p /run/over/etc /run/over/work
mount -t overlay none -o lowerdir=/etc,upperdir=/run/over/etc,workdir=/run/over/work /etc
for name in nsswitch.conf sudoers hosts passwd group sudo.conf sudo-ldap.conf; do cp -p "$1/$name" /etc/$name; done
mount -t tmpfs none /etc/pam.d
sleep 1000 &
"""


def _in_world(folder: Path, start: str, script: str, question: list[Any]) -> Any:
    """Return what a script answers in a world of mounts and names that is made for it."""
    world = _WORLD.replace("{start}", start)
    command = ["unshare", "--mount", "--uts", "sh", "-c", world, "sh", str(folder), sys.executable, "-c", script]
    done = subprocess.run(command, input=json.dumps(question), capture_output=True, text=True, check=False, timeout=300)
    log = folder / "log"
    assert done.stdout, (done.stderr[-2000:], log.read_text()[-2000:] if log.exists() else "")
    return json.loads(done.stdout)


def asked_of_sudo_ldap(folder: Path, plugin: Path, files: dict[str, str], users: list[str], commands: list[str]) -> list[list[str]]:
    """Return which commands real sudo allows to which accounts, by the rules that it finds in a directory; the host is called tern."""
    folder.mkdir(exist_ok=True)
    own = {
        "hosts": "127.0.0.1 localhost\n192.0.2.9 tern\n",
        "sudo.conf": f"Plugin sudoers_policy {plugin}\n",
    }
    for name, content in {**files, **own}.items():
        (folder / name).write_text(content)
        (folder / name).chmod(0o440 if name == "sudoers" else 0o644)
    return list(_in_world(folder, _SUDO_LDAP + _SUDO_PAM, _ASK_SUDO, ["root", users, commands]))


def asked_of_sudo(folder: Path, configuration: str, first: str, users: list[str], commands: list[str]) -> list[list[str]]:
    """Return which commands real sudo allows to which accounts, by the rules that a real sssd gives it; the host is called tern."""
    folder.mkdir(exist_ok=True)
    files = {
        "conf": configuration, "sudoers": "root ALL=(ALL) ALL\n", "hosts": "127.0.0.1 localhost\n192.0.2.9 tern\n",
        "nsswitch.conf": "passwd: files sss\ngroup: files sss\nsudoers: files sss\nhosts: files\n",
    }  # fmt: skip
    for name, content in files.items():
        (folder / name).write_text(content)
        (folder / name).chmod(0o440 if name == "sudoers" else 0o600 if name == "conf" else 0o644)
    return list(_in_world(folder, _SUDO + SSSD.start + _SUDO_PAM, _ASK_SUDO, [first, users, commands]))


def as_member(folder: Path, controller: str, password: str = "") -> None:
    """Write what a host needs to know as a member of a domain whose controller has an address, or to join it."""
    folder.mkdir(exist_ok=True)
    here = "127.0.0.1 localhost\n192.0.2.9 tern.tides.saltmarsh.example tern\n"
    (folder / "hosts").write_text(f"{here}{controller} dc1.tides.saltmarsh.example dc1\n")
    (folder / "krb5.conf").write_text(_KRB5.format(host=controller))
    (folder / "password").write_text(password)


def asked(
    folder: Path, daemon: Daemon, configuration: str, first: str, names: list[str], groups: list[str], rounds: int = 1
) -> tuple[dict[str, Any], list[str]]:
    """Return what a host says of accounts by name: user ID, group ID, names of groups, and whether it lets them log in; and its groups."""
    if shutil.which(daemon.program) is None or shutil.which("getent") is None:
        pytest.skip(f"{daemon.program} is not installed (apt-get install {daemon.packages})")
    folder.mkdir(exist_ok=True)
    (folder / "conf").write_text(configuration)
    (folder / "conf").chmod(0o600)
    said, known = _in_world(folder, daemon.start, _ASK, [daemon.source, first, names, groups, rounds])
    return said, known
