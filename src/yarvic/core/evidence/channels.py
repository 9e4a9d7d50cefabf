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
