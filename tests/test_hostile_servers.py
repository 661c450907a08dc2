"""Servers that mean harm: byte by byte for ever, silent once they have let us in, asking for files and passwords, sending nonsense."""

import os
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

from fidelitas.sources.postgresql import _tls
from support import Ran, fidelitas

PASSWORD = "made-up-pass-word"


@contextmanager
def server(talk: Callable[[socket.socket], None]) -> Iterator[int]:
    """Yield the port of a server that talks so to anyone who comes."""
    with socket.create_server(("127.0.0.1", 0)) as listening:

        def serve() -> None:
            with suppress(OSError):
                while True:
                    client, _ = listening.accept()
                    threading.Thread(target=quiet, args=(client,), daemon=True).start()

        def quiet(client: socket.socket) -> None:
            with suppress(OSError), client:
                talk(client)

        threading.Thread(target=serve, daemon=True).start()
        yield int(listening.getsockname()[1])


def survey(tmp_path: Path, *words: str) -> Ran:
    return fidelitas("survey", *words, cwd=tmp_path, env={"MYSQL_PWD": PASSWORD, "PGPASSWORD": PASSWORD, "LDAP_PASSWORD": PASSWORD})


# -- MySQL: protocol::HandshakeV10, OK packets and results -----------------------------------------------------------------------------


def packet(number: int, body: bytes) -> bytes:
    return struct.pack("<I", len(body))[:3] + bytes([number]) + body


def greeting(plugin: bytes) -> bytes:
    head = b"\x0a8.0.0\0" + struct.pack("<I", 1) + b"12345678\0" + struct.pack("<H", 0xF7FF & ~0x0800) + b"\x21" + struct.pack("<H", 2)
    return packet(0, head + struct.pack("<H", 0x000F | 0x0008) + b"\x15" + bytes(10) + b"123456789012\0" + plugin + b"\0")


OK = b"\x00\x00\x00\x02\x00\x00\x00"


def mysql(answer: Callable[[socket.socket], None]) -> Callable[[socket.socket], None]:
    """Let the client in, and answer its queries so; what it needs to begin is granted."""

    def talk(client: socket.socket) -> None:
        client.sendall(greeting(b"mysql_native_password"))
        client.recv(4096)
        client.sendall(packet(2, OK))
        while asked := client.recv(4096):
            if b"elect" in asked or b"ELECT" in asked or b"how" in asked.lower():
                answer(client)
            else:
                client.sendall(packet(1, OK))

    return talk


def drip(client: socket.socket) -> None:
    client.sendall(b"\xff\xff\xff\x01")
    while True:
        client.sendall(b"x")
        time.sleep(0.05)


@pytest.mark.parametrize(
    "answer",
    [drip, lambda client: client.sendall(packet(1, b"\xfb/etc/passwd")), lambda client: client.sendall(packet(1, os.urandom(300))),
     lambda client: client.sendall(packet(1, b"\x01") + packet(2, b"\x03def")), lambda client: time.sleep(600)],
    ids=["byte by byte", "asks for a file", "noise", "half a column", "silent"],
)  # fmt: skip
def test_a_mysql_server_that_means_harm_costs_its_deadline_at_most(answer: Callable[[socket.socket], None], tmp_path: Path) -> None:
    begun = time.monotonic()
    with server(mysql(answer)) as port:
        ran = survey(tmp_path, "--mariadb", f"mariadb://root@127.0.0.1:{port}/", "--deadline", "3s")
    assert time.monotonic() - begun < 60
    assert ran.status == 4, ran.err
    assert "root:x:0" not in ran.out + ran.err
    assert "internal error" not in ran.err


@pytest.mark.parametrize("plugin", [b"mysql_clear_password", b"dialog", b"sha256_password", b"caching_sha2_password"])
def test_a_password_is_not_sent_so_that_it_could_be_read(plugin: bytes, tmp_path: Path) -> None:
    heard = bytearray()

    def talk(client: socket.socket) -> None:
        client.sendall(greeting(b"mysql_native_password"))
        heard.extend(client.recv(4096))
        client.sendall(packet(2, b"\xfe" + plugin + b"\0" + b"1" * 20 + b"\0"))
        client.settimeout(3)
        with suppress(OSError):
            while more := client.recv(4096):
                heard.extend(more)

    with server(talk) as port:
        ran = survey(tmp_path, "--mariadb", f"mariadb://root@127.0.0.1:{port}/", "--deadline", "10s")
    assert ran.status == 4
    assert "could be read on the network" in ran.err
    assert PASSWORD.encode() not in heard


