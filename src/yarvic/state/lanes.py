"""The lanes of Plan as numbers: bands, what was measured, stages and target on one axis of power or torque.

A torque stands on the power axis at the engine speed where the target asks most torque (the lower end of a power's
band, the upper end of a torque's): so a lane's bands and the target's line can be compared as they stand.
"""

from __future__ import annotations

from dataclasses import dataclass

from yarvic.core.checks.components import OF_THE_DRIVE, ComponentLimit
from yarvic.core.physics.power import RAD_PER_S_PER_RPM
from yarvic.core.plan.derived import mean_piston_speed
from yarvic.core.plan.plan import Target
from yarvic.state.plan import PlanState
from yarvic.state.results import RevisionResults
from yarvic.state.session import Session

_CHECK = {
    "boost": "boost_limit",
    "injector_duty": "injector_duty_limit",
    "injector_window": "injector_window_limit",
    "rail_sag": "rail_sag_limit",
    "piston_speed": "engine_speed",  # it is judged as one of engine speed
}


def measured(results: RevisionResults | None, limit: ComponentLimit, stroke_mm: float | None = None) -> float | None:
    """The highest value that the pulls put on a component, canonical unit; None when it was not measured."""
    if results is None:
        return None
    check = _CHECK.get(limit.key, limit.key)
    values = [f.value for p in results.pulls for f in p.findings if f.check == check and f.value is not None]
    highest = max(values, default=None)
    if limit.key == "piston_speed" and highest is not None:
        return mean_piston_speed(stroke_mm / 1e3, highest) if stroke_mm is not None else None
    return highest


@dataclass(frozen=True)
class Lane:
    """A lane as it is drawn: ends of its bands and ticks, all on the axis (W or N m); `share` is asked over carried."""

    limit: ComponentLimit
    safe: float
    stretch: float
    share: float | None
    ticks: tuple[tuple[str, str, float], ...]  # token, text, value


class LanesState:
    """What the figure shows: `quantity` and `basis` of its axis, parts as fitted or as planned.

    `dragged` is where the target is being dragged to; None while it stands as it is kept.
    """

    def __init__(self, session: Session) -> None:
        self.session = session
        self.plan = PlanState(session)
        self.quantity, self.basis = "power", "wheel"
        self.as_planned = False
        self.dragged: Target | None = None

    @property
    def target(self) -> Target | None:
        """The target as it is kept, or where it is being dragged to."""
        if self.dragged is not None:
            return self.dragged
        return self.session.job.sheet.plan.target if self.session.job is not None else None

    def pivot_rad_s(self) -> float | None:
        """The engine speed at which torque and power change into each other here."""
        target = self.target
        if target is None:
            return None
        return target.band_rpm[0 if target.quantity == "power" else 1] * RAD_PER_S_PER_RPM

    def on_axis(self, value: float, quantity: str, basis: str, limit: ComponentLimit | None = None) -> float | None:
        """A power or torque where the axis has it; None when loss or engine speed for that is missing."""
        moved = self.plan.at_basis(value, basis, self.basis)
        if moved is None or quantity == self.quantity:
            return moved
        pivot = self.pivot_rad_s()
        if pivot is None and limit is not None and limit.speed_rpm is not None:
            pivot = limit.speed_rpm * RAD_PER_S_PER_RPM
        if pivot is None:
            return None
        return moved * pivot if self.quantity == "power" else moved / pivot

    def lanes(self) -> list[Lane]:
        """The lanes of the drive, the most loaded first."""
        job = self.session.job
        if job is None:
            return []
        parts = self.plan.planned() if self.as_planned else self.plan.fitted
        target = self.target
        shares = {d.limit.name: d.share for d in self.plan.demands(parts, target)}
        peaks = self._peaks()
        found = []
        for limit in job.sheet.limits:
            if limit.key not in OF_THE_DRIVE:
                continue
            now = limit.with_parts(parts)
            quantity = now.limited.quantity
            ends = [self.on_axis(now.canonical(b), quantity, now.basis, now) for b in ("safe", "stretch")]
            if ends[0] is None or ends[1] is None:
                continue
            ticks = self._ticks(now, peaks)
            found.append(Lane(now, ends[0], ends[1], shares.get(limit.name), ticks))
        return sorted(found, key=lambda lane: (-(lane.share or 0.0), lane.stretch))

    def _peaks(self) -> list[tuple[str, str, tuple[float, float]]]:
        """What stock and the revision in hand make at the wheels: token, name, power and torque."""
        s = self.session
        stock = s.revisions()[0] if s.revisions() else None
        hand = s.evidence_revision()
        found = []
        for revision, token in ((stock, "reference"), (hand if hand is not stock else None, "working")):
            peaks = self.plan.measured_peaks(s.results.get(revision.id)) if revision is not None else None
            if revision is not None and peaks is not None:
                found.append((token, revision.name, peaks))
        return found

    def _ticks(
        self, limit: ComponentLimit, peaks: list[tuple[str, str, tuple[float, float]]]
    ) -> tuple[tuple[str, str, float], ...]:
        at = 0 if limit.limited.quantity == "power" else 1
        found = []
        for token, name, both in peaks:
            value = self.on_axis(both[at], limit.limited.quantity, "wheel", limit)
            if value is not None:
                found.append((token, name, value))
        return tuple(found)

    def hidden(self) -> list[ComponentLimit]:
        """Limits of the drive that this axis cannot show."""
        job = self.session.job
        shown = {lane.limit.name for lane in self.lanes()}
        limits = job.sheet.limits if job is not None else ()
        return [m for m in limits if m.key in OF_THE_DRIVE and m.name not in shown]

    def others(self) -> list[ComponentLimit]:
        """Limits with an axis of their own."""
        job = self.session.job
        parts = self.plan.planned() if self.as_planned else self.plan.fitted
        limits = job.sheet.limits if job is not None else ()
        return [m.with_parts(parts) for m in limits if m.key not in OF_THE_DRIVE]

    def stage_marks(self) -> list[tuple[int, str, float]]:
        """Stages on the axis: number, title, value; power only."""
        if self.quantity != "power" or self.session.job is None:
            return []
        marks = ((n, title, self.plan.at_basis(w, "wheel", self.basis)) for n, title, w in self.plan.stage_powers())
        return [(n, title, value) for n, title, value in marks if value is not None]

    def target_mark(self) -> float | None:
        """The target on the axis."""
        target = self.target
        if target is None:
            return None
        power, torque = target.demands()
        return self.plan.at_basis(power if self.quantity == "power" else torque, target.basis, self.basis)

    def top(self) -> float:
        """Where the axis ends."""
        lanes = self.lanes()
        values = [lane.stretch for lane in lanes] + [v for lane in lanes for _, _, v in lane.ticks]
        kept = self.session.job.sheet.plan.target if self.session.job is not None else None
        if kept is not None:
            power, torque = kept.demands()
            values.append(power if self.quantity == "power" else torque)
        return max(values, default=100e3 if self.quantity == "power" else 300.0) * 1.12 or 1.0

    def own(self, on_axis: float) -> float | None:
        """A value on the axis as one of the target's own quantity and basis."""
        kept = self.session.job.sheet.plan.target if self.session.job is not None else None
        if kept is None:
            return None
        low, high = (n * RAD_PER_S_PER_RPM for n in kept.band_rpm)
        value = self.plan.at_basis(on_axis, self.basis, kept.basis)
        if value is None or kept.quantity == self.quantity:
            return value
        return value * low if kept.quantity == "power" else value / high
