"""What a sizing sheet is."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass, replace

import numpy as np

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.checks.finding import amount
from yarvic.core.errors import UnitError, YarvicError
from yarvic.core.physics import FloatArray
from yarvic.core.physics.air import isa_pressure
from yarvic.core.physics.constants import STANDARD_PRESSURE_PA
from yarvic.core.physics.fuel import Fuel, ethanol_share, fuel
from yarvic.core.plan.plan import Target
from yarvic.core.plan.vehicle import Vehicle
from yarvic.core.typed_numbers import parse_number
from yarvic.core.units import UNITS, convert, from_canonical, to_canonical

Values = Mapping[str, float]
CHART_POINTS = 60


# Units for which a person's own choice is taken; others, such as cfm, are what the trade reads whatever is chosen.
_CHOSEN = frozenset({"kW", "N m", "degC", "kPa", "km/h"})


def chosen_unit(unit: str, units: Mapping[str, str]) -> str:
    """The unit in which a number of this unit is shown, by the units that were chosen."""
    return units.get(UNITS[unit].quantity, unit) if unit in _CHOSEN else unit


@dataclass(frozen=True)
class Context:
    """What a sheet can take from the job: vehicle, target, altitude, and the measured peak at the wheel in W."""

    vehicle: Vehicle
    target: Target | None = None
    altitude_m: float | None = None
    measured_w: float | None = None

    @property
    def fuel(self) -> Fuel:
        """The fuel of the first slot, a petrol or a diesel where none is stated."""
        v = self.vehicle
        default = "diesel" if v.ignition == "compression" else "petrol-95"
        return fuel(next(iter(v.fuels.values()), default))

    @property
    def ethanol_share(self) -> float | None:
        """Share of ethanol by volume in the fuel of the first slot; None for one that is no petrol."""
        return ethanol_share(next(iter(self.vehicle.fuels.values()), "petrol-95"))

    @property
    def ambient_pa(self) -> float:
        """Pressure of the standard atmosphere at the job's altitude. ICAO Doc 7488."""
        return float(isa_pressure(self.altitude_m)) if self.altitude_m is not None else STANDARD_PRESSURE_PA

    def crank_power_w(self) -> float | None:
        """The target's power at the crank, else the measured one; None when there is neither or no loss is stated."""
        loss = self.vehicle.loss
        if self.target is not None:
            power = self.target.demands()[0]
            if self.target.basis == "crank":
                return power
            return power / (1.0 - loss) if loss is not None else None
        return self.measured_w / (1.0 - loss) if self.measured_w is not None and loss is not None else None


@dataclass(frozen=True)
class Input:
    """A number the sheet asks for, in `unit` (empty: bare). `low` to `high` in that unit; `default` in that unit too.

    One that follows from others names them in `follows`, and `by` works it out (canonical): it moves with them until
    somebody writes it.
    """

    key: str
    title: str
    unit: str
    low: float
    high: float
    default: float
    of_job: Callable[[Context], float | None] | None = None  # canonical
    follows: tuple[str, ...] = ()
    by: Callable[[Values], float] | None = None
    for_engine: Callable[[Vehicle], bool] = lambda v: True

    def in_units(self, units: Mapping[str, str]) -> Input:
        """The same input in the unit that a person chose for its quantity."""
        unit = chosen_unit(self.unit, units)
        if unit == self.unit:
            return self
        low, high, default = (float(convert(v, self.unit, unit)) for v in (self.low, self.high, self.default))
        return replace(self, unit=unit, low=low, high=high, default=default)

    def begin(self, context: Context) -> tuple[float, bool]:
        """Canonical value to begin with, and whether it is the job's."""
        found = self.of_job(context) if self.of_job is not None else None
        if found is not None and self.low <= self.shown(found) <= self.high:
            return found, True
        return self.canonical(self.default), False

    def canonical(self, value: float) -> float:
        """From the input's unit."""
        return float(to_canonical(value, self.unit)) if self.unit else value

    def shown(self, value: float) -> float:
        """To the input's unit."""
        return float(from_canonical(value, self.unit)) if self.unit else value

    def read(self, text: str) -> float:
        """What a person wrote, canonical. Raises ValueError saying what to write."""
        try:
            value = parse_number(text.strip().removesuffix(self.unit), lambda v: self.low <= v <= self.high)
        except UnitError as error:
            raise ValueError(f"{self.title}: {error}") from None
        if not self.low <= value <= self.high:
            unit = f" {self.unit}" if self.unit else ""
            raise ValueError(
                f"{self.title} {value:g}{unit} is out of range: give {self.low:g} to {self.high:g}{unit}."
            )
        return self.canonical(value)


