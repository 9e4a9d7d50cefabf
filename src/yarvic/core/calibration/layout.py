"""Layout: what a memory is known by, which checksums it keeps, and where its tables, values and texts lie.

Read from TOML (docs/layout-file.md) or from a description file; kept in a job as JSON.
"""

from __future__ import annotations

from functools import cached_property
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yarvic.core.calibration.checksum import Checksum, Span
from yarvic.core.calibration.conversion import PLAIN, Conversion, Linear, Points, Rational, Words
from yarvic.core.calibration.described import (
    MOST_ENTRIES,
    MOST_MEMORY,
    Address,
    Described,
    Key,
    Number,
    Title,
    Words_,
)
from yarvic.core.calibration.storing import SIZES, Storage, Storing
from yarvic.core.errors import CalibrationError

MOST_POINTS = 4096
Count = Annotated[int, Field(ge=1, le=MOST_POINTS)]
Order = Literal["", "big", "little"]
# Name of the one set of maps of a memory without slots.
ONE_SET = "Maps"


class Mark(Described):
    """Bytes by which a memory is known: `hex` in pairs of digits, `??` for any byte, or `text` in ASCII."""

    address: Address
    hex: Annotated[str, Field(pattern=r"^(([0-9A-Fa-f]{2}|\?\?)\s*){0,256}$")] = ""
    text: Annotated[str, Field(max_length=256, pattern=r"^[\x20-\x7e]*$")] = ""
    what: Words_ = ""

    @model_validator(mode="after")
    def _one_of_them(self) -> Mark:
        if bool(self.hex) == bool(self.text):
            raise ValueError("a mark is either hex or text")
        return self

    @cached_property
    def wanted(self) -> tuple[int | None, ...]:
        """The bytes, None for any."""
        if self.text:
            return tuple(self.text.encode("ascii"))
        pairs = "".join(self.hex.split())
        return tuple(None if "?" in pairs[i : i + 2] else int(pairs[i : i + 2], 16) for i in range(0, len(pairs), 2))

    def fits(self, found: bytes) -> bool:
        """Whether bytes are those."""
        return len(found) == len(self.wanted) and all(
            w is None or w == f for w, f in zip(self.wanted, found, strict=True)
        )


class TextPlace(Described):
    """Where a text lies, and how many bytes it has; a zero ends it."""

    address: Address
    length: Annotated[int, Field(ge=1, le=4096)]


class Stored(Described):
    """Numbers in memory: their type, and what they stand for. `conversion` names one of the layout's."""

    title: Words_ = ""
    unit: Annotated[str, Field(max_length=200)] = ""
    storage: Storage = "u8"
    byte_order: Order = ""
    conversion: Words_ = ""
    factor: Number = 1.0
    offset: Number = 0.0

    @model_validator(mode="after")
    def _linear(self) -> Stored:
        if self.factor != 1.0:
            Linear(factor=self.factor)  # refuses a factor that stores nothing
        return self


class Axis(Stored):
    """The break points of an axis: stored at `address`, fixed, shared with other tables, those of a curve, or of pairs
    of an axis value and its place that lie in memory.

    `input` is the channel that measures what it stands for, empty while that is not known. `differences`: each is
    stored as what it is more than the one before.
    """

    kind: Literal["stored", "fixed", "shared", "curve", "pairs"] = "stored"
    address: Address = 0
    count: Count = 1
    count_storage: Storage | Literal[""] = ""
    count_address: Address = 0
    start: Number = 0.0
    step: Number = 1.0
    values: Annotated[tuple[Number, ...], Field(max_length=MOST_POINTS, strict=False)] = ()
    of: Words_ = ""
    pairs: Annotated[int, Field(ge=0, le=MOST_POINTS)] = 0
    differences: bool = False
    falls: bool = False  # written from its end to its beginning
    input: Words_ = ""
    input_said: bool = False  # by a person, or by the layout's writer; not proposed

    @model_validator(mode="after")
    def _whole(self) -> Axis:
        if self.kind in ("shared", "curve") and not self.of:
            raise ValueError(f"an axis of kind {self.kind} must say of what (of = ...)")
        if self.kind == "fixed" and not self.values and self.step == 0.0:
            raise ValueError("a fixed axis with a step of nothing does not rise")
        return self


class Part(Described):
    """One part of a record: what it is, in which type; `skip` bytes that belong to nobody."""

    what: Literal["x count", "y count", "x", "y", "values", "skip"]
    storage: Storage = "u8"
    skip: Annotated[int, Field(ge=0, le=1_000_000)] = 0
    falls: bool = False


