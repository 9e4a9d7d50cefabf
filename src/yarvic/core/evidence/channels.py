"""The channels Yarvic knows: their quantities, and what their sign and zero mean. How logs name them is data."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache

from yarvic.core.units import Reference

MOST_CYLINDERS = 16
# Which of several: a number, or cylinder, bank, sensor and side with theirs.
_WHICH = re.compile(
    r"(?P<number>[1-9]\d?)|cylinder_(?P<cylinder>[1-9]\d?)|(?P<side>left|right)"
    r"|(?:bank_(?P<bank>[1-9]))?_?(?:sensor_(?P<sensor>[1-9]))?"
)


@dataclass(frozen=True, slots=True)
class ChannelKind:
    """A measured or commanded signal: `quantity` decides its unit.

    `index` tells which cylinder's it is where each has one of its own, `which` which of several it is otherwise; both
    are empty for one that stands for all or is the only one.
    """

    key: str
    title: str
    quantity: str
    unit: str
    shown_as: str = ""  # the kind of unit it is shown in, where that is not simply its quantity's
    waveform: bool = False  # sampled so fast, in bursts, that it stands in no table beside others
    sign: str = ""  # what a negative number means, where that is not plain
    reference: Reference = ""  # what a pressure is counted from inside; empty where it hardly matters
    index: int | None = None
    which: str = ""

    @property
    def family(self) -> str:
        """Its key without the number."""
        return self.key.removesuffix(f"_{self.index if self.index is not None else self.which}")

    @property
    def unit_choice(self) -> str:
        """The key under which a person chooses its unit."""
        return self.shown_as or self.quantity


def _absolute(key: str, title: str, unit: str = "kPa") -> ChannelKind:
    return ChannelKind(key, title, "pressure", unit, reference="absolute")


def _spark_correction(i: int | None) -> ChannelKind:
    """What the unit takes off the spark of a cylinder, or of all alike (None)."""
    which = f"cylinder {i}" if i is not None else "all cylinders"
    key = f"spark_correction_{i}" if i is not None else "spark_correction"
    return ChannelKind(key, f"Spark correction {which}", "angle", "deg", sign="negative is retarded", index=i)


_DEFINED = (
    ChannelKind("engine_speed", "Engine speed", "engine speed", "rpm"),
    ChannelKind("throttle", "Throttle", "ratio", "%"),
    _absolute("boost_pressure", "Boost pressure"),
    _absolute("boost_target", "Boost target"),
    ChannelKind("charge_temperature", "Charge temperature", "temperature", "degC"),
    ChannelKind("lambda_measured", "Lambda", "mixture", "lambda"),
    ChannelKind("lambda_target", "Lambda target", "mixture", "lambda"),
    ChannelKind("fuel_trim", "Fuel trim", "ratio", "%"),
    ChannelKind("rail_pressure", "Rail pressure", "pressure", "bar", "fuel pressure"),
    ChannelKind("rail_target", "Rail target", "pressure", "bar", "fuel pressure"),
    ChannelKind("injector_window", "Injector window used", "ratio", "%"),
    ChannelKind("spark_advance", "Spark advance", "angle", "deg"),
    _spark_correction(None),
    *(_spark_correction(i) for i in range(1, MOST_CYLINDERS + 1)),
    ChannelKind("wastegate_duty", "Wastegate duty", "ratio", "%"),
    ChannelKind("filling", "Cylinder filling", "ratio", "%"),
    ChannelKind("torque_estimate", "Torque, unit's estimate", "torque", "N m"),
    ChannelKind("exhaust_temperature", "Exhaust temperature", "temperature", "degC"),
    ChannelKind("coolant_temperature", "Coolant temperature", "temperature", "degC"),
    ChannelKind("oil_temperature", "Oil temperature", "temperature", "degC"),
    ChannelKind("roller_speed", "Roller speed", "engine speed", "rpm"),
    ChannelKind("vehicle_speed", "Vehicle speed", "speed", "km/h"),
    ChannelKind("long_trim", "Long fuel trim", "ratio", "%"),
    ChannelKind("cam_phase", "Intake cam phase", "angle", "deg"),
    ChannelKind("air_flow", "Air flow", "mass flow", "kg/h"),
    ChannelKind("shutter_position", "Shutter position", "ratio", "%"),
    ChannelKind("misfires", "Misfires counted", "count", "count"),
    ChannelKind("supply_voltage", "Supply voltage", "voltage", "V"),
    ChannelKind("injected_quantity", "Injected quantity", "mass", "mg"),
    ChannelKind("quantity_limit", "Quantity allowed", "mass", "mg"),
    ChannelKind("injection_start", "Start of injection", "angle", "deg"),
    ChannelKind("injection_time", "Injection time", "time", "ms"),
    ChannelKind("vane_position", "Vane duty", "ratio", "%"),
    ChannelKind("feed_pressure", "Feed pressure", "pressure", "kPa"),
    ChannelKind("smoke", "Smoke opacity", "ratio", "%"),
    _absolute("airbox_pressure", "Airbox pressure"),
    ChannelKind("intake_length", "Short intake", "ratio", "%"),
    ChannelKind("gearbox_temperature", "Gearbox temperature", "temperature", "degC"),
    ChannelKind("roller_torque", "Brake torque at the roller", "torque", "N m"),
    ChannelKind("gps_speed", "Speed over ground", "speed", "km/h"),
    ChannelKind("acceleration", "Acceleration along the vehicle", "acceleration", "m/s2"),
    ChannelKind("grade", "Grade", "ratio", "%"),
    *(
        ChannelKind(f"knock_signal_{i}", f"Knock sensor, cylinder {i}", "voltage", "V", waveform=True, index=i)
        for i in range(1, MOST_CYLINDERS + 1)
    ),
    _absolute("ambient_pressure", "Ambient pressure", "mbar"),
    ChannelKind("ambient_temperature", "Ambient temperature", "temperature", "degC"),
    ChannelKind("humidity", "Relative humidity", "ratio", "%"),
    ChannelKind("power", "Power", "power", "kW"),
    ChannelKind("torque", "Torque", "torque", "N m"),
)


class _Channels(Mapping[str, ChannelKind]):
    """The channels by key: those defined, and each of several of a family (`lambda_measured_bank_2`)."""

    def __init__(self, defined: tuple[ChannelKind, ...]) -> None:
        self._defined = {kind.key: kind for kind in defined}

    def __getitem__(self, key: str) -> ChannelKind:
        found = self._defined.get(key) or self._one_of_several(key)
        if found is None:
            raise KeyError(key)
        return found

    def _one_of_several(self, key: str) -> ChannelKind | None:
        for at in (i for i, letter in enumerate(key) if letter == "_"):
            kind, which = self._defined.get(key[:at]), key[at + 1 :]
            if kind is not None and kind.index is None and which and _WHICH.fullmatch(which):
                title = kind.title.removesuffix(" all cylinders")
                return replace(kind, key=key, title=f"{title}, {which_in_words(which)}", which=which)
        return None

    def __iter__(self) -> Iterator[str]:
        return iter(self._defined)

    def __len__(self) -> int:
        return len(self._defined)


def which_in_words(which: str) -> str:
    """Which of several, as it stands in a title: `number 2`, `bank 1 sensor 2`."""
    return f"number {which}" if which.isdigit() else which.replace("_", " ")


CHANNELS: Mapping[str, ChannelKind] = _Channels(_DEFINED)
# What every cylinder has a signal of its own for, and the one that stands for all.
SPARK_CORRECTION = "spark_correction"
SPARK_CORRECTIONS = tuple(f"{SPARK_CORRECTION}_{i}" for i in range(1, MOST_CYLINDERS + 1))


def members(family: str, keys: Iterable[str]) -> list[str]:
    """The keys of a log that are of one family, the one without a number first."""
    return list(_members(family, tuple(keys)))


@lru_cache(maxsize=4096)
def _members(family: str, keys: tuple[str, ...]) -> tuple[str, ...]:
    found = [
        k
        for k in keys
        if k == family or (k.startswith(f"{family}_") and (c := CHANNELS.get(k)) and c.family == family)
    ]
    return tuple(sorted(found, key=lambda k: (len(k), k)))
