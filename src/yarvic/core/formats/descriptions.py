"""Descriptions of a memory, in our own form or the standard's, alone and with an image under them."""

from __future__ import annotations

from collections.abc import Collection
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from yarvic.core.calibration.decoding import decoded
from yarvic.core.calibration.faults import Fault, inspected, of_image
from yarvic.core.calibration.image import memory_of
from yarvic.core.calibration.layout import Entry, Layout
from yarvic.core.calibration.layout_file import MOST_BYTES, from_data, read_layout
from yarvic.core.calibration.places import Places, places
from yarvic.core.calibration.storing import SIZES
from yarvic.core.document import parse_toml
from yarvic.core.errors import CalibrationError, FormatError, name_of
from yarvic.core.evidence.inputs import with_inputs
from yarvic.core.formats.arrived import kind_of_file
from yarvic.core.formats.asap2.module import read_asap2
from yarvic.core.formats.images import ImageFile, fitted, read_image
from yarvic.core.reading import read_text

# How many tables are tried to tell the byte order by, and how many must rise.
MOST_TRIED, LEAST_TRIED = 200, 2
# What a layout may say of a memory beside what a description file says of it.
ADDED = (
    "base", "size", "block", "slots", "slot_start", "slot_size", "identification", "revision_name", "checksums", "volatile",
    "groups", "roles",
)  # fmt: skip


@dataclass(frozen=True)
class Taken:
    """A description with an image under it: what can be used, all that is wrong, and what cannot be judged."""

    layout: Layout
    data: bytes
    faults: tuple[Fault, ...]
    unknown: tuple[str, ...]
    image: ImageFile


def read_description(path: Path) -> tuple[Layout, list[Fault]]:
    """The layout that a file holds, and what is wrong with it. Raises FormatError, CalibrationError."""
    kind = kind_of_file(path)
    if kind == "description":
        layout, faults = read_asap2(path)
    elif kind in ("image", "job", "package"):
        raise FormatError(
            f"is no description of a memory but {'an image' if kind == 'image' else f'a {kind}'}",
            concerns=str(path),
            remedy="Choose the layout (TOML) or the description file (.a2l).",
        )
    else:
        layout, faults = _own(path)
    return with_inputs(layout), faults


def _own(path: Path) -> tuple[Layout, list[Fault]]:
    """A layout in our own form; one that names a description file beside it adds to what that says."""
    if path.stat().st_size > MOST_BYTES:
        raise FormatError(
            "is neither a layout nor a description file", concerns=str(path), remedy="Choose another file."
        )
    text = read_text(path, MOST_BYTES)
    data = parse_toml(text, source=path.name, error_type=CalibrationError)
    name = data.pop("description", None)
    if name is None:
        return read_layout(path)
    if not isinstance(name, str) or Path(name).name != name:
        raise FormatError(
            "names a description file by more than its name", concerns=path.name, remedy="Put it beside the layout."
        )
    base, faults = read_asap2(path.with_name(name))
    given = {"family": base.family, "version": base.version, "byte_order": base.byte_order, **data}
    own, more = from_data(given, text, name_of(path))
    said = {k: getattr(own, k) for k in data if k in ADDED}
    twice = {e.key for e in own.entries}
    layout = base.changed(
        family=own.family,
        version=own.version,
        byte_order=own.byte_order,
        entries=(*(e for e in base.entries if e.key not in twice), *own.entries),
        axes=(*base.axes, *(a for a in own.axes if a.key not in base.axis_by_key)),
        conversions={**base.conversions, **own.conversions},
        records={**base.records, **own.records},
        left_out=(*base.left_out, *own.left_out),
        **said,
    )
    lost = [(k, r) for r, role in layout.roles.items() for k in role.entries if k not in layout.by_key]
    if lost:
        raise CalibrationError(
            f"there is no table or value {lost[0][0]!r} for {lost[0][1]}", concerns=path.name, remedy="Correct it."
        )
    layout, again = inspected(layout)
    known = {f.sentence() for f in (*faults, *more)}
    return layout, [*faults, *more, *(f for f in again if f.sentence() not in known)]


def at_base(layout: Layout, file: ImageFile, base: int | None = None) -> Layout:
    """The layout with the address of the first byte, where raw bytes do not say it: as given, or that of the one range
    of the description that is as long. Raises FormatError where nobody can tell.
    """
    if file.base is not None or layout.size is not None:
        return layout
    if base is not None:
        return layout.changed(base=base)
    fit = sorted({a for a, b in layout.segments if b - a == len(file.data)})
    if len(fit) == 1:
        return layout.changed(base=fit[0])
    lowest = min((e.address for e in layout.entries), default=0)
    if not fit and not layout.segments and lowest < len(file.data):
        return layout  # the addresses are places in the file
    raise FormatError(
        f"raw bytes do not say where they begin, and the description's addresses begin at 0x{lowest:X}",
        concerns=file.name,
        remedy="State the address of the first byte (base), or choose the image as Intel HEX or S-record.",
    )


def under(layout: Layout, faults: list[Fault], file: ImageFile, base: int | None = None) -> Taken:
    """A description over an image. Raises FormatError, CalibrationError where the image is not of this memory at all."""
    bound, data = fitted(file, at_base(layout, file, base))
    if layout.size is None:
        bound = bound.changed(block=_block(len(data)))
    if bound.order_doubted:
        bound, faults = _order_by_axes(bound, data, faults)
    if any(r.assumed for r in bound.records.values()):
        bound, faults = _alignment_by_axes(bound, data, faults)
    with_image, more, unknown = of_image(bound, data, file.name)
    if layout.entries and not with_image.entries:
        raise CalibrationError(
            f"none of the {len(layout.entries):,} entries lies in the image, which is {file.in_words()}",
            concerns=file.name,
            remedy="Choose the description of this image, or state the address of its first byte.",
        )
    return Taken(with_image, data, (*faults, *more), tuple(unknown), file)