class Record(Described):
    """Parts in the order in which they lie. `fixed`: each has the room of its largest count.

    `assumed` are types whose alignment nobody stated: they may lie at a multiple of their size, or anywhere.
    """

    parts: Annotated[tuple[Part, ...], Field(max_length=40, strict=False)]
    fixed: bool = False
    align: Annotated[dict[str, int], Field(max_length=16)] = Field(default_factory=dict)
    assumed: Annotated[tuple[str, ...], Field(max_length=16, strict=False)] = ()

    def packed(self) -> Record:
        """The same with one part right behind the other, as far as nobody stated otherwise."""
        return self.model_copy(update={"align": {**self.align, **dict.fromkeys(self.assumed, 1)}, "assumed": ()})

    @property
    def counted(self) -> bool:
        """Whether how many there are lies in the memory itself."""
        return any(p.what in ("x count", "y count") for p in self.parts)


Kind = Literal["value", "curve", "map", "block", "text"]


class Entry(Stored):
    """A table, a curve, a value, a block of numbers or a text. Addresses are from the start of a slot, if there are slots.

    A map lies row by row (x along a row), or `by` columns. A `record` says how the parts lie where they lie together.
    """

    key: Key
    kind: Kind
    text: Words_ = ""
    address: Address
    low: Number | None = None
    high: Number | None = None
    decimals: Annotated[int, Field(ge=0, le=9)] | None = None
    count: Annotated[int, Field(ge=1, le=1_000_000)] = 1
    by: Literal["rows", "columns"] = "rows"
    mask: Annotated[int, Field(ge=0, le=0xFFFF_FFFF)] = 0
    read_only: bool = False
    record: Words_ = ""
    x: Axis | None = None
    y: Axis | None = None
    line: Annotated[int, Field(ge=0)] = 0

    @model_validator(mode="after")
    def _has_what_it_needs(self) -> Entry:
        if self.kind in ("curve", "map") and self.x is None:
            raise ValueError(f"a {self.kind} needs its axis x")
        if self.kind == "map" and self.y is None:
            raise ValueError("a map needs its axis y")
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError("low must not be above high")
        if self.mask and (self.storage in ("f32", "f64") or self.mask >= 1 << (8 * SIZES[self.storage])):
            raise ValueError(f"the mask does not fit {self.storage}")
        return self

    @property
    def named(self) -> str:
        """Its title, or the key where it has none."""
        return self.title or self.key


class SharedAxis(Axis):
    """An axis that several tables share, by its key."""

    key: Key
    text: Words_ = ""
    record: Words_ = ""
    line: Annotated[int, Field(ge=0)] = 0


class Group(Described):
    """A way through: entries that belong together, and groups within."""

    title: Title
    text: Words_ = ""
    entries: Annotated[tuple[Words_, ...], Field(max_length=MOST_ENTRIES, strict=False)] = ()
    groups: Annotated[tuple[Words_, ...], Field(max_length=10_000, strict=False)] = ()
    root: bool = False


class Measured(Described):
    """A number that the unit measures, as its description names it: for axes and for logs."""

    key: Key
    title: Words_ = ""
    unit: Annotated[str, Field(max_length=200)] = ""
    low: Number | None = None
    high: Number | None = None
    mask: Annotated[int, Field(ge=0, le=0xFFFF_FFFF_FFFF_FFFF)] = 0
    address: Address | None = None
    storage: Words_ = ""
    conversion: Words_ = ""


class LeftOut(Described):
    """An entry that cannot be used here, and why."""

    key: Words_
    reason: Words_
    line: Annotated[int, Field(ge=0)] = 0


class Role(Described):
    """Which entries do a job that checks and proposals know by name; `by` is who said so."""

    entries: Annotated[tuple[Key, ...], Field(min_length=1, max_length=64, strict=False)]
    by: Words_ = ""


class Origin(Described):
    """The file that a layout was read from."""

    name: Words_ = ""
    sha256: Annotated[str, Field(pattern=r"^([0-9a-f]{64})?$")] = ""
    kind: Words_ = ""


