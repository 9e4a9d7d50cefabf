"""An engine's steady state over speed and pedal, and a compressor's lines: what the figures of the bench show."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.bench.plant import TurboDiesel, TurboPetrol
from yarvic.bench.rig import Rig, usual_settings
from yarvic.bench.run import DT
from yarvic.bench.turbo import compressor
from yarvic.core.physics import FloatArray
from yarvic.core.physics.constants import STANDARD_PRESSURE_PA
from yarvic.core.physics.fuel import fuel

SETTLE_S = 4.0
MEAN_OVER_S = 0.5
REFERENCE_K = 298.15  # inlet of the compressor for which its lines are drawn


@dataclass(frozen=True)
class EngineMap:
    """Steady state: shape (pedals, speeds). Torque at the crank N m, specific consumption kg/J, exhaust K.

    Consumption is NaN where the engine gives no power.
    """

    speed_rpm: FloatArray
    pedal: FloatArray
    torque_nm: FloatArray
    consumption_kg_per_j: FloatArray
    exhaust_k: FloatArray


def engine_map(rig: Rig, speeds: FloatArray, pedals: FloatArray) -> EngineMap:
    """Hold each speed at each pedal until it is settled, and take the mean of the last half second."""
    torque, consumption, exhaust = (np.full((pedals.size, speeds.size), np.nan) for _ in range(3))
    heating = fuel(rig.fuel).lower_heating_value
    last = round(MEAN_OVER_S / DT)
    for j, pedal in enumerate(pedals):
        for i, speed in enumerate(speeds):
            engine = rig.engine(usual_settings(rig.plant))
            seen = []
            for _ in range(round(SETTLE_S / DT)):
                nm = engine.step(float(pedal), float(speed), DT)
                row = dict(zip(engine.truths, engine.row(), strict=True))
                seen.append((nm, engine.ledger.fuel_w, engine.ledger.brake_w, row["exhaust_temperature"]))
            nm, fuel_w, brake_w, kelvin = np.mean(np.array(seen[-last:]), axis=0)
            torque[j, i], exhaust[j, i] = nm, kelvin
            if brake_w > 0.0:
                consumption[j, i] = fuel_w / heating / brake_w
    return EngineMap(speeds, pedals, torque, consumption, exhaust)


def compressor_lines(
    plant: TurboPetrol | TurboDiesel, speeds_rad_s: FloatArray, flows_kg_s: FloatArray
) -> tuple[FloatArray, FloatArray]:
    """Pressure ratio and efficiency of the compressor, each of shape (speeds, flows), at the reference inlet."""
    found = np.array(
        [
            [compressor(plant.turbo, float(s), float(m), STANDARD_PRESSURE_PA, REFERENCE_K) for m in flows_kg_s]
            for s in speeds_rad_s
        ]
    )
    return found[..., 0], found[..., 1]
