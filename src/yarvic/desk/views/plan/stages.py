"""The stages: parts, what the map is to do, gain, fuel, the gearbox's half of the pair, revisions, and the bill."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtWidgets import QFrame, QVBoxLayout, QWidget

from yarvic.core.plan.cost import Bill, plan_bill, planned_gain_kw, rerating_bill, stage_bill
from yarvic.core.plan.plan import Stage, not_fitted
from yarvic.core.typed_numbers import parse_number
from yarvic.desk.widgets.entry import Line
from yarvic.desk.widgets.rows import Rows
from yarvic.desk.widgets.words import chooser, label, row, show_choice, word
from yarvic.state.plan import PlanState
from yarvic.state.readings import interval_words
from yarvic.state.session import Session


class StageRow(QFrame):
    """One stage."""

    def __init__(self, session: Session, at: int) -> None:
        super().__init__()
        self.session, self.at = session, at
        self.plan = PlanState(session)
        self.setObjectName("card")
        self.number = label(f"{at + 1}", "title")
        self.title = Line("Stage", partial(self._enter, "title"), 170)
        self.intent = Line("Map intent", partial(self._enter, "intent"), hint="what the map is to do")
        self.low = Line("Gain from, kW", partial(self._enter_number, "gain_low_kw"), 50)
        self.high = Line("Gain to, kW", partial(self._enter_number, "gain_high_kw"), 50)
        self.fuel = chooser("Fuel required", self._fuels)
        self.gearbox = Line(
            "Gearbox calibration", partial(self._enter, "gearbox_calibration"), 170, "which one it pairs with"
        )
        self.gearbox_name = label("gearbox calibration", "caption")
        self.hours = Line("Hours for the map", partial(self._enter_number, "map_hours"), 44)
        self.fees = Line("Fees", partial(self._enter_number, "fees"), 56)
        self.parts = chooser("Parts required", self._parts)
        show_choice(self.parts, "Parts")
        self.revisions = chooser("Revisions made for it", self._revisions)
        show_choice(self.revisions, "Revisions")
        self.summary = label("", "quiet", wrap=True)
        self.bill = label("", "caption", wrap=True)
        self.caution = label("", "caption", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 10, 8)
        column.setSpacing(3)
        up, down = word("Earlier", lambda: self._move(-1)), word("Later", lambda: self._move(1))
        column.addLayout(
            row(
                self.number, self.title, self.intent, self.parts, self.revisions, up, down, word("Remove", self._drop)
            )
        )
        gain = (label("gain", "caption"), self.low, label("to", "caption"), self.high, label("kW wheel", "caption"))
        cost = (label("map", "caption"), self.hours, label("h, fees", "caption"), self.fees)
        column.addLayout(row(*gain, self.fuel, None, self.gearbox_name, self.gearbox, *cost))
        for field in self._lines():
            column.addWidget(field.fault)
        for text in (self.summary, self.bill, self.caution):
            column.addWidget(text)

    def _lines(self) -> tuple[Line, ...]:
        return (self.title, self.intent, self.low, self.high, self.gearbox, self.hours, self.fees)

    @property
    def key(self) -> int:
        """Its number, from nothing on."""
        return self.at

    def stage(self) -> Stage | None:
        """The stage as it is kept."""
        job = self.session.job
        stages = job.sheet.plan.stages if job is not None else ()
        return stages[self.at] if self.at < len(stages) else None

    def refresh(self) -> None:
        """Show what is kept."""
        stage, job = self.stage(), self.session.job
        if stage is None or job is None:
            return
        sheet = job.sheet
        self.title.show_text(stage.title)
        self.intent.show_text(stage.intent)
        self.low.show_text("" if stage.gain_low_kw is None else f"{stage.gain_low_kw:g}")
        self.high.show_text("" if stage.gain_high_kw is None else f"{stage.gain_high_kw:g}")
        self.gearbox.show_text(stage.gearbox_calibration)
        for widget in (self.gearbox, self.gearbox_name):
            widget.setVisible(sheet.vehicle.gearbox_unit)
        self.hours.show_text(f"{stage.map_hours:g}")
        self.fees.show_text(f"{stage.fees:g}")
        show_choice(self.fuel, stage.fuel or "any fuel")
        titles = {p.key: p.title for p in sheet.parts}
        required = sheet.plan.required(stage, sheet.parts)
        off = not_fitted(required, self.plan.fitted, sheet.parts)
        own = ", ".join(titles.get(k, k) for k in stage.parts) or "no part of its own"
        made = ", ".join(stage.revisions) or "none yet"
        state = f"Not fitted: {', '.join(off)}; the gate stays shut" if off else "All that it requires is fitted"
        self.summary.setText(f"Parts: {own}. Revisions: {made}. {state}.")
        self.bill.setText(self._bill(stage))
        cautions = [p.caution for p in sheet.parts if p.key in stage.parts and p.caution]
        self.caution.setText(" ".join(dict.fromkeys(cautions)))
        self.caution.setVisible(bool(cautions))
        for field in self._lines():
            field.setReadOnly(job.read_only)

    def _bill(self, stage: Stage) -> str:
        job = self.session.job
        assert job is not None
        sheet = job.sheet
        bill = stage_bill(sheet.plan, stage, sheet.parts)
        tasks = "; ".join(f"{t.title} {t.hours:g} h" for t in bill.tasks if t.hours)
        words = [bill_text(bill, sheet.plan.currency), tasks]
        planned, measured = planned_gain_kw(stage), self.plan.measured_gain(stage)

        if planned is not None:
            words.append(f"Planned {_per_kw(bill, planned, sheet.plan.currency)}")
        if measured is not None:
            gain, note = measured.interval, f" ({measured.note})" if measured.note else ""
            # A gain that cannot be told from none has no price.
            price = ", not distinguishable from none"
            if gain is not None and gain.distinguishable:
                price = _per_kw(bill, gain.mean / 1e3, sheet.plan.currency, said=False)
            words.append(
                f"Measured, peak: {interval_words(gain, 'kW')}{price}{note}" if gain is not None else measured.note
            )
        return ". ".join(w for w in words if w) + "."

    # -- taken

    def _save(self, entry: str, value: Any) -> None:
        stage, sheet = self.stage(), self.session.sheet
        if stage is None or sheet is None:
            return
        sheet.save_stage(self.at, stage.changed(**{entry: value}))

    def _enter(self, entry: str, text: str) -> None:
        self._save(entry, text.strip())

    def _enter_number(self, entry: str, text: str) -> None:
        if not text.strip():
            self._save(entry, None if entry.startswith("gain") else 0.0)
            return
        self._save(entry, parse_number(text))

    def _set(self, entry: str, value: Any) -> None:
        self.session.attempt(lambda: self._save(entry, value))

    def _fuels(self) -> list[tuple[str, Callable[[], None]]]:
        job = self.session.job
        fuels = job.sheet.vehicle.fuels if job is not None else {}
        return [
            ("any fuel", partial(self._set, "fuel", "")),
            *((f"{slot}: {key}", partial(self._set, "fuel", key)) for slot, key in fuels.items()),
        ]

    def _parts(self) -> list[tuple[str, Callable[[], None]]]:
        stage, job = self.stage(), self.session.job
        if stage is None or job is None:
            return []
        found: list[tuple[str, Callable[[], None]]] = []
        for part in job.sheet.parts:
            has = part.key in stage.parts
            keys = tuple(k for k in stage.parts if k != part.key) if has else (*stage.parts, part.key)
            found.append((f"{'Without' if has else 'With'} {part.title}", partial(self._set, "parts", keys)))
        return found

    def _revisions(self) -> list[tuple[str, Callable[[], None]]]:
        stage, job = self.stage(), self.session.job
        if stage is None or job is None:
            return []
        found: list[tuple[str, Callable[[], None]]] = []
        for revision in self.session.revisions()[1:]:
            other = job.sheet.plan.stage_of(revision.name)
            if other is not None and other.title != stage.title:
                continue
            has = revision.name in stage.revisions
            names = (
                tuple(r for r in stage.revisions if r != revision.name) if has else (*stage.revisions, revision.name)
            )
            text = f"{revision.name} is not of this stage" if has else f"{revision.name} was made for this stage"
            found.append((text, partial(self._set, "revisions", names)))
        return found

    def _move(self, by: int) -> None:
        sheet = self.session.sheet
        if sheet is not None:
            self.session.attempt(lambda: sheet.move_stage(self.at, by))

    def _drop(self) -> None:
        sheet = self.session.sheet
        if sheet is not None:
            self.session.attempt(lambda: sheet.drop_stage(self.at))


def bill_text(bill: Bill, currency: str) -> str:
    """A bill in a line."""
    fees = f" and {bill.fees:,.0f} of fees" if bill.fees else ""
    total = f"{bill.total:,.0f} {currency}".rstrip()
    return f"{total}: {bill.parts:,.0f} for parts, {bill.hours:g} h at {bill.rate:g}{fees}"


def _per_kw(bill: Bill, gain_kw: float, currency: str, *, said: bool = True) -> str:
    """A gain and what a kilowatt of it costs; nothing where nothing is gained."""
    each = bill.per_kw(gain_kw)
    price = f", {each:,.0f} {currency}".rstrip() + " a kW" if each is not None else ""
    return f"{gain_kw:+.1f} kW{price}" if said else price


class StagesPanel(QWidget):
    """The stages in order, money, and the bill of all."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setMinimumWidth(760)  # where the window is narrower, it scrolls
        self.session = session
        self.add = word("Add a stage", self._add)
        self.rate = Line("Hourly rate", partial(self._enter_number, "rate"), 60)
        self.currency = Line("Currency", self._enter_currency, 52)
        self.fee = Line("Fee for another rating", partial(self._enter_number, "rerate_fee"), 60)
        self.fee_hours = Line("Hours for another rating", partial(self._enter_number, "rerate_hours"), 44)
        self.of_rating = row(label("another rating: fee", "quiet"), self.fee, self.fee_hours, label("h", "quiet"))
        self.total = label("", "", wrap=True)
        self.stages: Rows[StageRow] = Rows(
            lambda at: StageRow(session, at),  # type: ignore[arg-type]
            "No stage is planned. A stage names the parts it needs, what its map is to do and what it should bring; the"
            " gate then asks for those parts before a revision made for it is released.",
            spacing=8,
        )
        whole = QVBoxLayout(self)
        whole.setContentsMargins(0, 0, 0, 0)
        top = row(label("rate", "quiet"), self.rate, self.currency, label("an hour", "quiet"), spacing=6)
        top.addSpacing(16)
        top.addLayout(self.of_rating)
        top.addStretch(1)
        top.addWidget(self.add)
        whole.addLayout(top)
        for field in (self.rate, self.currency, self.fee, self.fee_hours):
            whole.addWidget(field.fault)
        whole.addWidget(self.stages, 1)
        whole.addWidget(self.total)

    def refresh(self) -> None:
        """Show what is kept."""
        job = self.session.job
        if job is None:
            return
        plan = job.sheet.plan
        self.stages.show_rows(range(len(plan.stages)))
        self.rate.show_text(f"{plan.rate:g}")
        self.currency.show_text(plan.currency)
        self.fee.show_text(f"{plan.rerate_fee:g}")
        self.fee_hours.show_text(f"{plan.rerate_hours:g}")
        rated = bool(job.sheet.families)
        for i in range(self.of_rating.count()):
            item = self.of_rating.itemAt(i)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.setVisible(rated)
        text = f"All stages: {self._all(plan_bill(plan, job.sheet.parts))}."
        if rated:
            text += f" Another rating instead: {bill_text(rerating_bill(plan), plan.currency)}."
        self.total.setText(text if plan.stages else "")
        self.add.setEnabled(not job.read_only)

    def _all(self, bill: Bill) -> str:
        """The bill of all stages, with what they should bring and what has been measured of it."""
        job = self.session.job
        assert job is not None
        plan, state = job.sheet.plan, PlanState(self.session)
        words = [bill_text(bill, plan.currency)]
        gains = [planned_gain_kw(s) for s in plan.stages]
        if all(g is not None for g in gains):
            words.append(f"planned {_per_kw(bill, sum(g for g in gains if g is not None), plan.currency)}")
        done = [s for s in plan.stages if state.measured_gain(s) is not None]
        in_all = state.measured_in_all()
        gain = in_all.interval if in_all is not None else None
        if done and in_all is not None and gain is not None:
            spent = Bill(
                tuple(t for s in done for t in stage_bill(plan, s, job.sheet.parts).tasks),
                plan.rate,
                sum(s.fees for s in done),
            )
            words.append(
                f"measured so far {interval_words(gain, 'kW')}"
                f"{_per_kw(spent, gain.mean / 1e3, plan.currency, said=False) if gain.distinguishable else ''}"
                f"{f' ({in_all.note})' if in_all.note else ''}"
            )
        return "; ".join(words)

    def _add(self) -> None:
        sheet = self.session.sheet
        if sheet is None:
            return
        titles = {s.title for s in sheet.sheet.plan.stages}
        count = len(titles)
        title = next(f"Stage {n}" for n in range(count + 1, 999) if f"Stage {n}" not in titles)
        self.session.attempt(lambda: sheet.save_stage(count, Stage(title=title)))

    def _enter_number(self, entry: str, text: str) -> None:
        value = parse_number(text) if text.strip() else 0.0
        if self.session.sheet is not None:
            self.session.sheet.set_plan(f"{entry.replace('_', ' ').capitalize()}: {value:g}.", **{entry: value})

    def _enter_currency(self, text: str) -> None:
        if self.session.sheet is not None:
            self.session.sheet.set_plan(f"Currency {text.strip()}.", currency=text.strip())
