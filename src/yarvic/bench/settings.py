"""How a run on the simulated bench is made."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

RunKind = Literal["inertia", "ramp", "hold", "road", "climb", "coast"]


@dataclass(frozen=True)
class PullSettings:
    """How a run is made. `kind`: free on the roller, a brake's ramp, a held speed, a road pull, a climb at a
    speed, a coast-down.

    Gear from 1, throttle 0 to 1, speeds of the engine in rpm, times in s, grade as rise over run. `fan` is the share
    of the fan's full air; `knock_signal` records the raw knock sensor.
    """

    kind: RunKind = "inertia"
    gear: int = 4
    throttle: float = 1.0
    start_rpm: float = 1700.0
    end_rpm: float = 6450.0
    lead_throttle: float = 0.22
    cool_down_s: float = 60.0
    fan: float = 1.0
    ramp_rpm_s: float = 400.0
    hold_rpm: float = 3000.0
    hold_s: float = 10.0
    grade: float = 0.0
    tow_kg: float = 0.0
    climb_km_h: float = 15.0
    climb_s: float = 300.0
    knock_signal: bool = False
