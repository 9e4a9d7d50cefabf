"""Fault injection: each a switch with a severity from 0 to 1, and what it leaves in the evidence.

A fault changes the plant, a sensor, the fuel or the unit's memory, never the evidence itself.
"""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cache
from importlib.resources import files
from typing import Any

from yarvic.bench.plant import AnyPlant, changed
from yarvic.bench.sensors import Sensor
from yarvic.bench.spark_burn import Ignition
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import Image, name_in, pack, unpack
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import LinkError
from yarvic.core.link.unit import FaultCode, titled
from yarvic.core.physics.fuel import Fuel

TURBO_PETROL, TURBO_DIESEL, NATURAL = "turbo petrol", "turbo diesel", "natural petrol"
ALL = (TURBO_PETROL, TURBO_DIESEL, NATURAL)


@dataclass(frozen=True)
class Fault:
    """A fault: what it is at full severity, what it leaves in the evidence, and which engines can have it."""

    key: str
    title: str
    at_full: str
    leaves: str
    kinds: tuple[str, ...] = ALL


FAULTS: dict[str, Fault] = {
    f.key: f
    for f in (
        Fault("weak_injector", "Weak injector", "gives 30 % less in one cylinder",
              "one cylinder lean: lambda and trims rise, power falls, knock on that cylinder"),
        Fault("tired_pump", "Tired pump", "gives a quarter less",
              "rail or feed pressure sags at the top, mixture leans out with it"),
        Fault("boost_leak", "Boost leak", "a hose off at one corner",
              "duty climbs, boost comes late and stays below its target", (TURBO_PETROL, TURBO_DIESEL)),
        Fault("slipping_clutch", "Slipping clutch", "holds 45 % less",
              "engine speed runs ahead of the roller where torque peaks"),
        Fault("stuck_shutters", "Stuck shutters", "shut altogether",
              "charge temperature starts high and climbs in the pull", (TURBO_PETROL,)),
        Fault("plugged_filter", "Plugged filter", "loses ten times the pressure",
              "less air at the top: duty or vanes work harder, power falls"),
        Fault("failing_coil", "Failing coil", "misses half its sparks at full load",
              "misfires counted, lambda reads lean, torque is ragged", (TURBO_PETROL, NATURAL)),
        Fault("drifting_wideband", "Drifting wideband", "reads 10 % lean",
              "lambda reads lean while power and exhaust temperature say otherwise; trims follow it",
              (TURBO_PETROL, NATURAL)),
        Fault("weak_battery", "Weak battery", "2.6 V low",
              "supply voltage low: writing is refused, injectors open late"),
        Fault("wrong_image", "Wrong image for the family", "another family's image in the unit",
              "the unit does not start and says whose image it holds"),
        Fault("rich_map", "Old map far too rich", "a quarter more fuel than it should",
              "lambda far under its target or flat on the sensor's end; smoke on a diesel"),
        Fault("bad_fuel", "Bad fuel", "octane 9 under its label and 4 % less energy, or cetane 12 and 6 % of the energy",
              "petrol: knock and retard at unchanged advance; diesel: burns late and gives less"),
    )
}  # fmt: skip

Faults = Mapping[str, float]

# What full severity means, as in the texts above.
WEAK_INJECTOR = 0.30
# A healthy pump and clutch have this much to spare: what is called tired, or slipping, has lost that at least.
TIRED_FROM, TIRED_PUMP = 0.12, 0.25
LEAK_CAPACITY = 5.0e-6  # kg sqrt(K) / (s Pa)
SLIPPING_FROM, SLIPPING = 0.30, 0.45
PLUGGED = 9.0
COIL = 0.50
DRIFT = 0.10
BATTERY_V = 2.6
RICH = 0.25
OCTANE, CETANE = 9.0, 12.0
DIESEL_ENERGY, PETROL_ENERGY = 0.06, 0.04  # of the heating value
HEALTHY_V = 13.4
FOREIGN_FAMILY = "lapwing-20"


def check_faults(faults: Faults, kind: str) -> None:
    """Raise LinkError for a fault that is not there, that this engine cannot have, or a severity outside 0 to 1."""
    for key, severity in faults.items():
        if key not in FAULTS:
            raise LinkError(f"there is no fault {key!r}", remedy=f"Faults: {', '.join(FAULTS)}.")
        if kind not in FAULTS[key].kinds:
            raise LinkError(f"a {kind} engine cannot have: {FAULTS[key].title.lower()}", remedy="Switch it off.")
        if not 0.0 <= severity <= 1.0:
            raise LinkError(
                f"a severity of {severity:g} is outside 0 to 1",
                concerns=FAULTS[key].title,
                remedy="Choose one within it.",
            )