# -- PostgreSQL: messages of protocol 3.0 --------------------------------------------------------------------------------------------------


def message(kind: bytes, body: bytes) -> bytes:
    return kind + struct.pack("!I", len(body) + 4) + body


READY = (
    message(b"R", struct.pack("!I", 0))
    + message(b"S", b"server_version\x0015.0\0")
    + message(b"S", b"client_encoding\0UTF8\0")
    + message(b"Z", b"I")
)


def postgres(answer: Callable[[socket.socket], None]) -> Callable[[socket.socket], None]:
    def talk(client: socket.socket) -> None:
        client.recv(4096)
        client.sendall(READY)
        while client.recv(65536):
            answer(client)

    return talk


def endless_row(client: socket.socket) -> None:
    client.sendall(b"D" + struct.pack("!I", 0x3FFFFFFF))
    block = b"x" * 65536
    while True:
        client.sendall(block)


@pytest.mark.parametrize("answer", [lambda client: time.sleep(600), drip, endless_row], ids=["silent", "byte by byte", "a row without end"])
def test_a_postgresql_server_that_means_harm_costs_its_deadline_at_most(answer: Callable[[socket.socket], None], tmp_path: Path) -> None:
    begun = time.monotonic()
    with server(postgres(answer)) as port:
        ran = survey(tmp_path, "--postgresql", f"host=127.0.0.1 port={port} user=x sslmode=disable", "--deadline", "4s")
    assert time.monotonic() - begun < 60
    assert ran.status == 4, ran.err
    assert "internal error" not in ran.err


def ldap_drip(client: socket.socket) -> None:
    client.sendall(b"\x30\x84\x00\xff\xff\xff")
    while True:
        client.sendall(b"\x02")
        time.sleep(0.05)


@pytest.mark.parametrize(
    "talk",
    [ldap_drip, lambda client: client.sendall(os.urandom(500)), lambda client: client.sendall(b"\x30\x03\x02\x01\x01")],
    ids=["byte by byte", "noise", "half an answer"],
)
def test_a_directory_that_means_harm_costs_its_deadline_at_most(talk: Callable[[socket.socket], None], tmp_path: Path) -> None:
    begun = time.monotonic()
    with server(talk) as port:
        ran = survey(tmp_path, "--directory", f"ldap://127.0.0.1:{port}/dc=x?bind=cn=x", "--deadline", "4s")
    assert time.monotonic() - begun < 60
    assert ran.status == 4, ran.err
    assert "internal error" not in ran.err


@pytest.mark.parametrize(
    ("options", "environment", "verified"),
    [
        ({"host": "db.example"}, {}, True),
        ({"hostaddr": "192.0.2.1"}, {}, True),
        ({"service": "plain"}, {}, True),
        ({"service": "chosen"}, {}, False),  # its file says sslmode
        ({}, {"PGHOST": "db.example"}, True),
        ({}, {"PGSERVICE": "chosen"}, False),
        ({"host": "localhost"}, {}, True),
        ({"host": "db.example", "sslmode": "require"}, {}, False),
        ({"host": "db.example"}, {"PGSSLMODE": "prefer"}, False),
    ],
)
def test_the_certificate_of_postgresql_is_verified_however_the_host_is_named(
    options: dict[str, str], environment: dict[str, str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch, *, verified: bool
) -> None:
    services = tmp_path / "services"
    services.write_text("[plain]\nhost=db.example\n[chosen]\nhost=db.example\nsslmode=require\n")
    for name, value in {"PGSERVICEFILE": str(services), **environment}.items():
        monkeypatch.setenv(name, value)
    assert _tls(options).get("sslmode") == ("verify-full" if verified else None)


def test_a_server_without_tls_is_refused_where_nobody_said_otherwise(tmp_path: Path) -> None:
    heard = bytearray()

    def talk(client: socket.socket) -> None:
        heard.extend(client.recv(4096))
        client.sendall(b"N")  # no TLS here
        with suppress(OSError):
            heard.extend(client.recv(4096))

    with server(talk) as port:
        ran = survey(tmp_path, "--postgresql", f"hostaddr=127.0.0.1 host=db.example port={port} user=x", "--deadline", "8s")
    assert ran.status == 4
    assert b"user\0x" not in heard
