"""The target: what the engine is to make, and the parts that carry it, found and explained."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from pydantic import ValidationError
from PyQt6.QtWidgets import QScrollArea, QVBoxLayout, QWidget

from yarvic.core.checks.finding import amount
from yarvic.core.document import first_fault
from yarvic.core.errors import JobError
from yarvic.core.plan.plan import Target
from yarvic.core.plan.solve import Solution, best, cheapest
from yarvic.core.plan.weakest import Demand
from yarvic.core.typed_numbers import parse_number
from yarvic.core.units import UNITS, from_canonical, units_of
from yarvic.desk.views.plan.lanes import Lanes
from yarvic.desk.widgets.entry import Line, choice
from yarvic.desk.widgets.words import act, label, row, show_choice, tip, word
from yarvic.state.aside import aside
from yarvic.state.plan import PlanState
from yarvic.state.requests import Request
from yarvic.state.session import Session


class TargetPanel(QWidget):
    """The target's line, the lanes, the answer."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setMinimumWidth(540)  # where the window is narrower, it scrolls
        self.session = session
        self.plan = PlanState(session)
        self.lanes = Lanes(session)
        self.lanes.moved.connect(self._moved)
        self.lanes.dropped.connect(self._drop_target)
        self.lanes.stage_dropped.connect(self._drop_stage)
        self.headline = label("", "big", wrap=True)
        self.value = Line("Target", self._enter_value, 64)
        self.unit = choice("Unit of the target", self._units, lambda u: self._change(unit=u))
        self.basis = choice("Basis of the target", lambda: [(b, b) for b in ("wheel", "crank")], self._enter_basis)
        self.low = Line("Held from", partial(self._enter_band, 0), 60)
        self.high = Line("Held to", partial(self._enter_band, 1), 60)
        self.band = choice(
            "Band", lambda: [("safe", "safe"), ("stretch", "stretch: life is spent")], self._enter_limit_band
        )
        self.margin = Line("Margin, %", self._enter_margin, 44)
        self.budget = Line("Budget", self._enter_budget, 66, "none")
        self.money = label("", "quiet")
        self.solve_word = act("Find the cheapest parts", self.solve)
        self.most = word("Best target for the budget", self.solve_budget)
        self.axis = word("Power", self._other_quantity)
        self.side = word("At the wheel", self._other_basis)
        self.state = word("As fitted", self._other_state)
        self.answer = label("", "", wrap=True)
        self.into = word("Put these parts into a stage", self._into_stage)
        self.use = word("Use this target", self._use_found)
        self._solution: Solution | None = None
        self._answered: Request | None = None  # what the answer is for
        self._arrange()

    def _arrange(self) -> None:
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        column.addWidget(self.headline)
        quiet = partial(label, name="quiet")
        column.addLayout(
            row(
                quiet("Target"), self.value, self.unit, self.basis, quiet("held from"), self.low, quiet("to"), self.high,
                quiet("rpm"), None,
            )
        )  # fmt: skip
        column.addLayout(
            row(
                quiet("Limits"), self.band, quiet("margin"), self.margin, quiet("%, budget"), self.budget, self.money,
                None, self.solve_word,
            )
        )  # fmt: skip
        column.addLayout(row(self.axis, self.side, self.state, None, self.most))
        for field in (self.value, self.low, self.high, self.margin, self.budget):
            column.addWidget(field.fault)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setWidget(self.lanes)
        column.addWidget(area, 1)
        column.addWidget(self.answer)
        column.addLayout(row(self.into, self.use, None))
        column.addWidget(
            label(
                "Green: safe; amber: works at the cost of its life; red: not. The line with the grip is the target: drag"
                " it, or Left and Right. Dashed lines: stages, by number. Above a bar: working; below: stock or reference.",
                "caption",
                wrap=True,
            )
        )

    # -- shown

    def refresh(self) -> None:
        """Show what is kept."""
        job = self.session.job
        if job is None:
            return
        plan, target = job.sheet.plan, job.sheet.plan.target
        unit = self.session.settings.units.get("power", "kW")
        show_choice(self.unit, target.unit if target else unit)
        show_choice(self.basis, target.basis if target else "wheel")
        show_choice(self.band, plan.band)
        band = target.band_rpm if target else job.sheet.band_rpm
        self.value.show_text(f"{target.value:g}" if target else "")
        self.low.show_text(f"{band[0]:g}")
        self.high.show_text(f"{band[1]:g}")
        self.margin.show_text(f"{plan.margin * 100:g}")
        self.budget.show_text("" if plan.budget is None else f"{plan.budget:g}")
        self.money.setText(plan.currency)
        self.axis.setText("Shown as power" if self.lanes.shown.quantity == "power" else "Shown as torque")
        self.side.setText(f"at the {self.lanes.shown.basis}")
        self.state.setText("as planned" if self.lanes.shown.as_planned else "as fitted")
        may = not job.read_only
        for field in (self.value, self.low, self.high, self.margin, self.budget):
            field.setReadOnly(not may)
        self.solve_word.setEnabled(target is not None)
        self.most.setEnabled(target is not None and plan.budget is not None)
        self.lanes.bring_up_to_date()
        self._headline(None)
        self._show_answer()

    def _headline(self, preview: Target | None) -> None:
        job = self.session.job
        if job is None:
            return
        parts = self.plan.planned() if self.lanes.shown.as_planned else self.plan.fitted
        found = self.plan.demands(parts, preview)
        hidden = self.lanes.shown.hidden()
        if found:
            d = found[0]
            word_ = "clears" if d.clears else "gives way"
            self.headline.setText(f"Weakest link: {d.limit.component}, {d.share * 100:.0f} % used, {word_}")
        elif job.sheet.plan.target is None:
            self.headline.setText("Write a target: what gives way first, and what moves it, follows from it.")
        else:
            missing = (
                " State the drivetrain loss under Job, Vehicle."
                if job.sheet.limits and self.plan.loss is None
                else ""
            )
            self.headline.setText(f"No limit of the ledger can be held against this target.{missing}")
        if hidden:
            names = ", ".join(m.component for m in hidden)
            tip(self.headline, f"Not on this axis: {names}. State the loss, or the engine speed of a torque.")

    def _moved(self, value: float) -> None:
        """The target is being dragged."""
        self._headline(self.lanes.shown.target)

    # -- taken

    def _sheet(self) -> Any:
        if self.session.sheet is None:
            raise JobError("no job is open", remedy="Open a job first.")
        return self.session.sheet

    def _change(self, **values: Any) -> None:
        self.session.attempt(lambda: self._save(**values))

    def _save(self, **values: Any) -> None:
        sheet = self._sheet().sheet
        kept = sheet.plan.target
        unit = self.session.settings.units.get("power", "kW")
        base: dict[str, Any] = {"value": 0.0, "unit": unit, "basis": "wheel", "band_rpm": sheet.band_rpm}
        if kept is not None:
            base = {n: getattr(kept, n) for n in ("value", "unit", "basis", "band_rpm")}
        if "unit" in values and UNITS[values["unit"]].quantity == UNITS[base["unit"]].quantity:
            now = base["value"] * UNITS[base["unit"]].factor / UNITS[values["unit"]].factor
            values["value"] = round(now, UNITS[values["unit"]].decimals)
        elif "unit" in values and base["value"] > 0.0 and kept is not None:
            # Power for torque: the same demand, at the speed where the target asks most.
            power, torque = kept.demands()
            asked = power if UNITS[values["unit"]].quantity == "power" else torque
            values["value"] = round(float(from_canonical(asked, values["unit"])), UNITS[values["unit"]].decimals)
        changed = {**base, **values}
        if kept is None and changed["value"] == 0.0:
            raise JobError("write the target's value first", remedy="The other entries follow it.")
        try:
            new = Target.model_validate({"quantity": UNITS[changed["unit"]].quantity, **changed})
        except ValidationError as error:
            raise JobError(first_fault(error), remedy="The entry before stays.") from None
        low, high = new.band_rpm
        what = f"Target {new.value:g} {new.unit} at the {new.basis}, {low:,.0f} to {high:,.0f} rpm."
        self._solution = None
        self._sheet().set_plan(what, target=new)

    def _enter_value(self, text: str) -> None:
        if not text.strip():
            self._solution = None
            self._sheet().set_plan("Target removed.", target=None)
            return
        words = text.strip().split(maxsplit=1)
        value = parse_number(words[0])
        if len(words) == 2:
            from yarvic.core.units import parse_unit

            unit = parse_unit(words[1])
            if unit.quantity not in ("power", "torque"):
                raise JobError(f"{words[1]!r} measures {unit.quantity}", remedy="Give power or torque.")
            self._save(unit=unit.label)
            self._save(value=value)
            return
        self._save(value=value)

    def _enter_basis(self, basis: str) -> None:
        def change() -> None:
            kept = self._sheet().sheet.plan.target
            if kept is None or kept.basis == basis:
                return
            moved = self.plan.at_basis(kept.canonical, kept.basis, basis)
            if moved is None:
                raise JobError("the drivetrain's loss is not stated", remedy="State it under Job, Vehicle.")
            unit = UNITS[kept.unit]
            self._save(basis=basis, value=round(moved / unit.factor, unit.decimals))

        self.session.attempt(change)

    def _enter_band(self, at: int, text: str) -> None:
        sheet = self._sheet().sheet
        band = list(sheet.plan.target.band_rpm if sheet.plan.target else sheet.band_rpm)
        band[at] = parse_number(text)
        self._save(band_rpm=tuple(band))

    def _enter_limit_band(self, band: str) -> None:
        self._solution = None
        self.session.attempt(lambda: self._sheet().set_plan(f"Limits by their {band} end.", band=band))

    def _enter_margin(self, text: str) -> None:
        self._solution = None
        self._sheet().set_plan(f"Margin {text.strip()} %.", margin=parse_number(text) / 100.0)

    def _enter_budget(self, text: str) -> None:
        self._solution = None
        value = parse_number(text) if text.strip() else None
        self._sheet().set_plan("Budget changed.", budget=value)

    def _units(self) -> list[tuple[str, str]]:
        return [(u, u) for q in ("power", "torque") for u in units_of(q) if u != "W"]

    def _drop_target(self, value: float) -> None:
        kept = self._sheet().sheet.plan.target
        if kept is not None:
            unit = UNITS[kept.unit]
            self._change(value=round(value / unit.factor, unit.decimals))

    def _drop_stage(self, number: int, moved_kw: float) -> None:
        sheet = self._sheet()
        stage = sheet.sheet.plan.stages[number]
        low, high = stage.gain_low_kw or 0.0, stage.gain_high_kw or 0.0
        new = stage.model_copy(
            update={"gain_low_kw": round(low + moved_kw, 1), "gain_high_kw": round(high + moved_kw, 1)}
        )
        self.session.attempt(lambda: sheet.save_stage(number, new))

    def _other_quantity(self) -> None:
        self.lanes.shown.quantity = "torque" if self.lanes.shown.quantity == "power" else "power"
        self.refresh()

    def _other_basis(self) -> None:
        if self.plan.loss is None:
            self.session.say("The drivetrain's loss is not stated: state it under Job, Vehicle.", trouble=True)
            return
        self.lanes.shown.basis = "crank" if self.lanes.shown.basis == "wheel" else "wheel"
        self.refresh()

    def _other_state(self) -> None:
        self.lanes.shown.as_planned = not self.lanes.shown.as_planned
        self.refresh()

    # -- solving

    def solve(self) -> None:
        """The cheapest parts for the target."""
        target, ledger = self._sheet().sheet.plan.target, self.plan.ledger()
        self._start("Finding the cheapest parts", lambda: cheapest(ledger, target))

    def solve_budget(self) -> None:
        """The best target for the budget."""
        plan, ledger = self._sheet().sheet.plan, self.plan.ledger()
        self._start("Finding the best target", lambda: best(ledger, plan.target, plan.budget))

    def _start(self, title: str, find: Callable[[], Solution]) -> None:
        # An answer is for the ledger and the target that it was found with.
        request = self.session.request("finding parts", reads=("the ledger", "builds"))

        def found(solution: Solution) -> None:
            self._answered, self._solution = request, solution
            self._show_answer()

        self.session.start(request, title, lambda progress, cancelled: aside(find, cancelled), found)

    def _show_answer(self) -> None:
        if self._answered is None or not self.session.holds(self._answered):
            self._solution = None
        found, job = self._solution, self.session.job
        self.answer.setVisible(found is not None)
        self.into.setVisible(found is not None and bool(found.chosen))
        self.use.setVisible(found is not None and job is not None and found.target != job.sheet.plan.target)
        if found is not None and job is not None:
            self.answer.setText(_in_words(found, job.sheet.plan.target, job.sheet.plan.currency))

    def _into_stage(self) -> None:
        from yarvic.core.plan.plan import Stage

        found, sheet = self._solution, self._sheet()
        if found is None:
            return
        stages = sheet.sheet.plan.stages
        titles = {s.title for s in stages}
        title = next(f"Stage {n}" for n in range(len(stages) + 1, 999) if f"Stage {n}" not in titles)
        target = found.target
        intent = f"{target.value:g} {target.unit} at the {target.basis}"
        stage = Stage(title=title, parts=tuple(c.part.key for c in found.chosen), intent=intent)
        self.session.attempt(lambda: sheet.save_stage(len(stages), stage))
        self.session.say(f"{title} holds these parts. Its map, gain and fuel are under Stages.")

    def _use_found(self) -> None:
        found = self._solution
        if found is not None:
            self._change(value=found.target.value)