class Layout(Described):
    """Memory map of one family of control units.

    `size` is None until an image says how long the memory is. `gaps` are ranges of it that no file held, `segments`
    those that a description names, of which an image may be one.
    """

    format: Literal["yarvic layout 2"] = "yarvic layout 2"
    family: Annotated[str, Field(min_length=1, max_length=200)]
    version: Words_ = ""
    byte_order: Literal["big", "little"]
    order_doubted: bool = False  # its description says it in a word that has been meant both ways
    base: Address = 0
    size: Annotated[int, Field(ge=1, le=MOST_MEMORY)] | None = None
    block: Annotated[int, Field(ge=16, le=MOST_MEMORY)] = 512
    slots: Annotated[tuple[Title, ...], Field(max_length=64, strict=False)] = ()
    slot_start: Address = 0
    slot_size: Address = 0
    identification: Annotated[tuple[Mark, ...], Field(max_length=64, strict=False)] = ()
    revision_name: TextPlace | None = None
    checksums: Annotated[tuple[Checksum, ...], Field(max_length=64, strict=False)] = ()
    volatile: Annotated[tuple[Span, ...], Field(max_length=1000, strict=False)] = ()
    gaps: Annotated[tuple[Span, ...], Field(max_length=100_000, strict=False)] = ()
    segments: Annotated[tuple[Span, ...], Field(max_length=1000, strict=False)] = ()
    conversions: Annotated[dict[str, Conversion], Field(max_length=MOST_ENTRIES)] = Field(default_factory=dict)
    records: Annotated[dict[str, Record], Field(max_length=MOST_ENTRIES)] = Field(default_factory=dict)
    axes: Annotated[tuple[SharedAxis, ...], Field(max_length=MOST_ENTRIES, strict=False)] = ()
    entries: Annotated[tuple[Entry, ...], Field(max_length=MOST_ENTRIES, strict=False)] = ()
    measurements: Annotated[tuple[Measured, ...], Field(max_length=200_000, strict=False)] = ()
    groups: Annotated[tuple[Group, ...], Field(max_length=20_000, strict=False)] = ()
    roles: dict[str, Role] = Field(default_factory=dict)
    left_out: Annotated[tuple[LeftOut, ...], Field(max_length=200_000, strict=False)] = ()
    origin: Origin = Field(default_factory=Origin)

    @model_validator(mode="after")
    def _fits(self) -> Layout:
        if len(set(self.slots)) != len(self.slots):
            raise ValueError("a slot is there twice")
        end = None if self.size is None else self.base + self.size
        if end is not None and self.slots and self.slot_start + self.slot_size * len(self.slots) > end:
            raise ValueError("the slots do not fit into the memory")
        if self.slots and self.slot_start < self.base:
            raise ValueError("the slots begin before the memory")
        return self

    @cached_property
    def sets(self) -> tuple[str, ...]:
        """The names of its sets of maps: its slots, or the one set of a memory without."""
        return self.slots or (ONE_SET,)

    @cached_property
    def by_key(self) -> dict[str, Entry]:
        """Entries by their keys."""
        return {e.key: e for e in self.entries}

    @cached_property
    def axis_by_key(self) -> dict[str, SharedAxis]:
        """Shared axes by their keys."""
        return {a.key: a for a in self.axes}

    @cached_property
    def keys(self) -> dict[str, tuple[str, ...]]:
        """The keys of its tables (curves, maps, blocks), values and texts, in its order."""
        found: dict[str, list[str]] = {"table": [], "value": [], "text": []}
        for e in self.entries:
            found[e.kind if e.kind in ("value", "text") else "table"].append(e.key)
        return {kind: tuple(keys) for kind, keys in found.items()}

    @property
    def end(self) -> int:
        """The address behind the last one. Raises CalibrationError while no image has said how long the memory is."""
        return self.base + self.length

    @property
    def length(self) -> int:
        """How many bytes the memory has. Raises CalibrationError while no image has said."""
        if self.size is None:
            raise CalibrationError(
                "the layout does not say how long the memory is",
                concerns=self.family,
                remedy="Read an image with it.",
            )
        return self.size

    @property
    def blocks(self) -> int:
        """How many blocks the memory has; the last may be shorter."""
        return -(-self.length // self.block)

    def slot_offset(self, slot: str) -> int:
        """What is added to the addresses of a slot. Raises CalibrationError for an unknown slot."""
        if slot not in self.sets:
            raise CalibrationError(f"there is no slot {slot!r}", remedy=f"Slots: {', '.join(self.sets)}.")
        return self.slot_start + self.slots.index(slot) * self.slot_size if self.slots else 0

    def storing(self, stored: Stored, mask: int = 0, storage: Storage | None = None) -> Storing:
        """How its numbers are stored; `storage` where a record says it.

        Raises CalibrationError for a conversion that is not there.
        """
        conversion: Linear | Rational | Points | Words = PLAIN
        if stored.conversion:
            if stored.conversion not in self.conversions:
                raise CalibrationError(
                    f"there is no conversion {stored.conversion!r}",
                    concerns=stored.title,
                    remedy="Correct its name, or add it.",
                )
            conversion = self.conversions[stored.conversion]
        elif stored.factor != 1.0 or stored.offset != 0.0:
            conversion = Linear(factor=stored.factor, offset=stored.offset)
        return Storing(storage or stored.storage, conversion, mask)

    def order_of(self, stored: Stored) -> str:
        """The byte order of its numbers."""
        return stored.byte_order or self.byte_order

    def role_of(self, key: str) -> str:
        """The role that an entry has; empty where it has none."""
        return next((name for name, role in self.roles.items() if key in role.entries), "")

    def of_role(self, name: str) -> tuple[str, ...]:
        """The keys of the entries of a role."""
        return self.roles[name].entries if name in self.roles else ()

    def changed(self, **values: object) -> Layout:
        """The same with other parts; each was checked when it was made."""
        made = self.model_copy(update=values)
        for name in ("sets", "by_key", "axis_by_key", "keys"):
            made.__dict__.pop(name, None)  # what was worked out of the parts before
        return made

    def to_json(self) -> str:
        """As it is kept in a job."""
        return self.model_dump_json(exclude_defaults=True)
