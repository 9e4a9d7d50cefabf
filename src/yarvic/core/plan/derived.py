"""What follows from a vehicle's entries, so that a slip shows: displacement, piston speed, fuel, tones, speeds."""

from __future__ import annotations

from dataclasses import dataclass
from math import pi

from yarvic.core.physics.fuel import fuel
from yarvic.core.physics.knock import knock_tones
from yarvic.core.plan.vehicle import Vehicle


@dataclass(frozen=True)
class Derived:
    """A value that follows: canonical unit, the unit it is usually read in, and beside which entry it stands."""

    key: str
    title: str
    value: float
    unit: str
    beside: str


def displacement_m3(vehicle: Vehicle) -> float | None:
    """Swept volume of all cylinders in m3; None where an entry is missing. V = pi/4 B^2 S n."""
    if vehicle.bore_mm is None or vehicle.stroke_mm is None or vehicle.cylinders is None:
        return None
    return pi / 4.0 * (vehicle.bore_mm / 1e3) ** 2 * vehicle.stroke_mm / 1e3 * vehicle.cylinders


def mean_piston_speed(stroke_m: float, speed_rpm: float) -> float:
    """Mean piston speed in m/s: 2 S N. Heywood, Internal Combustion Engine Fundamentals (1988), eq. 2.9."""
    return 2.0 * stroke_m * speed_rpm / 60.0


def road_speed(engine_rpm: float, ratio: float, final_drive: float, radius_m: float) -> float:
    """Speed over ground in m/s without slip, v = 2 pi r N / (i_g i_f)."""
    return 2.0 * pi * radius_m * engine_rpm / 60.0 / (ratio * final_drive)


def derived(vehicle: Vehicle) -> list[Derived]:
    """All that follows from what was entered."""
    v, found = vehicle, []
    volume = displacement_m3(v)
    if volume is not None:
        found.append(Derived("displacement", "Displacement", volume, "cm3", "stroke_mm"))
    if v.stroke_mm is not None and v.redline_rpm is not None:
        speed = mean_piston_speed(v.stroke_mm / 1e3, v.redline_rpm)
        found.append(Derived("piston_speed", "Piston speed at the red line", speed, "m/s", "redline_rpm"))
    if v.bore_mm is not None and v.ignition == "spark":
        tone = float(knock_tones(v.bore_mm / 1e3)[0])
        found.append(Derived("knock_tone", "Knock tone", tone, "Hz", "bore_mm"))
    for slot, key in v.fuels.items():
        ratio = fuel(key).stoichiometric_afr
        found.append(Derived(f"stoichiometric {slot}", f"Stoichiometric AFR, {slot}", ratio, "", "fuels"))
    if v.loss is not None:
        found.append(Derived("wheel_to_crank", "Crank over wheel power", 1.0 / (1.0 - v.loss), "", "drivetrain_loss"))
    if v.gears and v.final_drive and v.tyre_radius_mm and v.redline_rpm:
        top = road_speed(v.redline_rpm, v.gears[-1], v.final_drive, v.tyre_radius_mm / 1e3)
        found.append(Derived("top_speed", "Red line in top gear", top, "km/h", "final_drive"))
    if v.frontal_area_m2 is not None and v.drag_coefficient is not None:
        area = v.frontal_area_m2 * v.drag_coefficient
        found.append(Derived("drag_area", "Drag area", area, "m2", "drag_coefficient"))
    return found
