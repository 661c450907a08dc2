"""The objects of a directory as they were read: kept of each directory, since every question about a host that uses it begins with them.

Of a directory what was read last is kept, and no more; it holds for evidence that states the same, whenever that was taken.
"""

from contextlib import suppress
from hashlib import blake2b

from msgspec import Struct
from msgspec.structs import replace

from fidelitas.conclusions.rules import rules_digest
from fidelitas.conclusions.typed import AnswerStore, ConclusionError, decode, encode
from fidelitas.facts import DirectoryFacts

__all__ = ["keep_directory", "kept_directory"]

_MOST = 1 << 26  # bytes of what is kept of one; a larger one is read from its evidence


class _Form(Struct, array_like=True):
    stated: bytes  # what the evidence has in common that states the same
    facts: DirectoryFacts


def kept_directory(store: AnswerStore, name: str) -> DirectoryFacts | None:
    """Return what the evidence of a directory states, where that is kept."""
    mark, key = store.marks().get(name), _key(name)
    content = store.get([key]).get(key) if mark is not None else None
    if mark is None or content is None:
        return None
    try:
        kept = decode(content, _Form)
    except ConclusionError:
        return None
    return replace(kept.facts, taken=mark.taken) if kept.stated == mark.stated and kept.facts.subject == name else None


def keep_directory(store: AnswerStore, facts: DirectoryFacts) -> None:
    """Keep what the evidence of a directory states; nothing of damaged evidence, and of what is not the same when it is read back."""
    mark = store.marks().get(facts.subject)
    content = encode(_Form(mark.stated, facts)) if mark is not None else None
    if content is not None and len(content) <= _MOST and _is_same(content, facts):
        store.put({_key(facts.subject): content}, rules_digest())


def _is_same(content: bytes, facts: DirectoryFacts) -> bool:
    with suppress(ConclusionError):
        return decode(content, _Form).facts == facts
    return False


def _key(name: str) -> bytes:
    return blake2b(b"directory\0" + rules_digest() + name.encode("utf-8", "surrogateescape"), digest_size=32).digest()
