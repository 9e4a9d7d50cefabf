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
# The last share of a pull, in which a probe has settled and load is full. Our choice.
SETTLED = 0.4
# Of a pull's start boost and fuel still settle. Our choice.
SETTLES = 0.25
# What a kg of air can burn, J, and the air for a kg of fuel: petrol's. Those of alcohols and of diesel lie within 4 % of
# the first; of the second hardly anything hangs (Heywood 1988, table D.4, from memory).
AIR_ENERGY, USUAL_AIR = 2.98e6, 14.6
USUAL_CHARGE_K = 313.15  # what the gas is counted from; 30 K of it are 3 % of the share. Our choice.
EXHAUST_CP = 1.2e3  # J/kg K, of burnt gas at 1,000 K: Heywood 1988, figure 4.17, from memory
# Within so much of its middle a quotient lies in nine samples of ten; fewer samples say nothing. Our choice.
LEAST_SAMPLES = 20


def cross_checks(data: PullEvidence) -> list[Finding]:
    """Each pair that was logged. What was not logged is not asked."""
    return [
        *_barometer(data),
        *_charge_under_ambient(data),
        *_energy(data),
        *_exhaust_heat(data),
        *_mixture_by_fuel(data),
        *_rail_by_duration(data),
    ]


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


def _exhaust_heat(data: PullEvidence) -> list[Finding]:
    """The share of what the air could burn that the exhaust carries away as heat, by probe and lambda alone.

    (1 + 1 / (lambda AFR)) cp (T - T0) over what a kg of air burns: a third at full load (Heywood 1988, table 12.1, from
    memory). A probe that reads far too low, or a mixture far too lean, gives a share that no engine has.
    """
    if not data.sweeps or not {"exhaust_temperature", "lambda_measured"} <= set(data.log.channels):
        return []
    try:
        t, exhaust = data.series("exhaust_temperature")
        data.series("lambda_measured")
    except EvidenceError:
        return []  # their own checks say what is wrong with them
    late = t >= data.pull.end_s - SETTLED * data.pull.length_s
    mixture = data.log.at("lambda_measured", t[late])
    burns = _fuel(data)
    air, energy = USUAL_AIR, AIR_ENERGY
    if burns is not None:
        air, energy = burns.stoichiometric_afr, burns.lower_heating_value / burns.stoichiometric_afr
    gas = (1.0 + 1.0 / (air * mixture)) * EXHAUST_CP * (exhaust[late] - USUAL_CHARGE_K)
    share = gas / (energy * np.minimum(1.0, 1.0 / mixture))
    share = share[np.isfinite(share)]
    if share.size < LEAST_SAMPLES // 2:
        return []
    value, where = float(np.median(share)), data.where("exhaust_temperature", float(t[late][0]))
    holds = "Exhaust temperature fits the mixture"
    return [
        data.found("exhaust_heat_low", value, "Exhaust reads colder than this mixture burns", where, holds=holds),
        data.found("exhaust_heat_high", value, "Exhaust reads hotter than this mixture burns", where, holds=holds),
    ]


def _mixture_by_fuel(data: PullEvidence) -> list[Finding]:
    """How far lambda lies from what air and injected fuel make, as a share."""
    burns, cylinders = _fuel(data), data.engine.cylinders
    if not {"air_flow", "lambda_measured", "injected_quantity"} <= set(data.log.channels):
        return []
    if burns is None or not cylinders or cylinders > MOST_CYLINDERS:
        return []
    try:
        t, mixture = data.series("lambda_measured")
        data.series("air_flow")
        data.series("injected_quantity")
    except EvidenceError:
        return []
    each, air = data.log.at("injected_quantity", t), data.log.at("air_flow", t)
    fuel_flow = each * cylinders * data.log.at("engine_speed", t) / SECONDS_PER_MINUTE / TURNS_PER_CYCLE
    with np.errstate(divide="ignore", invalid="ignore"):
        off = mixture * fuel_flow * burns.stoichiometric_afr / air - 1.0
    off = off[(t >= data.pull.start_s + SETTLES * data.pull.length_s) & np.isfinite(off)]
    if off.size < LEAST_SAMPLES:
        return []
    value, where = float(np.median(off)), data.where("lambda_measured", float(t[0]))
    words = "Lambda is not what air and injected fuel make"
    note = "Leaner than they make." if value > 0.0 else "Richer than they make."
    return [data.found("mixture_by_fuel", abs(value), words, where, note=note, holds="Lambda fits air and fuel")]


def _rail_by_duration(data: PullEvidence) -> list[Finding]:
    """How far the fuel for a second of opening and the root of the rail's pressure strays from itself over the pull.

    An injector's flow goes with the root of its pressure: where that quotient moves, one of air, lambda (or quantity),
    opening time and rail pressure is not what it reads. The closing delay moves it by a tenth.
    """
    by_quantity = "injected_quantity" in data.log.channels
    needed = (
        "injection_time",
        "rail_pressure",
        *(("injected_quantity",) if by_quantity else ("air_flow", "lambda_measured")),
    )
    if not data.sweeps or not set(needed) <= set(data.log.channels):
        return []
    try:
        t, rail = data.series("rail_pressure")
        for key in needed:
            data.series(key)
    except EvidenceError:
        return []
    times = data.log.at("injection_time", t)
    if by_quantity:
        each = data.log.at("injected_quantity", t)
    else:
        each = data.log.at("air_flow", t) / data.log.at("lambda_measured", t) / data.log.at("engine_speed", t)
    with np.errstate(divide="ignore", invalid="ignore"):
        gain = each / (times * np.sqrt(rail))
    gain = gain[(t >= data.pull.start_s + SETTLES * data.pull.length_s) & np.isfinite(gain) & (gain > 0.0)]
    if gain.size < LEAST_SAMPLES:
        return []
    low, high = np.quantile(gain, [0.05, 0.95])
    where = data.where("rail_pressure", float(t[0]))
    words = "Rail pressure, opening time and fuel do not fit each other"
    return [
        data.found("rail_by_duration", float(high / low - 1.0), words, where, holds="Rail fits opening time and fuel")
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