@dataclass(frozen=True)
class Output:
    """A number that comes out, canonical, and the unit it is read in (empty: bare, with `decimals`)."""

    title: str
    value: float
    unit: str
    decimals: int = 2

    def in_words(self, units: Mapping[str, str] | None = None) -> str:
        """The number with its unit."""
        if not np.isfinite(self.value):
            return "not possible"
        if not self.unit:
            return f"{self.value:.{self.decimals}f}"
        return amount(self.value, chosen_unit(self.unit, units or {}))


@dataclass(frozen=True)
class Sizing:
    """A sheet. The first output is the answer; `along` is the input that the chart runs over."""

    key: str
    title: str
    formula: str
    source: str
    inputs: tuple[Input, ...]
    along: str
    compute: Callable[[Values], list[Output]]
    say: Callable[[Values, list[Output]], str]
    limit: Callable[[Values], ComponentLimit] | None = None
    caution: str = ""
    for_engine: Callable[[Vehicle], bool] = lambda v: True

    def begin(self, context: Context) -> tuple[dict[str, float], frozenset[str]]:
        """Values to begin with, and which of them the job gave; what follows from others is worked out from them."""
        found = {i.key: i.begin(context) for i in self.inputs}
        own = frozenset(k for k, (_, given) in found.items() if given)
        return self.followed({k: v for k, (v, _) in found.items()}, own), own

    def followed(self, values: Values, written: Collection[str]) -> dict[str, float]:
        """The values with each that follows from others worked out anew, but those that were written or given."""
        found = dict(values)
        for each in self.inputs:
            if each.by is not None and each.key not in written:
                found[each.key] = each.by(found)
        return found

    def entered(
        self, values: Values, written: Collection[str], key: str, value: float
    ) -> tuple[dict[str, float], frozenset[str]]:
        """The values after one was written, and which stand as written: what follows from it moves with it again."""
        moved = {key}
        for each in self.inputs:  # sources stand before what follows from them
            if moved & set(each.follows):
                moved.add(each.key)
        kept = frozenset(written) - moved | {key}
        return self.followed({**values, key: value}, kept), kept

    def input(self, key: str) -> Input:
        """An input by its key. Raises YarvicError."""
        found = next((i for i in self.inputs if i.key == key), None)
        if found is None:
            raise YarvicError(f"{self.title} asks for no {key!r}", remedy="Choose one of its entries.")
        return found

    def curve(self, values: Values) -> tuple[FloatArray, FloatArray]:
        """How the answer moves along its input: both canonical; NaN where it is not possible."""
        along = self.input(self.along)
        here = along.shown(values[self.along])
        low, high = max(along.low, here * 0.5), min(along.high, here * 1.5)
        if high <= low * 1.01:  # at the very end of its range: then from there some way in
            span = 0.2 * (along.high - along.low)
            low, high = max(along.low, min(low, along.high - span)), min(along.high, max(high, along.low + span))
        x = np.array([along.canonical(float(v)) for v in np.linspace(low, high, CHART_POINTS)])
        held = [i.key for i in self.inputs if self.along not in i.follows]
        y = np.array([self.compute(self.followed({**values, self.along: float(v)}, held))[0].value for v in x])
        return x, np.where(np.isfinite(y), y, np.nan)
