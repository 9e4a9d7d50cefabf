"""INSTANCE and the types of ASAM MCD-2 MC 1.7: each as the characteristics, axes and measurements that it stands for.

Rules from memory of 1.7.1: a type is a characteristic, an axis or a measurement without a name and an address; a structure
is a list of such, each so many bytes from its start.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from math import prod
from types import MappingProxyType

from yarvic.core.calibration.described import MOST_ENTRIES
from yarvic.core.calibration.layout import LeftOut
from yarvic.core.calibration.storing import SIZES
from yarvic.core.formats.asap2.blocks import Block
from yarvic.core.formats.asap2.reading import NUMBERS, Unfit, needs, options, text, whole
from yarvic.core.formats.asap2.records import RecordLayouts

_INSTANCE = {
    "ADDRESS_TYPE": 1, "CALIBRATION_ACCESS": 1, "DISPLAY_IDENTIFIER": 1, "ECU_ADDRESS_EXTENSION": 1, "LAYOUT": 1,
    "MATRIX_DIM": NUMBERS, "MAX_REFRESH": 2, "READ_ONLY": 0, "READ_WRITE": 0, "SYMBOL_LINK": 2, "SYMBOL_TYPE_LINK": 1,
}  # fmt: skip
# What an instance says beside its type, and that what it stands for keeps.
_KEPT = ("CALIBRATION_ACCESS", "DISPLAY_IDENTIFIER", "ECU_ADDRESS_EXTENSION", "READ_ONLY")
# A type, and as what it is read; how many words it has at least.
_TYPES = MappingProxyType(
    {
        "TYPEDEF_CHARACTERISTIC": ("CHARACTERISTIC", 8),
        "TYPEDEF_AXIS": ("AXIS_PTS", 9),
        "TYPEDEF_MEASUREMENT": ("MEASUREMENT", 8),
        "TYPEDEF_STRUCTURE": ("", 3),
    }
)
MOST_DEPTH = 20


@dataclass(frozen=True)
class _Asked:
    """One thing to be made: its name, its type and address, what its block says, and the structure it lies in."""

    name: str
    type: str
    address: int
    told: Mapping[str, list[str]]
    at: Block
    within: str = ""
    depth: int = 0


class Instances:
    """What the instances of a module stand for, as blocks; those that cannot be read with the reason."""

    def __init__(self, module: Block, records: RecordLayouts) -> None:
        self._records = records
        self._types: dict[str, Block] = {}
        for keyword in _TYPES:
            for block in module.of(keyword):
                words = block.words()
                if words:
                    self._types.setdefault(text(words[0]), block)
        self.left_out: list[LeftOut] = []
        self._made: dict[str, list[Block]] = {}
        self._count = 0
        for block in module.of("INSTANCE"):
            self._instance(block)

    def of(self, keyword: str) -> Iterator[Block]:
        """The blocks of a keyword."""
        yield from self._made.get(keyword, ())

    def _instance(self, block: Block) -> None:
        name = "unnamed"
        try:
            words = needs(block, 4)
            name = text(words[0])
            self._array(
                _Asked(name, text(words[2]), whole(words[3]), options(words, 4, _INSTANCE), block),
                overwritten=any(block.of("OVERWRITE")),
            )
        except Unfit as unfit:
            self._leave(name, unfit.reason, block)

    def _leave(self, name: str, reason: str, block: Block) -> None:
        self.left_out.append(LeftOut(key=name[:1000], reason=reason[:4000], line=block.line))

    def _array(self, asked: _Asked, *, overwritten: bool = False) -> None:
        """One instance, or each of an array of them."""
        if asked.told.get("ADDRESS_TYPE", ["DIRECT"])[0] != "DIRECT":
            raise Unfit("it is reached through an address, which lies in no image")
        if overwritten:
            raise Unfit("it overwrites parts of its type, which is not read here")
        sizes = [n for w in asked.told.get("MATRIX_DIM", []) if (n := whole(w)) > 1]
        if not sizes:
            self._one(asked)
            return
        if len(sizes) > 1 and asked.told.get("LAYOUT", ["ROW_DIR"])[0] != "ROW_DIR":
            raise Unfit("it is an array that lies in columns")
        if prod(sizes) > MOST_ENTRIES:
            raise Unfit(f"it is an array of {prod(sizes):,}")
        size = self._size(asked.type)
        for n in range(prod(sizes)):
            places, rest = [], n
            for many in reversed(sizes):
                rest, at = divmod(rest, many)
                places.append(f"[{at}]")
            name = asked.name + "".join(reversed(places))
            self._one(
                _Asked(name, asked.type, asked.address + n * size, asked.told, asked.at, asked.within, asked.depth)
            )

    def _size(self, name: str) -> int:
        """Bytes from one of a type to the next. Raises Unfit where the description does not say."""
        block = self._types.get(name)
        if block is not None and block.keyword == "TYPEDEF_STRUCTURE":
            return whole(needs(block, 3)[2])
        if block is not None and block.keyword == "TYPEDEF_CHARACTERISTIC":
            words = needs(block, 8)
            parts = self._records.get(text(words[3])).parts
            if words[2] == "VALUE" and len(parts) == 1:
                return SIZES[parts[0][1].storage]
        raise Unfit(f"it is an array of {name}, whose length is not stated")

    def _one(self, asked: _Asked) -> None:
        block = self._types.get(asked.type)
        if block is None:
            raise Unfit(f"there is no type {asked.type} that is read here")
        if asked.depth > MOST_DEPTH or self._count > MOST_ENTRIES:
            raise Unfit("its structures lie in each other without end")
        self._count += 1
        keyword, least = _TYPES[block.keyword]
        words = needs(block, least)
        if not keyword:
            self._structure(asked, block)
            return
        place, kept = f"0x{asked.address:X}", [w for k in _KEPT if k in asked.told for w in (k, *asked.told[k])]
        if keyword == "CHARACTERISTIC":
            given = [asked.name, *words[1:3], place, *words[3:], *kept]
        elif keyword == "AXIS_PTS":
            given = [asked.name, words[1], place, *words[2:], *kept]
        else:
            given = [asked.name, *words[1:], "ECU_ADDRESS", place, *kept]
        inner = [_within(b, asked.within) for b in block.blocks]
        made = Block(keyword, asked.at.start, asked.at.source, asked.at.end, inner, given=tuple(given))
        self._made.setdefault(keyword, []).append(made)

    def _structure(self, asked: _Asked, block: Block) -> None:
        """The parts of a structure; one that cannot be read is left out, and the others are there."""
        for part in block.of("STRUCTURE_COMPONENT"):
            name = f"{asked.name}.unnamed"
            try:
                words = needs(part, 3)
                name = f"{asked.name}.{text(words[0])}"
                told = {**{k: asked.told[k] for k in _KEPT if k in asked.told}, **options(words, 3, _INSTANCE)}
                address = asked.address + whole(words[2])
                self._array(_Asked(name, text(words[1]), address, told, asked.at, f"{asked.name}.", asked.depth + 1))
            except Unfit as unfit:
                self._leave(name, unfit.reason, part)


def _within(block: Block, prefix: str) -> Block:
    """A block of a type with the names of its own structure (THIS.) as those of the instance."""
    words = block.words()
    if not any("THIS." in w for w in words) or block.keyword != "AXIS_DESCR":
        return block
    given = tuple(prefix + w.removeprefix("THIS.") if w.startswith("THIS.") else w for w in words)
    return Block(block.keyword, block.start, block.source, block.end, block.blocks, given=given)
