"""Puts questions to the real sudo of this machine and prints its answers, one JSON line each.

A question is a line "ACCOUNT TARGET"; asked is whether ACCOUNT may run a command that no rule names as TARGET, and, where it may, whether
sudo asks for a password.  Nothing here decides anything by itself.
"""

import json
import subprocess
import sys

COMMAND = "/usr/bin/stat"


def ask(account: str, target: str) -> dict[str, object]:
    listed = subprocess.run(["sudo", "-l", "-U", account, "-u", target, COMMAND], capture_output=True, text=True, check=False)
    allowed = listed.returncode == 0 and COMMAND in listed.stdout
    answer: dict[str, object] = {"account": account, "target": target, "allowed": allowed, "password": None}
    if allowed:
        command = ["setpriv", f"--reuid={account}", f"--regid={account}", "--init-groups", "sudo", "-k", "-n", "-u", target, COMMAND, "/"]
        ran = subprocess.run(command, capture_output=True, text=True, check=False)
        answer["password"] = "a password is required" in ran.stderr
        if ran.returncode != 0 and not answer["password"]:
            answer["trouble"] = ran.stderr
    return answer


for line in sys.stdin:
    print(json.dumps(ask(*line.split())), flush=True)
