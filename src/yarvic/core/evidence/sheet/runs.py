"""Whether a file's table is a dyno's curve, and the runs in it: side by side, below each other, or one named per row."""

from __future__ import annotations

import re
from dataclasses import replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from yarvic.core.errors import EvidenceError, in_plain
from yarvic.core.evidence.dictionary import Dictionary, read_header, squeezed
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.evidence.sheet.columns import MEASURED, OWN, Cleaned, cleaned
from yarvic.core.evidence.sheet.words import for_sheets, marks_of, run_columns
from yarvic.core.physics import FloatArray

AXES = ("engine_speed", "vehicle_speed", "gps_speed", "roller_speed")
# What a control unit logs and a dyno does not: a table of time with one of these is a log with a power beside it.
_CONTROLLED = frozenset(
    {"throttle", "spark_advance", "spark_correction", "boost_target", "lambda_target", "rail_target", "fuel_trim",
     "wastegate_duty", "injection_start", "injected_quantity", "filling"}
)  # fmt: skip
# A run goes on until its speed falls by this share of all it covers; one that climbs less than this is none.
TURNS, CLIMBS = 0.3, 0.4
MOST_RUNS, MOST_TITLES = 200, 8
LEAST_POINTS = 5
STRETCHES = 2000
ROWS = "row"


def untitled(raw: RawLog, words: Dictionary) -> RawLog:
    """The table with the titles of runs taken out of its names: `Stock rpm, Stock hp, Stage 1 rpm, Stage 1 hp`.

    A title is what stands before, or behind, the name of a speed, a power or a torque, where at least two differ. Each
    such column says in `place` how it was called; a table whose names are known as they stand is left as it is.
    """
    mine = for_sheets(words)
    if any(_family(cleaned(c.name, c.unit), mine)[0] in MEASURED for c in raw.columns if not c.states):
        return raw
    found = [_titled(c, mine) if _is_own(c) else ("", c.name) for c in raw.columns]
    titles = list(dict.fromkeys(title for title, _ in found if title))
    if len(titles) < 2:
        return raw
    columns = []
    for column, (title, name) in zip(raw.columns, found, strict=True):
        run = f"run {titles.index(title) + 1} " if title else ""
        place = f"{column.place}, '{in_plain(column.name, 60)}'" if title else column.place
        columns.append(replace(column, name=f"{run}{name}" if title else column.name, place=place))
    listed = ", ".join(f"run {n} is '{in_plain(t, 40)}'" for n, t in enumerate(titles[:MOST_TITLES], 1))
    return replace(raw, columns=columns, notes=[*raw.notes, listed])


def _is_own(column: RawColumn) -> bool:
    return cleaned(column.name, column.unit).marks.role in OWN


def _titled(column: RawColumn, words: Dictionary) -> tuple[str, str]:
    """The title that stands in a name beside what it names, and the rest; no title where there is none."""
    if column.states or _family(cleaned(column.name, column.unit), words)[0]:
        return "", column.name
    parts = re.split(r"[\s_]+", column.name.strip())
    for k in range(1, len(parts)):
        for title, rest in ((parts[:k], parts[k:]), (parts[-k:], parts[:-k])):
            family = _family(cleaned(" ".join(rest), column.unit), words)[0]
            if family in (*AXES, *MEASURED):
                return " ".join(title), " ".join(rest)
    return "", column.name


def is_sheet(raw: RawLog, words: Dictionary) -> bool:
    """Whether a table holds power or torque over a speed, and no log of a control unit."""
    mine = for_sheets(words)
    families = set()
    for column in raw.columns:
        if column.states:
            continue
        k = cleaned(column.name, column.unit)
        named = read_header(k.name, k.unit, mine).named
        if named is not None and named.certain and not k.marks.loss and k.marks.role in OWN:
            families.add(named.family)
    if not families.intersection(AXES) or not families.intersection(MEASURED):
        return False
    if raw.time is None:
        return True
    return "power" in families and not families.intersection(_CONTROLLED)


def sheet_runs(raw: RawLog, words: Dictionary) -> list[RawLog]:
    """The runs of a sheet, each with its own columns and rows, and rows counted where there is no time.

    Raises EvidenceError where no speed rises in it.
    """
    found = []
    for part in _by_row_name(raw):
        for side in _side_by_side(part, words):
            found += _below(side, words)
            if len(found) > MOST_RUNS:
                raise EvidenceError(f"holds more than {MOST_RUNS} runs", remedy="Export fewer runs in a file.")
    if len(found) > 1:
        for n, run in enumerate(found, 1):
            run.part = run.part or f"run {n}"
    return [_with_rows(run) for run in found]


def _with_rows(run: RawLog) -> RawLog:
    if run.time is not None:
        return replace(run, sheet=True)
    count = max((c.values.size for c in run.columns), default=0)
    clock = RawColumn(ROWS, "", np.arange(count, dtype=np.float64), "rows")
    return replace(run, time=clock, clock="row", sheet=True)


