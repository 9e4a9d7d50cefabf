"""Whether an edit is likely: said at once, before anything is measured. Nothing is refused for it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import cache
from importlib.resources import files

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.table import Axis, Scalar, Table
from yarvic.core.checks.components import ComponentLimit
from yarvic.core.document import Document, parse_toml, validated
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, convert, to_canonical

# Which limits of the ledger a table or value of a role is held against, with the word for its numbers.
_BORNE: Mapping[str, tuple[str, ...]] = {
    "boost_target": ("boost",),
    "torque_limit": ("torque", "gearbox_torque"),
    "rev_limit": ("engine_speed",),
}


class _StepRule(Document):
    roles: tuple[str, ...]
    unit: str
    most: float
    source: str


class _SparkRule(Document):
    base_deg: float
    octane: float
    by_octane_deg: float
    pressure_kpa: float
    by_pressure_deg_per_kpa: float
    speed_rpm: float
    by_speed_deg_per_rpm: float
    source: str


class _Rules(Document):
    step: tuple[_StepRule, ...]
    spark: _SparkRule


@cache
def _rules() -> _Rules:
    text = files("yarvic.core.checks").joinpath("data/plausible.toml").read_text("utf-8")
    return validated(_Rules, parse_toml(text, source="plausible.toml"), source="plausible.toml")


@dataclass(frozen=True)
class Known:
    """What is known around a table: its role, the fuel's octane, the ledger with the parts that are on (as it stands,
    not brought to the wheels), where the engine ran by channel (canonical units), and how deep each cell was retarded.
    """

    role: str = ""
    ron: float | None = None
    limits: tuple[ComponentLimit, ...] = ()
    ran: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    retard_deg: FloatArray | None = None
    retard_limit_deg: float = np.inf
    spark_ignition: bool = True


@dataclass(frozen=True)
class Doubt:
    """Why an edit is unlikely, in a sentence; the cell where it is most so, and what the rule rests on."""

    sentence: str
    source: str
    cell: tuple[int, int] | None = None


def doubts_of_table(before: Table, after: Table, known: Known) -> list[Doubt]:
    """What is to be said of a table as it was changed; cells that nobody touched are not spoken of.

    `before` is what it came from; where its axes are others, every cell counts as touched.
    """
    touched = _touched(before, after)
    if not touched.any():
        return list(_uncovered(before, after, known))
    found = [
        *_steps(before, after, touched, known),
        *_spark(after, touched, known),
        *_retarded(before, after, touched, known),
        *_borne(after.values, touched, after.unit, known, after),
        *_uncovered(before, after, known),
    ]
    return found


def doubts_of_value(before: Scalar, after: Scalar, known: Known) -> list[Doubt]:
    """What is to be said of a single value as it was changed."""
    if before.value == after.value:
        return []
    return list(_borne(np.array([[after.value]]), np.ones((1, 1), dtype=bool), after.unit, known, None))


def doubts_of_image(
    calibration: Calibration, role_of: Callable[[str], str], limits: tuple[ComponentLimit, ...]
) -> list[Doubt]:
    """What of a whole calibration lies outside the bounds of its description, or asks for more than the ledger's parts
    bear.
    """
    found = []
    for key, table in calibration.tables.items():
        found += _out_of_bounds(table, int(np.count_nonzero(table.outside())))
        known = Known(role=role_of(key), limits=limits)
        found += _borne(table.values, np.ones(table.values.shape, dtype=bool), table.unit, known, table)
    for key, scalar in calibration.scalars.items():
        found += _out_of_bounds(scalar, int(scalar.outside()))
        known = Known(role=role_of(key), limits=limits)
        found += _borne(np.array([[scalar.value]]), np.ones((1, 1), dtype=bool), scalar.unit, known, None)
    return found


def _out_of_bounds(each: Table | Scalar, count: int) -> list[Doubt]:
    if not count:
        return []
    cells = "1 value lies" if count == 1 else f"{count} values lie"
    bounds = f"{each.low:g} to {each.high:g} {each.unit}".rstrip()
    return [Doubt(f"{each.title}: {cells} outside {bounds}", "the unit's description")]


def _touched(before: Table, after: Table) -> NDArray[np.bool_]:
    if before.values.shape != after.values.shape:
        return np.ones(after.values.shape, dtype=bool)
    same = (before.values == after.values) | (np.isnan(before.values) & np.isnan(after.values))
    return np.asarray(~same, dtype=bool)


def _steps(before: Table, after: Table, touched: NDArray[np.bool_], known: Known) -> Iterable[Doubt]:
    rule = next((r for r in _rules().step if known.role in r.roles), None)
    if rule is None or after.unit not in UNITS or UNITS[after.unit].quantity != UNITS[rule.unit].quantity:
        return
    most = abs(float(convert(rule.most, rule.unit, after.unit) - convert(0.0, rule.unit, after.unit)))
    same = before.values.shape == after.values.shape
    worst: tuple[float, tuple[int, int], tuple[int, int]] | None = None
    for axis in (0, 1):
        if after.values.shape[axis] < 2:
            continue
        step = np.abs(np.diff(after.values, axis=axis))
        was = np.abs(np.diff(before.values, axis=axis)) if same else np.zeros(step.shape)
        near = np.take(touched, range(step.shape[axis]), axis=axis) | np.take(
            touched, range(1, step.shape[axis] + 1), axis=axis
        )
        over = np.where(near & (step > most) & (step > was), np.nan_to_num(step), 0.0)
        if over.size and over.max() > (worst[0] if worst else 0.0):
            r, c = (int(i) for i in np.unravel_index(int(np.argmax(over)), over.shape))
            worst = float(over.max()), (r, c), (r + 1, c) if axis == 0 else (r, c + 1)
    if worst is not None:
        step_, one, other = worst
        yield Doubt(
            f"a step of {step_:.{after.decimals}f} {after.unit} from {after.place(*one)} to {after.place(*other)},"
            f" more than {most:g}",
            rule.source,
            one,
        )


def _pressure_kpa(table: Table) -> FloatArray | None:
    """Pressure in the manifold at each cell, as far as an axis says it; filling of 100 % is taken as 100 kPa."""
    for axis, values in ((table.x, table.x.values[None, :]), (table.y, table.y.values[:, None])):
        if axis.input == "boost_pressure" and axis.unit in UNITS and UNITS[axis.unit].quantity == "pressure":
            return np.broadcast_to(np.asarray(to_canonical(values, axis.unit)) / 1e3, table.values.shape)
        if axis.input == "filling" and axis.unit in UNITS and UNITS[axis.unit].quantity == "ratio":
            return np.broadcast_to(np.asarray(to_canonical(values, axis.unit)) * 100.0, table.values.shape)
    return None


def _speed_rpm(table: Table) -> FloatArray | None:
    for axis, values in ((table.x, table.x.values[None, :]), (table.y, table.y.values[:, None])):
        if axis.input == "engine_speed" and axis.unit in UNITS and UNITS[axis.unit].quantity == "engine speed":
            return np.broadcast_to(np.asarray(convert(values, axis.unit, "rpm")), table.values.shape)
    return None


def allowed_spark_deg(speed_rpm: FloatArray, pressure_kpa: FloatArray, ron: float) -> FloatArray:
    """The most advance by the rule of thumb in plausible.toml, deg before top centre."""
    r = _rules().spark
    return np.asarray(
        r.base_deg
        + r.by_octane_deg * (ron - r.octane)
        - r.by_pressure_deg_per_kpa * np.maximum(pressure_kpa - r.pressure_kpa, 0.0)
        + r.by_speed_deg_per_rpm * (speed_rpm - r.speed_rpm),
        dtype=np.float64,
    )


def _spark(after: Table, touched: NDArray[np.bool_], known: Known) -> Iterable[Doubt]:
    if known.role != "spark_advance" or after.unit != "deg" or known.ron is None or not known.spark_ignition:
        return
    speed, pressure = _speed_rpm(after), _pressure_kpa(after)
    if speed is None or pressure is None:
        return
    allowed = allowed_spark_deg(speed, pressure, known.ron)
    over = np.where(touched, np.nan_to_num(after.values - allowed, nan=0.0), 0.0)
    if over.max() > 0.0:
        cell = _worst(over)
        yield Doubt(
            f"{after.values[cell]:.{after.decimals}f} deg at {after.place(*cell)} is {over[cell]:.1f} deg more than"
            f" the rule for RON {known.ron:.0f} and about {pressure[cell]:.0f} kPa allows"
            + _and_others(int((over > 0.0).sum())),
            _rules().spark.source,
            cell,
        )


def _retarded(before: Table, after: Table, touched: NDArray[np.bool_], known: Known) -> Iterable[Doubt]:
    r = known.retard_deg
    if known.role != "spark_advance" or r is None or r.shape != after.values.shape != ():
        return
    if before.values.shape != after.values.shape:
        return
    more = touched & (after.values > before.values) & (np.nan_to_num(r) > known.retard_limit_deg)
    if more.any():
        cell = _worst(np.where(more, np.nan_to_num(r), 0.0))
        yield Doubt(
            f"advanced at {after.place(*cell)}, where a cylinder was retarded {r[cell]:.1f} deg"
            + _and_others(int(more.sum())),
            "the evidence of this revision",
            cell,
        )


def _borne(
    values: FloatArray, touched: NDArray[np.bool_], unit: str, known: Known, table: Table | None
) -> Iterable[Doubt]:
    keys = _BORNE.get(known.role, ())
    for limit in known.limits:
        if limit.key not in keys or unit not in UNITS or UNITS[unit].quantity != UNITS[limit.unit].quantity:
            continue
        if limit.basis == "wheel":
            continue  # a map's torque is at the crank: what is stated at the wheels is held against measurements
        for band, words in (("stretch", "more than {} stands"), ("safe", "beyond what {} stands without wear")):
            most = float(convert(getattr(limit, band), limit.unit, unit))
            over = np.where(touched, np.nan_to_num(values - most, nan=0.0), 0.0)
            if over.max() > 1e-9:
                cell = _worst(over)
                where = f" at {table.place(*cell)}" if table is not None else ""
                yield Doubt(
                    f"{values[cell]:g} {unit}{where}: {words.format(limit.component)}, {most:.4g} {unit}",
                    limit.source,
                    cell if table is not None else None,
                )
                break


def _uncovered(before: Table, after: Table, known: Known) -> Iterable[Doubt]:
    for was, now in ((before.x, after.x), (before.y, after.y)):
        if np.array_equal(was.values, now.values) or now.input not in known.ran or now.unit not in UNITS:
            continue
        low, high = known.ran[now.input]
        ends = to_canonical(now.values[[0, -1]], now.unit)
        for end, ran, word in ((ends[0], low, "down"), (ends[1], high, "up")):
            lost = end > ran if word == "down" else end < ran
            if lost and abs(end - ran) > 1e-9 * max(abs(ran), 1.0):
                shown = (now.values[0] if word == "down" else now.values[-1], _in(now, ran))
                yield Doubt(
                    f"{now.title.lower()} ends at {shown[0]:g} {now.unit}; the engine ran {word} to {shown[1]:.0f}",
                    "the evidence of this revision",
                )


def _in(axis: Axis, canonical: float) -> float:
    unit = UNITS[axis.unit]
    return (canonical - unit.offset) / unit.factor


def _worst(over: FloatArray) -> tuple[int, int]:
    row, column = np.unravel_index(int(np.argmax(over)), over.shape)
    return int(row), int(column)


def _and_others(cells: int) -> str:
    return f", as are {cells - 1} other cells" if cells > 1 else ""
