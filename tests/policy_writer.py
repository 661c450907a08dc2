"""Makes sudo policies and questions about them from a seed: every feature, nested, odd in form, and sometimes broken."""

import hashlib
import random
from typing import Any

ACCOUNTS = {"root": 0, "toor": 0, "ines": 1001, "tomas": 1002, "rada": 1003, "vesna": 1004, "Kofi": 1005, "web app": 1006}
GROUPS = {"root": 0, "ops": 2001, "Dev": 2002, "night": 2003, "two words": 2004}
HOSTS = ["knot", "tern.saltmarsh.example", "web01", "web02.saltmarsh.example"]
ADDRESSES = [[], ["10.1.2.3/24", "fd00:1:2::3/64"], ["192.168.50.10/16", "172.16.5.9/30", "2001:db8:7::9/48"]]
COMMANDS = [
    *(f"/bin/{name}" for name in ("ls", "cat", "sh", "bash", "kill", "id")),
    *(f"/usr/bin/{name}" for name in ("ls", "id", "less", "vim", "systemctl", "tail", "env")),
    *(f"/usr/sbin/{name}" for name in ("useradd", "nginx", "visudo")),
    *(f"/opt/app/bin/{name}" for name in ("start", "stop", "status", ".hidden", "app-ctl")),
    "/opt/app/bin/sub/tool", "/opt/app-2/bin/start", "/opt/app-2/bin/stop", "/opt/odd/a b", "/opt/odd/a,b", "/opt/odd/a:b", "/opt/odd/a=b",
    "/opt/odd/a#b", "/opt/odd/x", "/opt/odd/[x]", "/opt/odd/é", "/srv/run1", "/srv/run2", "/srv/run10", "/srv/runX",
]  # fmt: skip
LINKS = {"/usr/local/bin/ls": "/bin/ls", "/usr/local/bin/current": "/opt/app/bin/start", "/opt/now": "app", "/opt/alias/id": "/usr/bin/id"}
ARGUMENTS = [
    "",
    "",
    "-l",
    "-l /tmp",
    "/etc/passwd",
    "/var/log/a.log",
    "/var/log/../../etc/shadow",
    "restart web",
    "restart  web",
    "a,b",
    "a:b",
    "x=y",
    "-u root",
    "[x]",
    "*",
    "A1",
    "é",
]


def content(path: str) -> bytes:
    return f"#!/no/such/interpreter\n{path}\n".encode()


