"""The hosts of the observatory, each with its story and with what was planted in it.

A line that ends in ``#! CHECK`` carries a planted problem: the mark goes into the truth list and not into the file.
"""

import re
from collections.abc import Callable, Sequence

from fidelitas.demo.host import File, HostBuilder
from fidelitas.demo.people import Person
from fidelitas.demo.planted import Planted
from fidelitas.demo.roads import key_line, set_up_debian, set_up_rocky

__all__ = ["HOSTS", "Planted", "Team"]

Team = dict[str, list[Person]]


_MARK = re.compile(r"[ \t]*#! ([a-z.-]+(?: [a-z.-]+)*)$", re.MULTILINE)

_DEBIAN = """\
PRETTY_NAME="Debian GNU/Linux 12 (bookworm)"
NAME="Debian GNU/Linux"
VERSION_ID="12"
ID=debian
"""
_ROCKY = """\
NAME="Rocky Linux"
VERSION="9.4 (Blue Onyx)"
ID="rocky"
ID_LIKE="rhel centos fedora"
VERSION_ID="9.4"
PRETTY_NAME="Rocky Linux 9.4 (Blue Onyx)"
"""

_SYSTEM = (("daemon", 1), ("bin", 2), ("sys", 3), ("mail", 8), ("www-data", 33), ("backup", 34), ("sshd", 110), ("nobody", 65534))


def _plant(host: HostBuilder, planted: list[Planted], path: str, text: str, mode: int = 0o440, gid: int = 0) -> None:
    """Add a policy file; its marks become the truth."""
    for number, line in enumerate(text.split("\n"), 1):
        mark = _MARK.search(line)
        planted += [Planted(check, host.name, path, number) for check in (mark[1].split() if mark else ())]
    host.policies[path] = File(_MARK.sub("", text), mode, 0, gid)


def _base(name: str, os_release: str, admin_group: str, method: str, root: str) -> HostBuilder:
    host = HostBuilder(name, os_release, admin_group, method)
    host.account("root", 0, state=root, comment="root")
    host.group("root", 0)
    for system, uid in _SYSTEM:
        host.account(system, uid, shell="/usr/sbin/nologin", state="none")
        host.group(system, uid)
    return host


def _policy(admin_group: str, extra: str = "") -> str:
    return f"""\
# Saltmarsh Tide Observatory: change this file with visudo only.
Defaults	env_reset
Defaults	mail_badpass
Defaults	use_pty
Defaults	secure_path="/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
{extra}
root	ALL=(ALL:ALL) ALL
%{admin_group}	ALL=(ALL:ALL) ALL

@includedir /etc/sudoers.d
"""


def _people(host: HostBuilder, *groups: Sequence[Person]) -> None:
    for person in (person for group in groups for person in group):
        host.person(person)


def _names(people: Sequence[Person]) -> list[str]:
    return [person.name for person in people]


def _tern_accounts(team: Team) -> HostBuilder:
    host = _base("tern", _DEBIAN, "sudo", "yescrypt", root="none")
    _people(host, team["administrators"], team["scientists"], team["technicians"])
    host.account("tideingest", 2001, shell="/usr/sbin/nologin", state="none", comment="ingest of readings")
    host.account("kiosk", 2002, shell="/usr/sbin/nologin", state="empty", comment="shows the tide table; has no shell")
    host.group("tideingest", 2001)
    host.group("kiosk", 2002)
    host.group("sudo", 27, *_names(team["administrators"]))
    host.group("dataops", 3001, *_names(team["scientists"][:3]))
    return host


