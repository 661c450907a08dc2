"""The file of an estate: what it declares, and what is wrong with it, each with its line and column."""

import tomllib
from contextlib import suppress
from pathlib import Path

import pytest
import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from fidelitas.errors import RequestError
from fidelitas.estate import Estate, has_tag, read_estate
from fidelitas.estate.inventory import expanded, listed_names
from fidelitas.estate.positions import positions_of
from support import fidelitas
from test_cli import check_schema

WHOLE = """\
format = 1
[ssh]
config = "ssh_config"

[defaults]
elevation = "sudo -n"
user = "auditor"
tags = ["site=coast"]

[tag.legacy]
elevation = "none"
port = 2222

[[host]]
name = "web-[08..10].saltmarsh.example"
tags = ["role=web", "production"]

[[host]]
name = ["tern", "dunlin"]
tags = ["legacy"]
user = "root"

[[host]]
name = "curlew"
address = "192.0.2.9"
collector = "/usr/local/lib/fidelitas/probe"
deadline = "10m"

[[host]]
list = "names.txt"

[[postgresql]]
name = "tides"
uri = "postgresql://auditor@db.saltmarsh.example/postgres"
tags = ["production"]
"""


def estate(text: str, names: str = "") -> Estate:
    return read_estate(text, "estate.toml", lambda _: names, lambda words: "\n".join(words[1:]))


def test_an_estate_is_what_its_file_says() -> None:
    read = estate(WHOLE, "# comment\navocet\n\ngodwit  # another\n")
    hosts = {host.name: host for host in read.hosts}
    assert list(hosts) == [*(f"web-{n}.saltmarsh.example" for n in ("08", "09", "10")), "tern", "dunlin", "curlew", "avocet", "godwit"]
    web, tern, curlew = hosts["web-08.saltmarsh.example"], hosts["tern"], hosts["curlew"]
    assert (web.user, web.elevation.value, web.port, web.tags) == ("auditor", "sudo -n", None, ("site=coast", "role=web", "production"))
    assert (tern.user, tern.elevation.value, tern.port) == ("root", "none", 2222)  # its own, its tag's
    assert (curlew.address, curlew.collector, curlew.deadline) == ("192.0.2.9", "/usr/local/lib/fidelitas/probe", 600)
    assert [(one.kind, one.name) for one in read.servers] == [("postgresql", "tides")]
    assert read.chosen(["web"]).names == [name for name in hosts if name.startswith("web")]
    assert read.chosen(["production"]).names[-1] == "tides"
    assert read.chosen([], ["tern"]).names == ["tern"]


@pytest.mark.parametrize(
    ("text", "line", "column", "what"),
    [
        ("format = 2\n", 1, 1, 'must say "format = 1"'),
        ("format = 1\nservers = []\n", 2, 1, '"servers" is not a part of the file; its parts are defaults, directory, format, '),
        ("format = 1\n\n[[database]]\nname = 'x'\n", 3, 1, '"database" is not a part of the file'),
        ("format = 1\n[host]\nname = 'x'\n", 2, 1, "write [[host]] with two brackets"),
        ("format = 1\n[[host]]\nname = 'x'\n  prot = 22\n", 4, 3, 'there is no setting "prot"'),
        ("format = 1\n[[host]]\nname = 'x'\nport = 70000\n", 4, 1, "from 1 to 65535"),
        ("format = 1\n[[host]]\nname = 'x'\nport = true\n", 4, 1, "from 1 to 65535"),
        ("format = 1\n[[host]]\nport = 22\n", 2, 1, 'no "name"'),
        ("format = 1\n[[host]]\nname = '-oProxyCommand=id'\n", 3, 1, "cannot name a host"),
        ("format = 1\n[[host]]\nname = 'x'\naddress = '-x'\n", 4, 1, "not an address"),
        ("format = 1\n[[host]]\nname = 'x'\naddress = 'a b'\n", 4, 1, "not an address"),
        ("format = 1\n[[host]]\nname = 'x'\ncollector = '/a; id'\n", 4, 1, "absolute path"),
        ("format = 1\n[[host]]\nname = 'x'\nuser = '-l'\n", 4, 1, "not an account"),
        ("format = 1\n[[host]]\nname = 'x'\n[[host]]\nname = ['y', 'x']\n", 4, 1, "declared before, in line 2"),
        ("format = 1\n[[host]]\nname = 'x[9..1]'\n", 3, 1, "not a range"),
        ("format = 1\n[[host]]\nname = 'x[1..2]'\naddress = 'y'\n", 4, 1, "of one host"),
        ("format = 1\n[defaults]\nelevation = 'su'\n[[host]]\nname = 'x'\n", 3, 1, "it can be none, sudo -n, doas -n"),
        ("format = 1\n[tag.web]\nname = 'x'\n", 3, 1, "no setting"),
        ("format = 1\n[[postgresql]]\nuri = 'postgresql://a:secret@h/d'\n", 3, 1, "has a password in it"),
        ("format = 1\n[[mariadb]]\nname = 'x'\n", 2, 1, 'no "uri"'),
        ("format = 1\nhost = 3\n", 2, 1, "two brackets"),
        ('format = 1\nx = """\n[[host]]\nport = 9\n"""\n[[host]]\nname = "a"\ntags = [\n  "web", # ]\n]\nport = 0\n', 11, 1, "65535"),
    ],
)
def test_mistakes_are_reported_with_line_and_column(text: str, line: int, column: int, what: str) -> None:
    with pytest.raises(RequestError) as error:
        estate(text)
    assert any(f"line {line}, column {column}: " in one and what in one for one in (*error.value.more, str(error.value))), str(error.value)


