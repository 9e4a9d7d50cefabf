"""The channels Yarvic knows, their quantities, what their sign and zero mean, and the names under which logs carry them."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from types import MappingProxyType

from yarvic.core.units import Reference

MOST_CYLINDERS = 16


@dataclass(frozen=True, slots=True)
class ChannelKind:
    """A measured or commanded signal: `quantity` decides its unit, `aliases` are header words.

    `reversed_aliases` are words for the same signal counted the other way round: a retard is a correction with the
    other sign. `index` tells which of several it is (cylinder), None for one that stands for all or is the only one.
    """

    key: str
    title: str
    quantity: str
    unit: str
    aliases: tuple[str, ...] = ()
    shown_as: str = ""  # the kind of unit it is shown in, where that is not simply its quantity's
    waveform: bool = False  # sampled so fast, in bursts, that it stands in no table beside others
    reversed_aliases: tuple[str, ...] = ()
    sign: str = ""  # what a negative number means, where that is not plain
    reference: Reference = ""  # what a pressure is counted from inside; empty where it hardly matters
    index: int | None = None

    @property
    def family(self) -> str:
        """Its key without the number."""
        return self.key if self.index is None else self.key.rpartition("_")[0]

    @property
    def unit_choice(self) -> str:
        """The key under which a person chooses its unit."""
        return self.shown_as or self.quantity


def _absolute(key: str, title: str, aliases: tuple[str, ...], unit: str = "kPa") -> ChannelKind:
    return ChannelKind(key, title, "pressure", unit, aliases, reference="absolute")


_ADVANCED = ("spark correction", "ignition correction", "timing correction", "knock correction")
_RETARDED = ("knock retard", "ignition retard", "timing retard", "spark retard")


def _of_cylinder(names: Iterable[str], i: int) -> tuple[str, ...]:
    """The ways in which a header names the signal of one cylinder."""
    return tuple(
        words
        for name in names
        for words in (
            f"{name} {i}", f"{name}{i}", f"{name} cylinder {i}", f"{name} cyl {i}", f"{name} cyl{i}",
            f"cylinder {i} {name}", f"cyl {i} {name}", f"cyl{i} {name}", f"{name} cylinder{i}",
        )
    )  # fmt: skip


def _spark_correction(i: int | None) -> ChannelKind:
    """What the unit takes off the spark of a cylinder, or of all alike (None)."""
    which = f"cylinder {i}" if i is not None else "all cylinders"
    return ChannelKind(
        f"spark_correction_{i}" if i is not None else "spark_correction",
        f"Spark correction {which}",
        "angle",
        "deg",
        _of_cylinder(_ADVANCED, i) if i is not None else _ADVANCED,
        reversed_aliases=_of_cylinder(_RETARDED, i) if i is not None else _RETARDED,
        sign="negative is retarded",
        index=i,
    )


_DEFINED = (
    ChannelKind("engine_speed", "Engine speed", "engine speed", "rpm", ("rpm", "engine rpm", "n")),
    ChannelKind("throttle", "Throttle", "ratio", "%", ("throttle position", "tps", "pedal")),
    _absolute(
        "boost_pressure", "Boost pressure", ("map", "manifold pressure", "manifold absolute pressure", "boost")
    ),
    _absolute("boost_target", "Boost target", ("boost setpoint", "boost request")),
    ChannelKind("charge_temperature", "Charge temperature", "temperature", "degC", ("iat", "intake temperature")),
    ChannelKind("lambda_measured", "Lambda", "mixture", "lambda", ("afr", "wideband", "lambda actual")),
    ChannelKind("lambda_target", "Lambda target", "mixture", "lambda", ("afr target", "lambda setpoint")),
    ChannelKind("fuel_trim", "Fuel trim", "ratio", "%", ("short trim", "stft")),
    ChannelKind("rail_pressure", "Rail pressure", "pressure", "bar", ("fuel rail pressure", "hpfp"), "fuel pressure"),
    ChannelKind("rail_target", "Rail target", "pressure", "bar", ("rail setpoint",), "fuel pressure"),
    ChannelKind("injector_window", "Injector window used", "ratio", "%", ("injector duty",)),
    ChannelKind("spark_advance", "Spark advance", "angle", "deg", ("timing", "ignition advance")),
    _spark_correction(None),
    *(_spark_correction(i) for i in range(1, MOST_CYLINDERS + 1)),
    ChannelKind("wastegate_duty", "Wastegate duty", "ratio", "%", ("wgdc",)),
    ChannelKind("filling", "Cylinder filling", "ratio", "%", ("load", "relative load", "ve")),
    ChannelKind("torque_estimate", "Torque, unit's estimate", "torque", "N m", ("model torque",)),
    ChannelKind("exhaust_temperature", "Exhaust temperature", "temperature", "degC", ("egt",)),
    ChannelKind("coolant_temperature", "Coolant temperature", "temperature", "degC", ("ect", "coolant")),
    ChannelKind("oil_temperature", "Oil temperature", "temperature", "degC", ("oil temp",)),
    ChannelKind("roller_speed", "Roller speed", "engine speed", "rpm", ("drum speed",)),
    ChannelKind("vehicle_speed", "Vehicle speed", "speed", "km/h", ("speed", "road speed")),
    ChannelKind("long_trim", "Long fuel trim", "ratio", "%", ("long trim", "ltft")),
    ChannelKind("cam_phase", "Intake cam phase", "angle", "deg", ("cam advance", "vvt")),
    ChannelKind("air_flow", "Air flow", "mass flow", "kg/h", ("maf", "mass air flow")),
    ChannelKind("shutter_position", "Shutter position", "ratio", "%", ("shutters", "cooling shutters")),
    ChannelKind("misfires", "Misfires counted", "count", "count", ("misfire count",)),
    ChannelKind("supply_voltage", "Supply voltage", "voltage", "V", ("battery", "battery voltage")),
    ChannelKind("injected_quantity", "Injected quantity", "mass", "mg", ("fuel quantity", "injection quantity")),
    ChannelKind("quantity_limit", "Quantity allowed", "mass", "mg", ("fuel limit", "smoke limit")),
    ChannelKind("injection_start", "Start of injection", "angle", "deg", ("soi", "main timing")),
    ChannelKind("injection_time", "Injection time", "time", "ms", ("pulse width", "injector pulse width")),
    ChannelKind("vane_position", "Vane duty", "ratio", "%", ("vgt position", "vane position")),
    ChannelKind("feed_pressure", "Feed pressure", "pressure", "kPa", ("lift pump pressure", "fuel feed pressure")),
    ChannelKind("smoke", "Smoke opacity", "ratio", "%", ("opacity",)),
    _absolute("airbox_pressure", "Airbox pressure", ("airbox", "plenum pressure")),
    ChannelKind("intake_length", "Short intake", "ratio", "%", ("intake switch", "intake flap")),
    ChannelKind("gearbox_temperature", "Gearbox temperature", "temperature", "degC", ("transmission temperature",)),
    ChannelKind("roller_torque", "Brake torque at the roller", "torque", "N m", ("brake torque", "load cell")),
    ChannelKind("gps_speed", "Speed over ground", "speed", "km/h", ("gps speed",)),
    ChannelKind("acceleration", "Acceleration along the vehicle", "acceleration", "m/s2", ("accelerometer", "ax")),
    ChannelKind("grade", "Grade", "ratio", "%", ("slope",)),
    *(
        ChannelKind(f"knock_signal_{i}", f"Knock sensor, cylinder {i}", "voltage", "V", waveform=True, index=i)
        for i in range(1, MOST_CYLINDERS + 1)
    ),
    _absolute("ambient_pressure", "Ambient pressure", ("barometer", "barometric pressure"), "mbar"),
    ChannelKind("ambient_temperature", "Ambient temperature", "temperature", "degC", ("outside temperature",)),
)

CHANNELS: Mapping[str, ChannelKind] = MappingProxyType({kind.key: kind for kind in _DEFINED})
# What every cylinder has a signal of its own for, and the one that stands for all.
SPARK_CORRECTION = "spark_correction"
SPARK_CORRECTIONS = tuple(f"{SPARK_CORRECTION}_{i}" for i in range(1, MOST_CYLINDERS + 1))


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", " ", name.lower()).strip()


def header_names() -> dict[str, tuple[ChannelKind, int]]:
    """Every name a log may use, in plain letters, with its channel and sign (-1: counted the other way round).

    Raises ValueError when one name stands for two channels.
    """
    found: dict[str, tuple[ChannelKind, int]] = {}
    for kind in _DEFINED:
        for sign, names in ((1, (kind.key, kind.title, *kind.aliases)), (-1, kind.reversed_aliases)):
            for name in names:
                known = found.setdefault(_plain(name), (kind, sign))
                if known != (kind, sign):
                    raise ValueError(f"{name!r} stands for {known[0].title} and for {kind.title}")
    return found


_NAMES: Mapping[str, tuple[ChannelKind, int]] = MappingProxyType(header_names())


def _first(header_name: str) -> tuple[ChannelKind, int] | None:
    """What a name that numbers something 0 would stand for if it were numbered 1."""
    plain = _plain(header_name)
    if plain in _NAMES:
        return None
    known = _NAMES.get(re.sub(r"(?<!\d)0(?!\d)", "1", plain))
    return known if known is not None and known[0].index == 1 else None


def numbered_from_zero(header_names: Iterable[str]) -> dict[str, str]:
    """The families that a log numbers from 0, each with the name of its first."""
    return {first[0].family: name for name in header_names if (first := _first(name)) is not None}


def find_channel(header_name: str, from_zero: Collection[str] = ()) -> tuple[ChannelKind, int] | None:
    """The channel that a log's header name stands for and its sign (1 or -1), or None when it is not known.

    `from_zero` are the families that this log numbers from 0: there cylinder 0 is the first.
    """
    first, known = _first(header_name), _NAMES.get(_plain(header_name))
    if first is not None:
        return first if first[0].family in from_zero else None
    if known is None or known[0].index is None or known[0].family not in from_zero:
        return known
    kind = CHANNELS.get(f"{known[0].family}_{known[0].index + 1}")
    return None if kind is None else (kind, known[1])
