"""Makes a large estate from a seed and measures how long it takes to tell who holds which right on all of its hosts.

10,000 hosts with 50 accounts each, which also know 2,000 people of one directory in 500 groups, nested and with cycles.  60 roles of hosts
share 40 policy files and 12 images of account files; one host in twenty has a file more than its role, one in fifty an account more in
its administrators' group.  Every host has its own name, address, time and process numbers.  With ``--different`` no two hosts are alike
by role.
"""

import argparse
import gc
import random
import resource
import time
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from hashlib import sha256

from msgspec import Struct

from fidelitas.audit import judged
from fidelitas.evidence import Bundle, Item, Listing, Manifest
from fidelitas.facts import Account, Directory, DirectoryGroup, DirectoryMember, Password, PasswordState, Place
from fidelitas.judging import Context
from fidelitas.rights import HostRights
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.estate.overlay import HostOverlay

SYSTEM = [
    "daemon",
    "bin",
    "sys",
    "sync",
    "games",
    "man",
    "lp",
    "mail",
    "news",
    "uucp",
    "proxy",
    "www-data",
    "backup",
    "list",
    "irc",
    "gnats",
    "nobody",
    "sshd",
    "messagebus",
    "ntp",
]
ESCAPES = ("/usr/bin/vim", "/usr/bin/less", "/usr/bin/find", "/bin/bash")
BOUNDED = ("/usr/bin/systemctl restart gauges", "/usr/bin/journalctl -u tides", "/usr/sbin/reload-tides", '/usr/bin/id ""')
LOCAL_GROUPS = {"wheel": 900, "sudo": 27, "ops": 901, "dba": 902, "docker": 903}
NSSWITCH = b"passwd: files sss\ngroup: files sss\nshadow: files\nsudoers: files\n"


