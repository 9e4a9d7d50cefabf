"""The simulated control unit: memory behind the link, and the program that runs what the memory says."""

from __future__ import annotations

import time
from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, field

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import check_image, read_header, unpack
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.table import Table
from yarvic.core.errors import CalibrationError, LinkError
from yarvic.core.link.unit import Identity
from yarvic.core.physics.constants import R_DRY_AIR, STANDARD_PRESSURE_PA
from yarvic.core.units import to_canonical


class SimulatedUnit:
    """A control unit with its calibration memory; `seconds_per_block` is how long a write takes."""

    def __init__(
        self, layout: Layout, memory: bytes, *, voltage: float = 13.4, seconds_per_block: float = 0.0
    ) -> None:
        self.layout = layout
        self.voltage = voltage
        self.seconds_per_block = seconds_per_block
        self.name = "simulated unit"
        self.serial = "YR-SIM-01"
        self._memory = bytearray(memory)

    @property
    def memory(self) -> bytes:
        """The bytes as they are now."""
        return bytes(self._memory)

    def identify(self) -> Identity:
        """Who the unit is and which image it runs; an unwhole memory is said to be so."""
        try:
            running = check_image(self.memory, self.layout).name
        except CalibrationError:
            running = "memory is not whole"
        return Identity(f"{self.name} {self.serial}", self.layout.family, self.layout.version, running)

    def supply_voltage(self) -> float:
        """Supply voltage in V."""
        return self.voltage

    def read_block(self, index: int) -> bytes:
        """One block of memory. Raises LinkError past the end."""
        self._check(index)
        size = self.layout.block
        return bytes(self._memory[index * size : (index + 1) * size])

    def write_block(self, index: int, data: bytes) -> None:
        """Replace one block. Raises LinkError past the end or for a block of another length."""
        self._check(index)
        if len(data) != self.layout.block:
            raise LinkError(f"a block has {self.layout.block} bytes, not {len(data)}", concerns=self.name)
        if self.seconds_per_block:
            time.sleep(self.seconds_per_block)
        size = self.layout.block
        self._memory[index * size : (index + 1) * size] = data

    def restart(self) -> None:
        """Take up the memory. Raises LinkError when it is not whole."""
        try:
            check_image(self.memory, self.layout)
        except CalibrationError as error:
            raise LinkError(
                f"the unit does not start: {error.what}", concerns=self.name, remedy="Flash a whole image again."
            ) from None

    def _check(self, index: int) -> None:
        if not 0 <= index < self.layout.size // self.layout.block:
            raise LinkError(f"there is no block {index}", concerns=self.name)

    def program(self, slot: str) -> Program:
        """The running program, decoded from the unit's own bytes. Raises LinkError when they are not whole."""
        self.restart()
        return Program(unpack(self.memory, self.layout, slot), read_header(self.memory).name)


class Map:
    """A table as the program holds it: plain lists in canonical units, bilinear, clamped."""

    def __init__(self, table: Table) -> None:
        self.xs: list[float] = to_canonical(table.x.values, table.x.unit).tolist()
        self.ys: list[float] = to_canonical(table.y.values, table.y.unit).tolist()
        self.rows: list[list[float]] = to_canonical(table.values, table.unit).tolist()

    def __call__(self, x: float, y: float) -> float:
        i, fx = _locate(self.xs, x)
        j, fy = _locate(self.ys, y)
        low = self.rows[j]
        high = self.rows[min(j + 1, len(self.ys) - 1)]
        right = min(i + 1, len(self.xs) - 1)
        a = low[i] + fx * (low[right] - low[i])
        b = high[i] + fx * (high[right] - high[i])
        return a + fy * (b - a)


class Line:
    """A curve as plain lists: linear, clamped."""

    def __init__(self, xs: Sequence[float], values: Sequence[float]) -> None:
        self.xs = list(xs)
        self.values = list(values)

    def __call__(self, x: float) -> float:
        i, share = _locate(self.xs, x)
        return self.values[i] + share * (self.values[i + 1] - self.values[i])


def _locate(breaks: list[float], at: float) -> tuple[int, float]:
    if len(breaks) == 1 or at <= breaks[0]:
        return 0, 0.0
    if at >= breaks[-1]:
        return len(breaks) - 2, 1.0
    i = bisect_right(breaks, at) - 1
    return i, (at - breaks[i]) / (breaks[i + 1] - breaks[i])