def _rows(raw: RawLog, keep: FloatArray | slice, part: str, notes: list[str] | None = None) -> RawLog:
    """Some rows of a table."""
    columns = [replace(c, values=c.values[keep]) for c in raw.columns]
    time = None if raw.time is None else replace(raw.time, values=raw.time.values[keep])
    name = ", ".join(p for p in (raw.part, part) if p)
    return replace(raw, columns=columns, time=time, part=name, notes=[*raw.notes, *(notes or ())])


def _by_row_name(raw: RawLog) -> list[RawLog]:
    """Apart by a column that says of which run each row is; it is left out then."""
    at = next((n for n, c in enumerate(raw.columns) if squeezed(c.name) in run_columns()), None)
    if at is None or any(c.time_s is not None for c in raw.columns):
        return [raw]
    names = raw.columns[at]
    known = names.values[np.isfinite(names.values)]
    each = list(dict.fromkeys(known.tolist()))
    if not names.states and any(v != int(v) for v in each):
        return [raw]
    rest = replace(raw, columns=[c for n, c in enumerate(raw.columns) if n != at])
    if not 1 <= len(each) <= MOST_RUNS:
        return [rest]
    found = []
    for value in each:
        title = names.states[int(value)] if names.states else f"{int(value)}"
        rows = np.asarray(names.values == value)
        found.append(_rows(rest, rows, title if marks_of(title)[1].run else f"run {title}"))
    return found


def _side_by_side(raw: RawLog, words: Dictionary) -> list[RawLog]:
    """Apart by the number of the run in the names, or where the names begin again with their speed."""
    clean = [cleaned(c.name, c.unit) for c in raw.columns]
    families = [_family(k, for_sheets(words)) for k in clean]
    numbers = _numbers(clean, families)
    if len({n for n in numbers if n}) > 1:
        return [
            _of_run(raw, [n for n, run in enumerate(numbers) if run in ("", number)], f"run {number}", clean)
            for number in sorted({n for n in numbers if n}, key=int)
        ]
    for axis in AXES:
        begins = [n for n, (family, _) in enumerate(families) if family == axis]
        measured = [n for n, (family, _) in enumerate(families) if family in MEASURED]
        if len(begins) > 1 and len(measured) >= len(begins) and _begin_alike(families, begins):
            ends = [*begins[1:], len(raw.columns)]
            shared = list(range(begins[0]))
            return [
                _of_run(raw, [*shared, *range(a, b)], f"run {n}", clean)
                for n, (a, b) in enumerate(zip(begins, ends, strict=True), 1)
            ]
    return [raw]


def summed(raw: RawLog, words: Dictionary) -> RawLog:
    """The table with the whole of powers (and of torques) that stand there by side or axle alone, as their sum.

    Where the whole stands there, it is taken, and nothing is added. The column that is made says of which it is the sum.
    """
    mine, columns, notes = for_sheets(words), list(raw.columns), list(raw.notes)
    clean = [cleaned(c.name, c.unit) for c in raw.columns]
    families = [_named(k, mine)[0] if not c.states else "" for c, k in zip(raw.columns, clean, strict=True)]
    for key in MEASURED:
        of = [n for n, family in enumerate(families) if family == key]
        parts = [n for n in of if clean[n].marks.role == "part"]
        kinds = {
            (clean[n].marks.basis, clean[n].marks.corrected_by, clean[n].marks.run, clean[n].unit) for n in parts
        }
        whole = any(clean[n].marks.role in OWN for n in of)
        alike = len({clean[n].marks.part for n in parts}) == len(parts) > 1 and len(kinds) == 1
        if whole or not alike or len({raw.columns[n].values.size for n in parts}) > 1:
            continue
        first, marks = raw.columns[parts[0]], clean[parts[0]].marks
        listed = " and ".join(f"'{in_plain(raw.columns[n].name, 60)}'" for n in parts)
        said = " ".join(
            w for w in (key, f"at the {marks.basis}" if marks.basis else "", _BY.get(marks.corrected_by, "")) if w
        )
        values = np.sum([raw.columns[n].values for n in parts], axis=0)
        place = " and ".join(raw.columns[n].place for n in parts)
        columns.append(replace(first, name=said, unit=clean[parts[0]].unit, values=values, place=place))
        notes.append(f"{key} is the sum of {listed}")
    return raw if len(columns) == len(raw.columns) else replace(raw, columns=columns, notes=notes)


# How a correction stands in a name that is made here.
_BY = {"none": "uncorrected", "sae-j1349": "SAE J1349", "std": "STD", "din-70020": "DIN 70020", "iso-1585": "ISO 1585",
       "jis-d1001": "JIS D1001", "some": "corrected"}  # fmt: skip


