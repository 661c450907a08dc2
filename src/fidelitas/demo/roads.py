"""What every made-up host has besides its accounts and its policy: programs, services, log-ins; the same kind of listings as the probe's.

Knows the listings' forms and what a healthy host of each family looks like; the planted problems are in `hosts`.
"""

import base64
import hashlib

from fidelitas.demo.host import File, HostBuilder

__all__ = ["key_line", "set_up_debian", "set_up_rocky"]

# Setuid and setgid programs of a plain installation: mode, group, path, package.
_DEBIAN = (
    (0o4755, 0, "/usr/bin/su", "util-linux"),
    (0o4755, 0, "/usr/bin/sudo", "sudo"),
    (0o4755, 0, "/usr/bin/passwd", "passwd"),
    (0o4755, 0, "/usr/bin/mount", "mount"),
    (0o4755, 0, "/usr/bin/umount", "mount"),
    (0o2755, 42, "/usr/bin/chage", "passwd"),
    (0o2755, 101, "/usr/bin/ssh-agent", "openssh-client"),
)
_ROCKY = (
    (0o4755, 0, "/usr/bin/su", "util-linux"),
    (0o4111, 0, "/usr/bin/sudo", "sudo"),
    (0o4755, 0, "/usr/bin/passwd", "passwd"),
    (0o4755, 0, "/usr/bin/mount", "util-linux"),
    (0o4755, 0, "/usr/bin/umount", "util-linux"),
    (0o4755, 0, "/usr/bin/pkexec", "polkit"),
)
_SSHD = "Port 22\nPermitRootLogin {root}\nPasswordAuthentication {password}\nUsePAM yes\nX11Forwarding no\n"
_PAM = {
    "/etc/pam.d/su": "auth sufficient pam_rootok.so\n{extra}@include common-auth\n@include common-account\n@include common-session\n",
    "/etc/pam.d/common-auth": (
        "auth [success=1 default=ignore] pam_unix.so nullok\nauth requisite pam_deny.so\nauth required pam_permit.so\n"
    ),
    "/etc/pam.d/common-account": "account required pam_unix.so\n",
    "/etc/pam.d/common-session": "session required pam_unix.so\n",
}
_KERNEL = {
    "kernel/yama/ptrace_scope": "1",
    "fs/protected_hardlinks": "1",
    "fs/protected_symlinks": "1",
    "fs/suid_dumpable": "2",
    "kernel/unprivileged_bpf_disabled": "2",
}
_CRONTAB = "SHELL=/bin/sh\nPATH=/usr/sbin:/usr/bin:/sbin:/bin\n17 *\t* * *\troot\tcd / && run-parts /etc/cron.hourly\n"
_MOUNTS = "27 1 254:1 / / rw,relatime shared:1 - ext4 /dev/vda1 rw\n28 27 254:2 / /srv rw,nosuid,nodev - ext4 /dev/vda2 rw\n"
_FOLDERS = "/usr /usr/bin /usr/sbin /usr/local /usr/local/bin /usr/local/sbin /opt /etc/ssh /etc/pam.d /etc/cron.d /root"


def _digest(text: str, method: str) -> str:
    return hashlib.new(method, text.encode(), usedforsecurity=False).hexdigest()


def key_line(owner: str, comment: str) -> str:
    """Return the public half of a made-up key; one owner's is always the same."""
    blob = b"\0\0\0\x0bssh-ed25519\0\0\0\x20" + hashlib.sha256(f"saltmarsh {owner}".encode()).digest()
    return f"ssh-ed25519 {base64.b64encode(blob).decode()} {comment}"


def _common(host: HostBuilder, *, root: str, password: str, su: str) -> None:
    for folder in _FOLDERS.split(" "):
        host.policies.setdefault(folder, File(None, 0o700 if folder == "/root" else 0o755))
    host.policies["/etc/ssh/sshd_config"] = File(_SSHD.format(root=root, password=password))
    for path, text in _PAM.items():
        host.policies[path] = File(text.format(extra=su))
    host.policies["/etc/crontab"] = File(_CRONTAB)
    host.listing("kernel", "".join(f"{name}\t{value}\n" for name, value in _KERNEL.items()))
    host.listing("mounts", _MOUNTS)
    host.listing("file-systems", "searched\t/\nsearched\t/srv\nskipped\t/proc\tproc\nskipped\t/sys\tsysfs\n")
    host.listings["kept-passwords"] = "read\n" + host.listings.get("kept-passwords", "")
    host.listing("homes", "read\n" + "".join(f"{name}\t{home}\n" for name, home in host.homes()))
    host.listing("processes", "1\t0\t0 0 0\t0 0 0\t0\tsystemd\n")


def set_up_debian(host: HostBuilder, *, root: str = "prohibit-password", password: str = "no", su: str = "") -> None:  # noqa: S107
    """Give a host what a plain installation of Debian has; `su` is put into the PAM settings of su."""
    _common(host, root=root, password=password, su=su)
    for mode, gid, path, package in _DEBIAN:
        host.program(path, mode, gid)
        host.listing("dpkg-owners", f"{package}\t{path}\n")
        host.listing("dpkg-md5sums", f"{package}\t{_digest(path, 'md5')}  {path[1:]}\n")
        host.listing("md5", f"{_digest(path, 'md5')}\t{path}\n")
    host.listing("sudo-version", "Sudo version 1.9.13p3\n")


def set_up_rocky(host: HostBuilder, *, root: str = "prohibit-password", password: str = "no") -> None:  # noqa: S107
    """Give a host what a plain installation of Rocky Linux has."""
    _common(host, root=root, password=password, su="")
    for mode, gid, path, package in _ROCKY:
        host.program(path, mode, gid)
        digest = _digest(path, "sha256")
        host.listing("rpm-files", f"{package}\t10{mode:04o}\troot\troot\t{digest}\t\t{path}\n")
        host.listing("program-digests", f"{digest}\t{path}\n")
    host.listing("sudo-version", "Sudo version 1.9.5p2\n")