@dataclass
class Sensed:
    """What the unit measures, canonical units; throttle 0 to 1."""

    speed_rpm: float
    throttle: float
    boost_pa: float
    manifold_pa: float
    charge_k: float
    ambient_pa: float


@dataclass
class Commands:
    """What the unit commands and believes."""

    lambda_target: float = 1.0
    air_per_cycle_kg: float = 0.0
    filling: float = 0.0
    spark_deg: float = 0.0
    boost_target_pa: float = 101325.0
    duty: float = 0.0
    rail_target_pa: float = 350e5
    torque_nm: float = 0.0
    trim: float = 0.0
    fuel_cut: bool = False
    retard_deg: list[float] = field(default_factory=list)


# The unit's own control law. Its gains are part of its program, not of the calibration.
BOOST_GAIN = 3.2e-6  # duty per Pa
BOOST_INTEGRAL = 7.0e-6  # duty per Pa and s
INTEGRAL_WINDOW_PA = 22e3  # the integral runs only near the target
CLOSED_LOOP_FROM = 0.97  # lambda target above which the trim works
TRIM_PER_S = 0.35
TRIM_MOST = 0.15


class Program:
    """The control program: reads its tables at every step and closes its loops."""

    def __init__(self, calibration: Calibration, image_name: str) -> None:
        self.image_name = image_name
        self.maps = {key: Map(table) for key, table in calibration.tables.items()}
        self.scalars = {key: float(to_canonical(s.value, s.unit)) for key, s in calibration.scalars.items()}
        self.commands = Commands()
        self._integral = 0.0

    def start(self, cylinders: int) -> None:
        """Key on: no retard, no trim, no integral."""
        self.commands = Commands(retard_deg=[0.0] * cylinders)
        self._integral = 0.0

    def step(self, s: Sensed, displacement_m3: float, gear: int, lambda_seen: float, dt: float) -> Commands:
        """One control step."""
        c, m, k = self.commands, self.maps, self.scalars
        # Speed-density: the filling table is efficiency over manifold pressure and speed.
        efficiency = m["cylinder_filling"](s.speed_rpm, s.manifold_pa)
        c.air_per_cycle_kg = efficiency * s.manifold_pa * displacement_m3 / (R_DRY_AIR * s.charge_k)
        full = STANDARD_PRESSURE_PA * displacement_m3 / (R_DRY_AIR * 293.15)
        c.filling = c.air_per_cycle_kg / full
        c.torque_nm = c.filling * k["torque_per_filling"] - k["torque_friction"]
        c.lambda_target = m["lambda_target"](s.speed_rpm, c.filling)
        c.spark_deg = m["spark_advance"](s.speed_rpm, c.filling)
        c.rail_target_pa = k["rail_target"]
        c.fuel_cut = s.speed_rpm > k["rev_limit"]
        if c.lambda_target >= CLOSED_LOOP_FROM:
            c.trim += (lambda_seen - c.lambda_target) * TRIM_PER_S * dt
            c.trim = min(max(c.trim, -TRIM_MOST), TRIM_MOST)
        limit = m["torque_limit"](s.speed_rpm, float(gear))
        filling_at_limit = (limit + k["torque_friction"]) / k["torque_per_filling"]
        pressure_at_limit = (
            filling_at_limit * full * R_DRY_AIR * s.charge_k / (max(efficiency, 0.2) * displacement_m3)
        )
        asked = m["boost_target"](s.speed_rpm, s.throttle)
        c.boost_target_pa = max(min(asked, pressure_at_limit), s.ambient_pa * 0.6)
        error = c.boost_target_pa - s.boost_pa
        feed = m["wastegate_duty"](s.speed_rpm, c.boost_target_pa)
        if abs(error) < INTEGRAL_WINDOW_PA:
            self._integral = min(max(self._integral + BOOST_INTEGRAL * error * dt, -0.35), 0.35)
        c.duty = min(max(feed + BOOST_GAIN * error + self._integral, 0.0), 0.95)
        recovery = k["knock_recovery"] * dt
        c.retard_deg = [max(r - recovery, 0.0) for r in c.retard_deg]
        return c

    def heard_knock(self, cylinder: int) -> None:
        """A knock was heard: that cylinder's spark goes back by a step, up to the most allowed."""
        step, most = self.scalars["knock_step"], self.scalars["knock_retard_most"]
        self.commands.retard_deg[cylinder] = min(self.commands.retard_deg[cylinder] + step, most)
