"""The account files and the small settings of a host: what each line states, and what a broken one costs."""

import ast
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.facts import LoginLimits, OperatingSystem, PasswordState, Place
from fidelitas.languages.linux.accounts import read_group, read_gshadow, read_passwd, read_shadow
from fidelitas.languages.linux.passwords import password
from fidelitas.languages.linux.settings import read_login_defs, read_nsswitch, read_os_release, read_policy_plugin
from fidelitas.text import decode

ORIGIN = Place(subject="knot", path="/etc/file")
ALL_READERS = (read_passwd, read_shadow, read_group, read_gshadow)


@pytest.mark.parametrize(
    ("field", "state", "algorithm"),
    [
        ("", "EMPTY", None),
        ("*", "NONE", None),
        ("!", "LOCKED", None),
        ("!!", "LOCKED", None),
        ("!*", "LOCKED", None),
        ("*LK*", "NONE", None),
        ("$y$j9T$x$y", "USABLE", "yescrypt"),
        ("!$6$x$y", "LOCKED", "sha512"),
        ("!!$5$x$y", "LOCKED", "sha256"),
        ("$2b$12$xyz", "USABLE", "bcrypt"),
        ("abJnggxhB/yWI", "USABLE", "des"),
        ("_J9..XXXXabcdefghijk", "USABLE", "bsdi"),
        ("$zz$new", "USABLE", "unknown"),
        ("{usable sha512}", "USABLE", "sha512"),
        ("{locked}", "LOCKED", None),
        ("{none}", "NONE", None),
        ("{else}", "NONE", None),
        ("x", "NONE", None),
    ],
)
def test_a_password_field_is_reduced_to_its_state(field: str, state: str, algorithm: str | None) -> None:
    stated = password(field)
    assert (stated.state, stated.algorithm) == (PasswordState[state], algorithm)


@given(st.text())
def test_no_hash_is_ever_kept(field: str) -> None:
    assert f"$6${field}" not in repr(password(f"$6${field}"))
    assert f"locked${field}" not in repr(password(f"!$y$locked${field}"))


def test_x_refers_to_the_shadow_file_only_where_there_is_one() -> None:
    assert password("x", shadowed=True).state is PasswordState.SHADOWED


@pytest.mark.parametrize(
    ("reader", "line", "error"),
    [
        (read_passwd, "ines:x:1001", '1:1: account: expected 4 to 7 fields separated by colons, found "ines:x:1001"'),
        (read_passwd, "ines:x:ten:1001::/:/bin/sh", '1:8: account: expected a user ID from 0 to 4294967294, found "ten:1001::/:/bin/sh"'),
        (read_passwd, "é:x:-1:1::/:/bin/sh", '1:6: account: expected a user ID from 0 to 4294967294, found "-1:1::/:/bin/sh"'),
        (read_passwd, f"a:x:{'9' * 5000}:1", '1:5: account: expected a user ID from 0 to 4294967294, found "' + "9" * 39 + '…"'),
        (read_passwd, "+@x:::::", '1:1: account: an entry that takes accounts from a directory service is not followed, found "+@x:::::"'),
        (read_shadow, "{malformed}", '1:1: password state: expected 2 to 9 fields separated by colons, found "{malformed}"'),
        (read_shadow, "ines:!:x::::::", '1:8: password state: expected a number of days from 0 to 2932896, found "x::::::"'),
        (read_group, "wheel:x:ten:zoe", '1:9: group: expected a group ID from 0 to 4294967294, found "ten:zoe"'),
        (read_group, "a\x1b[2J:x", '1:1: group: expected 3 to 4 fields separated by colons, found "a\\x1b[2J:x"'),
        (read_gshadow, "a", '1:1: group administrators: expected 2 to 4 fields separated by colons, found "a"'),
    ],
)  # fmt: skip
def test_a_broken_line_is_a_gap_and_the_next_is_read(reader: Callable[..., Any], line: str, error: str) -> None:
    good = {read_passwd: "z:x:1:1::/:/bin/sh", read_shadow: "z:!:::::::", read_group: "z:x:1:", read_gshadow: "z:!::"}[reader]
    parsed = reader(f"{line}\n{good}\n", ORIGIN)
    assert [str(gap) for gap in parsed.gaps] == [f"knot:/etc/file:{error}"]
    assert [(entry.name, entry.place.line) for entry in parsed.entries] == [("z", 2)]


def test_members_and_administrators_are_lists() -> None:
    group = read_group("gauges:x:3001:ines, rada,,tomas\n", ORIGIN).entries[0]
    assert group.members == ("ines", "rada", "tomas")
    shadow = read_gshadow("gauges:!:vesna:ines,rada", ORIGIN).entries[0]
    assert (shadow.administrators, shadow.members) == (("vesna",), ("ines", "rada"))


def test_only_a_line_feed_ends_a_line() -> None:
    entries = read_passwd("a\x0bb:x:1:1:\x85\u2028:/:/bin/sh\nc:x:2:2::/:/bin/sh", ORIGIN).entries
    assert [entry.name for entry in entries] == ["a\x0bb", "c"]


ODD_ACCOUNTS = """\
a:x:1:1::/:/bin/sh
  toor:x:0:0::/root:/bin/sh
sly:x:0:0::/:/bin/sh:
::0:0:::
short:x:4:4
shorter:x:4
#d:x:4:4::/:

f:!:6:6:x:/:/bin/sh
hex:x:0x10:1::/:/b
octal:x:010:1::/:/b
plus:x: +5:1::/:/b
after:x:5 :1::/:/b
minus:x:-1:1::/:/b
large:x:4294967296:1::/:/b
g h:x:9:9::/:/b
"""
ODD_GROUPS = """\
a:x:1:b:c
short:x:2
shorter:x
  c:x:3:x, y ,,z
none:x::x
:x:8:x
"""


