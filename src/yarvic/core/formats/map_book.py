"""A revision as a printable book (HTML): where it comes from and why, then every table, with what differs from another."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from html import escape

import numpy as np

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.grouping import group_order, groups_of
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.table import Axis, Table

_STYLE = """
body { font: 10pt sans-serif; margin: 16mm; color: #23272b; }
h1 { font-size: 16pt; } h2 { font-size: 13pt; margin-top: 9mm; } h3 { font-size: 10.5pt; margin: 5mm 0 1mm; }
table { border-collapse: collapse; page-break-inside: avoid; } p.why { margin: 0 0 1mm; }
th, td { border: 1px solid #d9d3c7; padding: 1px 5px; text-align: right; font-size: 8pt; }
th { background: #f5f2ec; font-weight: normal; } td.moved, th.moved { font-weight: bold; background: #e3ebf0; }
sup { color: #1e5a7a; font-size: 6pt; } .quiet { color: #64696a; }
@media print { h2 { page-break-before: always; } h2:first-of-type { page-break-before: auto; } }
"""


@dataclass(frozen=True)
class Reason:
    """A line of a revision's way: its name, when, by whom, and why."""

    name: str
    date: str
    author: str
    reason: str


def map_book(
    image: Image,
    revision: str,
    title: str,
    reasons: Sequence[Reason],
    other: Image | None = None,
    other_name: str = "",
) -> str:
    """The book as one HTML document. Against `other` each cell that differs stands out, with its difference."""
    layout = image.layout
    parts = [
        "<!DOCTYPE html><html lang='en'><head><meta charset='utf-8'>",
        f"<title>{escape(title)}, {escape(revision)}</title><style>{_STYLE}</style></head><body>",
        f"<h1>{escape(title)}: maps of {escape(revision)}</h1>",
        f"<p class='quiet'>{escape(layout.family)}"
        + (f"; what differs from {escape(other_name)} stands out, with its difference" if other is not None else "")
        + "</p>",
        *(
            f"<p class='why'><b>{escape(r.name)}</b>, {escape(r.date)}, {escape(r.author)}: {escape(r.reason)}</p>"
            for r in reasons
        ),
    ]
    groups = groups_of(layout)
    place = {name: n for n, name in enumerate(group_order(layout))}
    ordered = sorted(layout.entries, key=lambda e: place[groups[e.key]])
    for slot in layout.sets:
        maps, was = image[slot], other[slot] if other is not None else None
        last = ""
        for entry in ordered:
            if groups[entry.key] != last:
                last = groups[entry.key]
                parts.append(f"<h2>{escape(last)}{f', {escape(slot)}' if layout.slots else ''}</h2>")
            parts.append(_of_entry(maps, was, entry.key))
    return "".join([*parts, "</body></html>\n"])


def _of_entry(maps: Calibration, was: Calibration | None, key: str) -> str:
    if key in maps.scalars:
        value = maps.scalars[key]
        text = f"<h3>{escape(value.title)}: {escape(value.shown())} {escape(value.unit)}"
        if was is not None and was.scalars[key].value != value.value:
            text += f" <span class='quiet'>(before: {escape(was.scalars[key].shown())})</span>"
        return f"{text}</h3>"
    if key in maps.texts:
        now, before = maps.texts[key], was.texts[key] if was is not None else None
        text = f"<h3>{escape(now.title)}: {escape(now.text)}"
        if before is not None and before.raw != now.raw:
            text += f" <span class='quiet'>(before: {escape(before.text)})</span>"
        return f"{text}</h3>"
    return _of_table(maps.table(key), was.table(key) if was is not None else None)


def _of_table(table: Table, was: Table | None) -> str:
    d, words = table.decimals, table.storing.words
    same = was is not None and was.values.shape == table.values.shape
    head = _heads(table.x, was.x if same and was is not None else None)
    sides = _heads(table.y, was.y if same and was is not None else None)
    axes = " by ".join(f"{a.title.lower()} [{a.unit}]" for a in (table.x, table.y) if a.title)
    rows = []
    for r, side in enumerate(sides):
        cells = []
        for c, value in enumerate(table.values[r]):
            shown = (words.word(float(value)) or f"{value:g}") if words is not None else f"{value:.{d}f}"
            moved = ""
            if same and was is not None and not _alike(value, was.values[r, c]):
                moved = f"<sup>{value - was.values[r, c]:+.{d}f}</sup>"
            cells.append(f"<td{' class=moved' if moved else ''}>{moved}{escape(shown)}</td>")
        rows.append(f"<tr>{'<th></th>' if table.is_curve else side}{''.join(cells)}</tr>")
    note = ""
    if was is not None and not same:
        note = " <span class='quiet'>(another number of break points before)</span>"
    elif any("class=moved" in h for h in (*head, *sides)):
        note = " <span class='quiet'>(break points moved: differences of cells are from place to place)</span>"
    return (
        f"<h3>{escape(table.title)} [{escape(table.unit)}] <span class='quiet'>{escape(axes)}</span>{note}</h3>"
        f"<table><tr><th></th>{''.join(head)}</tr>{''.join(rows)}</table>"
    )


def _heads(axis: Axis, was: Axis | None) -> list[str]:
    """The break points of an axis as heads; one that moved stands out, with what it was."""
    found = []
    for n, value in enumerate(axis.values):
        before = was.values[n] if was is not None and was.values[n] != value else None
        sup = f"<sup>was {before:g}</sup>" if before is not None else ""
        found.append(f"<th{' class=moved' if sup else ''}>{sup}{value:g}</th>")
    return found


def _alike(one: float, other: float) -> bool:
    return bool(one == other or (np.isnan(one) and np.isnan(other)))
