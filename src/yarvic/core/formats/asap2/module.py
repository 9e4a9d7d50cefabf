"""A description file as a layout: its module with all entries, groups and measurements, and what is wrong with it."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from pathlib import Path

from pydantic import ValidationError

from yarvic.core.calibration.described import MOST_ADDRESS, MOST_ENTRIES
from yarvic.core.calibration.faults import Fault, inspected
from yarvic.core.calibration.layout import Entry, Group, Layout, LeftOut, Mark, Measured, Origin, SharedAxis
from yarvic.core.calibration.layout_file import known_unit
from yarvic.core.document import first_fault
from yarvic.core.errors import CalibrationError, FormatError, name_of
from yarvic.core.formats.asap2.blocks import MOST_BYTES, Block, blocks_of
from yarvic.core.formats.asap2.entries import BOTH_WAYS, Known, bounds_of, characteristic, order_of, shared_axis
from yarvic.core.formats.asap2.instances import Instances
from yarvic.core.formats.asap2.methods import NONE, Methods
from yarvic.core.formats.asap2.reading import Unfit, limit, needs, options, text, whole
from yarvic.core.formats.asap2.records import ALIGNED, RecordLayout, RecordLayouts
from yarvic.core.formats.asap2.variants import Variants
from yarvic.core.reading import read_bounded, reader

_COMMON = {"BYTE_ORDER": 1, "DEPOSIT": 1, "DATA_SIZE": 1, "S_REC_LAYOUT": 1, **dict.fromkeys(ALIGNED, 1)}
_PAR = {"ADDR_EPK": 1, "EPK": 1, "VERSION": 1, "ECU": 1, "ECU_CALIBRATION_OFFSET": 1, "CPU_TYPE": 1, "NO_OF_INTERFACES": 1,
        "CUSTOMER": 1, "CUSTOMER_NO": 1, "SUPPLIER": 1, "USER": 1, "PHONE_NO": 1, "SYSTEM_CONSTANT": 2}  # fmt: skip
_MEASUREMENT = {
    "BIT_MASK": 1, "ECU_ADDRESS": 1, "PHYS_UNIT": 1, "BYTE_ORDER": 1, "FORMAT": 1, "ARRAY_SIZE": 1, "DISPLAY_IDENTIFIER": 1,
    "ERROR_MASK": 1, "MAX_REFRESH": 2, "READ_WRITE": 0, "REF_MEMORY_SEGMENT": 1, "SYMBOL_LINK": 2, "LAYOUT": 1,
    "ECU_ADDRESS_EXTENSION": 1, "DISCRETE": 0,
}  # fmt: skip
# Versions of the standard that are read; those before are much the same, and are said.
VERSIONS = ((1, 60), (1, 61), (1, 70), (1, 71), (1, 6), (1, 7))
BLOCK_BYTES = 4096
_MSB = {"big": "MSB_FIRST", "little": "MSB_LAST"}
# Another thing in a module that can be calibrated, and why it is none here.
_OTHERS = {"BLOB": "it is a block of bytes without a meaning"}


class _Module:
    """Takes a module in: entries with their axes, and the reasons of all others."""

    def __init__(self, module: Block) -> None:
        self.block = module
        self.faults: list[Fault] = []
        self.doubted = False
        self.left: list[LeftOut] = []
        self.words = module.words()
        common = self._told("MOD_COMMON", _COMMON)
        self.par = self._told("MOD_PAR", _PAR)
        self.order = self._byte_order(common)
        self.differences = common.get("DEPOSIT", [""])[0] == "DIFFERENCE"
        stated: dict[str, int] = {
            s: max(whole(common[k][0]), 1) for k, of in ALIGNED.items() if k in common for s in of
        }
        self.methods = Methods(module)
        self.records = RecordLayouts(module, stated)
        self.instances = Instances(module, self.records)
        self.variants = Variants(module)

    def _told(self, keyword: str, counts: dict[str, int]) -> dict[str, list[str]]:
        block = next(self.block.of(keyword), None)
        return options(block.words(), 1, counts) if block is not None else {}

    def _byte_order(self, common: dict[str, list[str]]) -> str:
        block = next(self.block.of("MOD_COMMON"), self.block)
        word = common.get("BYTE_ORDER", [""])[0]
        if word in BOTH_WAYS:
            self.doubted = True
            what = f"BYTE_ORDER {word} has been meant both ways; by the standard it is {_MSB[BOTH_WAYS[word]]}"
            self.faults.append(Fault("MOD_COMMON", what, "Write MSB_FIRST or MSB_LAST for it.", block.line))
            return BOTH_WAYS[word]
        try:
            found = order_of(common)
        except Unfit as unfit:
            raise block.source.wrong(block.start, unfit.reason, unfit.remedy) from None
        if not found:
            # What the standard takes where nothing is said. From memory.
            self.faults.append(
                Fault("MOD_COMMON", "states no BYTE_ORDER: MSB_LAST is taken", "State it.", block.line)
            )
        return found or "little"

    def layout(self, project: str) -> Layout:
        """The module as a layout."""
        name = text(self.words[0]) if self.words else project
        measured = self._measured()
        axes, axis_records = self._axes(measured)
        entries, records = self._entries(Known(self.methods, self.records, axes, measured, self.differences))
        for keyword, reason in _OTHERS.items():
            for block in self.block.of(keyword):
                self._leave(block, reason)
        self.left += self.instances.left_out
        self.faults += self.variants.faults({*entries, *axes, *(x.key for x in self.left)})
        self._offset()
        family = f"{project}, {name}" if project and project != name else name or "unnamed"
        records |= axis_records
        return Layout(
            family=family[:200],
            version=text(self.par.get("VERSION", self.par.get("EPK", [""]))[0])[:200],
            byte_order="big" if self.order == "big" else "little",
            order_doubted=self.doubted,
            block=BLOCK_BYTES,
            identification=self._marks(),
            segments=self._segments(),
            conversions=dict(self.methods.used),
            records={r.name: r.record() for r in records.values()},
            axes=tuple(axes.values()),
            entries=tuple(entries.values()),
            measurements=tuple(measured.values()),
            groups=self._groups(entries),
            left_out=tuple(self.left),
        )

    def _leave(self, block: Block, reason: str, *, fault: bool = False, remedy: str = "") -> None:
        words = block.words()
        key = text(words[0])[:1000] if words else "unnamed"
        self.left.append(LeftOut(key=key, reason=reason[:4000], line=block.line))
        if fault:
            self.faults.append(Fault(key, reason, remedy or "Correct the description.", block.line))

    def _offset(self) -> None:
        told = self.par.get("ECU_CALIBRATION_OFFSET")
        if told is not None and whole(told[0]) != 0:
            what = f"states an offset of all addresses, {told[0]}, which is not added here"
            self.faults.append(Fault("MOD_PAR", what, "Compare an entry's address with the image.", self.block.line))

    def _all(self, keyword: str) -> Iterator[Block]:
        """The blocks of a keyword, and what instances of types stand for."""
        yield from self.block.of(keyword)
        yield from self.instances.of(keyword)

    def _measured(self) -> dict[str, Measured]:
        found: dict[str, Measured] = {}
        for block in self._all("MEASUREMENT"):
            try:
                made = _measurement(block, self.methods)
                found.setdefault(made.key, made)
            except (Unfit, ValidationError) as error:
                what = error.reason if isinstance(error, Unfit) else first_fault(error)
                words = block.words()
                about = text(words[0])[:200] if words else "MEASUREMENT"
                self.faults.append(Fault(about, what, "Correct the description.", block.line))
        return found

    def _axes(self, measured: dict[str, Measured]) -> tuple[dict[str, SharedAxis], dict[str, RecordLayout]]:
        axes: dict[str, SharedAxis] = {}
        records: dict[str, RecordLayout] = {}
        for block in self._all("AXIS_PTS"):
            try:
                axis, record = shared_axis(block, self.methods, self.records, measured, self.differences)
                if axis.key in axes:
                    raise Unfit("is there twice", fault=True, remedy="Give each its own name.")
                axes[axis.key] = axis
                axes |= self.variants.of_axis(axis)
                if record is not None:
                    records[record.name] = record
            except Unfit as unfit:
                self._leave(block, unfit.reason, fault=unfit.fault, remedy=unfit.remedy)
        return axes, records

    def _entries(self, known: Known) -> tuple[dict[str, Entry], dict[str, RecordLayout]]:
        entries: dict[str, Entry] = {}
        records: dict[str, RecordLayout] = {}
        seen: set[str] = set()
        for block in self._all("CHARACTERISTIC"):
            try:
                name = text(needs(block, 1)[0])
                if name in seen:
                    raise Unfit("is there twice", fault=True, remedy="Give each its own name.")
                seen.add(name)
                made = self.variants.made(name, characteristic(block, known))
                if len(entries) + len(made.entries) > MOST_ENTRIES:
                    raise Unfit(f"there are more than {MOST_ENTRIES:,} entries before it")
                entries |= {e.key: e for e in made.entries}
                records |= made.records
            except Unfit as unfit:
                self._leave(block, unfit.reason, fault=unfit.fault, remedy=unfit.remedy)
        return entries, records

    def _marks(self) -> tuple[Mark, ...]:
        if "EPK" not in self.par or "ADDR_EPK" not in self.par:
            return ()
        epk, address = text(self.par["EPK"][0]), whole(self.par["ADDR_EPK"][0])
        if not epk or not 0 <= address <= MOST_ADDRESS:
            return ()
        raw = epk.encode("latin-1", errors="replace")[:256]
        plain = raw.decode("latin-1")
        what = "the program's identification (EPK)"
        if plain.isascii() and plain.isprintable():
            return (Mark(address=address, text=plain, what=what),)
        return (Mark(address=address, hex=raw.hex(" "), what=what),)

    def _segments(self) -> tuple[tuple[int, int], ...]:
        """The ranges of memory that the description names."""
        found = []
        for par in self.block.of("MOD_PAR"):
            for block in par.of("MEMORY_SEGMENT"):
                words = block.words()
                if len(words) > 6:
                    address, size = whole(words[5]), whole(words[6])
                    if size > 0 and address >= 0 and address + size <= MOST_ADDRESS + 1:
                        found.append((address, min(address + size, MOST_ADDRESS)))
        return tuple(found[:1000])

    def _groups(self, entries: dict[str, Entry]) -> tuple[Group, ...]:
        slices: dict[str, list[str]] = {}
        for key in entries:
            if key.endswith("]"):
                slices.setdefault(key.rpartition("[")[0], []).append(key)
        found = []
        for keyword, lists, within in (
            ("GROUP", ("REF_CHARACTERISTIC",), "SUB_GROUP"),
            ("FUNCTION", ("DEF_CHARACTERISTIC", "REF_CHARACTERISTIC"), "SUB_FUNCTION"),
        ):
            for block in self.block.of(keyword):
                words = block.words()
                if not words:
                    continue
                named = [text(w) for kind in lists for inner in block.of(kind) for w in inner.words()]
                mine = [k for n in dict.fromkeys(named) for k in (slices.get(n, []) if n not in entries else [n])]
                long = text(words[1]) if len(words) > 1 and words[1][:1] == '"' else ""
                found.append(
                    Group(
                        title=text(words[0])[:1000] or "unnamed",
                        text=long[:4000],
                        entries=tuple(mine),
                        groups=tuple(text(w) for b in block.of(within) for w in b.words()),
                        root="ROOT" in words,
                    )
                )
        return tuple(found)


def _measurement(block: Block, methods: Methods) -> Measured:
    words = needs(block, 8)
    told = options(words, 8, _MEASUREMENT)
    method = methods.get(text(words[3]))
    low, high = bounds_of(limit(words[6]), limit(words[7]), method)
    unit = text(told["PHYS_UNIT"][0]) if "PHYS_UNIT" in told else method.unit
    address = whole(told["ECU_ADDRESS"][0]) if "ECU_ADDRESS" in told else -1
    return Measured(
        key=text(words[0])[:1000],
        title=text(words[1])[:1000],
        unit=known_unit(unit)[:200],
        low=low,
        high=high,
        mask=whole(told["BIT_MASK"][0]) & 0xFFFF_FFFF_FFFF_FFFF if "BIT_MASK" in told else 0,
        address=address if 0 <= address <= MOST_ADDRESS else None,
        storage=words[2],
        conversion="" if method.name == NONE else method.name,
    )


@reader("description", "Description file, ASAM MCD-2 MC (ASAP2)", ".a2l", MOST_BYTES)
def read_asap2(path: Path) -> tuple[Layout, list[Fault]]:
    """The layout that a description file holds, and what is wrong with it.

    Every CHARACTERISTIC stands in its entries or, with the reason, in what is left out. Raises FormatError naming file
    and line for what is no description, CalibrationError for one that cannot be used at all.
    """
    data = read_bounded(path, MOST_BYTES)
    root = blocks_of(path, data)
    version = _version(root, name_of(path))
    project = next(root.of("PROJECT"), None)
    modules = list(project.of("MODULE")) if project is not None else list(root.of("MODULE"))
    if not modules:
        raise FormatError(
            "holds no MODULE: it is no description file", concerns=path.name, remedy="Choose another file."
        )
    modules.sort(key=lambda m: -sum(1 for _ in m.of("CHARACTERISTIC")))
    main = modules[0]
    try:
        taken = _Module(main)
        words = project.words() if project is not None else []
        layout = taken.layout(text(words[0]) if words else "")
    except Unfit as unfit:
        raise main.source.wrong(main.start, unfit.reason, unfit.remedy) from None
    except ValidationError as error:
        raise CalibrationError(first_fault(error), concerns=path.name, remedy="Correct the description.") from None
    others = [
        LeftOut(key=text(w[0])[:1000], reason=f"it belongs to another module than {layout.family}", line=b.line)
        for m in modules[1:]
        for b in m.of("CHARACTERISTIC")
        if (w := b.words())
    ]
    origin = Origin(name=name_of(path), sha256=hashlib.sha256(data).hexdigest(), kind="ASAP2")
    layout = layout.changed(left_out=(*layout.left_out, *others), origin=origin)
    layout, more = inspected(layout)
    return layout, [*version, *taken.faults, *more]


def _version(root: Block, name: str) -> list[Fault]:
    """What is to be said of the standard's version that a file states. Raises FormatError for one of another kind."""
    words = root.words()
    if "ASAP2_VERSION" not in words:
        return [
            Fault(name, "states no ASAP2_VERSION: it is read as 1.6", "State it, ASAP2_VERSION 1 61 for example.")
        ]
    at = words.index("ASAP2_VERSION")
    try:
        major, minor = whole(words[at + 1]), whole(words[at + 2])
    except (Unfit, IndexError):
        raise FormatError(
            "states an ASAP2_VERSION that is none", concerns=name, remedy="Write ASAP2_VERSION 1 61 for example."
        ) from None
    if major != 1:
        raise FormatError(
            f"is written for version {major}.{minor} of the standard; 1.6 and 1.7 are read",
            concerns=name,
            remedy="Export it for version 1.6 or 1.7.",
        )
    if (major, minor) in VERSIONS:
        return []
    what = f"is written for version {major}.{minor} of the standard, and is read as 1.6"
    return [Fault(name, what, "Look at its entries with care, or export it for version 1.6 or 1.7.")]