@pytest.mark.judge
def test_the_c_library_reads_the_same_accounts_and_groups(tmp_path: Path, need: Callable[..., None]) -> None:
    """An account that the system takes is root for the system, however oddly its line is written."""
    need("unshare", root=True)
    for name, text in {"passwd": ODD_ACCOUNTS, "group": ODD_GROUPS, "nsswitch.conf": "passwd: files\ngroup: files\n"}.items():
        (tmp_path / name).write_text(text)
    mount = " && ".join(f"mount --bind {tmp_path}/{name} /etc/{name}" for name in ("passwd", "group", "nsswitch.conf"))
    ask = "import pwd, grp; print(repr(([tuple(who) for who in pwd.getpwall()], [tuple(group) for group in grp.getgrall()])))"
    shell = ["unshare", "--mount", "sh", "-c", f'{mount} && exec "$@"', "sh", sys.executable, "-c", ask]
    accounts, groups = ast.literal_eval(subprocess.run(shell, capture_output=True, text=True, check=True).stdout)
    ours = read_passwd(ODD_ACCOUNTS, ORIGIN).entries
    assert [(who.name, who.uid, who.gid, who.home, who.shell) for who in ours] == [
        (one[0], one[2], one[3], one[5], one[6]) for one in accounts
    ]
    assert [(group.name, group.gid, list(group.members)) for group in read_group(ODD_GROUPS, ORIGIN).entries] == [
        (group[0], group[2], group[3]) for group in groups
    ]


@pytest.mark.parametrize("reader", ALL_READERS)
@given(content=st.one_of(st.binary(), st.text(alphabet="a:,x\n0+#").map(str.encode)))
def test_any_content_is_survived(reader: Callable[..., Any], content: bytes) -> None:
    parsed = reader(decode(content), ORIGIN)
    assert len(parsed.entries) + len(parsed.gaps) <= content.count(b"\n") + 2


def test_a_binary_file_is_given_up_after_a_few_lines() -> None:
    gaps = read_passwd("\x7fELF\x01\n" * 1000, ORIGIN).gaps
    assert len(gaps) == 21
    assert gaps[-1].why == "20 broken lines: the rest is not read"


NAMES = st.text(alphabet="abcdefghijklmnopqrstuvwxyz_-0123456789", min_size=1, max_size=8).filter(lambda name: name[0] != "-")


@given(st.lists(st.tuples(NAMES, st.integers(0, 2**32 - 2), st.lists(NAMES, max_size=4)), max_size=8))
def test_what_is_written_is_read_back(groups: list[tuple[str, int, list[str]]]) -> None:
    text = "".join(f"{name}:x:{gid}:{','.join(members)}\n" for name, gid, members in groups)
    assert [(entry.name, entry.gid, list(entry.members)) for entry in read_group(text, ORIGIN).entries] == groups


@pytest.mark.parametrize(
    ("text", "family", "version"),
    [
        ('ID="rocky"\nID_LIKE="rhel centos fedora"\nVERSION_ID="9.4"', ("rocky", "rhel", "centos", "fedora"), "9.4"),
        ("ID=debian\nID=ubuntu\n", ("ubuntu",), ""),
        ("nonsense", ("linux",), ""),
        ("ID='unfinished\n", ("'unfinished",), ""),
        ("ID=", ("linux",), ""),
    ],
)
def test_os_release(text: str, family: tuple[str, ...], version: str) -> None:
    system = read_os_release(text, ORIGIN)
    assert isinstance(system, OperatingSystem)
    assert (system.family, system.version) == (family, version)


@pytest.mark.parametrize(
    ("text", "limits"),
    [
        ("UID_MIN\t\t 1000\nUID_MAX 60000\n", (1000, 60000)),
        ("#UID_MIN 500\nUID_MIN 0x3e8\nUID_MIN 02000", (1024, None)),
        ("UID_MIN lots\nUID_MAX " + "9" * 5000, (None, None)),
        ('UID_MIN "500"', (500, None)),
        ("", (None, None)),
    ],
)
def test_login_defs(text: str, limits: tuple[int | None, int | None]) -> None:
    assert read_login_defs(text, ORIGIN) == LoginLimits(uid_min=limits[0], uid_max=limits[1])


def test_nsswitch_lists_sources_without_reactions() -> None:
    services = read_nsswitch("passwd: files [NOTFOUND=return] sss # x\n# group: ldap\nsudoers:files\nbroken\n", ORIGIN)
    assert [(service.database, service.sources) for service in services] == [("passwd", ("files", "sss")), ("sudoers", ("files",))]


def test_sudo_conf_names_the_policy_plugin_and_its_file() -> None:
    plugin = read_policy_plugin("# x\nPlugin sudoers_policy sudoers.so sudoers_file=/etc/alt sudoers_uid=5\n", ORIGIN)
    assert plugin is not None
    assert (plugin.path, plugin.sudoers_file, plugin.sudoers_uid, plugin.sudoers_gid) == ("sudoers.so", "/etc/alt", 5, 0)
    assert read_policy_plugin("Plugin sudoers_io sudoers.so\n", ORIGIN) is None


@given(st.text())
def test_settings_survive_any_text(text: str) -> None:
    for reader in (read_os_release, read_login_defs, read_nsswitch, read_policy_plugin):
        reader(text, ORIGIN)
