"""What is wrong with a layout, and with an image under it: each fault with its place, and what to do."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from itertools import pairwise

from yarvic.core.calibration.decoding import decoded
from yarvic.core.calibration.image import check_length, check_marks, wrong_sums
from yarvic.core.calibration.layout import Entry, Layout, LeftOut
from yarvic.core.calibration.places import Memory, places
from yarvic.core.calibration.spans import Span, spans_of
from yarvic.core.errors import CalibrationError
from yarvic.core.units import UNITS

MOST_FAULTS = 2000


@dataclass(frozen=True)
class Fault:
    """One fault: what it is about, what is wrong, what to do; `line` of the layout's file, 0 where it has none."""

    about: str
    what: str
    remedy: str
    line: int = 0

    def sentence(self) -> str:
        """The fault in a sentence, with its place."""
        place = f"line {self.line:,}, {self.about}" if self.line else self.about
        end = "" if self.what.endswith(".") else "."
        return f"{place}: {self.what}{end} {self.remedy}".strip()


def inspected(layout: Layout) -> tuple[Layout, list[Fault]]:
    """The layout without the entries that cannot be used, each of those in `left_out`; and all that is wrong with it."""
    faults: list[Fault] = []
    bad: dict[str, str] = {}
    for entry in layout.entries:
        fault = _impossible(layout, entry)
        if fault is not None:
            bad[entry.key] = fault.what
            faults.append(fault)
    layout, more = _changed_by_the_unit(_without(layout, bad))
    faults += more
    faults += _one_point(layout) + _units(layout)
    more, lost = _overlaps(layout)
    faults += more
    return _without(layout, lost), faults[:MOST_FAULTS]


def _without(layout: Layout, bad: dict[str, str]) -> Layout:
    """A layout without some entries, each with its reason."""
    if not bad:
        return layout
    out = [LeftOut(key=e.key, reason=bad[e.key], line=e.line) for e in layout.entries if e.key in bad]
    return layout.changed(
        entries=tuple(e for e in layout.entries if e.key not in bad), left_out=(*layout.left_out, *out)
    )


def _impossible(layout: Layout, entry: Entry) -> Fault | None:
    """Why an entry cannot be used at all; None where it can."""
    try:
        for slot in layout.sets[:1]:
            there = places(layout, entry, None, slot)
            if layout.size is not None:
                _check_inside(layout, [*there.own(), *there.shares()])
    except CalibrationError as error:
        return Fault(entry.key, error.what, error.remedy or "Correct the entry.", entry.line)
    return None


def _check_inside(layout: Layout, spans: list[tuple[int, int]]) -> None:
    base, end = layout.base, layout.end
    what = "memory"
    if layout.slots:
        base, end = layout.slot_start, layout.slot_start + layout.slot_size
        what = "slot"
    for start, stop in spans:
        if start < base or stop > end:
            raise CalibrationError(
                f"reaches from 0x{start:X} to 0x{stop - 1:X}, outside the {what}, which is 0x{base:X} to 0x{end - 1:X}",
                remedy="Correct its address, or the size of the memory.",
            )


def _changed_by_the_unit(layout: Layout) -> tuple[Layout, list[Fault]]:
    """Entries in a range that the unit changes are shown and not edited: no file that is read back could prove them."""
    spans = spans_of(layout)
    there = {s.key for a, b in layout.volatile for s in spans.at(a, b) if s.own}
    if not there:
        return layout, []
    faults = [
        Fault(
            e.key,
            "it lies in a range that the unit itself changes: it is shown, and cannot be edited",
            "Correct its address, or the range.",
            e.line,
        )
        for e in layout.entries
        if e.key in there and not e.read_only
    ]
    entries = tuple(e.model_copy(update={"read_only": True}) if e.key in there else e for e in layout.entries)
    return layout.changed(entries=entries), faults


def _one_point(layout: Layout) -> list[Fault]:
    found = []
    for entry in layout.entries:
        for name, axis in (("x", entry.x), ("y", entry.y)):
            if axis is None or entry.kind not in ("curve", "map"):
                continue
            own = layout.axis_by_key.get(axis.of, axis) if axis.kind == "shared" else axis
            if (len(own.values) or own.count) == 1:
                what = f"its axis {name} has one point: nothing to interpolate"
                found.append(
                    Fault(entry.key, what, "State all its points, or make it a value or a curve.", entry.line)
                )
    return found


def _units(layout: Layout) -> list[Fault]:
    """Units that nobody knows, each once: numbers in them are shown as they are, and judged by nothing."""
    first: dict[str, tuple[str, int]] = {}
    count: dict[str, int] = defaultdict(int)
    stored = [
        (unit, e.key, e.line)
        for e in layout.entries
        for unit in (e.unit, *(a.unit for a in (e.x, e.y) if a is not None))
    ]
    for unit, key, line in [*stored, *((a.unit, a.key, a.line) for a in layout.axes)]:
        if unit and unit not in UNITS:
            first.setdefault(unit, (key, line))
            count[unit] += 1
    return [
        Fault(
            key,
            f"unit {unit!r} is unknown" + (f", here and {count[unit] - 1} times more" if count[unit] > 1 else ""),
            "Its numbers are shown as they are. Write it as a known unit, such as kPa, degC or rpm, to have them judged.",
            line,
        )
        for unit, (key, line) in first.items()
    ]