def _in_words(found: Solution, asked: Target | None, currency: str) -> str:
    """The answer in sentences."""
    target = found.target
    made = f"{target.value:g} {target.unit} at the {target.basis}"
    lines = []
    if not found.reached and asked is not None:
        blocks = " and ".join(found.blocks) or "the ledger"
        lines.append(
            f"No set of parts carries {asked.value:g} {asked.unit}. The nearest is {made}, limited by {blocks},"
            " and no part of the ledger moves it further."
        )
    if found.chosen:
        lines.append(f"For {made}: {found.cost:,.0f} {currency}".rstrip() + ", in this order:")
        lines += [f"  {n}. {c.part.title}: {c.why}." for n, c in enumerate(found.chosen, 1)]
        cautions = list(dict.fromkeys(c.part.caution for c in found.chosen if c.part.caution))
        lines += [f"  {c}" for c in cautions]
    else:
        lines.append(f"{made[0].upper()}{made[1:]} needs no part: every limit carries it on the vehicle as it is.")
    next_ = found.demands[0] if found.demands else None
    if next_ is not None:
        lines.append(f"Then the weakest link is {next_.limit.component}, {_used(next_)}.")
    return "\n".join(lines)


def _used(d: Demand) -> str:
    unit = "kW" if d.limit.limited.quantity == "power" else "N m"
    return f"{d.share * 100:.0f} % of {amount(d.carries, unit)} {d.limit.basis}"