def faulty_plant(plant: AnyPlant, faults: Faults) -> AnyPlant:
    """The vehicle with those faults that are in its metal."""
    sections: dict[str, dict[str, object]] = {}

    def set_(section: str, **values: object) -> None:
        sections.setdefault(section, {}).update(values)

    document = plant.model_dump()
    if s := faults.get("weak_injector", 0.0):
        fuel = list(plant.engine.cylinder_fuel)
        fuel[0] *= 1.0 - WEAK_INJECTOR * s
        set_("engine", cylinder_fuel=tuple(fuel))
    if s := faults.get("tired_pump", 0.0):
        left = 1.0 - _between(TIRED_FROM, TIRED_PUMP, s)
        if "rail" in document:
            rail = document["rail"]
            set_("rail", pump_m3_per_rev=rail["pump_m3_per_rev"] * left, feed_m3_s=rail["feed_m3_s"] * left)
        else:
            pump = document["injection"]
            set_("injection", pump_kg_s=pump["pump_kg_s"] * left, pump_stall=pump["pump_stall"] * left)
    if s := faults.get("boost_leak", 0.0):
        set_("turbo", leak_capacity=LEAK_CAPACITY * s)
    if s := faults.get("slipping_clutch", 0.0):
        set_("driveline", clutch_nm=plant.driveline.clutch_nm * (1.0 - _between(SLIPPING_FROM, SLIPPING, s)))
    if s := faults.get("stuck_shutters", 0.0):
        cooler = document["cooler"]
        # Stuck: what passes no longer depends on where the unit wants them. Half way is half of what they hold back,
        # as a share of a share.
        passing = cooler["shutter_leak"] ** s
        set_("cooler", to_air_w_k=cooler["to_air_w_k"] * passing, shutter_leak=1.0)
    if s := faults.get("plugged_filter", 0.0):
        set_("intake", filter_drop_pa=plant.intake.filter_drop_pa * (1.0 + PLUGGED * s))
    return changed(plant, sections)


def _between(least: float, most: float, severity: float) -> float:
    return least + (most - least) * severity


def faulty_sensors(faults: Faults) -> dict[str, Callable[[Sensor], Sensor]]:
    """Sensors that read wrong, by what becomes of the vehicle's own."""
    if not faults.get("drifting_wideband"):
        return {}
    return {"lambda_measured": lambda own: replace(own, gain=lambda_gain(faults))}


def lambda_gain(faults: Faults) -> float:
    """What the wideband makes of the truth."""
    return 1.0 + DRIFT * faults.get("drifting_wideband", 0.0)


def ignition(faults: Faults, cylinders: int) -> Ignition:
    """The last cylinder's coil is the one that fails."""
    return Ignition(cylinders - 1, COIL * faults.get("failing_coil", 0.0))


def faulty_fuel(fuel: Fuel, faults: Faults) -> Fuel:
    """The fuel that is really in the tank; its label does not change."""
    s = faults.get("bad_fuel", 0.0)
    if fuel.ron > 0.0:
        heating = fuel.lower_heating_value * (1.0 - PETROL_ENERGY * s)
        return replace(fuel, ron=fuel.ron - OCTANE * s, lower_heating_value=heating)
    return replace(fuel, lower_heating_value=fuel.lower_heating_value * (1.0 - DIESEL_ENERGY * s))


def cetane_loss(faults: Faults) -> float:
    """What a bad diesel fuel lacks in cetane."""
    return CETANE * faults.get("bad_fuel", 0.0)


def supply_voltage(faults: Faults) -> float:
    """What the battery gives, V."""
    return HEALTHY_V - BATTERY_V * faults.get("weak_battery", 0.0)


# The table that decides the fuel, by kind of engine.
FUEL_TABLE = {TURBO_PETROL: "cylinder_filling", NATURAL: "injection_time", TURBO_DIESEL: "smoke_limit"}


def faulty_memory(memory: bytes, layout: Layout, kind: str, faults: Faults) -> bytes:
    """The unit's memory with another map, or another family's image, in it."""
    if s := faults.get("rich_map", 0.0):
        slots = {slot: unpack(memory, layout, slot) for slot in layout.sets}
        memory = pack({n: _richer(c, kind, s) for n, c in slots.items()}, layout, "unknown map", memory)
    if faults.get("wrong_image", 0.0) > 0.0:
        memory = _foreign(memory, layout)
    return memory


def _richer(calibration: Calibration, kind: str, severity: float) -> Calibration:
    table = calibration.table(FUEL_TABLE[kind])
    values = (table.values * (1.0 + RICH * severity)).clip(table.low, table.high)
    richer = calibration.with_table(table.with_values(values))
    if kind == TURBO_DIESEL:
        more = richer.table("quantity_for_torque")
        raised = (more.values * (1.0 + RICH * severity)).clip(more.low, more.high)
        richer = richer.with_table(more.with_values(raised))
    return richer


def _foreign(memory: bytes, layout: Layout) -> bytes:
    """An image under another family's mark, its tables another engine's: whole, and not for this unit."""
    slots = {}
    for slot in layout.sets:
        calibration = unpack(memory, layout, slot)
        for table in list(calibration.tables.values()):
            calibration = calibration.with_table(table.with_values(table.values[::-1]))
        slots[slot] = calibration
    return _marked(pack(slots, layout, name_in(memory, layout), memory), layout)


def _marked(memory: bytes, layout: Layout) -> bytes:
    """The same under another family's mark, its checksum over it corrected."""
    mark = next(m for m in layout.identification if m.what == "family")
    name = FOREIGN_FAMILY.encode("ascii").ljust(len(mark.wanted), b"\0")
    return Image(layout, memory).with_patches([(mark.address, name)]).sealed()


@cache
def _codes() -> dict[str, dict[str, Any]]:
    return tomllib.loads(files("yarvic.bench").joinpath("data/fault_codes.toml").read_text("utf-8"))


def stored_codes(faults: Faults) -> tuple[FaultCode, ...]:
    """The fault codes that a unit has stored by the time these faults are looked for."""
    return tuple(titled(entry["code"]) for key, entry in _codes().items() if faults.get(key, 0.0) >= entry["from"])