def _overlaps(layout: Layout) -> tuple[list[Fault], dict[str, str]]:
    """Places that two things claim; an entry that lies on a checksum, a mark or the name may not be written."""
    faults, lost = [], {}
    lines = {e.key: e.line for e in layout.entries}
    reserved = [(*c.place, f"the checksum {c.named}") for c in layout.checksums if c.place is not None]
    reserved += [
        (m.address, m.address + len(m.wanted), "a mark by which the memory is known") for m in layout.identification
    ]
    if layout.revision_name is not None:
        place = layout.revision_name
        reserved.append((place.address, place.address + place.length, "the place of the revision's name"))
    spans = spans_of(layout)
    for start, end, what in reserved:
        for span in spans.at(start, end):
            if span.key not in lost:
                lost[span.key] = f"it lies on {what} (0x{start:X})"
                faults.append(
                    Fault(
                        span.key,
                        lost[span.key],
                        "Correct its address: what is written there is written over.",
                        lines[span.key],
                    )
                )
    faults += _checksum_faults(layout)
    told: set[tuple[str, str]] = set()
    for a, b in _crossing([s for s in spans.all if s.own and s.key not in lost and s.slot == layout.sets[0]]):
        if (a.key, b.key) not in told and not _same_bits(layout, a.key, b.key):
            told.add((a.key, b.key))
            what = f"{a.key} and {b.key} overlap at 0x{max(a.start, b.start):X}"
            faults.append(
                Fault(b.key, what, "A change of the one changes the other: correct an address.", lines[b.key])
            )
    return faults, lost


def _crossing(spans: list[Span]) -> list[tuple[Span, Span]]:
    """Pairs of ranges of different entries that share an address; of many over one, each with the one before."""
    found = []
    furthest: Span | None = None
    for before, span in pairwise(spans):
        if furthest is None or before.end > furthest.end:
            furthest = before
        if span.start < furthest.end and span.key != furthest.key:
            found.append((furthest, span))
    return found


def _same_bits(layout: Layout, one: str, other: str) -> bool:
    """Whether two entries share bytes and no bits, as flags in one byte do, or are the same numbers twice."""
    a, b = layout.by_key[one], layout.by_key[other]
    if a.mask and b.mask and not a.mask & b.mask:
        return True
    return (a.address, a.storage, a.kind, a.count, a.mask) == (b.address, b.storage, b.kind, b.count, b.mask)


def _checksum_faults(layout: Layout) -> list[Fault]:
    if layout.size is None:
        return []
    found = []
    for checksum in layout.checksums:
        for start, end in (*checksum.ranges, *([checksum.place] if checksum.place is not None else [])):
            if start < layout.base or end > layout.end:
                what = f"0x{start:X} to 0x{end - 1:X} lies outside the memory"
                found.append(Fault(checksum.named, what, "Correct its ranges."))
    return found


def of_image(layout: Layout, data: bytes, source: str) -> tuple[Layout, list[Fault], list[str]]:
    """The layout without the entries that this image cannot give, all that is wrong with the image under it, and what
    cannot be judged. The layout knows its base and size by now.
    """
    faults: list[Fault] = []
    memory = Memory(data, layout.base, layout.gaps)
    try:
        check_length(data, layout, source)
        check_marks(memory, layout, source)
    except CalibrationError as error:
        faults.append(Fault(source, error.what, error.remedy))
    for checksum in layout.checksums:
        if not checksum.known:
            continue
        try:
            for start, end in (*checksum.ranges, checksum.place or (layout.base, layout.base)):
                memory.bytes(start, end)
        except CalibrationError as error:
            faults.append(Fault(checksum.named, error.what, error.remedy))
            continue
        for _, must, there in wrong_sums(data, layout, [checksum]):
            w = checksum.bits // 4
            what = f"it must be {must:0{w}X} and is {there:0{w}X}"
            faults.append(Fault(checksum.named, what, "Correct its rule or its ranges, or read the image again."))
    bad: dict[str, str] = {}
    for slot in layout.sets:
        for entry in layout.entries:
            try:
                decoded(layout, entry, memory, slot)
            except CalibrationError as error:
                if entry.key not in bad:
                    bad[entry.key] = error.what
                    faults.append(Fault(entry.key, error.what, error.remedy, entry.line))
    return _without(layout, bad), faults[:MOST_FAULTS], list(unknown_sums(layout))


def unknown_sums(layout: Layout) -> tuple[str, ...]:
    """What is not known of a memory's checksums, in words; nothing where all are known."""
    if not layout.checksums:
        return ("the layout states no checksum",)
    return tuple(f"{c.named}: its rule is unknown" for c in layout.checksums if not c.known)
