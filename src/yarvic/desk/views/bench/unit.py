"""What is around the simulated unit: its lock, where it lies, its battery, the engine."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from yarvic.desk.widgets.fields import Form, Number, Switch, show_switch
from yarvic.desk.widgets.words import chooser, show_choice
from yarvic.state.bench import BenchState

LOCKS = {"open": "Lock: open by its port", "once": "Lock: to be opened once", "bench": "Lock: bench only"}


class UnitForm(Form):
    """Also while the unit is written: that is when a maintainer falls off."""

    def __init__(self, changed: Callable[..., None]) -> None:
        super().__init__("Unit and battery")
        self.lock = chooser(
            "Lock of the unit",
            lambda: [(text, partial(changed, lock=key, opened=False)) for key, text in LOCKS.items()],
        )
        self.on_bench = Switch("Unit lies on the bench", lambda on: changed(on_bench=on))
        self.maintained = Switch("Maintainer holds the battery", lambda on: changed(maintained=on))
        self.charge = Number("Charge of the battery", 0.0, 100.0, 0, "%", lambda v: changed(charge=v / 100.0))
        self.engine = Switch("Engine runs", lambda on: changed(engine_runs=on))
        self.wide(self.lock)
        self.wide(self.on_bench)
        self.wide(self.maintained)
        self.line("Battery charge", self.charge)
        self.wide(self.engine)
        self.close()

    def show_unit(self, bench: BenchState) -> None:
        """As it stands."""
        around = bench.unit.around
        opened = ", opened" if around.lock == "once" and around.opened else ""
        show_choice(self.lock, f"{LOCKS[around.lock]}{opened}")
        show_switch(self.on_bench, around.on_bench)
        show_switch(self.maintained, around.maintained)
        self.charge.show_value(around.charge * 100.0)
        show_switch(self.engine, around.engine_runs)
