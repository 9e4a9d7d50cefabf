"""Sensors against each other: what two of them say of one thing must agree."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError, UnitError
from yarvic.core.evidence.channels import MOST_CYLINDERS
from yarvic.core.physics import FloatArray
from yarvic.core.physics.air import isa_pressure
from yarvic.core.physics.fuel import Fuel, fuel

# Air at a height is within so much of the standard atmosphere there, high and low by weather. Our choice.
WEATHER_PA = 4e3
# Where power is at this share of its peak and more, air and fuel are held against it. Our choice.
NEAR_PEAK = 0.9
SECONDS_PER_MINUTE, TURNS_PER_CYCLE = 60.0, 2.0


def cross_checks(data: PullEvidence) -> list[Finding]:
    """Each pair that was logged. What was not logged is not asked."""
    return [*_barometer(data), *_charge_under_ambient(data), *_energy(data)]


def _barometer(data: PullEvidence) -> list[Finding]:
    """How far the logged barometer lies from the weather that was stated, or from what air is where the engine is run."""
    if "ambient_pressure" not in data.log.channels:
        return []
    stated = data.conditions.pressure_pa if data.conditions is not None else None
    heights = data.limits.altitudes_m
    if stated is None and heights is None:
        return []
    try:
        t, pressure = data.series("ambient_pressure")
    except EvidenceError as error:
        return [data.not_known("barometer_off", str(error), "ambient_pressure")]
    value = float(np.median(pressure))
    if stated is not None:
        off, words = abs(value - stated), "The barometer that was logged is not the one that was stated"
    else:
        assert heights is not None
        low, high = (float(isa_pressure(m)) for m in (max(heights), min(heights)))
        off = max(low - WEATHER_PA - value, value - high - WEATHER_PA, 0.0)
        words = "The barometer reads what no weather gives at the altitudes of this job"
    where = data.where("ambient_pressure", float(t[0]))
    return [data.found("barometer_off", off, words, where, holds="The barometer is plausible")]


def _charge_under_ambient(data: PullEvidence) -> list[Finding]:
    """How far the charge reads colder than the air around, which no cooler does with that air."""
    if not {"charge_temperature", "ambient_temperature"} <= set(data.log.channels):
        return []
    try:
        t, charge = data.series("charge_temperature")
        data.series("ambient_temperature")
        over = charge - data.log.at("ambient_temperature", t)
    except EvidenceError:
        return []  # the charge's own checks say what is wrong with it
    if not np.isfinite(over).any():
        return []
    low = int(np.nanargmin(over))
    where = data.where("charge_temperature", float(t[low]))
    words = "Charge reads colder than the air around"
    return [
        data.found(
            "charge_under_ambient",
            min(float(over[low]), 0.0),
            words,
            where,
            holds="Charge is warmer than the air around",
        )
    ]


def _energy(data: PullEvidence) -> list[Finding]:
    """The share of the fuel's energy that the wheels, or the crank, gave near peak power: air and fuel against the roller.

    Of a rich mixture only what its air can burn counts. Brake efficiencies: Heywood 1988, 5.9 and 15 (from memory).
    """
    if data.curve is None or not data.sweeps or data.curve.correction.standard != "none":
        return []
    burns = _fuel(data)
    if burns is None:
        return []
    speed, power = data.curve.speed_rpm, data.curve.power_w
    near = np.isfinite(power) & (power >= NEAR_PEAK * np.nanmax(power))
    try:
        flow, channel = _fuel_flow(data, burns, speed[near])
    except EvidenceError:
        return []
    share = power[near] / (flow * burns.lower_heating_value)
    share = share[np.isfinite(share)]
    if not share.size:
        return []
    value, rpm = float(np.median(share)), float(np.median(speed[near]))
    where = data.where(channel, data.when_at(rpm))
    return [
        data.found(
            "energy_high", value, "Power is more than air and fuel can give", where, holds="Power fits air and fuel"
        ),
        data.found(
            "energy_low",
            value,
            "Power is far less than air and fuel would give",
            where,
            holds="Power fits air and fuel",
        ),
    ]


def _fuel(data: PullEvidence) -> Fuel | None:
    name = data.conditions.fuel if data.conditions is not None else ""
    try:
        return fuel(name) if name else None
    except (KeyError, UnitError):
        return None


def _fuel_flow(data: PullEvidence, burns: Fuel, speed_rpm: FloatArray) -> tuple[FloatArray, str]:
    """Fuel that can burn, kg/s, at engine speeds, and the channel that tells it. Raises EvidenceError."""
    passed = [data.when_at(float(rpm)) for rpm in speed_rpm]
    times = np.array([np.nan if t is None else t for t in passed])
    if data.engine.ignition != "spark":
        data.series("injected_quantity")
        cylinders = data.engine.cylinders
        if not cylinders or cylinders > MOST_CYLINDERS:
            raise EvidenceError("how many cylinders there are is not stated")
        each = data.log.at("injected_quantity", times)
        return each * cylinders * speed_rpm / SECONDS_PER_MINUTE / TURNS_PER_CYCLE, "injected_quantity"
    data.series("air_flow")
    data.series("lambda_measured")
    air, mixture = data.log.at("air_flow", times), data.log.at("lambda_measured", times)
    return air / burns.stoichiometric_afr / np.maximum(mixture, 1.0), "air_flow"