def _order_by_axes(layout: Layout, data: bytes, faults: list[Fault]) -> tuple[Layout, list[Fault]]:
    """The byte order under which the axes rise, where the description's word has been meant both ways.

    Where the image does not tell either, the fault stays.
    """

    other: Literal["big", "little"] = "little" if layout.byte_order == "big" else "big"
    as_said, as_other = (_rising(layout.changed(byte_order=o), data) for o in (layout.byte_order, other))
    better = max(as_said, as_other)
    if better < LEAST_TRIED or as_said == as_other:
        return layout, faults
    chosen = layout.byte_order if as_said > as_other else other
    kept = [f for f in faults if not (f.about == "MOD_COMMON" and "meant both ways" in f.what)]
    return layout.changed(byte_order=chosen, order_doubted=False), kept


def _rising(layout: Layout, data: bytes, keys: Collection[str] | None = None) -> int:
    """How many tables (of these) have axes that rise in the image under a layout."""
    memory, count = memory_of(data, layout), 0
    tables = [e for e in layout.entries if e.x is not None and e.x.kind in ("stored", "shared")]
    for entry in [e for e in tables if keys is None or e.key in keys][:MOST_TRIED]:
        with suppress(CalibrationError):
            decoded(layout, entry, memory, layout.sets[0])
            count += 1
    return count


def _alignment_by_axes(layout: Layout, data: bytes, faults: list[Fault]) -> tuple[Layout, list[Fault]]:
    """The alignment under which the axes rise, where the description states none: at multiples of the size, or packed.

    Only tables that would lie elsewhere tell. Where the image does not, the standard's default stays, and is said.
    """
    packed = layout.changed(records={n: r.packed() for n, r in layout.records.items()})
    mixed = {n for n, r in layout.records.items() if len({SIZES[p.storage] for p in r.parts if p.what != "skip"}) > 1}
    elsewhere = [e.key for e in layout.entries if e.record in mixed and _where(layout, e) != _where(packed, e)]
    if not elsewhere:
        return layout, faults
    natural_rise, packed_rise = _rising(layout, data, elsewhere), _rising(packed, data, elsewhere)
    if packed_rise > natural_rise:
        return packed, faults
    if packed_rise < natural_rise:
        return layout, faults
    what = (
        f"states no alignment, and the image does not tell it for {len(elsewhere):,} entries, such as {elsewhere[0]}"
    )
    remedy = "State it in MOD_COMMON (ALIGNMENT_WORD and so on), and compare a value with what is known of it."
    return layout, [*faults, Fault("MOD_COMMON", what, remedy, 0)]


def _block(size: int) -> int:
    """Bytes of a block of a memory of which nobody said how it is divided: a power of two, a few hundred in all."""
    return max(256, 1 << max(size // 256 - 1, 0).bit_length())


def read_taken(description: Path, image: Path, base: int | None = None) -> Taken:
    """A description over an image, from their files. Raises FormatError, CalibrationError."""
    layout, faults = read_description(description)
    return under(layout, faults, read_image(image), base)


def document(layout: Layout, faults: tuple[Fault, ...], unknown: tuple[str, ...]) -> dict[str, Any]:
    """What a layout holds, as one document; addresses are whole numbers, those of a slot from its start."""
    return {
        "family": layout.family,
        "version": layout.version,
        "byte_order": layout.byte_order,
        "base": layout.base,
        "size": layout.size,
        "slots": list(layout.slots),
        "gaps": [list(g) for g in layout.gaps],
        "entries": _entries(layout),
        "left_out": [{"key": x.key, "reason": x.reason, "line": x.line} for x in layout.left_out],
        "faults": [
            {"about": f.about, "what": f.what, "remedy": f.remedy, "line": f.line, "sentence": f.sentence()}
            for f in faults
        ],
        "not_judged": list(unknown),
        "checksums": [c.model_dump(mode="json", exclude_defaults=True) for c in layout.checksums],
        "roles": {name: list(role.entries) for name, role in layout.roles.items()},
        "groups": [{"title": g.title, "entries": list(g.entries), "groups": list(g.groups)} for g in layout.groups],
        "measurements": len(layout.measurements),
    }


def _entries(layout: Layout) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    slices: dict[str, list[Entry]] = {}
    for entry in layout.entries:
        whole, bracket, _ = entry.key.rpartition("[")
        if bracket and entry.kind == "map" and ", slice " in entry.title:
            slices.setdefault(whole, []).append(entry)
        found.append(_entry(layout, entry))
    for key, each in slices.items():
        first = each[0]
        found.append(
            {"key": key, "title": first.title.partition(", slice ")[0], "kind": "cuboid", "unit": first.unit,
             "address": first.address, "storage": first.storage, "slices": [e.key for e in each]}
        )  # fmt: skip
    return found


def _entry(layout: Layout, entry: Entry) -> dict[str, Any]:
    there = _where(layout, entry)
    return {
        "key": entry.key,
        "title": entry.named,
        "kind": entry.kind,
        "unit": entry.unit,
        "address": entry.address,
        "storage": entry.storage,
        "shape": [there.rows, there.columns] if there is not None else [],
        "low": entry.low,
        "high": entry.high,
        "read_only": entry.read_only,
        "role": layout.role_of(entry.key),
    }


def _where(layout: Layout, entry: Entry) -> Places | None:
    try:
        return places(layout, entry, None, layout.sets[0])
    except CalibrationError:
        return None