class PolicyWriter:
    """One world: accounts, groups, netgroups, a policy with includes, and questions."""

    def __init__(self, seed: int) -> None:
        self.chance = random.Random(seed)
        self.members = {
            name: self.chance.sample([one for one in ACCOUNTS if one != "web app"], self.chance.randrange(4)) for name in GROUPS
        }
        self.primary = {name: self.chance.choice([uid, uid, *GROUPS.values()]) for name, uid in ACCOUNTS.items()}
        self.aliases = {
            kind: [f"{kind[0]}{number}" for number in range(self.chance.randrange(1, 4))] for kind in ("User", "Runas", "Host", "Cmnd")
        }

    # -- the host ----------------------------------------------------------------------------------------------------------------

    def files(self) -> dict[str, str]:
        passwd = "".join(f"{name}:x:{uid}:{self.primary[name] if uid else 0}::/tmp:/bin/sh\n" for name, uid in ACCOUNTS.items())
        group = "".join(f"{name}:x:{gid}:{','.join(self.members[name])}\n" for name, gid in GROUPS.items())
        group += "".join(f"g{uid}:x:{uid}:\n" for uid in ACCOUNTS.values() if uid)
        netgroup = (
            "people (,ines,) (,tomas,)\nnested people (,rada,)\nplaces (knot,,) (tern.saltmarsh.example,,)\nboth (web01,vesna,)\nempty\n"
        )
        shadow = "".join(f"{name}:*:19000:0:99999:7:::\n" for name in ACCOUNTS)
        files = {
            "/etc/passwd": passwd,
            "/etc/group": group,
            "/etc/netgroup": netgroup,
            "/etc/shadow": shadow,
            "/etc/sudoers": self.policy(),
        }
        for name in self.chance.sample(["10-a", "9-b", "UPPER", "low.conf", "old~", "_x"], self.chance.randrange(3)):
            files[f"/etc/sudoers.d/{name}"] = "".join(self.rule() for _ in range(self.chance.randrange(1, 3)))
        files["/etc/sudoers.extra"] = self.rule()
        return files

    # -- members -----------------------------------------------------------------------------------------------------------------

    def listed(self, choices: list[str], alias_kind: str) -> str:
        picked = []
        for _ in range(self.chance.choice([1, 1, 1, 2, 3, 4])):
            one = self.chance.choice([*choices, *self.aliases[alias_kind]])
            picked.append(self.chance.choice(["", "", "", "", "!", "!!", "! ", "!!!"]) + one)
        return self.chance.choice([", ", ",", " , "]).join(picked)

    def users(self) -> str:
        if self.chance.random() < 0.35:
            return self.chance.choice(["ALL", "ines, tomas, vesna, rada", "ALL, !rada"])
        return self.listed(["ALL", "ines", "INES", "tomas", "rada", "vesna", "kofi", "#1002", "#0", "root", "%ops", "%DEV", "%#2003", "%night", '"%two words"',
                            '"web app"', "web\\ app", "+people", "+nested", "+both", "%:none", "NOSUCH", "nosuch", "in\\x65s"], "User")  # fmt: skip

    def hosts(self) -> str:
        if self.chance.random() < 0.55:
            return "ALL"
        return self.listed(["ALL", "ALL", "knot", "KNOT", "tern", "tern.saltmarsh.example", "web*", "*.saltmarsh.example", "web0[12]", "[^k]*", "+places", "+both",
                            "10.1.2.3", "10.1.2.0", "10.1.2.77/24", "10.0.0.0/8", "192.168.0.0/255.255.0.0", "10.1.2.3/32", "10.1.2.2/31", "10.1.2.1/30", "172.16.5.10/30", "10.1.2.4/32", "2001:db8:7::9/128", "fd00:1:2::/64", "2001:db8:7::9", "10.0.0.0/33",
                            "172.16.5.8"], "Host")  # fmt: skip

    def targets(self) -> str:
        return self.listed(["ALL", "root", "toor", "#0", "rada", "#1004", "%ops", "%#2002", "kofi", "+people", "tomas"], "Runas")

    def target_groups(self) -> str:
        return self.listed(["ALL", "ops", "#2002", "night", "dev", "nosuch"], "Runas")

    def run_as(self) -> str:
        forms = [
            "",
            "",
            f"({self.targets()})",
            f"({self.targets()} : {self.target_groups()})",
            f"(: {self.target_groups()})",
            "()",
            "(:)",
            "(ALL:ALL)",
            "(ALL:ALL)",
            "(ALL)",
            "(ALL)",
        ]
        return self.chance.choice(forms)

    def escaped(self, path: str) -> str:
        return "".join(f"\\{one}" if one in ",:= \t#" else one for one in path)

    def arguments(self) -> str:
        patterns = ["", "", "", ' ""', " -l", " -l *", " *", " /var/log/*", " /var/log/*.log", " restart [a-z]*", " restart web", " a\\,b", " x=y", " a\\:b",
                    " [[\\:alpha\\:]]*", " \\*", " ?1", " ^-[lu].*$", " ^(restart|stop) web$", " ^.*$", "  -l   /tmp ", " !x", ' "-l"', " -l \\\n  /tmp"]  # fmt: skip
        return self.chance.choice(patterns)

    def command(self) -> str:
        kind = self.chance.randrange(14)
        if kind < 5:
            return self.escaped(self.chance.choice(COMMANDS)) + self.arguments()
        path = self.chance.choice(COMMANDS)
        digest = hashlib.new(algorithm := self.chance.choice(["sha224", "sha256", "sha384", "sha512"]), content(path)).hexdigest()
        return [
            "ALL",
            "ALL",
            self.chance.choice(["/bin/", "/usr/bin/", "/opt/app/bin/", "/opt/*/bin/", "/nosuch/"]),
            self.chance.choice(["/bin/*", "/srv/run?", "/srv/run[0-9]*", "/opt/*/bin/start", "/usr/*/id", "/opt/odd/[[]x]", "/*/bin/*", "/opt/app/bin/*"]) + self.arguments(),
            self.chance.choice(["^/srv/run[0-9]+$", "^/bin/(ls|cat)$", "^/usr/.*$", "^(?i)/BIN/LS$", "^/bin/[$"]) + self.arguments(),
            self.chance.choice(["sudoedit", "sudoedit /etc/*", "sudoedit /etc/passwd", "/usr/bin/sudoedit /etc/motd", "list"]),
            f"{algorithm}:{digest} {self.escaped(path)}",
            f"sha224:{'0' * 56}, {algorithm}:{digest} {self.escaped(path)}{self.arguments()}",
            self.chance.choice(["/usr/local/bin/ls", "/opt/now/bin/start", "/usr/local/bin/current", "/nosuch/tool", "/opt/alias/id", "//bin/ls", "/bin/../bin/cat"]) + self.arguments(),
        ][kind - 5]  # fmt: skip

    def commands(self) -> str:
        picked = []
        for _ in range(self.chance.choice([1, 1, 2, 3])):
            one = self.chance.choice([self.command(), self.command(), self.chance.choice(self.aliases["Cmnd"]), "GONE"])
            bang = self.chance.choice(["", "", "", "!"]) if not one.startswith("sha") else ""
            picked.append(bang + one)
        return ", ".join(picked)

    # -- statements --------------------------------------------------------------------------------------------------------------

    def spec(self) -> str:
        options = self.chance.choice(
            [
                "",
                "",
                "",
                "",
                "CWD=/tmp ",
                "TIMEOUT=5m ",
                "NOTAFTER=20200101000000Z ",
                "NOTBEFORE=20200101000000Z ",
                "NOTAFTER=20990101000000Z ",
            ]
        )
        tags = self.chance.choice(
            ["", "", "", "NOPASSWD: ", "PASSWD:", "NOEXEC: ", "NOPASSWD:SETENV: ", "NOPASSWD: PASSWD: ", "NOPASSWD : LOG_OUTPUT: "]
        )
        first, *rest = self.commands().split(", ") if self.chance.random() < 0.3 else [self.commands()]
        return ", ".join([f"{self.run_as()} {options}{tags}{first}", *rest])

    def rule(self) -> str:
        parts = [
            f"{self.hosts()} {self.chance.choice(['=', ' = ', '= '])}{', '.join(self.spec() for _ in range(self.chance.choice([1, 1, 2])))}"
        ]
        if self.chance.random() < 0.15:
            parts.append(f"{self.hosts()} = {self.spec()}")
        tail = self.chance.choice(["", "", "", "", "", " # comment", " : ", " : broken", "\\\n"])
        return f"{self.users()} {' : '.join(parts)}{tail}\n"

    def alias(self, kind: str, name: str) -> str:
        makers = {"User": self.users, "Runas": self.targets, "Host": self.hosts, "Cmnd": self.commands}
        return f"{kind}_Alias {name} = {makers[kind]()}\n"

    def default(self) -> str:
        return self.chance.choice([
            "Defaults !authenticate", f"Defaults:{self.users()} !authenticate", f"Defaults>{self.targets()} !authenticate", f"Defaults@{self.hosts()} !authenticate",
            "Defaults authenticate", "Defaults!/bin/ls !authenticate", f"Defaults!{self.aliases['Cmnd'][0]} !authenticate", "Defaults runas_default=rada",
            "Defaults:ines runas_default=tomas", "Defaults fast_glob", "Defaults !case_insensitive_user", "Defaults !case_insensitive_group", "Defaults match_group_by_gid",
            "Defaults exempt_group=ops", "Defaults !root_sudo", "Defaults !use_netgroups", "Defaults netgroup_tuple", "Defaults secure_path=/bin:/usr/bin",
            'Defaults secure_path="/opt/app/bin:/usr/bin"', "Defaults nosuch_option", "Defaults authenticate=yes", "Defaults env_reset, !lecture", "Defaults runas_default",
        ]) + "\n"  # fmt: skip

    def policy(self) -> str:
        lines = ["Defaults !fqdn\n"] if self.chance.random() < 0.1 else []
        lines += [self.alias(kind, name) for kind, names in self.aliases.items() for name in names]
        lines += [self.default() for _ in range(self.chance.choice([0, 0, 1, 2, 3]))]
        lines += [self.rule() for _ in range(self.chance.randrange(2, 8))]
        lines += self.chance.sample(["@includedir /etc/sudoers.d\n", "@include sudoers.extra\n", "#include /etc/sudoers.extra\n", "# a comment\n", "\n", "broken line\n",
                                     "ines ALL = /bin/ls\\\n , /bin/cat\n", "@include missing\n"], self.chance.randrange(4))  # fmt: skip
        self.chance.shuffle(lines)
        return "".join(lines)

    # -- questions ---------------------------------------------------------------------------------------------------------------

    def question(self, number: int) -> dict[str, Any]:
        path = self.chance.choice(
            [
                *COMMANDS,
                *LINKS,
                *COMMANDS[:9],
                "/bin/../bin/ls",
                "//usr/bin/id",
                "/nosuch/tool",
                "ls",
                "id",
                "start",
                "nosuch",
                "sudoedit",
                "/opt/now/bin/start",
            ]
        )
        words = self.chance.choice(ARGUMENTS)
        arguments = words.split(" ") if words and self.chance.random() < 0.7 else [words] if words else []
        if path == "sudoedit":
            arguments = [self.chance.choice(["/etc/passwd", "/etc/motd", "/etc/a/b"])]
        asked: dict[str, Any] = {"id": number, "account": self.chance.choice([*ACCOUNTS, "ines", "tomas"]), "command": [path, *arguments]}
        asked |= {"host": self.chance.choice(HOSTS), "addresses": self.chance.choice(ADDRESSES)}
        if self.chance.random() < 0.5:
            asked["run_as"] = self.chance.choice([*ACCOUNTS, "#0", "#1003", "rada", "root"])
        if self.chance.random() < 0.25:
            asked["run_as_group"] = self.chance.choice([*GROUPS, "#2002", "g1001"])
        return asked

    def case(self, questions: int) -> dict[str, Any]:
        files = self.files()
        return {
            "files": files,
            "modes": {"/etc/shadow": "640"},
            "commands": COMMANDS,
            "links": LINKS,
            "questions": [self.question(number) for number in range(questions)],
        }
