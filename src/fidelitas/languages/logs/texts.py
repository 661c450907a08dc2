"""Texts that stand in blocks of bytes, known again by a sum over each: what was met before is not made an object of once more.

A sum has factors that nobody knows who writes a log, so that nobody can write two texts that are taken for one.  Needs NumPy.
"""

from collections.abc import Callable
from os import urandom
from typing import Any, Generic, TypeVar

__all__ = ["LONGEST", "Known", "Texts"]

V = TypeVar("V")
_WORD = 8  # bytes
LONGEST = 2048  # bytes of a text that is summed up: longer ones are rare, and cost steps
_FACTORS = 1 + 2 * (LONGEST // _WORD)
_PARTS_OF_WORD = [(1 << 8 * size) - 1 for size in range(_WORD + 1)]
_secret = urandom(8 * _FACTORS)


class Texts:
    """A block with what is needed to look at many places in it at once; `content` are its bytes as an array."""

    def __init__(self, numpy: Any, block: bytes) -> None:
        self.block, self._numpy = block, numpy
        behind = block + bytes(_WORD)
        self.content = numpy.frombuffer(behind, numpy.uint8)
        self._words = numpy.ndarray((len(block) + 1,), "<u8", behind, 0, (1,))  # from each place on
        self._factors = numpy.frombuffer(_secret, numpy.uint64)
        self._parts = numpy.array(_PARTS_OF_WORD, numpy.uint64)

    def sums(self, begins: Any, lengths: Any) -> Any:
        """Return what stands for some texts, by their places and lengths, of at most `LONGEST` bytes.

        Words are taken as numbers of 32 bits with a factor each, modulo 2**64: of two texts that differ, the sums of which anyone chose
        without knowing the factors, they are the same by a chance of at most 2**-33.
        """
        numpy, factors = self._numpy, self._factors
        found = lengths.astype(numpy.uint64) * factors[0]
        for number in range(int(-(-lengths.max(initial=0) // _WORD))):
            done = number * _WORD
            rows = numpy.flatnonzero(lengths > done)
            words = self._words[begins[rows] + done] & self._parts[numpy.minimum(lengths[rows] - done, _WORD)]
            found[rows] += words * factors[1 + 2 * number] + (words >> 32) * factors[2 + 2 * number]
        return found


class Known(Generic[V]):
    """What is known of texts by their sums; of those that were met longest ago nothing, once there are many."""

    def __init__(self, most: int) -> None:
        """At least as many are known as `most`, and at most twice as many."""
        self._most = most
        self._known: dict[int, V] = {}
        self._before: dict[int, V] = {}

    def of(self, numpy: Any, texts: Texts, begins: Any, lengths: Any, made: Callable[[bytes], V]) -> tuple[list[V], Any]:
        """Return what is known of the different ones among some texts, as it was `made` of one, and of each which it is, as an array."""
        return self.by_sums(
            numpy, texts.sums(begins, lengths), lambda row: (made(texts.block[begins[row] : begins[row] + lengths[row]]), True)
        )

    def by_sums(self, numpy: Any, sums: Any, made: Callable[[int], tuple[V, bool]]) -> tuple[list[V], Any]:
        """Return the same, by the sums of texts; what is not known is `made` by its place among them, with whether to remember it."""
        different, first, which = numpy.unique(sums, return_index=True, return_inverse=True)
        found = list(map(self._known.get, different.tolist()))
        for number, value in enumerate(found):
            if value is None:
                found[number] = self._other(int(different[number]), int(first[number]), made)
        return found, which  # type: ignore[return-value]  # none is nothing by now

    def _other(self, one: int, place: int, made: Callable[[int], tuple[V, bool]]) -> V:
        value, keep = self._before.get(one), True
        if value is None:
            value, keep = made(place)
        if keep:
            if len(self._known) >= self._most:
                self._known, self._before = {}, self._known
            self._known[one] = value
        return value