def test_all_mistakes_are_reported_at_once_and_what_is_no_toml_too(tmp_path: Path) -> None:
    file = tmp_path / "estate.toml"
    file.write_text("format = 1\n[[host]]\nname = 'x'\nport = 0\nuser = 7\n")
    file.chmod(0o644)
    ran = fidelitas("estate", "check", cwd=tmp_path)
    assert ran.status == 2
    assert "line 4, column 1" in ran.err
    assert "line 5, column 1" in ran.err
    file.write_text("format = \n")
    ran = fidelitas("estate", "check", cwd=tmp_path)
    assert (ran.status, "line 1, column 10" in ran.err) == (2, True)


def test_the_file_of_someone_else_is_not_used(tmp_path: Path) -> None:
    file = tmp_path / "estate.toml"
    file.write_text('format = 1\n[[host]]\nname = "x"\n')
    file.chmod(0o666)
    ran = fidelitas("survey", "--estate", file, cwd=tmp_path)
    assert ran.status == 4
    assert "others can write it" in ran.err


def test_lists_of_names_come_from_files_and_commands(tmp_path: Path) -> None:
    (tmp_path / "estate.toml").write_text(
        'format = 1\n[[host]]\nlist = "names"\n[[host]]\ncommand = ["echo", "[\\"avocet\\"]"]\ntags = ["bird"]\n'
    )
    (tmp_path / "names").write_text("tern\n")
    for name in ("names", "estate.toml"):
        (tmp_path / name).chmod(0o644)
    assert "2 hosts, 0 servers, 1 tag" in fidelitas("estate", "check", cwd=tmp_path).err
    document = fidelitas("estate", "list", "--format", "json", cwd=tmp_path).json
    check_schema("estate", document)
    assert [host["name"] for host in document["hosts"]] == ["tern", "avocet"]
    assert "avocet" in fidelitas("estate", "list", "--tag", "bird", cwd=tmp_path).out
    assert fidelitas("estate", "list", "--tag", "brid", cwd=tmp_path).status == 2
    assert fidelitas("survey", "--estate", "estate.toml", "--only", "nobody", cwd=tmp_path).status == 2
    assert fidelitas("survey", "--resume", cwd=tmp_path).status == 2


def test_tags_fit_by_word_or_by_value() -> None:
    assert has_tag(["role=web"], "web")
    assert has_tag(["role=web"], "role=web")
    assert not has_tag(["role=web"], "team=web")
    assert not has_tag(["website"], "web")


@given(st.integers(0, 120), st.integers(0, 40), st.integers(1, 4))
def test_a_range_is_its_numbers_padded_as_the_first(first: int, more: int, width: int) -> None:
    start = f"{first:0{width}}"
    names = list(expanded(f"a[{start}..{first + more}]b"))
    assert names == [f"a{number:0{len(start)}}b" for number in range(first, first + more + 1)]


@given(st.text(max_size=300))
def test_any_text_is_an_estate_or_a_mistake(text: str) -> None:
    for one in (text, f"format = 1\n[[host]]\n{text}", f"format = 1\n[[host]]\nname = {text!r}"):
        with suppress(RequestError):
            read = estate(one)
            assert all(not host.name.startswith("-") and host.name.isprintable() for host in read.hosts)
    positions_of(text)
    try:
        listed_names(text)
    except ValueError:
        return


@given(
    st.lists(
        st.sampled_from(["[a]", "[[a]]", "[a.b]", "x = 1", "y.z = '''", "'''", "w = [", "]", '  "k e" = {}', "# [c]", ""]), max_size=12
    )
)
def test_positions_are_those_of_what_toml_reads(lines: list[str]) -> None:
    """Every key of the first level that the library reads has a place, where its line says so."""
    text = "\n".join(lines)
    try:
        stated = tomllib.loads(text)
    except ValueError:
        return
    found = positions_of(text)
    for name in stated:
        paths = [path for path in found if path[0] == name]
        assert paths
        line = text.split("\n")[found[paths[0]].line - 1]
        assert name in line


settings = st.sampled_from(
    (
        "name",
        "address",
        "tags",
        "elevation",
        "port",
        "user",
        "identity",
        "collector",
        "deadline",
        "shell",
        "list",
        "command",
        "uri",
        "config",
        "repository",
        "files",
        "intended",
        "x",
    )
)
values = st.recursive(
    st.one_of(st.integers(-1, 70000), st.booleans(), st.floats(allow_nan=False), st.dates(), st.sampled_from(("", "x", "web[1..2]", "sudo", "none", "sh", "5m", "/a", "a b", "postgresql://h/d"))),
    lambda inner: st.one_of(st.lists(inner, max_size=2), st.dictionaries(st.sampled_from(("a", "/etc/sudoers")), inner, max_size=2)), max_leaves=3,
)  # fmt: skip
entries = st.dictionaries(settings, values, max_size=5)
parts = st.fixed_dictionaries(
    {"format": st.just(1)},
    optional={
        "defaults": st.one_of(entries, values), "tag": st.one_of(st.dictionaries(st.sampled_from(("x", "web")), st.one_of(entries, values), max_size=2), values), "ssh": st.one_of(entries, values),
        "policy": st.one_of(entries, values), **dict.fromkeys(("postgresql", "directory"), st.one_of(st.lists(entries, max_size=2), values)),
    },
)  # fmt: skip


@given(parts, st.lists(st.one_of(entries, entries.map(lambda one: {"name": "tern", "tags": ["web"], **one})), max_size=3))
def test_any_file_is_an_estate_or_refused(stated: dict[str, object], hosts: list[dict[str, object]]) -> None:
    text = tomlkit.dumps({**stated, "host": [{"name": "tern"}, *hosts]})
    with suppress(RequestError):
        estate(text)
