"""A directory over TLS: a certificate that is vouched for is taken, any other is refused, and the password is never sent before."""

import shutil
import socket
import subprocess
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from slapd_server import BASE, CONFIGURATION, SUDO, Slapd
from support import Ran, fidelitas, open_up

TLS = "TLSCertificateFile {folder}/server.pem\nTLSCertificateKeyFile {folder}/server.key\n"


@pytest.fixture
def ready(need: Callable[..., None]) -> None:
    need("openssl", "ldapadd", root=True)


def certificate(folder: Path, name: str, names: str) -> None:
    """Make a certificate of these names that vouches for itself."""
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "30", "-subj", f"/CN={name}", "-addext", f"subjectAltName={names}",
         "-keyout", f"{folder}/{name}.key", "-out", f"{folder}/{name}.pem"], check=True, capture_output=True, timeout=60,
    )  # fmt: skip


@pytest.fixture(scope="module")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Slapd]:
    program = shutil.which("slapd") or "/usr/sbin/slapd"
    if not Path(program).exists() or shutil.which("openssl") is None:
        pytest.skip("OpenLDAP or openssl is not installed (apt-get install slapd ldap-utils openssl)")
    folder = tmp_path_factory.mktemp("tls")
    open_up(folder)
    (folder / "db").mkdir()
    certificate(folder, "server", "IP:127.0.0.1")
    certificate(folder, "other", "IP:127.0.0.1")
    head, database = CONFIGURATION.format(folder=folder, base=BASE, access="", schema=SUDO).split("database mdb", 1)
    (folder / "slapd.conf").write_text(f"{head}{TLS.format(folder=folder)}database mdb{database}")
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    running = subprocess.Popen([program, "-f", folder / "slapd.conf", "-h", f"ldap://127.0.0.1:{port}", "-d", "0"])
    entry = f"dn: {BASE}\nobjectClass: dcObject\nobjectClass: organization\ndc: saltmarsh\no: Observatory\n\ndn: uid=ines,{BASE}\nobjectClass: inetOrgPerson\nuid: ines\ncn: Ines\nsn: x\n"
    add = ["ldapadd", "-x", "-H", f"ldap://127.0.0.1:{port}", "-D", f"cn=admin,{BASE}", "-w", "admin-pw"]
    for _ in range(200):
        if subprocess.run(add, input=entry, text=True, capture_output=True, check=False).returncode == 0:
            break
    yield Slapd(folder, port)
    running.terminate()
    running.wait(20)


def survey(server: Slapd, tmp_path: Path, ca: str) -> Ran:
    uri = f"ldap://127.0.0.1:{server.port}/{BASE}?bind=cn=admin,{BASE}&ca={server.folder}/{ca}"
    return fidelitas("survey", "--directory", uri, "--name", "saltmarsh", cwd=tmp_path, env={"LDAP_PASSWORD": "admin-pw"})


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
def test_a_certificate_that_is_vouched_for_is_taken(server: Slapd, tmp_path: Path) -> None:
    ran = survey(server, tmp_path, "server.pem")
    assert ran.status == 0, ran.err
    assert "1 directory" in ran.out
    assert "evidence complete" in ran.out


@pytest.mark.judge
@pytest.mark.usefixtures("ready")
@pytest.mark.parametrize("ca", ["other.pem", "nowhere.pem"])
def test_any_other_certificate_is_refused(server: Slapd, tmp_path: Path, ca: str) -> None:
    ran = survey(server, tmp_path, ca)
    assert (ran.status, ran.err.count("\n")) == (4, 1), ran.err
    assert "Traceback" not in ran.err