def tern(team: Team, planted: list[Planted]) -> HostBuilder:
    """The ingest server: tide readings arrive here.  Well kept, but for what people added in a hurry."""
    host = _tern_accounts(team)
    noor, second = team["technicians"][:2]
    _plant(host, planted, "/etc/sudoers", _policy("sudo"))
    _plant(
        host,
        planted,
        "/etc/sudoers.d/20-ingest",
        f"""\
# The ingest service is restarted by those on duty.
Cmnd_Alias INGEST = /usr/bin/systemctl restart tide-ingest, /usr/bin/systemctl status tide-ingest
User_Alias ONDUTY = {", ".join(_names(team["technicians"][2:5]))}
ONDUTY	ALL=(root) NOPASSWD: INGEST #! sudo.root-equivalent-command
%dataops	ALL=(tideingest) ALL
{second.name}	ALL=(root) /usr/bin/journalctl -u tide-ingest #! sudo.root-equivalent-command
tidevendor	ALL=(root) /usr/bin/systemctl restart tide-ingest #! sudo.unknown-name
%tidewatch	ALL=(root) /usr/bin/tail -n 100 /var/log/tide-ingest.log #! sudo.unknown-name
%dataops	knot=(ALL) ALL
%dataops	ALL=(root) /usr/bin/journalctl --no-pager -u tide-model
""",
    )
    _plant(
        host,
        planted,
        "/etc/sudoers.d/60-storm",
        f"""\
# Storm surge of last winter: {noor.name} needed everything at once.
{noor.name}	ALL=(ALL:ALL) ALL #! sudo.full-root-outside-admin-group
""",
    )
    _plant(
        host,
        planted,
        "/etc/sudoers.d/90-lockdown.conf",
        """\
# Nobody opens a shell on the ingest server.
%dataops ALL = !/bin/sh, !/bin/bash
""",
    )
    planted.append(Planted("sudo.skipped-file", "tern", "/etc/sudoers.d/90-lockdown.conf", None))
    _plant(host, planted, "/etc/sudoers.d/README.txt", "# Files here are read by sudo; use visudo -f.\n")
    set_up_debian(host)
    _tern_roads(host, team, planted)
    return host


def _tern_roads(host: HostBuilder, team: Team, planted: list[Planted]) -> None:
    """An editor made setuid, a container service that everyone on the rota may use, a script of cron that its users may change."""
    host.group("docker", 3006, team["technicians"][3].name)
    host.policies["/run/docker.sock"] = File(None, 0o660, 0, 3006, kind="other")
    planted.append(Planted("groups.root-equivalent", "tern", "/etc/group", len(host.groups)))
    host.program("/usr/local/bin/tide-notes", 0o4750, 3001)
    host.listing("program-digests", "e1d1704\t/usr/bin/vim.tiny\ne1d1704\t/usr/bin/vim\ne1d1704\t/usr/local/bin/tide-notes\n")
    planted.append(Planted("programs.root-equivalent", "tern", "/usr/local/bin/tide-notes", None))
    host.policies["/etc/cron.d/tide"] = File("30 2 * * * root /opt/tide/rotate.sh --keep 30\n")
    host.policies["/opt/tide"] = File(None, 0o755)
    host.policies["/opt/tide/rotate.sh"] = File(None, 0o775, 0, 3001, kind="file")
    host.listing("scripts", "/opt/tide/rotate.sh\t#!/bin/sh\n")
    planted.append(Planted("running.writable", "tern", "/opt/tide/rotate.sh", None))
    host.policies["/usr/local/bin/dump-tides"] = File(None, 0o755, kind="file")
    host.listing("kept-passwords", "script\t/usr/local/bin/dump-tides\n")
    planted.append(Planted("login.stored-database-password", "tern", "/usr/local/bin/dump-tides", None))
    contractor = team["contractors"][0].name
    lines = [key_line("noor", "noor@desk"), key_line(contractor, f"{contractor}@dunlin")]
    host.policies["/root/.ssh/authorized_keys"] = File("".join(f"{line}\n" for line in lines), 0o600)
    planted.append(Planted("login.shared-key", "tern", "/root/.ssh/authorized_keys", 2))


