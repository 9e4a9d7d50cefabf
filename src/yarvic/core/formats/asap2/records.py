"""RECORD_LAYOUT: in which order, types and steps the parts of a characteristic lie."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Literal

from yarvic.core.calibration.layout import Part, Record
from yarvic.core.calibration.storing import SIZES, Storage
from yarvic.core.formats.asap2.blocks import Block
from yarvic.core.formats.asap2.reading import Unfit, needs, text, whole

TYPES: Mapping[str, Storage] = MappingProxyType(
    {
        "UBYTE": "u8", "SBYTE": "i8", "UWORD": "u16", "SWORD": "i16", "ULONG": "u32", "SLONG": "i32",
        "FLOAT32_IEEE": "f32", "FLOAT64_IEEE": "f64",
    }
)  # fmt: skip
# Types whose length is known, and whose numbers are not read here.
_LENGTHS = {
    "A_UINT64": 8, "A_INT64": 8, "FLOAT16_IEEE": 2, "UBYTE": 1, "SBYTE": 1, "UWORD": 2, "SWORD": 2, "ULONG": 4,
    "SLONG": 4, "FLOAT32_IEEE": 4, "FLOAT64_IEEE": 8, "BYTE": 1, "WORD": 2, "LONG": 4,
}  # fmt: skip
ALIGNED: Mapping[str, tuple[Storage, ...]] = MappingProxyType(
    {
        "ALIGNMENT_BYTE": ("u8", "i8"), "ALIGNMENT_WORD": ("u16", "i16"), "ALIGNMENT_LONG": ("u32", "i32"),
        "ALIGNMENT_FLOAT32_IEEE": ("f32",), "ALIGNMENT_FLOAT64_IEEE": ("f64",),
    }
)  # fmt: skip
# Where a description states no alignment: each type at a multiple of its size, the standard's default (from memory).
NATURAL: Mapping[str, int] = SIZES
# Words that each keyword takes, the position included.
_PARTS: Mapping[str, int] = MappingProxyType(
    {
        "FNC_VALUES": 4, "IDENTIFICATION": 2, "RESERVED": 2,
        **{f"AXIS_PTS_{a}": 4 for a in "XYZ45"}, **{f"NO_AXIS_PTS_{a}": 2 for a in "XYZ45"},
        **{f"FIX_NO_AXIS_PTS_{a}": 1 for a in "XYZ45"}, **{f"SRC_ADDR_{a}": 2 for a in "XYZ45"},
        **{f"RIP_ADDR_{a}": 2 for a in "WXYZ45"}, **{f"OFFSET_{a}": 2 for a in "XYZ45"},
        **{f"SHIFT_OP_{a}": 2 for a in "XYZ45"}, **{f"DIST_OP_{a}": 2 for a in "XYZ45"},
        **{f"AXIS_RESCALE_{a}": 5 for a in "XYZ45"}, **{f"NO_RESCALE_{a}": 2 for a in "XYZ45"},
        **dict.fromkeys(ALIGNED, 1), "ALIGNMENT_INT64": 1, "ALIGNMENT_FLOAT16_IEEE": 1,
        "STATIC_RECORD_LAYOUT": 0, "STATIC_ADDRESS_OFFSETS": 0,
    }
)  # fmt: skip
Way = Literal["rows", "columns"]


@dataclass
class RecordLayout:
    """A record as its parts; `reason` says why what lies so cannot be used here."""

    name: str
    parts: list[tuple[int, Part]] = field(default_factory=list)
    by: Way = "rows"
    mixed: bool = False  # values and axes alternate, or lie in an order that is no row and no column
    z: list[tuple[int, Part]] = field(default_factory=list)
    counts: dict[str, int] = field(default_factory=dict)
    align: dict[str, int] = field(default_factory=dict)
    assumed: set[str] = field(default_factory=set)
    fixed: bool = False
    reason: str = ""
    fault: bool = False
    rescale: tuple[int, Storage, int] | None = None  # position, type, most pairs
    no_rescale: tuple[int, Storage] | None = None

    @property
    def ordered(self) -> list[Part]:
        """The parts in the order of their positions."""
        return [part for _, part in sorted(self.parts, key=lambda p: p[0])]

    @property
    def values(self) -> Part | None:
        """The part that holds the values."""
        return next((p for _, p in self.parts if p.what == "values"), None)

    def record(self) -> Record:
        """As the layout keeps it."""
        return Record(
            parts=tuple(self.ordered), fixed=self.fixed, align=self.align, assumed=tuple(sorted(self.assumed))
        )

    def has(self, what: str) -> bool:
        """Whether it has such a part."""
        return any(p.what == what for _, p in self.parts)


class RecordLayouts:
    """The records of a module by name."""

    def __init__(self, module: Block, align: Mapping[str, int]) -> None:
        self._blocks = {text(w[0]): b for b in module.of("RECORD_LAYOUT") if (w := b.words())}
        self._align = align
        self._made: dict[str, RecordLayout] = {}

    def get(self, name: str) -> RecordLayout:
        """The record of this name. Raises Unfit where there is none, and for one that cannot be used."""
        if name not in self._made:
            block = self._blocks.get(name)
            if block is None:
                raise Unfit(f"there is no RECORD_LAYOUT {name}", fault=True)
            self._made[name] = _read(name, block, self._align)
        found = self._made[name]
        if found.reason:
            raise Unfit(f"its record {name}: {found.reason}", fault=found.fault)
        return found


def _read(name: str, block: Block, align: Mapping[str, int]) -> RecordLayout:
    found = RecordLayout(name, align={**NATURAL, **align}, assumed=set(NATURAL) - set(align))
    try:
        words = needs(block, 1)
        at = 1
        while at < len(words):
            keyword = words[at]
            count = _PARTS.get(keyword)
            if count is None:
                raise Unfit(f"{text(keyword)[:40]} is no part of a record that is known")
            args = words[at + 1 : at + 1 + count]
            if len(args) < count:
                raise Unfit(f"{keyword} lacks what belongs to it", fault=True)
            _part(found, keyword, args)
            at += 1 + count
    except Unfit as unfit:
        found.reason, found.fault = unfit.reason, unfit.fault
    return found


def _type(word: str) -> Storage:
    if word not in TYPES:
        if word in _LENGTHS:
            raise Unfit(f"numbers of type {word} are not read here")
        raise Unfit(f"{text(word)[:40]} is no type of number", fault=True)
    return TYPES[word]


def _direct(word: str) -> None:
    if word != "DIRECT":
        raise Unfit(f"it is reached through an address ({word}), which lies in no image")


def _part(found: RecordLayout, keyword: str, args: list[str]) -> None:
    if keyword.startswith("STATIC_"):
        found.fixed = True
    elif keyword.startswith("ALIGNMENT_"):
        found.align |= dict.fromkeys(ALIGNED.get(keyword, ()), max(whole(args[0]), 1))
        found.assumed -= set(ALIGNED.get(keyword, ()))
    elif keyword.startswith("FIX_NO_AXIS_PTS_"):
        found.counts[keyword[-1].lower()] = whole(args[0])
    elif keyword == "FNC_VALUES":
        _direct(args[3])
        found.by = "columns" if args[2] == "COLUMN_DIR" else "rows"
        found.mixed = args[2] not in ("ROW_DIR", "COLUMN_DIR")
        found.parts.append((whole(args[0]), Part(what="values", storage=_type(args[1]))))
    elif keyword.startswith("AXIS_PTS_"):
        _break_points(found, keyword, args)
    elif keyword.startswith("NO_AXIS_PTS_"):
        if keyword[-1] in "Z45":
            raise Unfit("how many slices it has lies in the memory itself")
        found.parts.append((whole(args[0]), Part(what=f"{_axis(keyword)} count", storage=_type(args[1]))))  # type: ignore[arg-type]
    elif keyword.startswith("AXIS_RESCALE_"):
        _direct(args[4])
        found.rescale = (whole(args[0]), _type(args[1]), whole(args[2]))
    elif keyword.startswith("NO_RESCALE_"):
        found.no_rescale = (whole(args[0]), _type(args[1]))
    elif keyword.startswith(("OFFSET_", "SHIFT_OP_", "DIST_OP_")):
        raise Unfit("what its axis is worked out from lies in the memory itself")
    else:
        found.parts.append((whole(args[0]), _skipped(args[1])))


def _break_points(found: RecordLayout, keyword: str, args: list[str]) -> None:
    _direct(args[3])
    part = Part(what=_axis(keyword), storage=_type(args[1]), falls=args[2] == "INDEX_DECR")
    if keyword[-1] in "Z45":
        found.z.append((whole(args[0]), part))
        part = Part(what="skip")
    found.parts.append((whole(args[0]), part))


def _skipped(word: str) -> Part:
    """What only the unit needs: its own addresses, a mark, room that is kept."""
    if word not in _LENGTHS:
        raise Unfit(f"{text(word)[:40]} is no type of number", fault=True)
    return Part(what="skip", skip=_LENGTHS[word])


def _axis(keyword: str) -> Literal["x", "y"]:
    return "y" if keyword[-1] == "Y" else "x"