class Estate(Struct, dict=True):
    """What the generator makes: a directory, and evidence of hosts."""

    chance: random.Random
    people: int
    groups: int
    roles: int

    def __post_init__(self) -> None:
        self.local = [f"local{number:02}" for number in range(29)]
        self.policies = [self._policy(number) for number in range(40)]
        self.images = [self._image() for _ in range(12)]
        self.drawn = [self._draw() for _ in range(self.roles)]

    def directory(self) -> Directory:
        place = Place(subject="saltmarsh", path="directory.ldif", line=1)
        chance = self.chance
        password = Password(state=PasswordState.SHADOWED)
        accounts = tuple(
            Account(
                name=f"person{n}", password=password, uid=100_000 + n, gid=200_000, comment="", home="/home/p", shell="/bin/sh", place=place
            )
            for n in range(self.people)
        )
        groups = []
        for number in range(self.groups):
            inside = {f"person{n}" for n in chance.sample(range(self.people), chance.randint(2, 14))}
            members = [DirectoryMember(name=name, is_group=False, place=place.at(number + 1)) for name in sorted(inside)]
            for _ in range(chance.choice([0, 1, 2, 3, 4])):
                deeper = range(number + 1, self.groups) if chance.random() >= 0.05 and number + 1 < self.groups else range(self.groups)
                members.append(DirectoryMember(name=f"team{chance.choice(deeper)}", is_group=True, place=place.at(number + 1)))
            groups.append(DirectoryGroup(name=f"team{number}", gid=300_000 + number, members=tuple(members), place=place))
        return Directory(subject="saltmarsh", accounts=accounts, groups=tuple(groups))

    def hosts(self, count: int) -> Iterator[Bundle]:
        for number in range(count):
            policies, image = self.chance.choice(self.drawn) if self.drawn else self._draw()
            if self.drawn and self.chance.random() < 0.05:
                policies = tuple(sorted({*policies, self.chance.randrange(8, 40)}))
            passwd, group = self.images[image]
            if self.chance.random() < 0.02:
                group = group.replace("wheel:x:900:", f"wheel:x:900:{self.chance.choice(self.local)},")
            yield self._bundle(number, policies, passwd, group)

    # -- one of each -------------------------------------------------------------------------------------------------------------

    def _policy(self, number: int) -> str:
        size = self.chance.choice([18, 20, 22]) if number < 8 else self.chance.choice([2, 3, 4, 5])
        return "".join(self._rule() + "\n" for _ in range(size))

    def _rule(self) -> str:
        chance, kind = self.chance, self.chance.random()
        if kind < 0.45:
            who = f"%team{chance.randrange(60 if chance.random() < 0.3 else self.groups)}"
        elif kind < 0.6:
            who = f"person{chance.randrange(self.people)}"
        elif kind < 0.9:
            who = chance.choice(self.local)
        else:
            who = f"%{chance.choice(['wheel', 'sudo', 'ops', 'dba'])}"
        target = "root" if chance.random() < 0.6 else chance.choice(self.local)
        everything, escape = (0.15, 0.25) if target == "root" else (0.4, 0.4)
        draw = chance.random()
        command = "ALL" if draw < everything else chance.choice(ESCAPES) if draw < escape else chance.choice(BOUNDED)
        return f"{who} ALL=({target}) {chance.choice(['', 'NOPASSWD: '])}{command}"

    def _image(self) -> tuple[str, str]:
        system = "".join(f"{name}:x:{n}:{n}::/:/usr/sbin/nologin\n" for n, name in enumerate(SYSTEM, 1))
        local = "".join(f"{name}:x:{1000 + n}:{1000 + n}::/home/{name}:/bin/bash\n" for n, name in enumerate(self.local))
        groups = "".join(
            f"{name}:x:{gid}:{','.join(self.chance.sample(self.local, self.chance.randint(0, 4)))}\n" for name, gid in LOCAL_GROUPS.items()
        )
        own = "".join(f"{name}:x:{1000 + n}:\n" for n, name in enumerate(self.local))
        return f"root:x:0:0::/root:/bin/bash\n{system}{local}", f"root:x:0:\n{groups}{own}"

    def _draw(self) -> tuple[tuple[int, ...], int]:
        chance = self.chance
        return tuple(sorted([chance.randrange(8), *chance.sample(range(8, 40), chance.choice([2, 3, 3, 4]))])), chance.randrange(12)

    def _bundle(self, number: int, policies: tuple[int, ...], passwd: str, group: str) -> Bundle:
        shadow = "".join(f"{line.split(':')[0]}:{{usable yescrypt}}:20000:0:99999:7:::\n" for line in passwd.splitlines())
        files = {
            "/etc/passwd": passwd.encode(),
            "/etc/group": group.encode(),
            "/etc/shadow": shadow.encode(),
            "/etc/gshadow": b"",
            "/etc/nsswitch.conf": NSSWITCH,
            "/etc/os-release": b"ID=debian\nVERSION_ID=12\n",
            "/etc/sudoers": b"root ALL=(ALL:ALL) ALL\n@includedir /etc/sudoers.d\n",
            **{f"/etc/sudoers.d/{policy:02}": self.policies[policy].encode() for policy in policies},
        }
        items = [Item(path=path, kind="folder", mode=0o755, uid=0, gid=0) for path in ("/", "/etc", "/etc/sudoers.d")]
        items += [
            Item(path=path, kind="file", mode=0o440, uid=0, gid=0, size=len(text), member=f"files{path}", sha256=sha256(text).hexdigest())
            for path, text in files.items()
        ]
        processes = "".join(f"{number + n}\t1\t0 0 0\t0 0 0\t0\tsh\n" for n in range(3)).encode()
        listings = {"file-systems": b"", "homes": b"", "kept-passwords": b"read\n", "processes": processes}
        manifest = Manifest(
            subject=f"host{number}", platform="linux", taken=datetime(2026, 11, 20, tzinfo=UTC) + timedelta(seconds=number), kernel="",
            live=True, probe=1, uid=0, items=tuple(items), gaps=(), addresses=(f"10.{number >> 16}.{number >> 8 & 255}.{number & 255}/8",),
            listings=tuple(Listing(name=name, member=f"listings/{name}", tool="") for name in listings),
        )  # fmt: skip
        return Bundle(manifest=manifest, files=files, listings=listings, gaps=())


def peak() -> float:
    """Return the most memory that this process has had, in MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def main() -> None:
    """Make the estate, tell its rights, print what it took."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--hosts", type=int, default=10_000)
    options.add_argument("--people", type=int, default=2_000)
    options.add_argument("--groups", type=int, default=500)
    options.add_argument("--different", action="store_true", help="draw every host's policies and accounts anew")
    chosen = options.parse_args()
    estate = Estate(random.Random(7), chosen.people, chosen.groups, 0 if chosen.different else 60)
    directory = estate.directory()
    hosts = list(estate.hosts(chosen.hosts))
    before, made = peak(), time.perf_counter()
    context = Context(nesting=Nesting(directory))
    told = [host for host in judged(hosts, context) if isinstance(host, HostRights)]
    solved = time.perf_counter()
    shared = Counter(id(host.first) if isinstance(host, HostOverlay) else id(host) for host in told)
    firsts = [host for host in told if not isinstance(host, HostOverlay)]
    pairs = sum((len(host.by_node) + len(host.group_edges)) * shared[id(host)] for host in firsts)
    took = solved - made
    print(f"{len(told)} hosts, {len(firsts)} distinct: {took:.1f} s (wanted: < 60), {took / len(firsts) * 1e3:.0f} ms a distinct host")
    print(f"{peak():.0f} MB at most, {before:.0f} of them the evidence (wanted: < 2000); {pairs:,} holdings")
    name = "person7"
    asked = time.perf_counter()
    held = [holding for host in told for holding in host.held_by(name)]
    print(f"every route of {name} on every host: {len(held):,} holdings, {time.perf_counter() - asked:.1f} s")


if __name__ == "__main__":
    gc.set_threshold(100_000, 20, 20)  # as the program itself does
    main()
