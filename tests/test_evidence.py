"""Bundles: made, sealed, and read without trust."""

import bz2
import gzip
import io
import json
import lzma
import tarfile
import time
import zlib
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from fidelitas.errors import EvidenceError, ReadError
from fidelitas.evidence import Bundle, Item, Manifest, is_valid_subject_name, make_bundle, read_bundle
from fidelitas.evidence.archive import Limits, open_archive
from fidelitas.evidence.logs import log_copy
from fidelitas.evidence.manifest import parse_manifest, render_manifest
from support import NOW, bundle, fidelitas

MANIFEST = Manifest(
    subject="knot", platform="linux", taken=NOW, kernel="Linux", live=True, probe=1, uid=0, gaps=(),
    items=(Item(path="/etc/passwd", kind="file", mode=0o644, uid=0, gid=0, size=3, mtime=1), Item(path="/etc/group", kind="file")),
)  # fmt: skip
FILES = {"/etc/passwd": b"abc", "/etc/group": b"def"}
MADE = make_bundle(MANIFEST, FILES)


def read(content: bytes, limits: Limits | None = None) -> Bundle:
    return read_bundle(io.BytesIO(content), limits) if limits else read_bundle(io.BytesIO(content))


def archive(*members: tuple[tarfile.TarInfo | str, bytes]) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as tar:
        for name, content in members:
            entry = tarfile.TarInfo(name) if isinstance(name, str) else name
            entry.size = len(content)
            tar.addfile(entry, io.BytesIO(content))
    return out.getvalue()


def special(name: str, kind: bytes) -> tarfile.TarInfo:
    entry = tarfile.TarInfo(name)
    entry.type, entry.linkname = kind, "/etc/shadow"
    return entry


@pytest.mark.parametrize("packed", [bytes, gzip.compress, zstandard.compress], ids=["plain", "gzip", "zstd"])
def test_a_bundle_is_read_back_in_every_packing(packed: Callable[[bytes], bytes]) -> None:
    found = read(packed(MADE))
    assert found.files == FILES
    assert found.gaps == ()
    assert found.subject == "knot"


LOOKS_LIKE = {
    "user rights": "[Unicode]\r\nUnicode=yes\r\n[Privilege Rights]\r\nSeDebugPrivilege = *S-1-5-32-545\r\n",
    "a group": f"Alias name     Administrators\n\nMembers\n\n{'-' * 79}\nAdministrator\nThe command completed successfully.\n",
    "an account": "".join(f"Logon hours {n}                All\n" for n in range(4000)),
    "whoami": "USER INFORMATION\n\nName SID\n==== ====\nmirko S-1-5-21-1-2-3-1001\n",
    "a directory": "\nversion: 1\ndn: dc=example\nobjectClass: domain\n",
    "a server": "\nfidelitas-postgresql 1\n#\nfidelitas-mariadb 1\n",
}


@pytest.mark.parametrize("packed", [bytes, gzip.compress, zstandard.compress], ids=["plain", "gzip", "zstd"])
@pytest.mark.parametrize("text", LOOKS_LIKE.values(), ids=LOOKS_LIKE)
def test_a_bundle_is_one_whatever_a_file_of_the_host_looks_like(text: str, packed: Callable[[bytes], bytes], tmp_path: Path) -> None:
    made = bundle("rada ALL=(ALL) NOPASSWD: ALL\n", {"/etc/sudoers.d/10-notes": text})
    (tmp_path / "came.tar").write_bytes(packed(make_bundle(made.manifest, made.files, made.listings)))
    ran = fidelitas("survey", "came.tar", cwd=tmp_path)
    assert "\nknot     Debian 12  2               0 " in ran.out, ran.out + ran.err


def test_equal_content_gives_equal_bytes() -> None:
    assert make_bundle(MANIFEST, dict(reversed(FILES.items()))) == MADE


@given(st.lists(st.tuples(st.text(max_size=20), st.sampled_from(["file", "folder", "absent"]), st.integers(0, 0o7777)), max_size=5))
def test_a_manifest_is_read_back(listed: list[tuple[str, str, int]]) -> None:
    manifest = replace(MANIFEST, items=tuple(Item(path=path, kind=kind, mode=mode) for path, kind, mode in listed))
    assert parse_manifest(render_manifest(manifest)) == manifest


@pytest.mark.parametrize(
    ("name", "kind", "reason"),
    [
        ("../../etc/passwd", tarfile.REGTYPE, "its name reaches out of the archive"),
        ("files/../../x", tarfile.REGTYPE, "its name reaches out of the archive"),
        ("/etc/passwd", tarfile.REGTYPE, "its name reaches out of the archive"),
        ("files/1", tarfile.SYMTYPE, "it is not a plain file"),
        ("files/1", tarfile.LNKTYPE, "it is not a plain file"),
        ("files/1", tarfile.CHRTYPE, "it is not a plain file"),
        ("files/1", tarfile.FIFOTYPE, "it is not a plain file"),
        ("files/etc/other", tarfile.REGTYPE, "the manifest does not list it"),
    ],
)
def test_a_member_that_is_not_what_it_should_be_is_skipped(name: str, kind: bytes, reason: str) -> None:
    head = read(MADE)
    hostile = archive(("manifest.json", render_manifest(head.manifest)), (special(name, kind), b""), ("files/2", b"def"))
    found = read(hostile)
    assert found.files == {"/etc/group": b"def"}
    assert reason in [gap.reason for gap in found.gaps]


def test_a_member_that_was_changed_is_not_used() -> None:
    found = read(MADE.replace(b"abc" + bytes(509), b"abd" + bytes(509)))
    assert dict(found.files) == {"/etc/group": b"def"}
    assert [(gap.path, gap.reason) for gap in found.gaps] == [("/etc/passwd", "its content differs from the digest in the manifest")]


