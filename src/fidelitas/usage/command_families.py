"""Programs that do one kind of work: who used one of them is not surprising with another."""

__all__ = ["family_of"]

_FAMILIES = {
    "packages": (
        "apt apt-get aptitude apt-cache apt-key dpkg dnf yum rpm zypper pacman apk snap flatpak pip pip3 needrestart unattended-upgrade"
    ),
    "services": (
        "systemctl service journalctl loginctl timedatectl hostnamectl rc-service supervisorctl systemd-analyze update- rc.d chkconfig"
    ),
    "editing": "vi vim view nvim nano pico ed ex emacs joe micro mcedit sudoedit tee sed patch",
    "reading": "cat less more head tail grep egrep zgrep zcat zless wc awk cut sort uniq diff file stat strings jq xxd od tac",
    "looking": (
        "ls ss netstat ip ifconfig ping ping6 traceroute mtr dig nslookup dmesg lsof ps top htop df du free uptime "
        "lsblk blkid lvs vgs pvs lspci lsusb lscpu id whoami who w last hostname uname date findmnt mount iostat vmstat "
        "find locate which getent sysctl smartctl ethtool"
    ),
    "files": "cp mv mkdir rmdir chmod chown chgrp rm ln touch tar gzip gunzip zip unzip rsync install truncate",
    "containers": "docker podman nerdctl docker-compose ctr crictl kubectl helm",
    "web": "nginx apachectl apache2ctl httpd a2ensite a2enmod certbot",
    "time of machines": "reboot shutdown poweroff halt",
}
_BY_PROGRAM = {program: family for family, programs in _FAMILIES.items() for program in programs.split()}


def family_of(command: str) -> str:
    """Return what kind of work the program of a command does; of one that is in no family its own path."""
    program = command.partition(" ")[0]
    return _BY_PROGRAM.get(program.rpartition("/")[2], program)
