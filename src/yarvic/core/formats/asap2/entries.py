"""CHARACTERISTIC and AXIS_PTS as entries of a layout, each or the reason why it is none."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from math import prod
from typing import Any

from pydantic import ValidationError

from yarvic.core.calibration.conversion import Words
from yarvic.core.calibration.described import MOST_NUMBER
from yarvic.core.calibration.layout import Axis, Entry, Measured, SharedAxis
from yarvic.core.calibration.layout_file import known_unit
from yarvic.core.calibration.storing import SIZES
from yarvic.core.document import first_fault
from yarvic.core.formats.asap2.blocks import Block
from yarvic.core.formats.asap2.methods import NONE, Method, Methods
from yarvic.core.formats.asap2.reading import NUMBERS, Unfit, decimals, limit, needs, number, options, text, whole
from yarvic.core.formats.asap2.records import RecordLayout, RecordLayouts

_ORDERS = {"MSB_FIRST": "big", "MSB_LAST": "little"}
# Older words, which the standard has the other way round than everybody else: nobody can know which was meant. What
# they are by the standard, from memory.
BOTH_WAYS = {"BIG_ENDIAN": "little", "LITTLE_ENDIAN": "big"}
_CHARACTERISTIC = {
    "BIT_MASK": 1, "BYTE_ORDER": 1, "CALIBRATION_ACCESS": 1, "COMPARISON_QUANTITY": 1, "DISPLAY_IDENTIFIER": 1,
    "ECU_ADDRESS_EXTENSION": 1, "DISCRETE": 0, "EXTENDED_LIMITS": 2, "FORMAT": 1, "GUARD_RAILS": 0,
    "MATRIX_DIM": NUMBERS, "MAX_REFRESH": 2, "MODEL_LINK": 1, "NUMBER": 1, "PHYS_UNIT": 1, "READ_ONLY": 0,
    "REF_MEMORY_SEGMENT": 1, "STEP_SIZE": 1, "SYMBOL_LINK": 2, "ENCODING": 1,
}  # fmt: skip
_DESCR = {
    "AXIS_PTS_REF": 1, "CURVE_AXIS_REF": 1, "FIX_AXIS_PAR": 3, "FIX_AXIS_PAR_DIST": 3, "FORMAT": 1, "BYTE_ORDER": 1,
    "DEPOSIT": 1, "EXTENDED_LIMITS": 2, "MAX_GRAD": 1, "MONOTONY": 1, "PHYS_UNIT": 1, "READ_ONLY": 0, "STEP_SIZE": 1,
}  # fmt: skip
_PTS = {
    "BYTE_ORDER": 1, "DEPOSIT": 1, "DISPLAY_IDENTIFIER": 1, "ECU_ADDRESS_EXTENSION": 1, "EXTENDED_LIMITS": 2,
    "FORMAT": 1, "MONOTONY": 1, "PHYS_UNIT": 1, "READ_ONLY": 0, "STEP_SIZE": 1, "SYMBOL_LINK": 2, "CALIBRATION_ACCESS": 1,
    "REF_MEMORY_SEGMENT": 1,
}  # fmt: skip
# Kinds of characteristic and how many axes they have.
_AXES = {"VALUE": 0, "VAL_BLK": 0, "ASCII": 0, "CURVE": 1, "MAP": 2, "CUBOID": 3}
MOST_SLICES = 256


@dataclass(frozen=True)
class Known:
    """What entries are made with: conversions, records, shared axes, measurements, and how axes are deposited."""

    methods: Methods
    records: RecordLayouts
    axes: Mapping[str, SharedAxis]
    measured: Mapping[str, Measured]
    differences: bool = False


@dataclass
class Made:
    """The entries of one characteristic, and the records that they lie in."""

    entries: list[Entry] = field(default_factory=list)
    records: dict[str, RecordLayout] = field(default_factory=dict)


def order_of(told: Mapping[str, list[str]]) -> str:
    """The byte order that a block states, empty where it states none. Raises Unfit for one that is read both ways."""
    if "BYTE_ORDER" not in told:
        return ""
    word = told["BYTE_ORDER"][0]
    if word in BOTH_WAYS:
        raise Unfit(
            f"BYTE_ORDER {word} has been meant both ways", fault=True, remedy="Write MSB_FIRST or MSB_LAST for it."
        )
    if word not in _ORDERS:
        raise Unfit(f"byte order {word} is not read here")
    return _ORDERS[word]


def characteristic(block: Block, known: Known) -> Made:
    """The entries of a CHARACTERISTIC. Raises Unfit with the reason where there are none."""
    words = needs(block, 9)
    name, kind = text(words[0]), words[2]
    told = options(words, 9, _CHARACTERISTIC)
    if next(block.of("VIRTUAL_CHARACTERISTIC"), None) is not None:
        raise Unfit("it is worked out of others and lies in no memory")
    if kind not in _AXES:
        raise Unfit(f"characteristics of type {kind} are not read here")
    if "ECU_ADDRESS_EXTENSION" in told and whole(told["ECU_ADDRESS_EXTENSION"][0]) != 0:
        raise Unfit("it lies in another address space than the image")
    access = told.get("CALIBRATION_ACCESS", [""])[0]
    dependent = next(block.of("DEPENDENT_CHARACTERISTIC"), None) is not None
    record = known.records.get(text(words[4]))
    method = _usable(known.methods.get(text(words[6])))
    values = record.values
    if values is None:
        raise Unfit(f"its record {record.name} holds no values", fault=True)
    if record.mixed and kind not in ("VALUE", "ASCII", "CURVE"):
        raise Unfit("its values lie in an order that is no row and no column")
    low, high = bounds_of(limit(words[7]), limit(words[8]), method)
    base: dict[str, Any] = {
        "key": name,
        "title": text(words[1])[:1000],
        "unit": _unit(told, method),
        "address": whole(words[3]),
        "storage": values.storage,
        "byte_order": order_of(told),
        "conversion": "" if method.conversion is None else method.name,
        "low": low,
        "high": high,
        "decimals": _digits(told, method),
        "by": record.by,
        "mask": whole(told["BIT_MASK"][0]) if "BIT_MASK" in told else 0,
        "read_only": dependent or "READ_ONLY" in told or access in ("NO_CALIBRATION", "NOT_IN_MCD_SYSTEM"),
        "text": text(told["DISPLAY_IDENTIFIER"][0]) if "DISPLAY_IDENTIFIER" in told else "",
        "line": block.line,
    }
    if base["mask"] and values.storage[0] != "f" and base["mask"] == (1 << 8 * SIZES[values.storage]) - 1:
        base["mask"] = 0
    made = Made()
    if kind in ("VALUE", "ASCII", "VAL_BLK"):
        _without_axes(kind, base, told, record, made)
        return made
    descriptions = list(block.of("AXIS_DESCR"))
    if len(descriptions) != _AXES[kind]:
        raise Unfit(f"a {kind} needs {_AXES[kind]} AXIS_DESCR, it has {len(descriptions)}", fault=True)
    axes = [_axis(d, known, record, "xyz"[n]) for n, d in enumerate(descriptions)]
    if kind == "CUBOID":
        _slices(base, axes, record, made)
        return made
    _with_record(base, record, made)
    made.entries.append(_entry({**base, "kind": kind.lower(), "x": axes[0], "y": axes[1] if len(axes) > 1 else None}))
    return made


def _entry(values: dict[str, Any]) -> Entry:
    try:
        return Entry(**values)
    except ValidationError as error:
        raise Unfit(first_fault(error), fault=True) from None


def _usable(method: Method) -> Method:
    if method.reason:
        raise Unfit(method.reason, fault=method.fault)
    return method


def bounds_of(low: float, high: float, method: Method) -> tuple[float | None, float | None]:
    """The bounds as stated; none where nothing can lie between them, or they are without end."""
    if low > high:
        raise Unfit(f"its lower limit {low:g} is above its upper limit {high:g}", fault=True)
    if low == high == 0.0:
        return None, None
    if isinstance(method.conversion, Words) and low == high:
        return None, None
    return (low if low > -MOST_NUMBER else None), (high if high < MOST_NUMBER else None)


def _unit(told: Mapping[str, list[str]], method: Method) -> str:
    return known_unit(text(told["PHYS_UNIT"][0]) if "PHYS_UNIT" in told else method.unit)[:200]


def _digits(told: Mapping[str, list[str]], method: Method) -> int | None:
    digits = decimals(told["FORMAT"][0]) if "FORMAT" in told else None
    return method.decimals if digits is None else digits


def _with_record(base: dict[str, Any], record: RecordLayout, made: Made) -> None:
    """Say in which record the parts lie, where there is more in it than values."""
    if len(record.parts) > 1:
        base["record"] = record.name
        made.records[record.name] = record


def _without_axes(
    kind: str, base: dict[str, Any], told: Mapping[str, list[str]], record: RecordLayout, made: Made
) -> None:
    sizes = (
        [whole(w) for w in told.get("MATRIX_DIM", [])] or [whole(told["NUMBER"][0])]
        if ("MATRIX_DIM" in told or "NUMBER" in told)
        else []
    )
    sizes = [n for n in sizes if n > 1] or ([1] if sizes else [])
    if kind != "VALUE" and not sizes:
        raise Unfit(f"{kind} says neither NUMBER nor MATRIX_DIM", fault=True)
    _with_record(base, record, made)
    if kind == "VALUE":
        made.entries.append(_entry({**base, "kind": "value"}))
    elif kind == "ASCII":
        made.entries.append(_entry({**base, "kind": "text", "count": prod(sizes), "storage": "u8", "conversion": ""}))
    else:
        counted = {"kind": "block", "count": prod(sizes)}
        if len(sizes) > 1:
            if base.get("record"):
                raise Unfit("a block of several dimensions with more in its record than values")
            counted["x"] = Axis(kind="fixed", title="Number", count=sizes[0], start=1.0)
            counted["y"] = Axis(kind="fixed", title="Number", count=prod(sizes[1:]), start=1.0)
        made.entries.append(_entry({**base, **counted}))


def _axis(block: Block, known: Known, record: RecordLayout, which: str) -> Axis:
    """An axis of a table. Raises Unfit with the reason why it cannot be used."""
    words = needs(block, 6)
    attribute, source, count = words[0], text(words[1]), max(whole(words[3]), 1)
    told = options(words, 6, _DESCR)
    method = _usable(known.methods.get(text(words[2])))
    measured = known.measured.get(source)
    title = "" if measured is None and source == "NO_INPUT_QUANTITY" else _called(source, measured)
    base: dict[str, Any] = {
        "title": title,
        "unit": _unit(told, method) or (measured.unit if measured is not None and method.name == NONE else ""),
        "count": record.counts.get(which, count),
        "conversion": "" if method.conversion is None else method.name,
        "byte_order": order_of(told),
        "differences": told.get("DEPOSIT", ["DIFFERENCE" if known.differences else ""])[0] == "DIFFERENCE",
    }
    try:
        return _of_attribute(attribute, block, told, base, known, record, which)
    except ValidationError as error:
        raise Unfit(f"its axis {which}: {first_fault(error)}", fault=True) from None


def _called(source: str, measured: Measured | None) -> str:
    return measured.title if measured is not None and 0 < len(measured.title) <= 60 else source


def _of_attribute(
    attribute: str,
    block: Block,
    told: Mapping[str, list[str]],
    base: dict[str, Any],
    known: Known,
    record: RecordLayout,
    which: str,
) -> Axis:
    if attribute == "STD_AXIS":
        part = dict(zip("xy", ("x", "y"), strict=True)).get(which)
        stored = record.has(part) if part else bool(record.z)
        if not stored:
            raise Unfit(f"its record {record.name} holds no axis {which}", fault=True)
        return Axis(kind="stored", **base)
    if attribute == "FIX_AXIS":
        return _fixed(block, told, base)
    if attribute == "CURVE_AXIS":
        if "CURVE_AXIS_REF" not in told:
            raise Unfit("CURVE_AXIS without its CURVE_AXIS_REF", fault=True)
        return Axis(kind="curve", of=text(told["CURVE_AXIS_REF"][0]), **{**base, "conversion": ""})
    if attribute in ("COM_AXIS", "RES_AXIS"):
        if "AXIS_PTS_REF" not in told:
            raise Unfit(f"{attribute} without its AXIS_PTS_REF", fault=True)
        name = text(told["AXIS_PTS_REF"][0])
        shared = known.axes.get(name)
        if shared is None:
            raise Unfit(f"there is no usable AXIS_PTS {name}", fault=True)
        if shared.kind == "pairs" and shared.count != base["count"]:
            raise Unfit(f"its axis has {base['count']} points, the pairs of {name} give {shared.count}")
        return Axis(kind="shared", of=name, title=base["title"], unit=base["unit"], count=shared.count)
    raise Unfit(f"{attribute} is no kind of axis that is known", fault=True)


def _fixed(block: Block, told: Mapping[str, list[str]], base: dict[str, Any]) -> Axis:
    listed = next(block.of("FIX_AXIS_PAR_LIST"), None)
    base = {**base, "differences": False}
    if listed is not None:
        values = tuple(number(w) for w in listed.words())
        if not values:
            raise Unfit("FIX_AXIS_PAR_LIST holds no numbers", fault=True)
        return Axis(kind="fixed", **{**base, "values": values, "count": len(values)})
    if "FIX_AXIS_PAR_DIST" in told:
        start, step, count = (number(w) for w in told["FIX_AXIS_PAR_DIST"])
    elif "FIX_AXIS_PAR" in told:
        start, shift, count = (number(w) for w in told["FIX_AXIS_PAR"])
        if not 0 <= shift <= 31:
            raise Unfit(f"its axis has a shift of {shift:g}", fault=True)
        step = float(2 ** round(shift))
    else:
        raise Unfit("FIX_AXIS without its points", fault=True)
    return Axis(kind="fixed", **{**base, "start": start, "step": step, "count": max(round(count), 1)})


def _slices(base: dict[str, Any], axes: list[Axis], record: RecordLayout, made: Made) -> None:
    """A cuboid as a map for each of its third axis' points."""
    if record.has("x count") or record.has("y count"):
        raise Unfit("how many points a cuboid has lies in the memory itself")
    x, y, z = axes
    if z.kind == "curve" or (z.kind == "shared" and z.count < 1):
        raise Unfit("how many slices it has is unknown")
    count = z.count
    if count > MOST_SLICES:
        raise Unfit(f"it has {count} slices, at most {MOST_SLICES} are read")
    many = {"x": x.count, "y": y.count, "values": x.count * y.count * count}
    zs = dict(record.z)
    at, places = base["address"], {}
    for position, part in sorted(record.parts, key=lambda p: p[0]):
        inner = zs.get(position)
        storage = inner.storage if inner is not None else part.storage
        if at != base["address"] and (part.what != "skip" or inner is not None):
            at += -at % record.align.get(storage, 1)
        places[part.what if inner is None else "z"] = at
        if inner is not None:
            at += SIZES[storage] * count
        else:
            at += part.skip if part.what == "skip" else SIZES[storage] * many[part.what]
    own = {p.what: p.storage for _, p in record.parts}
    if x.kind == "stored":
        x = x.model_copy(update={"address": places["x"], "storage": own["x"]})
    if y.kind == "stored":
        y = y.model_copy(update={"address": places["y"], "storage": own["y"]})
    size = SIZES[base["storage"]] * x.count * y.count
    for n in range(count):
        title = f"{base['title'] or base['key']}, slice {n + 1} of {count}" + (f" by {z.title}" if z.title else "")
        made.entries.append(
            _entry(
                {**base, "key": f"{base['key']}[{n}]", "title": title[:1000], "kind": "map", "x": x, "y": y,
                 "address": places["values"] + n * size}
            )
        )  # fmt: skip


