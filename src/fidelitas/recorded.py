"""Which lines of logs concern privilege: one table for those who read logs, and for the collector, which copies no others.

Programs are named as in syslog and the journal, records as in the audit log, fields as in the journal (systemd.journal-fields(7)).
"""

import re

__all__ = ["JOURNAL_FIELDS", "OF_AUDIT", "ONLY_PAM", "PROGRAMS", "RECORDS", "shell_words", "tag_expression"]

# Of these what PAM says alone: by which account a door was opened, or not.  What else they write can hold what was typed for a name.
ONLY_PAM = (
    "gdm-password]", "gdm-autologin]", "gdm-fingerprint]", "gdm-smartcard]", "gdm-pin]", "lightdm", "sddm-helper", "xrdp-sesman",
    "cockpit-session", "vsftpd", "proftpd",
)  # fmt: skip
PROGRAMS = (
    "sudo", "su", "sshd", "sshd-session", "login", "useradd", "usermod", "userdel", "groupadd", "groupmod", "groupdel", "gpasswd",
    "passwd", "chpasswd", "chage", "chsh", "chfn", "newusers", "pkexec", "doas", "CRON", "cron", "crond", "CROND", "crontab",
    "sudoedit", "sudo.ws", "sudo-rs", "su-rs", "runuser", "sshd-auth", "polkitd", "polkit-agent-helper-1", "run0", "sudo_logsrvd",
    "vipw", "vigr", "chgpasswd", "groupmems", "adduser", "addgroup", "deluser", "delgroup", "ksu", "dropbear", "atd", "newgrp", "sg",
    "grpck", "pwck", "sshd(pam_google_authenticator)", "sudo(pam_google_authenticator)", "su(pam_google_authenticator)",
    "login(pam_google_authenticator)", "accounts-daemon", "systemd-sysusers",
    *ONLY_PAM,
)  # fmt: skip

# Hand on records of the audit log: its dispatcher to syslog, under two names, and journald to the journal.  The collector copies the log.
OF_AUDIT = ("audit", "audispd", "audisp-syslog")

# Of the audit log; of system calls only those that give a user root's rights, with the arguments of what was run.
RECORDS = (
    "USER_CMD", "USER_AUTH", "USER_LOGIN", "USER_START", "USER_END", "USER_CHAUTHTOK", "USER_MGMT", "USER_ACCT", "GRP_MGMT", "GRP_AUTH",
    "ADD_USER", "DEL_USER", "ADD_GROUP", "DEL_GROUP", "ACCT_LOCK", "ACCT_UNLOCK", "CONFIG_CHANGE", "DAEMON_START", "DAEMON_END",
    "DAEMON_ABORT", "DAEMON_CONFIG",
)  # fmt: skip

# Of an entry of the journal, beside when it was received, which every entry has.
JOURNAL_FIELDS = (
    "SYSLOG_IDENTIFIER", "MESSAGE", "SYSLOG_PID", "_HOSTNAME", "_PID", "_UID", "_COMM", "_EXE", "_CAP_EFFECTIVE", "_AUDIT_LOGINUID",
    "_SOURCE_REALTIME_TIMESTAMP",
)  # fmt: skip


def tag_expression(names: tuple[str, ...]) -> str:
    """Return an extended regular expression (POSIX) for some names, without a character that a shell or awk would take for its own."""
    return "|".join(re.sub(r"[^\w-]", lambda found: f"[{found[0]}]", name) for name in names)


def shell_words(names: tuple[str, ...]) -> str:
    """Return some names as words of a shell; none of them has a quotation mark."""
    return " ".join(f"'{name}'" for name in names)
