"""The bench: everything outside the unit and the desk, simulated, in one page."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict
from functools import partial
from typing import Any

from PyQt6.QtWidgets import QBoxLayout, QFrame, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from yarvic.bench.cell import dynos
from yarvic.bench.unit import Around
from yarvic.core.errors import YarvicError
from yarvic.core.evidence.conditions import RUN_WORDS
from yarvic.core.physics.air import Air
from yarvic.core.units import UNITS, from_canonical, to_canonical
from yarvic.desk.overlays import Command
from yarvic.desk.views.bench.day import Day
from yarvic.desk.views.bench.faults import FaultList
from yarvic.desk.views.bench.unit import UnitForm
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.fields import Form, Number, Switch, show_switch
from yarvic.desk.widgets.words import act, chooser, label, show_choice
from yarvic.state.bench import BenchState, fuels_for
from yarvic.state.session import STEP_TITLES, Session

NARROW_PX = 700
# Fields of a run: name, setting, low, high, decimals, unit, factor to the setting, kinds that need it (empty: all).
RUN_FIELDS: tuple[tuple[str, str, float, float, int, str, float, tuple[str, ...]], ...] = (
    ("Gear", "gear", 1, 12, 0, "", 1.0, ()),
    ("Throttle", "throttle", 10, 100, 0, "%", 0.01, ("inertia", "ramp", "hold", "road")),
    ("From", "start_rpm", 600, 15000, 0, "rpm", 1.0, ("inertia", "ramp", "road")),
    ("To", "end_rpm", 900, 15000, 0, "rpm", 1.0, ("inertia", "ramp", "road")),
    ("Ramp", "ramp_rpm_s", 50, 3000, 0, "rpm/s", 1.0, ("ramp",)),
    ("Held speed", "hold_rpm", 800, 15000, 0, "rpm", 1.0, ("hold",)),
    ("Held for", "hold_s", 3, 120, 0, "s", 1.0, ("hold",)),
    ("Grade", "grade", -20, 35, 1, "%", 0.01, ("road", "climb")),
    ("Tow load", "tow_kg", 0, 20000, 0, "kg", 1.0, ("road", "climb")),
    ("Speed", "climb_km_h", 4, 160, 1, "km/h", 1.0, ("climb",)),
    ("For", "climb_s", 20, 3600, 0, "s", 1.0, ("climb",)),
    ("Cool-down before", "cool_down_s", 0, 3600, 0, "s", 1.0, ()),
)


class BenchView(View):
    """The day, how the next runs are made, on what, with which fuel, and what ails the vehicle."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Bench")
        self.window_ = window
        self.came_from = "dyno"
        self.back = act("Back", self._back)
        self.head.addWidget(self.back)
        self.day = Day()
        self.column.addWidget(self.day)
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        self.column.addWidget(self.fault)
        self.faults = FaultList(lambda key, severity: self._do(lambda b: b.set_fault(key, severity)))
        page = QFrame()
        page.setObjectName("sheet")
        self.columns = QBoxLayout(QBoxLayout.Direction.LeftToRight, page)
        self.columns.setContentsMargins(14, 10, 14, 10)
        self.columns.setSpacing(20)
        pair = QHBoxLayout()
        pair.setSpacing(20)
        first = QVBoxLayout()
        first.setSpacing(14)
        first.addLayout(self._air())
        first.addLayout(self._cell(), 1)
        pair.addLayout(first, 1)
        self.unit = UnitForm(lambda **values: self._do(lambda b: b.set_unit(**values)))
        second = QVBoxLayout()
        second.setSpacing(14)
        second.addLayout(self._run())
        second.addLayout(self.unit, 1)
        pair.addLayout(second, 1)
        self.columns.addLayout(pair, 3)
        self.columns.addWidget(self.faults, 2)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QFrame.Shape.NoFrame)
        scroll.setWidget(page)
        self.column.addWidget(scroll, 1)
        self.refresh_on(session.job_changed, session.bench_changed, session.units_changed)

    def resizeEvent(self, event) -> None:
        """Where it is narrow, the faults stand under the rest."""
        narrow = self.width() < NARROW_PX
        way = QBoxLayout.Direction.TopToBottom if narrow else QBoxLayout.Direction.LeftToRight
        self.columns.setDirection(way)
        super().resizeEvent(event)

    # -- what stands on the page

    def _air(self) -> Form:
        form = Form("Air")
        self.temperature = Number("Air temperature", -80.0, 200.0, 1, "", self._weather)
        self.pressure = Number("Air pressure", 0.0, 2000.0, 1, "", self._weather)
        self.humidity = Number("Relative humidity", 0.0, 100.0, 0, "%", self._weather)
        self.hour = Number("Hour at which the day begins", 0.0, 23.0, 0, "h", self._weather)
        self.drifts = Switch("Drifts through the day", self._weather)
        for name, field in (
            ("Temperature", self.temperature),
            ("Pressure", self.pressure),
            ("Humidity", self.humidity),
            ("Begins at", self.hour),
        ):
            form.line(name, field)
        form.wide(self.drifts)
        form.close()
        return form

    def _run(self) -> Form:
        form = self.run_form = Form("Run")
        self.kind = chooser(
            "How the vehicle is run",
            lambda: [(t.capitalize(), partial(self._set, kind=kind)) for kind, t in RUN_WORDS.items() if kind],
        )
        form.wide(self.kind)
        self.run_fields: dict[str, Number] = {}
        for name, key, low, high, decimals, unit, factor, _ in RUN_FIELDS:
            whole = key == "gear"

            def entered(value: float, key: str = key, factor: float = factor, whole: bool = whole) -> None:
                self._set(**{key: round(value) if whole else value * factor})

            self.run_fields[key] = Number(name, low, high, decimals, unit, entered)
            form.line(name, self.run_fields[key])
        self.knock = Switch("Record the raw knock sensor", lambda on: self._set(knock_signal=on))
        form.wide(self.knock)
        form.close()
        return form

    def _cell(self) -> Form:
        form = Form("Cell and tank")
        self.dyno = chooser(
            "Dyno", lambda: [(d.title.capitalize(), partial(self._enter_dyno, k)) for k, d in dynos().items()]
        )
        self.fuel = chooser("Fuel in the tank", self._fuels)
        self.fan = Number("Fan", 0.0, 100.0, 0, "%", lambda v: self._set(fan=v / 100.0))
        form.wide(self.dyno)
        form.line("Fan", self.fan)
        form.wide(self.fuel)
        self.heat = label("", "caption", wrap=True)
        form.wide(self.heat)
        form.close()
        return form

    def _fuels(self) -> list[tuple[str, Callable[[], None]]]:
        bench = self.session.bench
        if bench is None:
            return []
        usual: list[tuple[str, Callable[[], None]]] = [("Fuel of the slot", partial(self._fill, ""))]
        return usual + [(text, partial(self._fill, key)) for key, text in fuels_for(bench.plant).items()]

    # -- what a person does

    def _enter_dyno(self, key: str) -> None:
        self._do(lambda bench: bench.set_dyno(key))

    def _fill(self, fuel: str) -> None:
        self._do(lambda bench: bench.set_tank(fuel))

    def _do(self, change: Callable[[BenchState], object]) -> None:
        bench = self.session.bench
        if bench is None:
            return
        try:
            change(bench)
        except YarvicError as error:
            self.fault.setText(str(error))
            self.fault.show()
            self.refresh(keep_fault=True)
            return
        self.fault.hide()

    def _set(self, **values: Any) -> None:
        self._do(lambda bench: bench.set_run(**values))

    def _weather(self, _: object) -> None:
        units = self._units()

        def change(bench: BenchState) -> None:
            air = Air(
                float(to_canonical(self.pressure.value(), units["pressure"])),
                float(to_canonical(self.temperature.value(), units["temperature"])),
                self.humidity.value() / 100.0,
            )
            bench.set_weather(air, hour=self.hour.value(), drifts=self.drifts.isChecked())

        self._do(change)

    def _units(self) -> dict[str, str]:
        chosen = self.session.settings.units
        return {
            "temperature": chosen.get("temperature", "degC"),
            "pressure": chosen.get("pressure", "kPa"),
            "ratio": "%",
        }

    def _back(self) -> None:
        self.session.go(self.came_from)

    # -- showing

    def refresh(self, *, keep_fault: bool = False) -> None:
        """Show the bench as it stands."""
        bench = self.session.bench
        self.back.setText(f"Back to {STEP_TITLES[self.came_from]}")
        self.back.setAccessibleName(self.back.text())
        if not keep_fault:
            self.fault.hide()
        if bench is None:
            self.about.setText("open a job first")
            return
        self.about.setText(f"{bench.plant.name}, simulated: no real vehicle, cell or day")
        units = self._units()
        self.day.show_day(bench, units)
        air = bench.weather.air
        self.temperature.show_value(
            float(from_canonical(air.temperature_k, units["temperature"])), units["temperature"]
        )
        self.pressure.setDecimals(UNITS[units["pressure"]].decimals)
        self.pressure.show_value(float(from_canonical(air.pressure_pa, units["pressure"])), units["pressure"])
        self.humidity.show_value(air.relative_humidity * 100.0)
        self.hour.show_value(bench.weather.hour)
        show_switch(self.drifts, bench.weather.drifts)
        self._show_run(bench)
        show_choice(self.dyno, bench.dyno.title.capitalize())
        self.fan.show_value(bench.settings.fan * 100.0)
        tank = fuels_for(bench.plant).get(bench.tank, "fuel of the slot")
        show_choice(self.fuel, f"Tank: {tank}")
        self.heat.setText(self._limits_text(bench))
        self.faults.show_faults(bench)
        self.unit.show_unit(bench)

    def _show_run(self, bench: BenchState) -> None:
        s = bench.settings
        show_choice(self.kind, RUN_WORDS[s.kind].capitalize())
        for _, key, _, _, _, _, factor, kinds in RUN_FIELDS:
            self.run_fields[key].show_value(getattr(s, key) / factor)
            self.run_form.show_line(self.run_fields[key], not kinds or s.kind in kinds)
        show_switch(self.knock, s.knock_signal)
        self.knock.setVisible(bench.plant.kind != "turbo diesel")

    @staticmethod
    def _limits_text(bench: BenchState) -> str:
        d = bench.plant.driveline
        return (
            f"Gears 1 to {len(d.gear_ratios)}; the gearbox is rated {d.gearbox_rating_nm:.0f} N m at the crank. Dyno 1 and 2"
            " lose different shares between tyre and roller: compare gains, not numbers, from one to the other."
        )

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this page."""
        return [("Tab", "from field to field"), ("Esc, B", "back to where you came from")]

    def commands(self) -> list[Command]:
        """Commands of this page."""
        return [Command(self.back.text(), "Esc", self._back), Command("Reset the bench to default", "", self._usual)]

    def _usual(self) -> None:
        def change(bench: BenchState) -> None:
            for key in list(bench.faults):
                bench.set_fault(key, 0.0)
            bench.set_tank("")
            bench.set_dyno("north")
            bench.set_usual_run()
            bench.set_unit(**asdict(Around()))

        self._do(change)

    def escape(self) -> None:
        """Esc goes back; nothing is lost, for all that was entered holds already."""
        self._back()

    def main_widget(self) -> QWidget:
        """The way back takes the focus."""
        return self.back


def make(session: Session, window: Desk) -> BenchView:
    """The page of the bench."""
    return BenchView(session, window)
