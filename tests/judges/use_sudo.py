"""Runs commands by the real sudo of this machine, or asks whether it would; prints an answer, one JSON line each.

A line is a JSON list: "run" or "ask", the account, the account to run as, and the words of the command.  Nothing here decides anything by itself.
"""

import json
import subprocess
import sys

for line in sys.stdin:
    what, account, target, words = json.loads(line)
    if what == "run":
        command = ["setpriv", f"--reuid={account}", f"--regid={account}", "--init-groups", "sudo", "-k", "-n", "-u", target, "--", *words]
        done = subprocess.run(command, capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL)
        answer = not any(said in done.stderr for said in ("sudo: ", "Sorry, ", "not in the sudoers file"))  # the command itself may fail
    else:
        done = subprocess.run(["sudo", "-l", "-U", account, "-u", target, "--", *words], capture_output=True, text=True, check=False)
        answer = done.returncode == 0 and words[0] in done.stdout
    print(json.dumps(answer), flush=True)
