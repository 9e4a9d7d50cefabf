"""The day in the cell: temperature, pressure and humidity from its beginning on, and where the clock stands."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtWidgets import QFrame, QVBoxLayout

from yarvic.core.units import from_canonical
from yarvic.desk.theme import CAPTION_PX, tokens
from yarvic.desk.widgets.plot import add_chart, penned, sheet
from yarvic.desk.widgets.words import label
from yarvic.state.bench import BenchState

HOURS_SHOWN = 12.0
STEPS = 73
# What a strip shows: title, quantity, and the attribute of the air.
STRIPS = (
    ("Temperature", "temperature", "temperature_k"),
    ("Pressure", "pressure", "pressure_pa"),
    ("Humidity", "ratio", "relative_humidity"),
)


class Day(QFrame):
    """Three strips side by side over the hours to come."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self.setAccessibleName("The day in the cell")
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 6, 8, 4)
        column.setSpacing(2)
        self.summary = label("", "caption", wrap=True)
        column.addWidget(self.summary)
        self.plots = sheet()
        column.addWidget(self.plots, 1)
        self.strips = []
        for at, (title, _, _) in enumerate(STRIPS):
            plot = add_chart(self.plots, col=at, width=50)
            plot.getViewBox().setMouseEnabled(x=False, y=False)
            plot.getAxis("left").setStyle(maxTickLevel=0)
            curve = penned(plot.plot(), "working", 2)
            now = penned(pg.InfiniteLine(angle=90), "ink", 1, dashed=True)
            plot.addItem(now, ignoreBounds=True)
            self.strips.append((title, plot, curve, now))
        self.setFixedHeight(140)

    def show_day(self, bench: BenchState, units: dict[str, str]) -> None:
        """Draw the day that begins as the panel says, and the time of the clock."""
        weather = bench.weather
        hours = np.linspace(0.0, HOURS_SHOWN, STEPS)
        airs = [weather.at(h * 3600.0) for h in hours]
        elapsed = (bench.hour() - weather.hour) % 24.0
        for (title, plot, curve, now), (_, quantity, name) in zip(self.strips, STRIPS, strict=True):
            unit = units[quantity]
            values = np.asarray(from_canonical(np.array([getattr(a, name) for a in airs]), unit))
            curve.setData(weather.hour + hours, values)
            plot.setLabel("left", unit)
            plot.setTitle(title, size=f"{CAPTION_PX}px", color=tokens().quiet)
            pad = max(0.15 * float(np.ptp(values)), 0.3)
            plot.setYRange(float(values.min()) - pad, float(values.max()) + pad, padding=0)
            plot.setXRange(weather.hour, weather.hour + HOURS_SHOWN, padding=0.02)
            now.setPos(weather.hour + elapsed)
        clock = bench.hour()
        air = bench.air()
        shown = (
            f"{float(from_canonical(air.temperature_k, units['temperature'])):.1f} {units['temperature']}",
            f"{float(from_canonical(air.pressure_pa, units['pressure'])):.1f} {units['pressure']}",
            f"{air.relative_humidity * 100:.0f} %",
        )
        hour, minute = divmod(round(clock * 60.0), 60)
        self.summary.setText(
            f"Simulated weather by the hour. It is {hour:02d}:{minute:02d} in the cell: {', '.join(shown)}."
            " Runs and cool-downs let the day go on."
        )