def curlew(team: Team, planted: list[Planted]) -> HostBuilder:
    """The model server, of the other family of systems: a second root account and a folder that the operators may write to."""
    host = _base("curlew", _ROCKY, "wheel", "sha512", root="usable")
    _people(host, team["administrators"], team["scientists"], team["operators"])
    host.account("sysop", 0, gid=0, comment="out-of-hours operator", state="usable")
    planted.append(Planted("accounts.uid-zero", "curlew", "/etc/passwd", len(host.accounts)))
    host.account("modelrun", 2003, shell="/sbin/nologin", state="none", comment="runs the surge model")
    host.group("modelrun", 2003)
    host.group("wheel", 10, *_names(team["administrators"]))
    host.group("operators", 3002, *_names(team["operators"]))
    host.group("modellers", 3003, *_names(team["scientists"]))
    operator = team["operators"][0].name
    _plant(host, planted, "/etc/sudoers", _policy("wheel", "Runas_Alias MODEL = modelrun\nDefaults:%operators timestamp_timeout=5"))
    host.policies["/etc/sudoers.d"] = File(None, 0o775, 0, 3002)
    planted.append(Planted("sudo.writable-policy", "curlew", "/etc/sudoers.d", None))
    # sudo refuses the whole folder as long as a group other than root's may write to it: nothing below is in force.
    _plant(host, planted, "/etc/sudoers.d/10-model", f"%modellers ALL=(MODEL) NOPASSWD: ALL\n{operator} ALL=(root) /usr/bin/dnf update\n")
    _plant(
        host,
        planted,
        "/etc/sudoers.local",
        f"""\
# Kept apart from the packaged policy.
{operator}	ALL=(ALL) NOPASSWD: ALL #! sudo.full-root-outside-admin-group sudo.full-root-without-password
%operators	ALL=(root) /usr/bin/systemctl restart surge-model, /usr/bin/systemctl start surge-model
%modellers	ALL=(modelrun) NOPASSWD: ALL
%modellers	ALL=(root) REPORTS #! sudo.unknown-name
""",
    )
    main = host.policies["/etc/sudoers"]
    host.policies["/etc/sudoers"] = File(f"{main.text}@include /etc/sudoers.local\n", 0o440)
    set_up_rocky(host, root="yes", password="yes")  # noqa: S106
    _curlew_roads(host, team, planted)
    return host


def _curlew_roads(host: HostBuilder, team: Team, planted: list[Planted]) -> None:
    """Root by password over SSH, an interpreter with a capability, a replaced program; groups that a session or PAM lends."""
    host.group("disk", 6)
    host.policies["/etc/pam.d/login"] = File("auth optional pam_group.so\nauth required pam_unix.so\n")
    lent = f"# The model is restored from tape at the console.\nlogin;tty*;{team['operators'][1].name};Al0000-2400;disk\n"
    host.policies["/etc/security/group.conf"] = File(lent)
    planted.append(Planted("groups.added-at-login", "curlew", "/etc/security/group.conf", 2))
    host.policies["/usr/share/polkit-1/actions/org.freedesktop.systemd1.policy"] = File(_ACTIONS)
    planted.append(Planted("running.polkit-without-password", "curlew", "/usr/share/polkit-1/actions/org.freedesktop.systemd1.policy", 5))
    planted.append(Planted("login.root-password", "curlew", "/etc/ssh/sshd_config", 2))
    host.listing("capabilities", "# file: /usr/bin/python3.9\nsecurity.capability=0x0100000280000000000000000000000000000000\n\n")
    host.listing("rpm-files", "python3\t100755\troot\troot\t\t\t/usr/bin/python3.9\n")
    planted.append(Planted("programs.root-equivalent", "curlew", "/usr/bin/python3.9", None))
    host.program("/usr/bin/chage", 0o4755)
    host.listing("rpm-files", f"shadow-utils\t104755\troot\troot\t{'0a' * 32}\t\t/usr/bin/chage\n")
    host.listing("program-digests", f"{'0b' * 32}\t/usr/bin/chage\n")
    planted.append(Planted("programs.modified", "curlew", "/usr/bin/chage", None))
    operator = team["operators"][1]
    ids = " ".join([str(operator.uid)] * 3)
    host.listing("processes", f"4711\t1\t{ids}\t{ids}\t10 3002\ttmux\n")
    planted.append(Planted("groups.revoked-but-active", "curlew", "/proc/4711/status", None))


def _dunlin_accounts(team: Team, planted: list[Planted]) -> HostBuilder:
    host = _base("dunlin", _DEBIAN, "sudo", "yescrypt", root="locked")
    _people(host, team["administrators"], team["technicians"], team["contractors"])
    host.account("gauge", 2004, state="empty", comment="log-in of the gauges' serial console")
    planted.append(Planted("accounts.empty-password", "dunlin", "/etc/shadow", len(host.passwords)))
    host.group("gauge", 2004)
    host.group("sudo", 27, *_names(team["administrators"]))
    host.group("calibration", 3004, *_names(team["technicians"][:4]))
    host.group("contractors", 3005, *_names(team["contractors"]))
    return host


