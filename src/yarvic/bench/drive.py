"""From crank to ground: what turns, what slips, what holds against it."""

from __future__ import annotations

from math import copysign

from yarvic.core.physics.power import RAD_PER_S_PER_RPM


class Drive:
    """Engine and what it drives, joined by a clutch that holds so much. All referred to the crank.

    `engine_rad_s` and `output_rad_s` are equal while the clutch holds. `transmitted_nm` is what went through it.
    """

    def __init__(self, engine_inertia: float, output_inertia: float, clutch_nm: float, speed_rpm: float) -> None:
        self.engine_inertia, self.output_inertia, self.clutch_nm = engine_inertia, output_inertia, clutch_nm
        self.engine_rad_s = self.output_rad_s = speed_rpm * RAD_PER_S_PER_RPM
        self.transmitted_nm = 0.0
        self.slips = False

    @property
    def engine_rpm(self) -> float:
        """Engine speed."""
        return self.engine_rad_s / RAD_PER_S_PER_RPM

    def free(self, torque_nm: float, resist_nm: float, dt: float) -> None:
        """Advance with the output free to turn against `resist_nm`."""
        if not self.slips:
            rate = (torque_nm - resist_nm) / (self.engine_inertia + self.output_inertia)
            self.transmitted_nm = torque_nm - self.engine_inertia * rate
            if abs(self.transmitted_nm) <= self.clutch_nm:
                self.engine_rad_s = self.output_rad_s = max(self.engine_rad_s + rate * dt, 1.0)
                return
            self.slips = True
        self._slip(torque_nm, self.output_rad_s, dt, resist_nm)

    def held(self, torque_nm: float, output_rad_s: float, dt: float) -> None:
        """Advance with the output's speed forced, as a brake does that holds a speed or a ramp."""
        if not self.slips:
            self.transmitted_nm = torque_nm - self.engine_inertia * (output_rad_s - self.output_rad_s) / dt
            if abs(self.transmitted_nm) <= self.clutch_nm:
                self.engine_rad_s = self.output_rad_s = output_rad_s
                return
            self.slips = True
        self._slip(torque_nm, output_rad_s, dt, None)

    def _slip(self, torque_nm: float, output_rad_s: float, dt: float, resist_nm: float | None) -> None:
        """Both sides for themselves, the clutch's friction between them; they join where their speeds cross.

        `resist_nm` None: the output's speed is forced.
        """
        before = self.engine_rad_s - self.output_rad_s
        self.transmitted_nm = copysign(self.clutch_nm, before if before else torque_nm)
        if resist_nm is not None:
            output_rad_s += (self.transmitted_nm - resist_nm) / self.output_inertia * dt
        self.output_rad_s = max(output_rad_s, 1.0)
        rate = (torque_nm - self.transmitted_nm) / self.engine_inertia
        self.engine_rad_s = max(self.engine_rad_s + rate * dt, 1.0)
        after = self.engine_rad_s - self.output_rad_s
        if before * after < 0.0 or after == 0.0:
            self.slips = False
            # The lighter side takes the heavier one's speed: a forced output counts as heavy without end.
            if resist_nm is not None:
                both = self.engine_inertia + self.output_inertia
                momentum = self.engine_inertia * self.engine_rad_s + self.output_inertia * self.output_rad_s
                self.output_rad_s = momentum / both
            self.engine_rad_s = self.output_rad_s
