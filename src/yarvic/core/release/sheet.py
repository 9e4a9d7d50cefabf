"""The customer's sheet as PDF: before and after on the same axes, conditions, changes, fuel, cautions, waivers."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from yarvic.core.evidence.repeatability import MeanCurve
from yarvic.core.release.paper import HEIGHT, MARGIN, WIDTH, fonts, paragraph
from yarvic.core.units import from_canonical, unit


@dataclass(frozen=True)
class SheetContent:
    """What stands on the sheet. Sentences are complete; curves are corrected by `correction_line`."""

    shop: str
    title: str
    revision: str
    reason: str
    signer: str
    date: str
    before: MeanCurve | None
    after: MeanCurve
    before_name: str
    power_unit: str
    torque_unit: str
    correction_line: str
    gain_line: str
    comparison_line: str
    conditions: Sequence[str]
    changes: Sequence[str]
    fuels: Sequence[str]
    cautions: Sequence[str]
    waivers: Sequence[str]
    simulated: bool


def customer_sheet(content: SheetContent) -> bytes:
    """The sheet as a PDF of one page, or two when much was changed."""
    from reportlab.lib.pagesizes import A4
    from reportlab.pdfgen.canvas import Canvas

    out = io.BytesIO()
    canvas = Canvas(out, pagesize=A4, invariant=1)
    canvas.setTitle(f"{content.title}, {content.revision}")
    canvas.setAuthor(content.shop)
    fonts()
    y = _head(canvas, content)
    y = _curves(canvas, content, y)
    y = paragraph(canvas, y, "", [content.correction_line, content.comparison_line, content.gain_line])
    y = paragraph(canvas, y, "Measured under", content.conditions)
    y = paragraph(canvas, y, "Changed against stock", content.changes)
    y = paragraph(canvas, y, "Fuel required", content.fuels)
    if content.waivers:
        y = paragraph(canvas, y, "Waived by name", content.waivers)
    paragraph(canvas, y, "Cautions", content.cautions)
    canvas.save()
    return out.getvalue()


def _head(canvas: Any, c: SheetContent) -> float:
    y = HEIGHT - MARGIN
    canvas.setFont("Sheet-Bold", 15)
    canvas.drawString(MARGIN, y - 12, c.title)
    canvas.setFont("Sheet", 9)
    canvas.drawRightString(WIDTH - MARGIN, y - 4, c.shop)
    canvas.drawRightString(
        WIDTH - MARGIN, y - 16, f"signed by {c.signer}, {c.date}" if c.signer else "not signed yet"
    )
    y -= 34
    canvas.setFont("Sheet-Bold", 10)
    canvas.drawString(MARGIN, y, f"Map {c.revision}")
    canvas.setFont("Sheet", 9)
    canvas.drawString(MARGIN + 70, y, c.reason)
    if c.simulated:
        y -= 16
        canvas.setFont("Sheet-Bold", 9)
        canvas.drawString(MARGIN, y, "SIMULATED: measured on the simulated bench, not on a vehicle.")
    canvas.line(MARGIN, y - 8, WIDTH - MARGIN, y - 8)
    return float(y - 20)


def _curves(canvas: Any, c: SheetContent, top: float) -> float:
    height, left, right = 210.0, MARGIN + 30, WIDTH - MARGIN - 30
    bottom = top - height
    sets = [(c.after, False, c.revision)] + ([(c.before, True, c.before_name)] if c.before is not None else [])
    rpm = np.concatenate([s[0].speed_rpm for s in sets])
    low, high = float(rpm.min()), float(rpm.max())
    power = {name: from_canonical(m.power_w, c.power_unit) for m, _, name in sets}
    torque = {name: from_canonical(m.torque_nm, c.torque_unit) for m, _, name in sets}
    top_power = _ceiling(max(float(v.max()) for v in power.values()))
    top_torque = _ceiling(max(float(v.max()) for v in torque.values()))
    canvas.setLineWidth(0.4)
    canvas.rect(left, bottom, right - left, height)
    canvas.setFont("Sheet", 7)
    for i in range(6):
        y = bottom + height * i / 5
        canvas.setLineWidth(0.3)
        canvas.setStrokeGray(0.75)
        canvas.line(left, y, right, y)
        canvas.setStrokeGray(0)
        canvas.drawRightString(left - 3, y - 2, f"{top_torque * i / 5:.0f}")
        canvas.drawString(right + 3, y - 2, f"{top_power * i / 5:.0f}")
    for value in range(int(np.ceil(low / 1000)) * 1000, int(high) + 1, 1000):
        x = left + (value - low) / (high - low) * (right - left)
        canvas.line(x, bottom, x, bottom - 3)
        canvas.drawCentredString(x, bottom - 11, f"{value}")
    canvas.drawCentredString((left + right) / 2, bottom - 21, "engine speed, rpm")
    canvas.drawString(left - 28, top + 4, f"torque at the {c.after.basis}, {c.torque_unit}")
    canvas.drawRightString(right + 28, top + 4, f"power at the {c.after.basis}, {c.power_unit}")

    def draw(m: MeanCurve, values: Any, ceiling: float, dashed: bool, width: float) -> None:
        canvas.setLineWidth(width)
        canvas.setDash([4, 2] if dashed else [])
        path = canvas.beginPath()
        for i, (n, v) in enumerate(zip(m.speed_rpm, values, strict=True)):
            x = left + (n - low) / (high - low) * (right - left)
            y = bottom + v / ceiling * height
            (path.moveTo if i == 0 else path.lineTo)(x, y)
        canvas.drawPath(path)
        canvas.setDash([])

    for m, dashed, name in sets:
        draw(m, power[name], top_power, dashed, 1.6)
        draw(m, torque[name], top_torque, dashed, 0.8)
    canvas.setLineWidth(0.4)
    canvas.setFont("Sheet", 8)
    key = f"Solid: {c.revision}." + (f" Dashed: {c.before_name}." if c.before is not None else "")
    canvas.drawString(left, bottom - 36, f"{key} Thick: power. Thin: torque. Means of {c.after.count} pulls.")
    return bottom - 50


def _ceiling(value: float) -> float:
    """Top of an axis of five even steps, each a round number."""
    rough = max(value, 1.0) * 1.02 / 5.0
    power = 10.0 ** np.floor(np.log10(rough))
    step = next(m * power for m in (1.0, 2.0, 2.5, 4.0, 5.0, 10.0) if m * power >= rough)
    return float(5.0 * step)


def curve_peaks(curve: MeanCurve, power_unit: str, torque_unit: str) -> str:
    """Peaks of a mean curve in words, with the engine speeds at which they stand."""
    (p, at_p), (t, at_t) = curve.peak_power, curve.peak_torque
    power, torque = from_canonical(p, power_unit), from_canonical(t, torque_unit)
    return (
        f"{power:.{unit(power_unit).decimals}f} {power_unit} at {at_p:.0f} rpm,"
        f" {torque:.{unit(torque_unit).decimals}f} {torque_unit} at {at_t:.0f} rpm"
    )
