"""One run in progress: an engine, what it drives, who drives it, and the logger, in steps of 10 ms."""

from __future__ import annotations

from collections.abc import Mapping
from math import atan, cos, sin

from yarvic.bench.cell import Dyno
from yarvic.bench.drive import Drive
from yarvic.bench.plant import AnyPlant
from yarvic.bench.powertrain import Powertrain, Surroundings
from yarvic.bench.recorder import Recorder
from yarvic.bench.sensors import Sensor
from yarvic.bench.settings import PullSettings
from yarvic.core.evidence.log import Log
from yarvic.core.physics.air import density
from yarvic.core.physics.constants import GRAVITY
from yarvic.core.physics.power import RAD_PER_S_PER_RPM

DT = 0.010
LEAD_IN_S = 1.2
LEAD_OUT_S = 0.8
PEDAL_PER_S = 6.0
RAMP_AFTER_S = 1.0  # the brake waits until the engine stands at full load
LONGEST_S = 60.0  # of a pull that does not reach its end speed
HOLD_LEAD_S = 3.0  # before the held throttle counts
# The driver who holds a speed on a climb.
PEDAL_GAIN = 0.25  # per m/s
PEDAL_INTEGRAL = 0.05
CLIMB_COOLING_M_S = 6.0  # road speed at which the ram air equals the cell's fan