def _family(k: Cleaned, words: Dictionary) -> tuple[str, str]:
    """What a column names, and which of several; nothing where it is no number of a run's own."""
    return _named(k, words) if k.marks.role in OWN else ("", "")


def _named(k: Cleaned, words: Dictionary) -> tuple[str, str]:
    header = read_header(k.name, k.unit, words)
    return (header.named.family, header.which) if header.named is not None else ("", "")


def _numbers(clean: list[Cleaned], families: list[tuple[str, str]]) -> list[str]:
    """The number of the run that each column is of; empty for one that all runs share."""
    found = []
    for k, (family, which) in zip(clean, families, strict=True):
        bare = which if which.isdigit() and family in (*AXES, *MEASURED) else ""
        found.append(k.marks.run or bare)
    return found


def _begin_alike(families: list[tuple[str, str]], begins: list[int]) -> bool:
    """Whether blocks of columns hold the same things: each its own power or torque."""
    ends = [*begins[1:], len(families)]
    blocks = [[f for f, _ in families[a:b] if f in MEASURED] for a, b in zip(begins, ends, strict=True)]
    return all(blocks) and len({tuple(sorted(b)) for b in blocks}) == 1


def _of_run(raw: RawLog, places: list[int], title: str, clean: list[Cleaned]) -> RawLog:
    """The columns of one run, without the rows in which it has no numbers: the others were longer."""
    columns = [raw.columns[n] for n in places]
    own = [n for n in places if clean[n].marks.run] or places
    there = np.zeros(max(c.values.size for c in columns), dtype=bool)
    if any(c.time_s is not None for c in columns):
        there[:] = True  # columns of other rates have other rows
    else:
        for n in own:
            there |= np.isfinite(raw.columns[n].values)
    return _rows(replace(raw, columns=columns), there if not there.all() else slice(None), title)


def _below(raw: RawLog, words: Dictionary) -> list[RawLog]:
    """Apart where speed begins to rise anew."""
    speed = axis_of(raw, words)
    if speed is None or any(c.time_s is not None for c in raw.columns):
        return [raw]
    there = int(np.count_nonzero(np.isfinite(speed)))
    if there < LEAST_POINTS:
        raise EvidenceError(
            f"has {there} point{'s' if there != 1 else ''}, a curve needs {LEAST_POINTS}",
            remedy="Export it in smaller steps.",
        )
    climbs = legs(speed)
    if not climbs:
        raise EvidenceError(
            "its speed falls from the first row to the last: a curve is read from a run that speeds up",
            remedy="Sort it by engine speed, or export the run itself and not its coasting down.",
        )
    if len(climbs) == 1:
        return [raw]
    starts = [0, *(first for first, _ in climbs[1:])]
    ends = [*starts[1:], speed.size]
    return [_rows(raw, slice(a, b), f"run {n}") for n, (a, b) in enumerate(zip(starts, ends, strict=True), 1)]


def axis_of(raw: RawLog, words: Dictionary) -> FloatArray | None:
    """The speed that a table stands over, as its numbers are; None where it holds none."""
    mine = for_sheets(words)
    families = [_family(cleaned(c.name, c.unit), mine)[0] if not c.states else "" for c in raw.columns]
    at = next((families.index(axis) for axis in AXES if axis in families), None)
    return None if at is None else raw.columns[at].values


def _ends(speed: FloatArray, known: NDArray[np.intp]) -> NDArray[np.intp]:
    """Of many rows the lowest and highest of each stretch, in their order: a turn shows in no others."""
    if known.size <= 4 * STRETCHES:
        return known
    edges = np.linspace(0, known.size, STRETCHES + 1).astype(np.intp)
    kept = {0, known.size - 1}
    for a, b in pairwise(edges.tolist()):
        part = speed[known[a:b]]
        kept |= {a + int(part.argmin()), a + int(part.argmax())}
    return known[sorted(kept)]


def legs(speed: FloatArray) -> list[tuple[int, int]]:
    """First and last row of each stretch over which a speed rises, small falls between them left aside."""
    known = np.flatnonzero(np.isfinite(speed))
    if known.size < 2:
        return []
    known = _ends(speed, known)
    values = speed[known]
    span = float(np.ptp(values))
    turn = TURNS * span
    found: list[tuple[int, int]] = []
    low = high = 0
    rising = True
    for i in range(1, values.size):
        if rising:
            if values[i] >= values[high]:
                high = i
            elif values[high] - values[i] > turn:
                found.append((low, high))
                low, rising = i, False
        elif values[i] < values[low]:
            low = i
        elif values[i] - values[low] > turn:
            high, rising = i, True
        if rising and values[i] < values[low] and high == low:
            low = high = i
    if rising:
        found.append((low, high))
    climbs = [(a, b) for a, b in found if values[b] - values[a] >= CLIMBS * span and b > a]
    return [(int(known[a]), int(known[b])) for a, b in climbs]
