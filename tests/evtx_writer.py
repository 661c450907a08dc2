"""Small event log files ([MS-EVEN6] 2.2.12 and on): one chunk, and for every record a template of its own in which all text is literal."""

import struct
import zlib
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime

__all__ = ["event_file"]

Event = tuple[datetime, int, Mapping[str, str]]
_HEADER, _CHUNK = 4096, 65536
_OPEN, _CLOSE_START, _CLOSE_EMPTY, _CLOSE, _VALUE, _ATTRIBUTE, _MORE = 0x01, b"\x02", b"\x03", b"\x04", b"\x05\x01", 0x06, 0x40


class _Binary:
    """Binary XML under construction; offsets count from the chunk's beginning."""

    def __init__(self, base: int) -> None:
        self.bytes, self._base = bytearray(), base

    @property
    def at(self) -> int:
        return self._base + len(self.bytes)

    def sized(self, write: Callable[[], None]) -> None:
        """What is written, with its length before it."""
        place = len(self.bytes)
        self.bytes += bytes(4)
        write()
        self.bytes[place : place + 4] = struct.pack("<I", len(self.bytes) - place - 4)

    def name(self, text: str) -> None:
        value = 0
        for letter in text:
            value = (value * 65599 + ord(letter)) & 0xFFFFFFFF
        self.bytes += struct.pack("<IIHH", self.at + 4, 0, value & 0xFFFF, len(text)) + text.encode("utf-16-le") + bytes(2)

    def text(self, value: str) -> None:
        self.bytes += _VALUE + struct.pack("<H", len(value)) + value.encode("utf-16-le")

    def element(self, name: str, content: str | Callable[[], None] | None, **attributes: str) -> None:
        self.bytes += bytes([_OPEN | (_MORE if attributes else 0)]) + struct.pack("<H", 0xFFFF)
        self.sized(lambda: self._inside(name, content, list(attributes.items())))

    def _inside(self, name: str, content: str | Callable[[], None] | None, attributes: list[tuple[str, str]]) -> None:
        self.name(name)
        if attributes:
            self.sized(lambda: self._attributes(attributes))
        if content is None:
            self.bytes += _CLOSE_EMPTY
            return
        self.bytes += _CLOSE_START
        self.text(content) if isinstance(content, str) else content()
        self.bytes += _CLOSE

    def _attributes(self, attributes: list[tuple[str, str]]) -> None:
        for number, (name, value) in enumerate(attributes, 1):
            self.bytes += bytes([_ATTRIBUTE | (_MORE if number < len(attributes) else 0)])
            self.name(name)
            self.text(value)


def _ticks(at: datetime) -> int:
    return int((at - datetime(1601, 1, 1, tzinfo=UTC)).total_seconds()) * 10_000_000


def _record(number: int, event: Event, base: int) -> bytes:
    at, kind, data = event
    out = _Binary(base + 24)
    identity = struct.pack("<IHH", number, 0, 0) + bytes(8)
    out.bytes += b"\x0f\x01\x01\x00\x0c\x01" + identity[:4] + struct.pack("<I", out.at + 4 + 10)
    out.bytes += bytes(4) + identity

    def system() -> None:
        out.element("Provider", None, Name="Microsoft-Windows-Security-Auditing")
        out.element("EventID", str(kind))
        out.element("TimeCreated", None, SystemTime=f"{at:%Y-%m-%dT%H:%M:%S}.000000Z")
        out.element("EventRecordID", str(number))
        out.element("Channel", "Security")
        out.element("Computer", "avocet.saltmarsh.example")

    def fields() -> None:
        for name, value in data.items():
            out.element("Data", value, Name=name)

    def body() -> None:
        out.element("System", system)
        out.element("EventData", fields)

    def template() -> None:
        out.bytes += b"\x0f\x01\x01\x00"
        out.element("Event", body, xmlns="http://schemas.microsoft.com/win/2004/08/events/event")
        out.bytes += b"\x00"

    out.sized(template)
    out.bytes += bytes(4)  # no substitutions
    size = 24 + len(out.bytes) + 4
    padding = -size % 8
    size += padding
    return struct.pack("<IIQQ", 0x2A2A, size, number, _ticks(at)) + bytes(out.bytes) + bytes(padding) + struct.pack("<I", size)


def event_file(events: Sequence[Event]) -> bytes:
    """Return an .evtx file of some events."""
    records, last = bytearray(), 512
    for number, event in enumerate(events, 1):
        last = 512 + len(records)
        records += _record(number, event, last)
    count, chunk = len(events), bytearray(512)
    chunk[:8] = b"ElfChnk\0"
    struct.pack_into("<QQQQIIII", chunk, 8, 1, count, 1, count, 128, last, 512 + len(records), zlib.crc32(bytes(records)))
    struct.pack_into("<I", chunk, 124, zlib.crc32(bytes(chunk[:120]) + bytes(chunk[128:512])))
    header = bytearray(_HEADER)
    header[:8] = b"ElfFile\0"
    struct.pack_into("<QQQIHHHH", header, 8, 0, 0, count + 1, 128, 1, 3, _HEADER, 1)
    struct.pack_into("<I", header, 124, zlib.crc32(bytes(header[:120])))
    return bytes(header) + (bytes(chunk) + bytes(records)).ljust(_CHUNK, b"\0")
