"""Facts are equal by what they say, not by where it stands."""

from collections.abc import Iterator
from importlib import import_module
from pkgutil import walk_packages

import pytest
from msgspec import Struct
from msgspec.structs import replace

import fidelitas
from fidelitas.equality import equal_apart_from
from fidelitas.facts import NameService, Place

HERE, THERE = Place("tern", "/etc/nsswitch.conf", 3), Place("tern", "/etc/nsswitch.conf", 4)
PASSWD = NameService(database="passwd", sources=("files", "sss"), place=HERE)


@pytest.mark.parametrize(
    ("changes", "equal"),
    [({"place": THERE}, True), ({"sources": ("files",)}, False), ({"sources": ("files",), "place": THERE}, False), ({}, True)],
)
def test_a_fact_on_another_line_is_the_same_fact(changes: dict[str, object], *, equal: bool) -> None:
    other = replace(PASSWD, **changes)
    assert (other == PASSWD) is equal
    assert len({other, PASSWD}) == 2 - equal


def test_a_fact_equals_no_fact_of_another_kind() -> None:
    @equal_apart_from("place")
    class Alike(Struct, frozen=True, kw_only=True):
        database: str
        sources: tuple[str, ...]
        place: Place

    alike: object = Alike(database="passwd", sources=("files", "sss"), place=HERE)
    assert alike != PASSWD


def test_what_can_change_has_no_hash() -> None:
    @equal_apart_from("place")
    class Counted(Struct):
        count: int
        place: Place

    assert Counted(1, HERE) == Counted(1, THERE)
    with pytest.raises(TypeError, match="unhashable"):
        hash(Counted(1, HERE))


def test_a_hash_of_its_own_stays() -> None:
    @equal_apart_from("place")
    class Named(Struct, frozen=True):
        name: str
        place: Place

        def __hash__(self) -> int:
            return len(self.name)

    assert (Named("abc", HERE) == Named("abc", THERE), hash(Named("abc", HERE))) == (True, 3)


def kinds(base: type[Struct]) -> Iterator[type[Struct]]:
    for kind in base.__subclasses__():
        yield kind
        yield from kinds(kind)


def test_no_class_compares_by_the_fields_of_its_base_alone() -> None:
    for module in walk_packages(fidelitas.__path__, "fidelitas."):
        if not module.name.endswith("__main__") and ".migrations." not in module.name:
            import_module(module.name)
    ours = [kind for kind in kinds(Struct) if kind.__module__.startswith("fidelitas.")]
    partial = {kind: kind.__struct_fields__ for kind in ours if "__eq__" in vars(kind)}
    assert len(partial) > 40
    for kind in ours:
        compared = next((one for one in kind.__mro__ if one in partial), None)
        assert compared is None or compared.__struct_fields__ == kind.__struct_fields__, f"{kind} is compared as {compared}"