def shared_axis(
    block: Block, methods: Methods, records: RecordLayouts, measured: Mapping[str, Measured], differences: bool
) -> tuple[SharedAxis, RecordLayout | None]:
    """An AXIS_PTS as a shared axis, and the record it lies in. Raises Unfit."""
    words = needs(block, 10)
    name, source = text(words[0]), text(words[3])
    told = options(words, 10, _PTS)
    if "ECU_ADDRESS_EXTENSION" in told and whole(told["ECU_ADDRESS_EXTENSION"][0]) != 0:
        raise Unfit("it lies in another address space than the image")
    record = records.get(text(words[4]))
    method = _usable(methods.get(text(words[6])))
    base: dict[str, Any] = {
        "key": name,
        "title": text(words[1])[:1000]
        or ("" if source == "NO_INPUT_QUANTITY" else _called(source, measured.get(source))),
        "unit": _unit(told, method),
        "address": whole(words[2]),
        "count": record.counts.get("x", max(whole(words[7]), 1)),
        "conversion": "" if method.conversion is None else method.name,
        "byte_order": order_of(told),
        "differences": told.get("DEPOSIT", ["DIFFERENCE" if differences else ""])[0] == "DIFFERENCE",
        "line": block.line,
    }
    try:
        if record.rescale is not None:
            return _of_pairs(base, record), None
        part = next((p for _, p in record.parts if p.what == "x"), None)
        if part is None:
            raise Unfit(f"its record {record.name} holds no axis", fault=True)
        if len(record.parts) > 1:
            return SharedAxis(**{**base, "record": record.name}), record
        return SharedAxis(**{**base, "storage": part.storage, "falls": part.falls}), None
    except ValidationError as error:
        raise Unfit(first_fault(error), fault=True) from None


def _of_pairs(base: dict[str, Any], record: RecordLayout) -> SharedAxis:
    assert record.rescale is not None
    position, storage, most = record.rescale
    parts: list[tuple[int, str, int]] = [(position, "pairs", 0)]
    parts += [(p, "skip", part.skip or SIZES[part.storage]) for p, part in record.parts]
    if record.no_rescale is not None:
        parts.append((record.no_rescale[0], "count", SIZES[record.no_rescale[1]]))
    at, places = base["address"], {}
    for _, what, size in sorted(parts):
        places[what] = at
        at += size
    counted = record.no_rescale is not None
    return SharedAxis(
        **{
            **base,
            "kind": "pairs",
            "address": places["pairs"],
            "storage": storage,
            "pairs": most,
            "count_storage": record.no_rescale[1] if record.no_rescale is not None else "",
            "count_address": places["count"] if counted else 0,
        }
    )
