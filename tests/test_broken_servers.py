"""Servers that refuse, never answer, or go away midway: one clear line that names them, and nothing that was read before is lost."""

import shutil
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from mariadb_server import PROGRAM, Server, scratch_server
from relay import relay
from slapd_server import BASE, Slapd
from support import Ran, fidelitas
from test_directory import LDIF, slapd

__all__ = ["slapd"]  # the fixture


@pytest.fixture(scope="module")
def mariadb(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    if PROGRAM is None:
        pytest.skip("MariaDB is not installed (apt-get install mariadb-server)")
    with scratch_server(tmp_path_factory.mktemp("maria")) as running:
        running.run("create user auditor@localhost identified by 'made-up'", "grant select on mysql.* to auditor@localhost")
        yield running


@pytest.fixture
def ready(need: Callable[..., None]) -> None:
    need("mariadbd", "ldapadd", root=True)


def survey(tmp_path: Path, *words: str) -> Ran:
    env = {"MYSQL_PWD": "made-up", "LDAP_PASSWORD": "admin-pw", "HOME": str(tmp_path)}
    return fidelitas("survey", *words, cwd=tmp_path, env=env)


@pytest.mark.parametrize(
    "words",
    [
        ("--mariadb", "mariadb://auditor@127.0.0.1:{port}/?timeout=2"),
        ("--directory", f"ldap://127.0.0.1:{{port}}/{BASE}?timeout=2"),
        ("--postgresql", "postgresql://auditor@127.0.0.1:{port}/postgres?sslmode=disable&connect_timeout=2"),
    ],
)
def test_a_server_that_never_answers_is_named_and_the_rest_goes_on(words: tuple[str, str], tmp_path: Path) -> None:
    (tmp_path / "saltmarsh.ldif").write_text(LDIF)
    with relay(None) as port:
        option, uri = words[0], words[1].format(port=port)
        ran = survey(tmp_path, option, uri, "saltmarsh.ldif")
    assert ran.status == 4
    assert [line for line in ran.err.splitlines() if str(port) in line]
    assert "Traceback" not in ran.err
    assert "ines" in fidelitas("holders", "--right", "directory-admin", cwd=tmp_path, env={"HOME": str(tmp_path)}).out


@pytest.mark.usefixtures("ready")
@pytest.mark.parametrize("most", [1, 200, 2_000, 20_000, 40_000])
def test_a_database_server_that_goes_away_midway(mariadb: Server, most: int, tmp_path: Path) -> None:
    with relay(mariadb.port, most) as port:
        ran = survey(tmp_path, "--mariadb", f"mariadb://auditor@127.0.0.1:{port}/", "--name", "db")
    assert "Traceback" not in ran.err
    if ran.status == 0:
        assert "went away" in ran.err or most == 40_000
        assert "roles" in fidelitas("coverage", cwd=tmp_path, env={"HOME": str(tmp_path)}).out
    else:
        assert (ran.status, ran.err.count("\n")) == (4, 1), ran.err


@pytest.mark.usefixtures("ready")
def test_a_directory_that_goes_away_midway(slapd: Slapd, tmp_path: Path) -> None:
    people = "".join(
        f"dn: uid=q{number},{BASE}\nobjectClass: inetOrgPerson\nuid: q{number}\ncn: {'long name ' * 30}{number}\nsn: x\n\n"
        for number in range(1200)
    )
    slapd.load(f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\ndc: saltmarsh\no: Observatory\n\n{people}")
    told = []
    for most in (3_000, 300_000, 1 << 30):
        with relay(slapd.port, most) as port:
            ran = survey(tmp_path, "--directory", f"ldap://127.0.0.1:{port}/{BASE}?bind=cn=admin,{BASE}", "--name", f"d{most}")
        assert "Traceback" not in ran.err
        told.append((ran.status, "went away" in ran.out + ran.err))
    assert told[-1] == (0, False)
    assert (0, True) in told[:2]
    assert shutil.which("ldapadd")
