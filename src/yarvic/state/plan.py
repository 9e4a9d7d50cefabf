"""The plan in hand: what the target asks of every limit, what moves the weakest, and what the measurements say."""

from __future__ import annotations

from collections.abc import Collection

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.checks.finding import amount
from yarvic.core.errors import YarvicError
from yarvic.core.evidence.repeatability import mean_curve
from yarvic.core.job.model import JobSheet, parts_on
from yarvic.core.plan.cost import planned_gain_kw
from yarvic.core.plan.plan import Stage, Target
from yarvic.core.plan.solve import Ledger
from yarvic.core.plan.weakest import Demand, demands
from yarvic.state.gains import PeakGain, peaks_between
from yarvic.state.results import PullResult, RevisionResults
from yarvic.state.session import Session


class PlanState:
    """Reads plan and results; changes go through the sheet."""

    def __init__(self, session: Session) -> None:
        self.session = session

    @property
    def sheet(self) -> JobSheet:
        """The job's sheet. Raises YarvicError without a job."""
        if self.session.job is None:
            raise YarvicError("no job is open", remedy="Open a job first.")
        return self.session.job.sheet

    @property
    def fitted(self) -> frozenset[str]:
        """The parts that are on the vehicle."""
        return parts_on(self.session.job.builds()) if self.session.job is not None else frozenset()

    @property
    def loss(self) -> float | None:
        """The drivetrain's loss as a share of crank power."""
        return self.sheet.vehicle.loss

    def planned(self) -> frozenset[str]:
        """The parts that are on, and those of all stages."""
        plan = self.sheet.plan
        staged = plan.required(plan.stages[-1], self.sheet.parts) if plan.stages else ()
        return self.fitted | set(staged)

    def ledger(self) -> Ledger:
        """What a target is solved on."""
        plan = self.sheet.plan
        return Ledger(self.sheet.limits, self.sheet.parts, self.fitted, plan.band, plan.margin, self.loss, plan.rate)

    def demands(self, parts: Collection[str] | None = None, target: Target | None = None) -> list[Demand]:
        """Every limit of the drive against a target (the plan's where none is given), most loaded first.

        Empty without a target, or where a limit cannot be compared with it.
        """
        target = target if target is not None else self.sheet.plan.target
        if target is None:
            return []
        plan = self.sheet.plan
        comparable = [m for m in self.sheet.limits if m.basis == target.basis or self.loss is not None]
        return demands(
            comparable,
            target,
            parts=self.fitted if parts is None else parts,
            band=plan.band,
            margin=plan.margin,
            loss=self.loss,
        )

    def in_words(self, d: Demand) -> str:
        """A demand in words: what is asked, what is carried, what moves it and what that costs."""
        plan = self.sheet.plan
        unit = self.session.settings.units.get(d.limit.limited.quantity, d.limit.unit)
        margin = f" less {plan.margin * 100:g} %" if plan.margin else ""
        movers = self._movers(d.limit, self.fitted)
        carried = amount(d.limit.canonical(plan.band), unit)
        return (
            f"asked {amount(d.asked, unit)} {d.limit.basis}, {plan.band} {carried}{margin}"
            f" ({d.share * 100:.0f} %); {f'moved by {movers}' if movers else 'nothing in the ledger moves it'}"
        )

    def _movers(self, limit: ComponentLimit, parts: Collection[str]) -> str:
        known = {p.key: p for p in self.sheet.parts}
        plan = self.sheet.plan
        found = []
        for mover in limit.moved_by:
            if mover.part not in parts and mover.part in known:
                part = known[mover.part]
                money = f"{part.cost(plan.rate):,.0f} {plan.currency}".rstrip()
                found.append(f"{part.title[0].lower()}{part.title[1:]} ({money})")
        return " or ".join(found)

    # -- measured

    def measured_peaks(self, results: RevisionResults | None) -> tuple[float, float] | None:
        """Peak power (W) and torque (N m) at the wheel, uncorrected: the real load. None without curves."""
        curves = results.curves("none") if results is not None else []
        if not curves:
            return None
        mean = mean_curve(curves)
        both = [self.at_basis(v, curves[0].basis, "wheel") for v in (mean.peak_power[0], mean.peak_torque[0])]
        return None if both[0] is None or both[1] is None else (both[0], both[1])

    def stage_powers(self) -> list[tuple[int, str, float]]:
        """What each stage should make at the wheel, W, from measured stock on: its number, title and value."""
        s = self.session
        peaks = self.measured_peaks(s.results.get(s.revisions()[0].id)) if s.revisions() else None
        if peaks is None:
            return []
        found, base = [], peaks[0]
        for number, stage in enumerate(self.sheet.plan.stages):
            gain = planned_gain_kw(stage)
            if gain is not None:
                base += gain * 1e3
                found.append((number, stage.title, base))
        return found

    def at_basis(self, value: float, of: str, basis: str) -> float | None:
        """A power or torque of one basis on the other; None without the loss between."""
        if of == basis:
            return value
        if self.loss is None:
            return None
        return value / (1.0 - self.loss) if basis == "crank" else value * (1.0 - self.loss)

    def measured_gain(self, stage: Stage) -> PeakGain | None:
        """What a stage really brought, W: peak power of its last measured revision over that of the stage before.

        None as long as either was not measured.
        """
        s = self.session
        mine = [r for r in s.revisions() if r.name in stage.revisions]
        for revision in reversed(mine):
            after, before = self._pulls(s.results.get(revision.id)), self._before(stage)
            if after and before:
                return peaks_between(after, before, s.standard)
        return None

    def measured_in_all(self) -> PeakGain | None:
        """What the last measured stage makes over stock, W; None as long as there is none."""
        s = self.session
        stock = self._pulls(s.results.get(s.revisions()[0].id)) if s.revisions() else []
        for stage in reversed(self.sheet.plan.stages):
            for revision in reversed([r for r in s.revisions() if r.name in stage.revisions]):
                pulls = self._pulls(s.results.get(revision.id))
                if pulls and stock:
                    return peaks_between(pulls, stock, s.standard)
        return None

    @staticmethod
    def _pulls(results: RevisionResults | None) -> list[PullResult]:
        """The pulls that may stand in the mean."""
        return results.together() if results is not None else []

    def _before(self, stage: Stage) -> list[PullResult]:
        """The pulls of the stage before, or of stock."""
        s = self.session
        stages = self.sheet.plan.stages
        for each in reversed(stages[: stages.index(stage)]):
            for revision in reversed([r for r in s.revisions() if r.name in each.revisions]):
                pulls = self._pulls(s.results.get(revision.id))
                if pulls:
                    return pulls
        return self._pulls(s.results.get(s.revisions()[0].id) if s.revisions() else None)
