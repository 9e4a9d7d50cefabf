"""What of the tour is about the unit beside its writing: the vault, and a log as it comes."""

from __future__ import annotations

from pathlib import Path

from yarvic.desk.driver import Driver
from yarvic.desk.views.flash import FlashView
from yarvic.desk.views.live import LiveView


class OfUnit:
    """On the carrier, whose unit holds what it was released with."""

    def __init__(self, driver: Driver) -> None:
        self.d = driver
        self.w = driver.window

    def whole(self, folder: Path) -> None:
        """Read and keep, look through the vault, log a run."""
        d, w = self.d, self.w
        d.open(folder / "wether.yarvic")
        bench = w.session.bench
        held = bench.holds() if bench is not None else None
        assert bench is not None and held is not None
        bench.unit.seconds_per_block = 0.0  # what is shown is what comes of it, not the wait
        d.rung(held.name)
        d.step(4)
        view = w.view("flash")
        assert isinstance(view, FlashView)
        d.click(view.write.read)
        d.idle()
        d.click(view.vault_word)
        d.wait("the vault", lambda: bool(view.vault.model.listed))
        view.vault.table.selectRow(0)
        d.settle()
        d.picture("vault")
        self.say("4 Flash, vault", f"{view.vault.count.text()}; {w.status.message.text()}")
        view.show_panel("")
        w.open_live()
        live = w.view("live")
        assert isinstance(live, LiveView)
        d.click(live.start)
        d.idle()
        d.picture("live-log")
        self.say("Live log", live.summary.text())

    def say(self, step: str, result: str) -> None:
        """A step with its result."""
        self.d.say(f"{step}: {result}")
