"""The channels Yarvic knows, their quantities, and the names under which logs carry them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType


@dataclass(frozen=True, slots=True)
class ChannelKind:
    """A measured or commanded signal: `quantity` decides its unit, `aliases` are header words."""

    key: str
    title: str
    quantity: str
    unit: str
    aliases: tuple[str, ...] = ()
    shown_as: str = ""  # the kind of unit it is shown in, where that is not simply its quantity's
    waveform: bool = False  # sampled so fast, in bursts, that it stands in no table beside others

    @property
    def unit_choice(self) -> str:
        """The key under which a person chooses its unit."""
        return self.shown_as or self.quantity


_DEFINED = (
    ChannelKind("engine_speed", "Engine speed", "engine speed", "rpm", ("rpm", "engine rpm", "n")),
    ChannelKind("throttle", "Throttle", "ratio", "%", ("throttle position", "tps", "pedal")),
    ChannelKind("boost_pressure", "Boost pressure", "pressure", "kPa", ("map", "manifold pressure", "boost")),
    ChannelKind("boost_target", "Boost target", "pressure", "kPa", ("boost setpoint", "boost request")),
    ChannelKind("charge_temperature", "Charge temperature", "temperature", "degC", ("iat", "intake temperature")),
    ChannelKind("lambda_measured", "Lambda", "mixture", "lambda", ("afr", "wideband", "lambda actual")),
    ChannelKind("lambda_target", "Lambda target", "mixture", "lambda", ("afr target", "lambda setpoint")),
    ChannelKind("fuel_trim", "Fuel trim", "ratio", "%", ("short trim", "stft")),
    ChannelKind("rail_pressure", "Rail pressure", "pressure", "bar", ("fuel rail pressure", "hpfp"), "fuel pressure"),
    ChannelKind("rail_target", "Rail target", "pressure", "bar", ("rail setpoint",), "fuel pressure"),
    ChannelKind("injector_window", "Injector window used", "ratio", "%", ("injector duty",)),
    ChannelKind("spark_advance", "Spark advance", "angle", "deg", ("timing", "ignition advance")),
    ChannelKind("spark_correction_1", "Spark correction cylinder 1", "angle", "deg", ("knock retard 1",)),
    ChannelKind("spark_correction_2", "Spark correction cylinder 2", "angle", "deg", ("knock retard 2",)),
    ChannelKind("spark_correction_3", "Spark correction cylinder 3", "angle", "deg", ("knock retard 3",)),
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
    ChannelKind("manifold_pressure", "Airbox pressure", "pressure", "kPa", ("airbox", "plenum pressure")),
    ChannelKind("intake_length", "Short intake", "ratio", "%", ("intake switch", "intake flap")),
    ChannelKind("gearbox_temperature", "Gearbox temperature", "temperature", "degC", ("transmission temperature",)),
    ChannelKind("roller_torque", "Brake torque at the roller", "torque", "N m", ("brake torque", "load cell")),
    ChannelKind("gps_speed", "Speed over ground", "speed", "km/h", ("gps speed",)),
    ChannelKind("acceleration", "Acceleration along the vehicle", "acceleration", "m/s2", ("accelerometer", "ax")),
    ChannelKind("grade", "Grade", "ratio", "%", ("slope",)),
    *(
        ChannelKind(f"knock_signal_{i}", f"Knock sensor, cylinder {i}", "voltage", "V", waveform=True)
        for i in range(1, 7)
    ),
    ChannelKind("ambient_pressure", "Ambient pressure", "pressure", "mbar", ("barometer",)),
    ChannelKind("ambient_temperature", "Ambient temperature", "temperature", "degC", ("outside temperature",)),
)

CHANNELS: Mapping[str, ChannelKind] = MappingProxyType({kind.key: kind for kind in _DEFINED})
SPARK_CORRECTIONS = tuple(k.key for k in _DEFINED if k.key.startswith("spark_correction_"))


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", " ", name.lower()).strip()


_NAMES: Mapping[str, ChannelKind] = MappingProxyType(
    {_plain(name): kind for kind in _DEFINED for name in (kind.key, kind.title, *kind.aliases)}
)


def find_channel(header_name: str) -> ChannelKind | None:
    """The channel that a log's header name stands for, or None when it is not known."""
    return _NAMES.get(_plain(header_name))
