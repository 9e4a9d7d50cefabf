"""Which parts for a target, and which target for a budget: small integer programmes, solved exactly.

Each part is a variable of 0 or 1. A limit that parts move carries base + sum(delta x); it must not be less than what
the target asks. Of several parts that a limit becomes the best one counts: each has a variable that says so.
Prerequisites and exclusions are rows of their own. A fitted part that a new one excludes is a variable too: it comes off.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from yarvic.core.checks.components import ComponentLimit, Mover
from yarvic.core.errors import YarvicError
from yarvic.core.physics import FloatArray
from yarvic.core.plan.parts import Part
from yarvic.core.plan.plan import Band, Target
from yarvic.core.plan.weakest import ROUNDING, Demand, asked_of, demands, of_the_drive
from yarvic.core.units import UNITS

MOST_PARTS = 60
MOST_SECONDS = 60.0
_INFEASIBLE = 2  # scipy.optimize.milp's word for: no set of parts does


@dataclass(frozen=True)
class Chosen:
    """A part of the answer and why it is there."""

    part: Part
    why: str


@dataclass(frozen=True)
class Solution:
    """Parts to be fitted besides those that are, what they cost, and the target they carry.

    `reached` is False when nothing carries the target; then `target` is the nearest one, and `blocks` says what
    stands in the way of more.
    """

    target: Target
    chosen: tuple[Chosen, ...]
    cost: float
    reached: bool
    blocks: tuple[str, ...]
    demands: tuple[Demand, ...]


@dataclass(frozen=True)
class Ledger:
    """What is solved on: limits, parts, those fitted already, the band and margin, the loss, and the hourly rate."""

    limits: tuple[ComponentLimit, ...]
    parts: tuple[Part, ...]
    fitted: frozenset[str] = frozenset()
    band: Band = "safe"
    margin: float = 0.0
    loss: float | None = None
    rate: float = 0.0
    most_seconds: float = MOST_SECONDS

    def cost(self, keys: Collection[str]) -> float:
        """What these parts cost with their work."""
        return sum(p.cost(self.rate) for p in self.parts if p.key in keys)

    def excluded_by(self, keys: Collection[str]) -> frozenset[str]:
        """The parts that do not go together with these, whichever of the two says so."""
        said = {(p.key, r) for p in self.parts for r in p.excludes}
        return frozenset(b if a in keys else a for a, b in said if (a in keys) != (b in keys))

    def fitted_with(self, extra: Collection[str]) -> frozenset[str]:
        """What is fitted once these parts are: what they exclude has come off."""
        return self.fitted - (self.excluded_by(extra) - set(extra)) | set(extra)

    def demands(self, target: Target, extra: Collection[str] = ()) -> list[Demand]:
        """The limits against a target with the fitted and these parts."""
        return demands(
            self.limits, target, parts=self.fitted_with(extra), band=self.band, margin=self.margin, loss=self.loss
        )


def cheapest(ledger: Ledger, target: Target) -> Solution:
    """The cheapest parts with which every limit carries the target; the nearest target when none do.

    Raises YarvicError when there is no limit to hold it against, a basis cannot be converted, or it takes too long.
    """
    _check(ledger)
    programme = _Programme(ledger, target)
    keys = programme.solve(None)
    if keys is not None:
        return _solution(ledger, target, keys, reached=True)
    nearest = best(ledger, target, None)
    return Solution(nearest.target, nearest.chosen, nearest.cost, False, nearest.blocks, nearest.demands)


def best(ledger: Ledger, target: Target, budget: float | None) -> Solution:
    """The highest target of this shape that the parts within a budget carry, with the cheapest parts that do.

    None: money is no matter. Raises YarvicError as `cheapest` does.
    """
    _check(ledger)
    programme = _Programme(ledger, target)
    scale, keys = programme.highest(budget)
    found = target.model_copy(update={"value": _down(target, scale)})
    # Of all sets that carry it, the cheapest.
    again = _Programme(ledger, found).solve(budget)
    return _solution(ledger, found, keys if again is None else again, reached=True)


def _down(target: Target, scale: float) -> float:
    """The target times `scale`, cut after the digits its unit is read with, so that it is never above."""
    digits = 10.0 ** UNITS[target.unit].decimals
    return float(max(np.floor(target.value * scale * (1.0 + ROUNDING / 2.0) * digits) / digits, 1.0 / digits))


def _check(ledger: Ledger) -> None:
    if not of_the_drive(ledger.limits):
        raise YarvicError(
            "no limit for power or torque is stated",
            remedy="Add limits, or a kind from the library, to the ledger.",
        )
    if len(ledger.parts) > MOST_PARTS:
        raise YarvicError(f"more than {MOST_PARTS} parts", remedy="Remove those that are not in question.")


class _Programme:
    """Rows and columns. Columns: one per part that may come or go, one per part that a limit may become, last the scale
    of the target.
    """

    def __init__(self, ledger: Ledger, target: Target) -> None:
        self.ledger = ledger
        new = [p for p in ledger.parts if p.key not in ledger.fitted]
        going = ledger.excluded_by({p.key for p in new}) & ledger.fitted
        self.free = new + [p for p in ledger.parts if p.key in going]
        self.stays = ledger.fitted - going
        self.at = {p.key: i for i, p in enumerate(self.free)}
        self.costs = np.array([0.0 if p.key in going else p.cost(ledger.rate) for p in self.free])
        # A part that costs nothing is still left out unless it is needed, and one that is fitted is left on.
        least = 1e-6 * max(float(self.costs.sum()), 1.0)
        self.small = np.array([-least if p.key in going else least for p in self.free])
        limits = of_the_drive(ledger.limits)
        self.becomes = [
            (n, mover)
            for n, limit in enumerate(limits)
            for mover in sorted(limit.moved_by, key=lambda m: -m.stretch)
            if mover.how == "becomes" and mover.part in self.at
        ]
        self.width = len(self.free) + len(self.becomes) + 1
        self.rows: list[FloatArray] = []
        self.low: list[float] = []
        self.high: list[float] = []
        for n, limit in enumerate(limits):
            self._limit(n, limit, asked_of(limit, target, ledger.loss))
        self._parts()

    def _row(self, values: dict[int, float], low: float, high: float) -> None:
        row = np.zeros(self.width)
        for column, value in values.items():
            row[column] += value
        self.rows.append(row)
        self.low.append(low)
        self.high.append(high)

    def _limit(self, number: int, limit: ComponentLimit, asked: float) -> None:
        """base + sum(delta x) - asked (1 + margin) scale >= 0, all over `asked`.

        Of the parts that the limit becomes the best one counts, by its difference from what is there. The end of
        `safe` never passes that of `stretch`, so both must carry it.
        """
        columns = {m.part: len(self.free) + i for i, (n, m) in enumerate(self.becomes) if n == number}
        margin = 1.0 + self.ledger.margin
        bands: tuple[Band, ...] = ("safe", "stretch") if self.ledger.band == "safe" else ("stretch",)
        for band in bands:
            base = limit.carried(self.stays)[0 if band == "safe" else 1]
            values = {self.width - 1: -margin}
            for mover in limit.moved_by:
                if mover.part not in self.at:
                    continue
                adds = mover.how == "adds"
                column = self.at[mover.part] if adds else columns[mover.part]
                gain = getattr(mover, band) if adds else self._gained(limit, mover, band)
                values[column] = values.get(column, 0.0) + gain * UNITS[limit.unit].factor / asked
            self._row(values, -base * UNITS[limit.unit].factor / asked, np.inf)
        better: list[int] = []
        for part, column in columns.items():  # the best first: it counts where it is fitted and none better is
            self._row({column: 1.0, self.at[part]: -1.0}, -np.inf, 0.0)
            self._row({column: -1.0, self.at[part]: 1.0, **dict.fromkeys(better, -1.0)}, -np.inf, 0.0)
            for above in better:
                self._row({column: 1.0, above: 1.0}, -np.inf, 1.0)
            better.append(self.at[part])

    def _gained(self, limit: ComponentLimit, mover: Mover, band: Band) -> float:
        """What fitting a replacement adds to the limit as it stands: nothing less than that, for the best one counts."""
        fitted = [m for m in limit.moved_by if m.how == "becomes" and m.part in self.stays]
        best_there = max(fitted, key=lambda m: m.stretch, default=None)
        if best_there is not None and best_there.stretch >= mover.stretch:
            return 0.0
        return float(getattr(mover, band) - getattr(best_there or limit, band))

    def _parts(self) -> None:
        for part in self.ledger.parts:
            if part.key in self.at and part.key in self.ledger.fitted:  # it stays unless another takes it off
                rivals = [self.at[k] for k in self.ledger.excluded_by({part.key}) if k in self.at]
                self._row({self.at[part.key]: 1.0, **dict.fromkeys(rivals, 1.0)}, 1.0, np.inf)
            for need in part.needs:
                if need in self.at and part.key in self.at:
                    self._row({self.at[part.key]: 1.0, self.at[need]: -1.0}, -np.inf, 0.0)
                elif need in self.at and part.key in self.stays:
                    self._row({self.at[need]: 1.0}, 1.0, 1.0)
            for rival in part.excludes:
                if part.key in self.at and rival in self.at:
                    self._row({self.at[part.key]: 1.0, self.at[rival]: 1.0}, -np.inf, 1.0)

    def _run(
        self, objective: FloatArray, scale: tuple[float, float], budget: float | None
    ) -> tuple[float, frozenset[str]] | None:
        from scipy.optimize import Bounds, LinearConstraint, milp

        rows, low, high = [*self.rows], [*self.low], [*self.high]
        if budget is not None:
            rows, low, high = [*rows, self._padded(self.costs)], [*low, 0.0], [*high, budget]
        whole = self.width - 1
        integral = np.array([1] * whole + [0])
        bounds = Bounds(np.array([0.0] * whole + [scale[0]]), np.array([1.0] * whole + [scale[1]]))
        found = milp(
            objective,
            integrality=integral,
            bounds=bounds,
            constraints=LinearConstraint(np.array(rows), low, high),
            # Exact, not within the solver's usual gap.
            options={"mip_rel_gap": 0.0, "time_limit": self.ledger.most_seconds},
        )
        if found.status == _INFEASIBLE:
            return None
        if not found.success or found.x is None:
            raise YarvicError(
                f"no answer within {self.ledger.most_seconds:g} s",
                remedy="Remove parts that are not in question, and try again.",
            )
        on = frozenset(p.key for p, x in zip(self.free, found.x, strict=False) if x > 0.5)
        return float(found.x[-1]), on - self.ledger.fitted

    def _padded(self, of_parts: FloatArray) -> FloatArray:
        return np.concatenate([of_parts, np.zeros(self.width - len(self.free))])

    def solve(self, budget: float | None) -> frozenset[str] | None:
        """The cheapest parts that carry the whole target; None when none do."""
        weights = self._padded(self.costs + self.small)
        # Half of what may be lost in rounding is given away here: what meets its limit just so is carried.
        whole = 1.0 - ROUNDING / 2.0
        found = self._run(weights, (whole, whole), budget)
        return None if found is None else found[1]

    def highest(self, budget: float | None) -> tuple[float, frozenset[str]]:
        """The largest share of the target that can be carried, and the parts for it."""
        objective = np.zeros(self.width)
        objective[-1] = -1.0
        found = self._run(objective, (0.0, 1e6), budget)
        if found is None:
            raise YarvicError("the parts contradict each other", remedy="Look at what they need and exclude.")
        return found


def _solution(ledger: Ledger, target: Target, keys: frozenset[str], *, reached: bool) -> Solution:
    after = ledger.demands(target, keys)
    felt = _first_felt(ledger, target, keys)
    wanted = sorted((p for p in ledger.parts if p.key in keys), key=lambda p: felt[p.key])
    chosen = tuple(Chosen(part, _why(ledger, target, keys, part)) for part in wanted)
    return Solution(target, chosen, ledger.cost(keys), reached, _blocks(ledger, target, keys), tuple(after))


def _first_felt(ledger: Ledger, target: Target, keys: frozenset[str]) -> dict[str, float]:
    """By part, what share of the target the vehicle carries as it is before it needs the part: the order of fitting.

    A part comes just before those that need it. Parts may need each other: so many rounds as there are parts are enough.
    """
    demands, chosen = ledger.demands(target), [p for p in ledger.parts if p.key in keys]
    felt = {}
    for part in chosen:
        moved = [d for d in demands if any(m.part == part.key for m in d.limit.moved_by)]
        felt[part.key] = min((1.0 / d.share for d in moved if d.share > 0.0), default=1.0)
    for _ in chosen:
        for part in chosen:
            for need in keys.intersection(part.needs):
                felt[need] = min(felt[need], felt[part.key] - 1e-9)
    return felt


def _why(ledger: Ledger, target: Target, keys: frozenset[str], part: Part) -> str:
    """What would give way without a part, or which part needs it."""
    without = {d.limit.name: d for d in ledger.demands(target, keys - {part.key})}
    fails = [d for d in without.values() if not d.clears]
    if fails:
        names = list(dict.fromkeys(d.limit.component for d in fails))
        return f"without it {' and '.join(names)} would give way"
    needing = [p.title for p in ledger.parts if p.key in keys and part.key in p.needs]
    return f"needed by {', '.join(needing)}" if needing else "brings what the others cost more for"


def _blocks(ledger: Ledger, target: Target, keys: frozenset[str]) -> tuple[str, ...]:
    """The limits that do not carry the next higher target: they stand in the way."""
    more = target.model_copy(update={"value": target.value + 1.0 / 10.0 ** UNITS[target.unit].decimals})
    tight = [d for d in ledger.demands(more, keys) if d.asked > d.carries * (1.0 + ROUNDING / 4.0)]
    return tuple(dict.fromkeys(d.limit.component for d in tight))
