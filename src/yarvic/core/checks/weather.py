"""What findings come to on a hotter, a colder day and at another altitude than they were measured: with an interval, or the
run that would tell.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from yarvic.core.checks.against_baseline import CHECKS as AGAINST_BASELINE
from yarvic.core.checks.finding import NO_DATA, ORDER, PASS, STOP, WATCH, Finding, amount
from yarvic.core.checks.rule import Rule
from yarvic.core.document import Document
from yarvic.core.physics import FloatArray
from yarvic.core.physics.air import isa_pressure
from yarvic.core.units import from_canonical

CONFIDENCE = 0.95
# Nearer than this to what was measured, a day is one that it was measured on. Our choice.
ALIKE_K, ALIKE_PRESSURE = 2.0, 0.010
# A trend is read from pulls that lie so far apart at least. Our choice.
SPREAD_K, SPREAD_PRESSURE = 6.0, 0.020
# By so many times what was measured a trend is followed; past it nobody knows.
REACH = 2.0
LEAST_PULLS = 4
# Pulls in air that is so much alike are of one day. From day to day a value moves by so many times the noise within a day,
# which is weighed as so many days of one's own. Our choice.
SAME_DAY_K, SAME_DAY_PRESSURE = 1.5, 0.004
DAY_OVER_NOISE, PRIOR_DAYS = 1.5, 3.0
# What does not hang on the day: counts, slip, supply, and what is itself compared with another day.
NOT_OF_THE_DAY = (
    *AGAINST_BASELINE, "slip", "misfires", "supply_voltage", "engine_speed", "piston_speed", "past_best", "runner_step",
    "cruise_trim", "barometer_off", "rest_apart", "charge_under_ambient", "energy_high", "energy_low", "sensor_still",
    "exhaust_heat_low", "exhaust_heat_high", "mixture_by_fuel", "rail_by_duration",
    "heat_soak",
)  # fmt: skip


class Days(Document):
    """The days and places for which a map is meant: air temperature in K, altitude in m; None: nobody said."""

    hottest_k: Annotated[float, Field(ge=230.0, le=330.0)] | None = None
    coldest_k: Annotated[float, Field(ge=200.0, le=330.0)] | None = None
    lowest_m: Annotated[float, Field(ge=-450.0, le=6000.0)] | None = None
    highest_m: Annotated[float, Field(ge=-450.0, le=6000.0)] | None = None

    @model_validator(mode="after")
    def _in_order(self) -> Days:
        if self.hottest_k is not None and self.coldest_k is not None and self.hottest_k < self.coldest_k:
            raise ValueError("the hottest day is colder than the coldest")
        if self.highest_m is not None and self.lowest_m is not None and self.highest_m < self.lowest_m:
            raise ValueError("the highest place lies under the lowest")
        return self

    @property
    def stated(self) -> bool:
        """Whether anything was said."""
        return any(v is not None for v in (self.hottest_k, self.coldest_k, self.lowest_m, self.highest_m))


@dataclass(frozen=True)
class Measured:
    """The findings of one pull, and the air in which it was made; None where that is not known."""

    findings: tuple[Finding, ...]
    temperature_k: float | None
    pressure_pa: float | None


@dataclass(frozen=True)
class OnTheDay:
    """What a check comes to on a day: value with its interval at 95 % (canonical units), and what follows from it.

    `run` is the run that would tell, where the evidence does not; then value and interval are None.
    """

    check: str
    title: str
    severity: str
    temperature_k: float
    pressure_pa: float
    value: float | None
    low: float | None
    high: float | None
    rule: Rule
    run: str = ""

    def sentence(self, label: str) -> str:
        """In words, its numbers in a unit."""
        day = f"at {self.temperature_k - 273.15:.0f} degC and {self.pressure_pa / 100.0:.0f} mbar"
        if self.value is None or self.low is None or self.high is None:
            return f"{self.title} {day}: not told by this evidence. {self.run}"
        limit = amount(self.rule.stop_canonical, label)
        interval = f"{amount(self.low, label)} to {amount(self.high, label)}"
        return f"{self.title} {day}: {amount(self.value, label)} ({interval}), limit {limit}"


def corners(days: Days, measured: Sequence[Measured]) -> list[tuple[float, float]]:
    """The days that are asked about, as (K, Pa): the ends that were stated, else what was measured in the middle."""
    known = [(m.temperature_k, m.pressure_pa) for m in measured if m.temperature_k and m.pressure_pa]
    if not known or not days.stated:
        return []
    middle = np.median(np.array(known), axis=0)
    temperatures = [t for t in (days.coldest_k, days.hottest_k) if t is not None] or [float(middle[0])]
    places = [float(isa_pressure(m)) for m in (days.lowest_m, days.highest_m) if m is not None] or [float(middle[1])]
    return [(t, p) for t in dict.fromkeys(temperatures) for p in dict.fromkeys(places)]


def on_the_days(days: Days, measured: Sequence[Measured]) -> list[OnTheDay]:
    """Every check that was judged, on each day that the job names, the worst first.

    Near what was measured the worst pull counts. Further away the value follows from least squares over temperature and
    pressure, as far as the pulls spread in them, with the interval of a single new pull on a new day (mixed model with
    the day as a random effect; Searle, Casella and McCulloch 1992, Variance Components, from memory).
    """
    found = []
    for temperature_k, pressure_pa in corners(days, measured):
        for check, rule in _rules(measured).items():
            found.append(_on_day(check, rule, _points(check, measured), temperature_k, pressure_pa))
    return sorted(found, key=lambda d: ORDER[d.severity])


def _rules(measured: Iterable[Measured]) -> dict[str, Rule]:
    return {
        f.check: f.rule
        for m in measured
        for f in m.findings
        if f.rule is not None and f.value is not None and f.check not in NOT_OF_THE_DAY
    }


def _points(check: str, measured: Iterable[Measured]) -> FloatArray:
    """Rows of temperature, pressure and value, of the pulls that say all three."""
    rows = [
        (m.temperature_k, m.pressure_pa, f.value)
        for m in measured
        for f in m.findings
        if f.check == check and f.value is not None and m.temperature_k and m.pressure_pa
    ]
    return np.array(rows, dtype=np.float64).reshape(-1, 3)


def _on_day(check: str, rule: Rule, points: FloatArray, temperature_k: float, pressure_pa: float) -> OnTheDay:
    def made(severity: str, value: float | None, low: float | None, high: float | None, run: str = "") -> OnTheDay:
        return OnTheDay(check, rule.title, severity, temperature_k, pressure_pa, value, low, high, rule, run)

    near = (np.abs(points[:, 0] - temperature_k) <= ALIKE_K) & (
        np.abs(points[:, 1] / pressure_pa - 1.0) <= ALIKE_PRESSURE
    )
    if near.any():
        worst, low, high = _measured_there(points, near, rule)
        return made(_severity(rule, worst, low, high), worst, low, high)
    fitted = _fitted(points, temperature_k, pressure_pa)
    if isinstance(fitted, str):
        return made(NO_DATA, None, None, None, fitted)
    value, low, high = fitted
    return made(_severity(rule, value, low, high), value, low, high)


def _measured_there(points: FloatArray, near: NDArray[np.bool_], rule: Rule) -> tuple[float, float, float]:
    """The worst pull of such a day, with the interval of a single new one on another day like it; that of the pulls
    themselves where their scatter cannot be told.
    """
    values, day = points[near, 2], _days_of(points)
    worst = float(values.max() if rule.side == "above" else values.min())
    low, high = float(values.min()), float(values.max())
    scatter = _within(points[:, 2], day)
    one = np.ones((values.size, 1))
    told = _predicted(one, values, np.ones(1), np.unique(day[near], return_inverse=True)[1], scatter)
    if scatter[1] and not isinstance(told, str):
        low, high = min(low, told[1]), max(high, told[2])
    return worst, low, high


def _severity(rule: Rule, value: float, low: float, high: float) -> str:
    """Stop where the value itself is past the limit, watch where its interval is, or the value past the watch limit."""
    bad = high if rule.side == "above" else low
    sign = 1.0 if rule.side == "above" else -1.0
    if sign * value > sign * rule.stop_canonical:
        return STOP
    if sign * bad > sign * rule.stop_canonical or sign * value > sign * rule.watch_canonical:
        return WATCH
    return PASS


def _fitted(points: FloatArray, temperature_k: float, pressure_pa: float) -> tuple[float, float, float] | str:
    """Value with its interval on a day by the trend of the pulls; in words the run that would tell, where it does not."""
    t, p, v = points.T
    if np.any(v == 0.0):
        # What has not begun to show says nothing of how far away it is.
        return f"On some of these days it did not show at all. Pull at {temperature_k - 273.15:.0f} degC and see."
    columns, asked = [np.ones(t.size)], [1.0]
    for values, at, spread, alike, unit in (
        (t, temperature_k, SPREAD_K, ALIKE_K, "degC"),
        (p, pressure_pa, SPREAD_PRESSURE * pressure_pa, ALIKE_PRESSURE * pressure_pa, "mbar"),
    ):
        wide = float(values.max() - values.min()) if values.size else 0.0
        outside = max(float(values.min()) - at, at - float(values.max()), 0.0) if values.size else np.inf
        if outside <= alike and wide < spread:
            continue  # it hardly moved, and hardly is asked to
        if wide < spread or outside > REACH * wide:
            return f"Pull at {from_canonical(at, unit):.0f} {unit}. The pulls cover {_covers(values, unit)}."
        centre = float(values.mean())
        columns.append((values - centre) / spread)
        asked.append((at - centre) / spread)
    if t.size < max(LEAST_PULLS, len(columns) + 2):
        return f"Pull again: {t.size} pulls are too few for a trend."
    day = _days_of(points)
    return _predicted(np.stack(columns, axis=1), v, np.array(asked), day, _within(v, day))


def _covers(values: FloatArray, unit: str) -> str:
    if not values.size:
        return "no day that is known"
    low, high = (float(from_canonical(end, unit)) for end in (values.min(), values.max()))
    return f"{low:.0f} to {high:.0f} {unit}"


def _days_of(points: FloatArray) -> NDArray[np.intp]:
    """The day of each pull: those of one air are of one day."""
    found = np.full(points.shape[0], -1, dtype=np.intp)
    for i, (t, p, _) in enumerate(points):
        if found[i] < 0:
            alike = (np.abs(points[:, 0] - t) <= SAME_DAY_K) & (np.abs(points[:, 1] / p - 1.0) <= SAME_DAY_PRESSURE)
            found[alike & (found < 0)] = found.max() + 1
    return found


def _within(values: FloatArray, day: NDArray[np.intp]) -> tuple[float, int]:
    """The variance of pulls within their days, and its degrees of freedom; nought where each day has one."""
    member = (day[:, None] == np.arange(int(day.max()) + 1)[None, :]).astype(np.float64)
    freedom = values.size - member.shape[1]
    off = values - member @ (member.T @ values / member.sum(axis=0))
    return (float(off @ off) / freedom, freedom) if freedom else (0.0, 0)


def _predicted(
    design: FloatArray,
    values: FloatArray,
    asked: FloatArray,
    day: NDArray[np.intp],
    scatter: tuple[float, int],
) -> tuple[float, float, float] | str:
    """Value and interval of a single pull on another day: trend by generalised least squares, the day a random effect.

    `scatter`: the variance of pulls within days and its degrees of freedom. The day's variance follows from what the days
    lie off the trend, and a prior in terms of that; degrees of freedom by Satterthwaite (1946), so that what hangs on the
    scatter hangs on its degrees.
    """
    from scipy.stats import t as student

    if np.linalg.matrix_rank(design) < design.shape[1]:
        return "Pull on a day on which temperature and pressure do not move together."
    count, days = values.size, int(day.max()) + 1
    member = (day[:, None] == np.arange(days)[None, :]).astype(np.float64)
    sizes = member.sum(axis=0)
    means = member.T @ values / sizes
    # One pull a day: noise and day cannot be told apart, and are taken together.
    noise, within_freedom = scatter
    of_days = member.T @ design / sizes[:, None]
    off = means - of_days @ np.linalg.lstsq(of_days, means, rcond=None)[0]
    day_freedom = max(days - design.shape[1], 0)
    seen = float(off @ off) / day_freedom - noise * float(np.mean(1.0 / sizes)) if day_freedom else 0.0
    prior = PRIOR_DAYS if noise > 0.0 else 0.0
    weight = prior + day_freedom
    if weight <= 0.0:
        return f"Pull again: {count} pulls are too few for a trend."
    between = (prior * DAY_OVER_NOISE**2 * noise + day_freedom * max(seen, 0.0)) / weight
    whole = noise * np.eye(count) + between * member @ member.T
    if between + noise <= 0.0:
        whole = np.eye(count)
    inverse = np.linalg.inv(design.T @ np.linalg.solve(whole, design))
    solved = inverse @ design.T @ np.linalg.solve(whole, values)
    value = float(asked @ solved)
    variance = (float(asked @ inverse @ asked) if between + noise > 0.0 else 0.0) + between + noise
    over = variance / max(between + noise, 1e-300)
    of_scatter = noise + prior * DAY_OVER_NOISE**2 * noise / weight  # the part that follows from the scatter
    doubt = (over * (between + noise - of_scatter)) ** 2 / max(day_freedom, 1)
    doubt += (over * of_scatter) ** 2 / within_freedom if within_freedom else 0.0
    freedom = variance**2 / doubt if doubt > 0.0 else float(max(weight, 1.0))
    half = float(student.ppf(0.5 + CONFIDENCE / 2.0, max(freedom, 1.0))) * variance**0.5
    return value, value - half, value + half
