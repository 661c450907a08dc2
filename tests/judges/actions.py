#!/usr/bin/env python3
"""What made-up accounts do in the world of logging_world.sh, each as itself; the password of X is X-pw."""

import os
import pty
import subprocess
import sys

PLACE = sys.argv[1] if len(sys.argv) > 1 else os.environ["DEEDS_PLACE"]
UIDS = {"ines": 4101, "tomas": 4102, "rada": 4103, "vesna": 4104, "kofi": 4105}


def as_account(name: str, *words: str, typed: str = "") -> None:
    """Run a command as an account, with what it types."""
    ids = ["--reuid", str(UIDS[name]), "--regid", str(UIDS[name]), "--init-groups"]
    subprocess.run(["setpriv", *ids, *words], input=typed, text=True, capture_output=True, check=False, cwd="/", timeout=120)


def on_terminal(name: str, *words: str, typed: bytes) -> None:
    """The same on a terminal of its own, typed line by line whenever a prompt or nothing more comes."""
    pid, terminal = pty.fork()
    if pid == 0:
        os.execvp("setpriv", ["setpriv", "--reuid", str(UIDS[name]), "--regid", str(UIDS[name]), "--init-groups", *words])
    os.write(terminal, typed)
    try:
        while os.read(terminal, 4096):
            pass
    except OSError:  # its end
        pass
    os.waitpid(pid, 0)


as_account("ines", "sudo", "-S", "/usr/bin/id", "-u", typed="ines-pw\n")
as_account("tomas", "sudo", "-n", "/usr/bin/true")
as_account("tomas", "sudo", "-S", "/usr/bin/false", typed="tomas-pw\n")
as_account("rada", "sudo", "-S", "/usr/bin/id", typed="a\nb\nc\n")
as_account("kofi", "sudo", "-S", "/usr/bin/id", typed="kofi-pw\n")
as_account("tomas", "sudo", "-n", "-i", "/usr/bin/true")
as_account("tomas", "sudo", "-n", "/usr/bin/true")
as_account("tomas", "sudo", "-n", "/usr/bin/true", ";", "EXIT=0")
as_account("tomas", "sudo", "-n", "/usr/bin/true", "a b", "it's", 'q"x', "back\\slash", "", "tab\tx", "new\nline", ";", "USER=rada")
as_account("tomas", "sudo", "-n", "/usr/bin/true", *map(str, range(600)), "x" * 1500, "end")
on_terminal("tomas", "sudo", "su", "-", typed=b"sudo -u rada /usr/bin/printf of-root\nexit\n")
as_account("tomas", "env", "EDITOR=/usr/bin/true", "sudo", "-n", "-e", f"{PLACE}/motd")
as_account("vesna", "su", "root", "-c", "true", typed="wrong\n")
as_account("vesna", "su", "tomas", "-c", "true", typed="tomas-pw\n")