def dunlin(team: Team, planted: list[Planted]) -> HostBuilder:
    """The gateway of the tide gauges, at the end of a long cable: convenience won here."""
    host = _dunlin_accounts(team, planted)
    technicians, contractors = (_names(team[name]) for name in ("technicians", "contractors"))
    _plant(host, planted, "/etc/sudoers", _policy("sudo", "Host_Alias GAUGES = dunlin, knot, plover"))
    _plant(
        host,
        planted,
        "/etc/sudoers.d/30-calibration",
        f"""\
%calibration	GAUGES=(ALL) NOPASSWD: ALL #! sudo.full-root-outside-admin-group sudo.full-root-without-password
{technicians[5]}	GAUGES=(root) /usr/local/sbin/calibrate-gauge ""
{contractors[0]}	GAUGES=({technicians[0]}) /usr/local/bin/gauge-report
{contractors[1]}	GAUGES=({technicians[0]}) ALL
""",
    )
    _plant(
        host,
        planted,
        "/etc/sudoers.d/40-contractors",
        f"""\
{contractors[2]}	GAUGES=(root) !/usr/local/sbin/calibrate-gauge #! sudo.overridden-rule
%contractors	GAUGES=(root) /usr/local/sbin/calibrate-gauge
""",
        mode=0o664,
        gid=0,
    )
    bench = "# Bench work of the contractors.\n%contractors GAUGES=(root) /usr/local/sbin/flash-gauge\n"
    _plant(host, planted, "/etc/sudoers.d/50-bench", bench, mode=0o666)
    planted.append(Planted("sudo.writable-policy", "dunlin", "/etc/sudoers.d/50-bench", None))
    _plant(
        host,
        planted,
        "/etc/sudoers.d/60-legacy",
        f"""\
# From the days of the old gauge software.
Defaults	env_keep += "LD_LIBRARY_PATH" #! sudo.loader-variables-kept
Defaults:%contractors	timestamp_timeout=-1 #! sudo.long-credential-cache
%contractors	GAUGES=(root) /usr/bin/tail -n 50 /var/log/gauges/* #! sudo.loose-arguments
{technicians[6]}	GAUGES=(root) ALL, !/bin/sh, !/bin/bash #! sudo.full-root-outside-admin-group sudo.bypassable-exclusion
{technicians[7]}	GAUGES=(root) SETENV: /usr/local/sbin/flash-gauge #! sudo.settable-environment
""",
    )
    set_up_debian(host, su="auth sufficient pam_wheel.so trust group=contractors\n")
    _dunlin_roads(host, team, planted)
    return host


def _dunlin_roads(host: HostBuilder, team: Team, planted: list[Planted]) -> None:
    """su unasked for some, a folder that the gauges mount as root, and a contractor's key that opens root on tern."""
    planted.append(Planted("login.su-without-password", "dunlin", "/etc/pam.d/su", 2))
    host.policies["/etc/exports"] = File("/srv/gauges gauge*.saltmarsh.example(rw,no_root_squash)\n")
    planted.append(Planted("running.nfs-root", "dunlin", "/etc/exports", 1))
    contractor = team["contractors"][0].name
    host.listing("private-keys", f"open\t/home/{contractor}/.ssh/id_ed25519\n")
    host.policies[f"/home/{contractor}/.ssh/id_ed25519"] = File(None, 0o600, team["contractors"][0].uid, kind="file")
    public = key_line(contractor, f"{contractor}@dunlin")
    host.policies[f"/home/{contractor}/.ssh/id_ed25519.pub"] = File(f"{public}\n", 0o644, team["contractors"][0].uid)


_ACTIONS = """\
<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE policyconfig PUBLIC "-//freedesktop//DTD PolicyKit Policy Configuration 1.0//EN"
        "https://specifications.freedesktop.org/polkit/latest/policyconfig.dtd">
<policyconfig>
  <action id="org.freedesktop.systemd1.manage-units">
    <description>Manage system services or other units</description>
    <defaults>
      <allow_any>auth_admin</allow_any>
      <allow_inactive>auth_admin</allow_inactive>
      <allow_active>yes</allow_active>
    </defaults>
  </action>
</policyconfig>
"""


HOSTS: tuple[Callable[[Team, list[Planted]], HostBuilder], ...] = (tern, curlew, dunlin)
