"""Which cells of a table an engine ran in, and what happened there: by the weights with which a unit reads the table.

Between four cells a unit draws straight lines; each sample belongs to those four by its bilinear weights, which sum to
one, and to the cells at the end where it lies beyond an axis. Nothing is averaged over what is no number: it is counted.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.table import Axis, Table
from yarvic.core.evidence.channels import CHANNELS, SPARK_CORRECTIONS
from yarvic.core.evidence.log import GAP_STEPS, Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, from_canonical

# A sample counts as one that touched a cell from this weight on: below it another cell has more to say. Our choice.
TOUCHES = 0.25
Mask = NDArray[np.bool_]


@dataclass(frozen=True)
class Weights:
    """The four cells of each sample: `cells` of shape (4, n) as places in the flattened table, `weights` likewise.

    `time_s` is when each sample was taken, `step_s` how long it stands for.
    """

    shape: tuple[int, int]
    time_s: FloatArray
    step_s: FloatArray
    cells: NDArray[np.intp]
    weights: FloatArray

    def sum(self, values: FloatArray) -> FloatArray:
        """By cell, the sum of sample values times their weights."""
        flat = (self.weights * values).ravel()
        found = np.bincount(self.cells.ravel(), weights=flat, minlength=self.shape[0] * self.shape[1])
        return np.asarray(found, dtype=np.float64).reshape(self.shape)

    def touching(self, row: int, column: int) -> Mask:
        """Which samples touched a cell."""
        place = row * self.shape[1] + column
        return np.asarray(np.where(self.cells == place, self.weights, 0.0).sum(axis=0) >= TOUCHES)


@dataclass(frozen=True)
class Mean:
    """A channel by cell, in its canonical unit: weighted mean, weighted standard deviation, and how many samples counted
    (their weights). NaN where none did. `unread` are the samples that held no number, by weight.
    """

    mean: FloatArray
    spread: FloatArray
    count: FloatArray
    unread: FloatArray


@dataclass(frozen=True)
class Retard:
    """Knock by cell: `deepest_deg` of any cylinder (NaN where not visited), the share of the time there that a cylinder
    was retarded beyond a limit (`often`), the deepest of each (`by_cylinder`: first axis cylinders, in the order of
    `cylinders`), and in how many pulls of those that touched the cell it happened (`hits` of `pulls`).
    """

    deepest_deg: FloatArray
    often: FloatArray
    cylinders: tuple[int, ...]
    by_cylinder: FloatArray
    hits: NDArray[np.int64]
    pulls: NDArray[np.int64]


@dataclass(frozen=True)
class CellEvidence:
    """Arrays of the table's shape: seconds spent and samples by weight, and the deepest knock retard there (deg).

    `retard_deg` is NaN in cells that were not visited.
    """

    seconds: FloatArray
    samples: FloatArray
    retard: Retard

    @property
    def retard_deg(self) -> FloatArray:
        """The deepest retard of any cylinder."""
        return self.retard.deepest_deg

    @property
    def visited(self) -> Mask:
        """The cells that were touched at all."""
        return self.seconds > 0.0


def axis_channels(table: Table) -> tuple[str, ...] | None:
    """The channels that measure the axes; None when nobody knows one, or it is in a unit of something else."""
    axes = (table.x,) if table.is_curve else (table.x, table.y)
    keys = tuple(axis.input for axis in axes)
    if any(key not in CHANNELS for key in keys) or not all(_measures(axis) for axis in axes):
        return None
    return keys


def weights_of(
    table: Table, log: Log, span: tuple[float, float] | None = None, same: Mask | None = None
) -> Weights | None:
    """The four cells of each sample of a log, between two times. None where the axes were not measured.

    The clock is that of the channel of the x axis. `same`: only samples all whose cells are marked count, for a log
    that was made with another table. A sample stands for the time to the next one, a gap for one usual step.
    """
    keys = axis_channels(table)
    if keys is None or not all(_known(log, key) for key in keys):
        return None
    t = log.channel(keys[0]).time_s
    part = slice(None) if span is None else slice(*np.searchsorted(t, [span[0], np.nextafter(span[1], np.inf)]))
    t = t[part]
    if t.size < 2:
        return None
    x = from_canonical(_of(log, keys[0], t, part), table.x.unit)
    y = from_canonical(_of(log, keys[1], t, part), table.y.unit) if len(keys) > 1 else np.zeros(t.size)
    steps = np.diff(t, append=t[-1] + float(np.median(np.diff(t))))
    usual = float(np.median(steps))
    steps = np.where(steps > GAP_STEPS * usual, usual, np.maximum(steps, 0.0))
    good = np.isfinite(x) & np.isfinite(y)
    if not good.all():
        x, y, t, steps = x[good], y[good], t[good], steps[good]
    made = _weights(table, np.asarray(x), np.asarray(y), t, steps)
    if same is None or same.all():
        return made
    off = (~same).ravel()[made.cells] & (made.weights > 0.0)
    keep = ~off.any(axis=0)
    return Weights(made.shape, made.time_s[keep], made.step_s[keep], made.cells[:, keep], made.weights[:, keep])


def _known(log: Log, key: str) -> bool:
    """Whether a channel was logged and nothing about it is in doubt: a gauge pressure would lie in other cells."""
    return key in log.channels and log.channels[key].doubt is None


def _of(log: Log, key: str, times: FloatArray, part: slice) -> FloatArray:
    """A channel at the times of another: its own numbers where it was sampled then, else between its samples."""
    channel = log.channel(key)
    own = channel.time_s[part] if channel.time_s.size > 1 else np.zeros(0)
    if own.size == times.size and np.array_equal(own, times):
        return channel.values[part]
    return log.at(key, times)


def _weights(table: Table, x: FloatArray, y: FloatArray, t: FloatArray, steps: FloatArray) -> Weights:
    c, fx = _interval(table.x, x)
    r, fy = _interval(table.y, y)
    columns = table.values.shape[1]
    right = np.minimum(c + 1, columns - 1)
    below = np.minimum(r + 1, table.values.shape[0] - 1)
    cells = np.stack([r * columns + c, r * columns + right, below * columns + c, below * columns + right])
    weights = np.stack([(1 - fy) * (1 - fx), (1 - fy) * fx, fy * (1 - fx), fy * fx])
    return Weights(table.values.shape, t, steps, cells, weights)


def _interval(axis: Axis, at: FloatArray) -> tuple[NDArray[np.intp], FloatArray]:
    """The interval of an axis in which values lie, and how far in, 0 to 1; the ends hold beyond."""
    v = axis.values
    if v.size == 1:
        return np.zeros(at.shape, dtype=np.intp), np.zeros(at.shape)
    n = np.clip(np.searchsorted(v, at, side="right") - 1, 0, v.size - 2)
    return n, np.clip((at - v[n]) / (v[n + 1] - v[n]), 0.0, 1.0)


Run = tuple[Log, Pull]


def cell_evidence(
    table: Table,
    runs: Sequence[Run],
    *,
    whole: bool = False,
    limit_deg: float = 0.0,
    same: Sequence[Mask | None] | None = None,
) -> CellEvidence | None:
    """Evidence by cell over the pulls of several logs; None when nobody knows what measures an axis.

    `whole`: over the whole of each log once, not its pulls alone. A cylinder counts as hit beyond `limit_deg`. `same`
    says for each run in which cells its table was this one. An axis goes by its channel, never by its title.
    """
    if axis_channels(table) is None:
        return None
    shape = table.values.shape
    seconds, samples = np.zeros(shape), np.zeros(shape)
    gathered = _Knock(shape, limit_deg)
    seen: set[int] = set()
    for n, (log, pull) in enumerate(runs):
        if whole and id(log) in seen:
            continue
        seen.add(id(log))
        found = weights_of(table, log, None if whole else (pull.start_s, pull.end_s), same[n] if same else None)
        if found is None or not found.time_s.size:
            continue
        seconds += found.sum(found.step_s)
        samples += found.sum(np.ones(found.time_s.size))
        gathered.take(found, log)
    return CellEvidence(seconds, samples, gathered.retard())


class _Knock:
    """What the spark corrections of several pulls say, by cell."""

    def __init__(self, shape: tuple[int, int], limit_deg: float) -> None:
        self.shape, self.limit_deg = shape, limit_deg
        self.deepest: dict[int, FloatArray] = {}
        self.retarded, self.heard = np.zeros(shape), np.zeros(shape)
        self.hits, self.pulls = np.zeros(shape, dtype=np.int64), np.zeros(shape, dtype=np.int64)

    def take(self, found: Weights, log: Log) -> None:
        keys = [key for key in SPARK_CORRECTIONS if _known(log, key)] or [
            key for key in ("spark_correction",) if _known(log, key)
        ]
        if not keys:
            return
        whole = slice(None)
        worst = np.full(found.time_s.size, np.nan)
        by_key = {key: np.maximum(-_of(log, key, found.time_s, whole), 0.0) for key in keys}
        for retard in by_key.values():
            worst = np.fmax(worst, retard)
        known = np.isfinite(worst)
        over = known & (worst > self.limit_deg)
        heard = _touched(found, known)
        for key, retard in by_key.items():
            there = np.isfinite(retard)
            visited = heard if there.all() else _touched(found, there)
            number = CHANNELS[key].index or 0
            _deepest(self.deepest.setdefault(number, np.full(self.shape, np.nan)), found, retard, visited)
        self.heard += found.sum(found.step_s if known.all() else np.where(known, found.step_s, 0.0))
        if over.any():
            self.retarded += _part(found, over).sum(found.step_s[over])
        self.pulls += heard
        self.hits += _touched(found, over)

    def retard(self) -> Retard:
        numbers = tuple(sorted(self.deepest))
        each = np.stack([self.deepest[n] for n in numbers]) if numbers else np.full((0, *self.shape), np.nan)
        with np.errstate(invalid="ignore", divide="ignore"):
            often = np.where(self.heard > 0.0, self.retarded / self.heard, np.nan)
        deepest = np.fmax.reduce(each, axis=0) if numbers else np.full(self.shape, np.nan)
        return Retard(deepest, often, numbers, each, self.hits, self.pulls)


def _part(found: Weights, keep: Mask) -> Weights:
    return Weights(found.shape, found.time_s[keep], found.step_s[keep], found.cells[:, keep], found.weights[:, keep])


def _touched(found: Weights, samples: Mask) -> NDArray[np.int64]:
    """1 for each cell that some of the samples touched."""
    part = found if samples.all() else _part(found, samples)
    marks = np.zeros(found.shape[0] * found.shape[1], dtype=np.int64)
    for cells, weights in zip(part.cells, part.weights, strict=True):
        marks[cells[weights >= TOUCHES]] = 1
    return marks.reshape(found.shape)


def _deepest(into: FloatArray, found: Weights, retard: FloatArray, visited: NDArray[np.int64]) -> None:
    """Take the greatest retard of each cell that was touched; most of it is none."""
    deep = retard > 0.0
    part, values = _part(found, deep), retard[deep]
    greatest = np.zeros(into.size)
    for cells, weights in zip(part.cells, part.weights, strict=True):
        touching = weights >= TOUCHES
        np.maximum.at(greatest, cells[touching], values[touching])
    into[...] = np.where(visited > 0, np.fmax(into, greatest.reshape(into.shape)), into)


def mean_by_cell(parts: Iterable[tuple[Weights, FloatArray]], shape: tuple[int, int]) -> Mean:
    """A channel by cell over several runs: `parts` are the weights of each, and its values at their samples."""
    total, squares, count, unread = (np.zeros(shape) for _ in range(4))
    kept = []
    for found, values in parts:
        good = np.isfinite(values)
        filled = np.where(good, values, 0.0)
        ones = good.astype(np.float64)
        kept.append((found, filled, ones))
        total += found.sum(filled)
        count += found.sum(ones)
        unread += found.sum(1.0 - ones)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.where(count > 0.0, total / count, np.nan)
    flat = mean.ravel()
    for found, filled, ones in kept:
        # About the mean of the cell, so that nothing is lost to rounding.
        away = np.where(ones > 0.0, filled - np.nan_to_num(flat[found.cells]), 0.0)
        squares += _sum_of(found, away**2)
    with np.errstate(invalid="ignore", divide="ignore"):
        spread = np.where(count > 0.0, np.sqrt(squares / count), np.nan)
    return Mean(mean, spread, count, unread)


def _sum_of(found: Weights, each: FloatArray) -> FloatArray:
    """By cell, the sum of weights times values that differ from corner to corner (shape (4, n))."""
    flat = (found.weights * each).ravel()
    size = found.shape[0] * found.shape[1]
    found_ = np.bincount(found.cells.ravel(), weights=flat, minlength=size)
    return np.asarray(found_, dtype=np.float64).reshape(found.shape)


@dataclass(frozen=True)
class Reading:
    """What a table gives at a place: the value and its four cells, as (row, column, weight), the weightiest first."""

    value: float
    cells: tuple[tuple[int, int, float], ...]


def reading_at(table: Table, log: Log, time_s: float) -> Reading | None:
    """What a table gives where a log stands at a time; None where its axes were not measured then."""
    keys = axis_channels(table)
    if keys is None or not all(_known(log, key) for key in keys):
        return None
    t = np.array([time_s])
    x = from_canonical(log.at(keys[0], t), table.x.unit)
    y = from_canonical(log.at(keys[1], t), table.y.unit) if len(keys) > 1 else np.zeros(1)
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        return None
    found = _weights(table, np.asarray(x), np.asarray(y), t, np.ones(1))
    columns = table.values.shape[1]
    by_cell: dict[tuple[int, int], float] = {}
    for place, weight in zip(found.cells[:, 0].tolist(), found.weights[:, 0].tolist(), strict=True):
        if weight > 0.0:
            cell = divmod(place, columns)
            by_cell[cell] = by_cell.get(cell, 0.0) + weight
    cells = sorted(((r, c, w) for (r, c), w in by_cell.items()), key=lambda each: -each[2])
    return Reading(float(table.look_up(x[0], y[0])), tuple(cells))


def hits_by_cell(table: Table, log: Log, times: FloatArray) -> list[tuple[int, int, int]]:
    """How many of these times (s) fall into each cell, by the one that weighs most there: row, column and count, the most
    first. Times at which the axes are not known are left out.
    """
    counts: dict[tuple[int, int], int] = {}
    for time_s in times:
        reading = reading_at(table, log, float(time_s))
        if reading is not None and reading.cells:
            row, column, _ = reading.cells[0]
            counts[row, column] = counts.get((row, column), 0) + 1
    return sorted(((r, c, n) for (r, c), n in counts.items()), key=lambda hit: -hit[2])


def moments(
    table: Table, log: Log, row: int, column: int, span: tuple[float, float] | None = None
) -> list[tuple[float, float]]:
    """The stretches of a log that touched a cell, as times from and to; what lies closer than a second is one."""
    found = weights_of(table, log, span)
    if found is None:
        return []
    t = found.time_s[found.touching(row, column)]
    if not t.size:
        return []
    cuts = np.flatnonzero(np.diff(t) > 1.0)
    starts, ends = np.concatenate([t[:1], t[cuts + 1]]), np.concatenate([t[cuts], t[-1:]])
    return [(float(a), float(b)) for a, b in zip(starts, ends, strict=True)]


def _measures(axis: Axis) -> bool:
    """Whether the axis is in a unit of what its input measures: numbers of another are not laid over it."""
    return axis.unit in UNITS and UNITS[axis.unit].quantity == CHANNELS[axis.input].quantity
