"""The page for the owner as a PDF."""

from __future__ import annotations

import io

from yarvic.core.checks.for_owner import CAUTION, OwnersPage
from yarvic.core.release.paper import HEIGHT, MARGIN, WIDTH, fonts, paragraph


def owners_pdf(page: OwnersPage) -> bytes:
    """The page as a PDF."""
    from reportlab.lib.pagesizes import A4
    from reportlab.pdfgen.canvas import Canvas

    out = io.BytesIO()
    canvas = Canvas(out, pagesize=A4, invariant=1)
    canvas.setTitle(f"{page.title}, {page.revision}: for the owner")
    fonts()
    y = HEIGHT - MARGIN
    canvas.setFont("Sheet-Bold", 15)
    canvas.drawString(MARGIN, y - 12, page.title)
    canvas.setFont("Sheet", 10)
    canvas.drawRightString(WIDTH - MARGIN, y - 12, f"map {page.revision}")
    y -= 40
    if page.simulated:
        y = paragraph(canvas, y, "SIMULATED: measured on the simulated bench, not on a vehicle.", ())
    y = paragraph(canvas, y, "In a sentence", (page.headline,), 12.0)
    for heading, lines in page.parts:
        y = paragraph(canvas, y - 6, heading, lines, 10.0)
    paragraph(canvas, y - 12, "", (CAUTION,))
    canvas.save()
    return out.getvalue()
