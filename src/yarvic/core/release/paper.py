"""Paper for what is handed over: A4, its fonts, paragraphs that go on to the next page."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

MARGIN = 48.0
WIDTH, HEIGHT = 595.28, 841.89  # A4 in points


def fonts() -> None:
    """Make the fonts known; twice does no harm."""
    # The free faces that reportlab carries with it; embedded, so that the sheet prints alike anywhere.
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    if "Sheet" not in pdfmetrics.getRegisteredFontNames():
        pdfmetrics.registerFont(TTFont("Sheet", "Vera.ttf"))
        pdfmetrics.registerFont(TTFont("Sheet-Bold", "VeraBd.ttf"))


def paragraph(canvas: Any, y: float, heading: str, lines: Sequence[str], size: float = 8.5) -> float:
    """A heading and its lines from `y` down; gives where the next one begins."""
    from reportlab.lib.utils import simpleSplit

    if heading:
        y = room(canvas, y, 30)
        canvas.setFont("Sheet-Bold", 9)
        canvas.drawString(MARGIN, y, heading)
        y -= 13
    for line in lines:
        if not line:
            continue
        for part in simpleSplit(line, "Sheet", size, WIDTH - 2 * MARGIN):
            y = room(canvas, y, size + 3.5)
            canvas.setFont("Sheet", size)
            canvas.drawString(MARGIN, y, part)
            y -= size + 3.0
    return y - 6


def room(canvas: Any, y: float, need: float) -> float:
    """Where to go on, so that there is room for so much: on the next page if need be."""
    if y - need > MARGIN:
        return y
    canvas.showPage()
    return HEIGHT - MARGIN