class Run:
    """Steps until `finished`. The roller and its brake, or the road, hold against the engine."""

    def __init__(
        self,
        plant: AnyPlant,
        engine: Powertrain,
        around: Surroundings,
        dyno: Dyno,
        settings: PullSettings,
        sensors: Mapping[str, Sensor],
        seed: tuple[int, ...],
        rate_hz: float | None,
    ) -> None:
        self.p, self.engine, self.around, self.dyno, self.settings = plant, engine, around, dyno, settings
        d = plant.driveline
        self.on_road = settings.kind in ("road", "climb")
        self.per_wheel = d.gear_ratios[settings.gear - 1] * d.final_drive
        self.ratio = self.per_wheel * dyno.roller_radius_m / d.tyre_radius_m
        self.mass = plant.body.mass_kg + settings.tow_kg
        self.efficiency = d.efficiency if self.on_road else d.efficiency * (1.0 - dyno.tyre_loss)
        wheels = d.wheels_inertia_kg_m2 / self.per_wheel**2
        behind = (
            self.mass * (d.tyre_radius_m / self.per_wheel) ** 2
            if self.on_road
            else dyno.roller_inertia_kg_m2 / self.ratio**2
        )
        start_rpm = {"hold": settings.hold_rpm, "climb": self._climb_rpm()}.get(settings.kind, settings.start_rpm)
        # What is lost on the way makes the inertia behind it feel heavier.
        self.drive = Drive(d.rotating_inertia_kg_m2, wheels + behind / self.efficiency, d.clutch_nm, start_rpm)
        self.air_density = density(around.air)
        self.time_s = 0.0
        self.count = 0
        self.finished = False
        self.lifted_at: float | None = None
        self.pedal = settings.lead_throttle
        self.acceleration = 0.0
        self.brake_nm = 0.0
        self._asked = self.drive.output_rad_s
        self._integral = 0.4
        self._names = self._own_names()
        self.recorder = Recorder((*self._names, *engine.truths), DT, seed, sensors=sensors, rate_hz=rate_hz)

    def _climb_rpm(self) -> float:
        wheel = self.settings.climb_km_h / 3.6 / self.p.driveline.tyre_radius_m
        return wheel * self.per_wheel / RAD_PER_S_PER_RPM

    def _own_names(self) -> tuple[str, ...]:
        if self.on_road:
            return ("engine_speed", "vehicle_speed", "gps_speed", "acceleration", "grade")
        braked = self.settings.kind in ("ramp", "hold")
        return ("engine_speed", "vehicle_speed", "roller_speed", *(("roller_torque",) if braked else ()))

    @property
    def share(self) -> float:
        """How much of the run is done."""
        s = self.settings
        if s.kind == "climb":
            done = self.time_s / s.climb_s
        elif s.kind == "hold":
            done = self.time_s / (HOLD_LEAD_S + s.hold_s)
        else:
            done = (self.drive.engine_rpm - s.start_rpm) / (s.end_rpm - s.start_rpm)
        return min(max(done, 0.0), 0.99)

    @property
    def speed_m_s(self) -> float:
        """Speed of the vehicle, or of the tyre on the roller."""
        return self.drive.output_rad_s / self.per_wheel * self.p.driveline.tyre_radius_m

    def step(self) -> None:
        """Advance 10 ms."""
        self._drive()
        if self.on_road:
            self.around.cooling = min(self.speed_m_s / CLIMB_COOLING_M_S, 1.5)
        torque = self.engine.step(self.pedal, self.drive.engine_rpm, DT)
        before = self.speed_m_s
        self._move(torque)
        self.acceleration = (self.speed_m_s - before) / DT
        self.recorder.add((*self._own_row(), *self.engine.row()))
        self.time_s += DT
        self.count += 1
        self.finished = self._done()

    def _done(self) -> bool:
        s = self.settings
        if s.kind == "climb":
            return self.time_s >= s.climb_s or self.drive.engine_rpm < 0.4 * self._climb_rpm()
        if s.kind == "hold":
            return self.time_s >= HOLD_LEAD_S + s.hold_s
        lifted_s = self.time_s - self.lifted_at if self.lifted_at is not None else 0.0
        return lifted_s >= LEAD_OUT_S or self.time_s > LONGEST_S

    def _drive(self) -> None:
        """The foot on the pedal."""
        s = self.settings
        if s.kind == "climb":
            error = s.climb_km_h / 3.6 - self.speed_m_s
            self._integral = min(max(self._integral + PEDAL_INTEGRAL * error * DT, 0.0), 1.0)
            self.pedal = min(max(PEDAL_GAIN * error + self._integral, 0.0), 1.0)
            return
        if self.time_s < LEAD_IN_S:
            self.pedal = s.lead_throttle
            return
        reached = self.drive.output_rad_s / RAD_PER_S_PER_RPM >= s.end_rpm or self.engine.fuel_cut
        if self.lifted_at is None and reached and s.kind != "hold":
            self.lifted_at = self.time_s
        if self.lifted_at is not None:
            self.pedal = max(s.throttle - (self.time_s - self.lifted_at) * PEDAL_PER_S, 0.0)
            return
        self.pedal = min(s.lead_throttle + (self.time_s - LEAD_IN_S) * PEDAL_PER_S, s.throttle)

    def _move(self, torque_nm: float) -> None:
        s, drive = self.settings, self.drive
        if self.on_road:
            slope = atan(s.grade)
            v = self.speed_m_s
            weight = self.mass * GRAVITY * (self.p.body.rolling * cos(slope) + sin(slope))
            force = weight + 0.5 * self.air_density * self.p.body.drag_area_m2 * v * v
            drive.free(torque_nm, force * self.p.driveline.tyre_radius_m / self.per_wheel / self.efficiency, DT)
        elif s.kind == "inertia":
            drive.free(torque_nm, 0.0, DT)
        else:
            self._brake(torque_nm)

    def _brake(self, torque_nm: float) -> None:
        """The brake holds the roller to a speed or a ramp; its torque is what is left over."""
        s, drive = self.settings, self.drive
        rate = 0.0
        if s.kind == "ramp" and self.time_s > LEAD_IN_S + RAMP_AFTER_S and self.lifted_at is None:
            rate = s.ramp_rpm_s * RAD_PER_S_PER_RPM
        before = drive.output_rad_s
        drive.held(torque_nm, before + rate * DT, DT)
        wheels = self.p.driveline.wheels_inertia_kg_m2 / self.per_wheel**2
        at_roller = (drive.transmitted_nm - wheels * rate) * self.efficiency * self.ratio
        self.brake_nm = at_roller - self.dyno.roller_inertia_kg_m2 * rate / self.ratio
        if self.brake_nm > self.dyno.brake_nm:
            # Past its strength the brake lets the roller run away by what it lacks.
            lacking = (self.brake_nm - self.dyno.brake_nm) / self.dyno.roller_inertia_kg_m2 * self.ratio * DT
            drive.output_rad_s += lacking
            drive.engine_rad_s += lacking
            self.brake_nm = self.dyno.brake_nm

    def _own_row(self) -> tuple[float, ...]:
        drive = self.drive
        speed = self.speed_m_s
        if self.on_road:
            along = self.acceleration + GRAVITY * sin(atan(self.settings.grade))
            return drive.engine_rpm, speed, speed, along, self.settings.grade
        roller = drive.output_rad_s / RAD_PER_S_PER_RPM / self.ratio
        row = (drive.engine_rpm, speed, roller)
        return (*row, self.brake_nm) if self.settings.kind in ("ramp", "hold") else row

    def log(self) -> Log:
        """What the sensors made of the run."""
        return self.recorder.log()
