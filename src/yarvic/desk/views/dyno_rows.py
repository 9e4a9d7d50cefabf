"""A run in the table of the Dyno view, in words: how it was made, what it gave by a standard, in which air."""

from __future__ import annotations

from collections.abc import Mapping

from yarvic.core.checks.finding import amount
from yarvic.core.evidence.conditions import RUN_SHORT
from yarvic.core.evidence.dyno import Curve
from yarvic.core.units import UNITS, from_canonical
from yarvic.state.results import PullResult

COLUMNS = ("Run", "How", "Power at rpm", "Torque at rpm", "Factor", "Air", "Charge", "Cooled", "Build")
UNKNOWN = "?"  # of a condition that nobody stated


def row_of(p: PullResult, standard: str, units: Mapping[str, str]) -> list[str]:
    """The texts of a run, one for each of the columns."""
    power, torque = units.get("power", "kW"), units.get("torque", "N m")
    temperature, pressure = units.get("temperature", "degC"), units.get("pressure", "kPa")
    c, curve = p.evidence.conditions, p.curves.get(standard)
    none = "none by this standard" if p.curves else "no curve"
    texts = [p.title, "", none, "", "", "", "", "", str(p.evidence.build)]
    if curve is not None:
        peak, torque_peak = curve.peak_power, curve.peak_torque
        texts[2] = f"{amount(peak[0], power)} at {peak[1]:,.0f}"
        texts[3] = f"{amount(torque_peak[0], torque)} at {torque_peak[1]:,.0f}"
        texts[4] = factor_words(curve)
    if p.held is not None:
        shown = float(from_canonical(p.held.power_w, power))
        spread = p.held.power_sd_w / UNITS[power].factor
        texts[2] = f"{shown:.1f} ± {spread:.1f} {power} held at {p.held.speed_rpm:,.0f}"
    if c is not None:
        faults = "; faults injected" if c.faults else ""
        texts[1] = f"{RUN_SHORT[c.run]}, gear {c.gear or UNKNOWN}, {p.throttle * 100:.0f} %{faults}"
        humidity = UNKNOWN if c.relative_humidity is None else f"{c.relative_humidity * 100:.0f} %"
        texts[5] = ", ".join((_amount(c.temperature_k, temperature), _amount(c.pressure_pa, pressure), humidity))
        texts[6] = _amount(c.charge_start_k, temperature)
        texts[7] = UNKNOWN if c.cool_down_s is None else f"{c.cool_down_s:.0f} s"
    return texts


def factor_words(curve: Curve) -> str:
    """The factor of a curve; that of a sheet may be in its numbers and stated nowhere."""
    factor = curve.correction.factor
    return f"{factor:.3f}" if factor == factor else UNKNOWN


def _amount(value: float | None, unit: str) -> str:
    return UNKNOWN if value is None else amount(value, unit)
