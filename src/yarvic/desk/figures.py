"""Draws the figures of docs/bench.md from the simulated engines themselves."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QImage, QPainter, QPen, QPolygonF

from yarvic.bench.cell import Weather
from yarvic.bench.maps import EngineMap, compressor_lines, engine_map
from yarvic.bench.plant import NaturalPetrol
from yarvic.bench.rig import Rig, usual_settings
from yarvic.bench.unit import SimulatedUnit
from yarvic.bench.vehicles import VEHICLES, layout_text, plant_for, stock_image
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.physics import FloatArray
from yarvic.core.physics.air import Air
from yarvic.core.units import from_canonical
from yarvic.desk.theme import CAPTION_PX, font, mix, tokens

DAY = Air(97_400.0, 293.15, 0.5)
GRAMS_PER_KWH = 3.6e9  # of a kg/J
PEDALS = np.array([0.2, 0.35, 0.5, 0.65, 0.8, 1.0])
COLUMNS = 9
WIDTH, HEIGHT = 1080, 300
LINES = 7


def rig_of(name: str) -> Rig:
    """A shipped vehicle as it came, on a mild day that does not drift."""
    layout = parse_layout(layout_text(name))
    unit = SimulatedUnit(layout, stock_image(name))
    return Rig(plant_for(layout.family), unit, layout.sets[0], Weather(DAY, drifts=False))


class Sheet:
    """A picture with panels side by side."""

    def __init__(self, panels: int) -> None:
        self.image = QImage(WIDTH, HEIGHT, QImage.Format.Format_RGB32)
        self.image.fill(tokens().color("sheet"))
        self.painter = QPainter(self.image)
        self.painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        self.width = WIDTH / panels

    def text(
        self, x: float, y: float, words: str, *, token: str = "quiet", bold: bool = False, right: bool = False
    ) -> None:
        """A line of text, its left or right end at x."""
        self.painter.setFont(font(CAPTION_PX, bold=bold))
        self.painter.setPen(tokens().color(token))
        width = self.painter.fontMetrics().horizontalAdvance(words)
        self.painter.drawText(QPointF(x - width if right else x, y), words)

    def grid(
        self, panel: int, title: str, speeds: FloatArray, rows: FloatArray, values: FloatArray, digits: int
    ) -> None:
        """A table whose cells are tinted by one hue from the least to the most."""
        left, top = panel * self.width + 52, 46.0
        cell_w = (self.width - 64) / speeds.size
        cell_h = (HEIGHT - 92) / rows.size
        low, high = float(np.nanmin(values)), float(np.nanmax(values))
        self.text(left, 22, title, token="ink", bold=True)
        for j in range(rows.size):
            y = top + (rows.size - 1 - j) * cell_h
            self.text(left - 6, y + cell_h / 2 + 4, f"{rows[j] * 100:.0f} %", right=True)
            for i in range(speeds.size):
                box = QRectF(left + i * cell_w, y, cell_w - 1, cell_h - 1)
                value = values[j, i]
                share = 0.0 if np.isnan(value) else (value - low) / max(high - low, 1e-12)
                self.painter.fillRect(box, _tint(share))
                number = "–" if np.isnan(value) else f"{value:.{digits}f}"
                self.painter.setPen(tokens().color("ink"))
                self.painter.setFont(font(CAPTION_PX - 1))
                self.painter.drawText(box, Qt.AlignmentFlag.AlignCenter, number)
        for i in range(0, speeds.size, 2):
            self.text(left + i * cell_w, HEIGHT - 30, f"{speeds[i]:,.0f}")
        self.text(left, HEIGHT - 12, "engine speed, rpm; up: pedal or throttle")

    def save(self, path: Path) -> None:
        """Write the picture."""
        self.painter.end()
        self.image.save(str(path))


def _tint(share: float) -> QColor:
    return mix(tokens().color("sheet"), tokens().color("working"), 0.08 + 0.52 * share)


def draw_engine(name: str, found: EngineMap, path: Path) -> None:
    """Torque, specific consumption and exhaust temperature over speed and pedal."""
    sheet = Sheet(3)
    sheet.grid(0, f"{name}: torque at the crank, N m", found.speed_rpm, found.pedal, found.torque_nm, 0)
    grams = found.consumption_kg_per_j * GRAMS_PER_KWH
    grams[grams > 900.0] = np.nan  # near no load the number says nothing
    sheet.grid(1, "Specific consumption, g/kWh", found.speed_rpm, found.pedal, grams, 0)
    celsius = np.asarray(from_canonical(found.exhaust_k, "degC"))
    sheet.grid(2, "Exhaust temperature, degC", found.speed_rpm, found.pedal, celsius, 0)
    sheet.save(path)


def draw_compressor(name: str, rig: Rig, path: Path) -> None:
    """Lines of constant rotor speed, tinted by efficiency, and where a pull runs."""
    plant = rig.plant
    assert not isinstance(plant, NaturalPetrol)
    log, _ = rig.pull(usual_settings(plant))
    speed = log.channel("engine_speed")
    t = speed.time_s[: int(np.argmax(speed.values))]
    run_flow, run_ratio = log.at("air_flow", t), log.at("boost_pressure", t) / rig.air.pressure_pa
    most_flow, most_ratio = round(1.6 * float(np.nanmax(run_flow)), 2), 3.2
    tips = np.linspace(160.0, 460.0, LINES)
    flows = np.linspace(0.004, most_flow, 120)
    ratios, efficiency = compressor_lines(plant, tips / plant.turbo.wheel_radius_m, flows)
    sheet = Sheet(1)
    left, bottom, width, height = 70.0, HEIGHT - 46.0, WIDTH - 330.0, HEIGHT - 90.0

    def place(flow: float, ratio: float) -> QPointF:
        return QPointF(left + flow / most_flow * width, bottom - (ratio - 1.0) / (most_ratio - 1.0) * height)

    sheet.text(left, 22, f"{name}: compressor, pressure ratio over air flow", token="ink", bold=True)
    for ratio in (1.0, 1.5, 2.0, 2.5, 3.0):
        sheet.text(left - 8, place(0.0, ratio).y() + 4, f"{ratio:.1f}", right=True)
    for flow in np.arange(0.0, most_flow, 0.05):
        sheet.text(place(float(flow), 1.0).x() - 8, bottom + 18, f"{flow * 3600:.0f}")
    sheet.text(left, bottom + 36, "air flow, kg/h")
    painter = sheet.painter
    for line, (tip, line_ratio, line_efficiency) in enumerate(zip(tips, ratios, efficiency, strict=True)):
        inside = (line_ratio > 1.0) & (line_ratio < most_ratio)
        for i in np.flatnonzero(inside[:-1] & inside[1:]):
            share = (line_efficiency[i] - 0.30) / (plant.turbo.efficiency_best - 0.30)
            painter.setPen(QPen(_tint(float(share) ** 2 * 1.6), 4))
            painter.drawLine(place(flows[i], line_ratio[i]), place(flows[i + 1], line_ratio[i + 1]))
        if inside.any():
            first = int(np.flatnonzero(inside)[0])
            spot = place(flows[first], line_ratio[first])
            if line % 2 == 0:
                sheet.text(spot.x() + 4, spot.y() - 6, f"{tip:.0f} m/s")
    painter.setPen(QPen(tokens().color("reference"), 2, Qt.PenStyle.DashLine))
    good = np.isfinite(run_flow) & np.isfinite(run_ratio) & (run_ratio >= 1.0)
    painter.drawPolyline(QPolygonF([place(f, r) for f, r in zip(run_flow[good], run_ratio[good], strict=True)]))
    x = left + width + 24
    for n, words in enumerate(
        (
            "Lines: speed of the wheel's tip.",
            f"Darkest: efficiency {plant.turbo.efficiency_best:.2f}; it falls to",
            "both sides in islands, and past the",
            "choke the line drops away.",
            "Dashed: the stock map's pull.",
        )
    ):
        sheet.text(x, 70 + 20 * n, words)
    sheet.save(path)


def draw_all(folder: Path) -> None:
    """All figures into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    for name in VEHICLES:
        rig = rig_of(name)
        habit = rig.plant.habit
        speeds = np.round(np.linspace(habit.start_rpm, habit.end_rpm, COLUMNS), -1)
        draw_engine(rig.plant.name, engine_map(rig, speeds, PEDALS), folder / f"{name}-map.png")
        if not isinstance(rig.plant, NaturalPetrol):
            draw_compressor(rig.plant.name, rig_of(name), folder / f"{name}-compressor.png")


def main() -> None:
    """Draw into the folder named on the command line."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from yarvic.desk.app import application
    from yarvic.desk.theme import apply_theme

    apply_theme(application(), "paper")
    draw_all(Path(sys.argv[1]))


if __name__ == "__main__":
    main()
