"""Measures what matters to users and prints ratios taken in one run; fails nothing."""

import gc
import io
import json
import random
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from statistics import median

from fidelitas.evidence import Item, Manifest, make_bundle, read_bundle
from fidelitas.facts import Place
from fidelitas.inquiry import Inquiry
from fidelitas.languages.sudoers.parser import Statements, parse_policy

BARE_CLICK = """
import importlib, click
class Lazy(click.Group):
    def list_commands(self, ctx): return ["a", "b"]
    def get_command(self, ctx, name): return None
@click.command(cls=Lazy)
def main(): "A group."
main()
"""


def seconds(call: Callable[[], object]) -> float:
    begun = time.perf_counter()
    call()
    return time.perf_counter() - begun


def ratio(name: str, ours: Callable[[], object], theirs: Callable[[], object], *, rounds: int = 9) -> None:
    """Print the median of the ratios of paired runs, alternating."""
    pairs = [(seconds(ours), seconds(theirs)) for _ in range(rounds)]
    middle = median(one / other for one, other in pairs)
    print(f"{name}: {middle:.2f} (median of {rounds} pairs; ours {median(one for one, _ in pairs):.3f} s)")


def start_up() -> None:
    with tempfile.TemporaryDirectory() as folder:
        script = Path(folder) / "bare.py"
        script.write_text(BARE_CLICK)
        bare = [sys.executable, str(script), "--help"]
        for argument in ("--help", "--version"):
            ours = [str(Path(sys.executable).with_name("fidelitas")), argument]
            ratio(
                f"fidelitas {argument} / bare Click with a lazy group (wanted: <= 1.5)",
                lambda command=ours: subprocess.run(command, check=True, capture_output=True),
                lambda: subprocess.run(bare, check=True, capture_output=True),
            )


def policy(lines: int) -> str:
    """Return a policy of some 60 bytes a line, of the usual forms."""
    forms = (
        "User_Alias TEAM{n} = alice{n}, bob{n}, %group{n}",
        "Cmnd_Alias TOOLS{n} = /usr/bin/systemctl restart unit{n}, /usr/bin/tail -n 100 /var/log/unit{n}.log",
        "TEAM{n} ALL = (root) NOPASSWD: TOOLS{n}, !/bin/sh",
        "carol{n} web{n}.example = (www-data:adm) /usr/local/bin/deploy --site site{n}",
        "%ops{n} ALL = (ALL) ALL, !/usr/bin/passwd root",
        "Defaults:dave{n} !lecture, passwd_tries={n}",
        "# a comment about number {n}",
    )
    return "".join(forms[n % len(forms)].format(n=n) + "\n" for n in range(lines))


def policy_speed() -> None:
    text = policy(100_000)
    token = re.compile(r'[^\s,:=()"!#]+|[,:=()"!#]|\n')
    statements = Statements()
    parse = lambda: parse_policy(text, Place(subject="knot", path="/etc/sudoers"), lambda *_: None, Statements())  # noqa: E731
    parse_policy(text, Place(subject="knot", path="/etc/sudoers"), lambda *_: None, statements)
    taken = seconds(parse)
    speed = len(text) / 1e6 / taken
    print(f"policy of 100,000 lines: {speed:.2f} MB/s, {len(statements.rules)} rules, {len(statements.gaps)} errors")
    ratio("policy parsing / token floor (one compiled regex)", parse, lambda: token.findall(text), rounds=3)


def decision_speed() -> None:
    """Questions through the same path as `may --batch`, on a policy of 200 rules."""
    chance = random.Random(1)
    names = [f"user{number}" for number in range(60)]
    rules = "".join(
        f"{chance.choice([*names, '%staff'])} ALL = ({chance.choice(['root', 'ALL', 'user1'])}) /usr/bin/tool{number}"
        f"{chance.choice(['', ' -l *', ' restart web', ' ^a.*$'])}, /opt/x{number}/bin/\n"
        for number in range(200)
    )
    passwd = "root:x:0:0::/:/bin/sh\n" + "".join(f"{name}:x:{1000 + n}:{1000 + n}::/:/bin/sh\n" for n, name in enumerate(names))
    files = {"/etc/passwd": passwd, "/etc/group": f"staff:x:50:{','.join(names[:20])}\n", "/etc/sudoers": rules}
    now = datetime(2026, 11, 20, tzinfo=UTC)
    items = tuple(Item(path=path, kind="file", mode=0o440, uid=0, gid=0) for path in files)
    manifest = Manifest(
        subject="knot", platform="linux", taken=now, kernel="", live=True, probe=1, uid=0, items=items, gaps=(), addresses=()
    )
    made = make_bundle(manifest, {path: text.encode() for path, text in files.items()})
    inquiry = Inquiry(read_bundle(io.BytesIO(made)))
    questions = [
        json.dumps(
            {"id": n, "account": chance.choice(names), "command": [f"/usr/bin/tool{chance.randrange(200)}", "-l", f"x{n % 1000}"],
             "run_as": chance.choice(["root", "user1", None])}
        )
        for n in range(60_000)
    ]  # fmt: skip
    taken = seconds(lambda: list(inquiry.batch(questions, now)))
    print(f"may --batch, 200 rules: {len(questions) / taken:,.0f} questions a second on one core (wanted: 20,000)")


if __name__ == "__main__":
    gc.set_threshold(100_000, 20, 20)  # as the program itself does
    start_up()
    policy_speed()
    decision_speed()