@pytest.mark.parametrize("packed", [bytes, gzip.compress, zstandard.compress], ids=["plain", "gzip", "zstd"])
def test_every_truncation_is_an_error_or_a_gap(packed: Callable[[bytes], bytes]) -> None:
    """What was read before the end is kept, and never is the loss silent."""
    whole = packed(MADE)
    for length in range(0, len(whole) - 1, max(len(whole) // 60, 1)):
        try:
            found = read(whole[:length])
        except EvidenceError:
            continue
        assert found.files == FILES or found.gaps, length


@given(st.binary(max_size=40), st.integers(0, len(MADE)), st.booleans())
def test_damage_never_raises_anything_else(noise: bytes, at: int, packed: bool) -> None:
    whole = gzip.compress(MADE, mtime=0) if packed else MADE
    with suppress(EvidenceError):
        read(whole[:at] + noise + whole[at + len(noise) :])


@pytest.mark.parametrize(
    ("content", "message"),
    [
        (b"", "not a tar archive, plain or packed with gzip or zstd"),
        (b"\x7fELF" + bytes(5000), "not a tar archive, plain or packed with gzip or zstd"),
        (b"x" * 100_000, "not a tar archive, plain or packed with gzip or zstd"),
        (b"\x1f\x8b" + b"x" * 100, "not a tar archive, plain or packed with gzip or zstd"),
        (archive(("other", b"")), "the archive does not begin with manifest.json"),
        (archive(("manifest.json", b"{")), "manifest.json is not JSON"),
        (archive(("manifest.json", b"[" * 100_000)), "manifest.json is not JSON"),
        (archive(("manifest.json", b"[]")), 'manifest.json does not say "format": "fidelitas-evidence"'),
        (
            archive(("manifest.json", b'{"format": "fidelitas-evidence", "version": 99}')),
            "the bundle has format version 99, this program reads 1",
        ),
    ],
    ids=range(9),
)
def test_what_is_no_bundle_is_refused_in_words(content: bytes, message: str) -> None:
    with pytest.raises(EvidenceError) as error:
        read(content)
    assert str(error.value).startswith(message)


@pytest.mark.parametrize(
    ("field", "value"),
    [("subject", 5), ("taken", "yesterday"), ("uid", "0"), ("uid", True), ("live", 1), ("items", {}), ("items", [{"path": "/x", "kind": "odd"}]),
     ("items", [{"path": 1, "kind": "file"}]), ("items", [{"path": "/x", "kind": "file", "mode": "99"}]), ("items", [7]),
     ("items", [{"path": "/x", "kind": "file", "sha256": "short"}]), ("gaps", [{"path": "/x"}]), ("gaps", None)],
)  # fmt: skip
def test_a_manifest_that_is_not_as_documented_is_refused(field: str, value: object) -> None:
    stated = {**json.loads(render_manifest(MANIFEST)), field: value}
    with pytest.raises(EvidenceError, match=r"manifest\.json"):
        parse_manifest(json.dumps(stated).encode())


@pytest.mark.parametrize("name", ["", "../x", "a/b", "a\nb", "-rf", ".hidden", "x" * 300, "\u202ereversed", "a\x1b[2J"])
def test_some_names_cannot_stand_for_a_subject(name: str) -> None:
    assert not is_valid_subject_name(name)
    stated = {**json.loads(render_manifest(MANIFEST)), "subject": name}
    assert parse_manifest(json.dumps(stated).encode()).subject == ""


def test_a_bomb_is_stopped_at_the_limits() -> None:
    begun = time.monotonic()
    zeros = archive(("manifest.json", bytes(200 * 2**20)))
    with pytest.raises(EvidenceError, match="more than 200 times its size"):
        read(gzip.compress(zeros, 9), Limits(member_size=2**30))
    with pytest.raises(EvidenceError, match="more than 1000 bytes"):
        read(MADE, Limits(total_size=1000))
    with pytest.raises(EvidenceError, match="more than 2 members"):
        read(MADE, Limits(members=2))
    assert time.monotonic() - begun < 60


def test_a_large_member_is_named_and_skipped() -> None:
    members = list(open_archive(io.BytesIO(archive(("big", bytes(2000)), ("small", b"x"))), Limits(member_size=1000)))
    assert [(member.name, member.refused) for member in members] == [("big", "it is larger than 1000 bytes"), ("small", "")]


def test_one_stream_after_another_is_one_archive() -> None:
    """gzip and zstd files may be concatenated; zlib alone would stop at the first."""
    half = len(MADE) // 2
    assert read(gzip.compress(MADE[:half]) + gzip.compress(MADE[half:])).files == FILES
    assert read(zstandard.compress(MADE[:half]) + zstandard.compress(MADE[half:])).files == FILES
    assert zlib.crc32(MADE)


def test_the_shared_host_of_the_tests_is_complete() -> None:
    assert bundle().gaps == ()


@pytest.mark.parametrize("pack", [bz2.compress, lzma.compress, zstandard.compress], ids=["bz2", "xz", "zstd"])
def test_a_log_that_unpacks_to_far_more_than_it_is_is_cut_and_it_is_said(pack: Callable[[bytes], bytes]) -> None:
    packed = pack(b"\n" * (300 << 20))
    read: list[int] = []
    with pytest.raises(ReadError, match="times its size: the rest is not read"):
        read.extend(map(len, log_copy("/var/log/auth.log.1", "knot", NOW, packed).blocks()))
    assert 0 < sum(read) <= max(64 << 20, 2000 * len(packed))
