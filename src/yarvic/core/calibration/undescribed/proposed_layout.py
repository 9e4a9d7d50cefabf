"""A layout written from places that a person confirmed, as text to be named, scaled and corrected by hand."""

from __future__ import annotations

import json
from collections.abc import Iterable

from yarvic.core.calibration.layout_file import FORMAT, parse_layout
from yarvic.core.calibration.undescribed.byte_order import Order
from yarvic.core.calibration.undescribed.discover import FoundAxis, FoundTable


def proposed_layout(family: str, byte_order: Order, base: int, size: int, tables: Iterable[FoundTable]) -> str:
    """A layout (docs/layout-file.md) of tables in raw counts; an unknown axis counts its points from nought.

    `base` is the address of the image's first byte, `size` how many there are. Raises CalibrationError where that is no
    layout, such as a family without a name.
    """
    lines = [
        "# Tables that were looked for in an image and confirmed. Names, units, factors and checksums are to be filled in.",
        f'format = "{FORMAT}"',
        f"family = {json.dumps(family)}",
        f'byte_order = "{byte_order}"',
        f"base = 0x{base:X}",
        f"size = 0x{size:X}",
    ]
    for table in sorted(tables, key=lambda t: t.address):
        at = table.address + base
        lines += [
            "",
            f"# confidence {table.confidence * 100:.0f} %",
            "[[entries]]",
            f'key = "table_{at:X}"',
            f'title = "Table at 0x{at:X}, {table.rows} x {table.columns}"',
            'kind = "map"',
            f"address = 0x{at:X}",
            f'storage = "{table.storage}"',
            f"x = {_axis(table.x, table.columns, base)}",
            f"y = {_axis(table.y, table.rows, base)}",
        ]
    text = "\n".join(lines) + "\n"
    parse_layout(text, source="proposed layout")
    return text


def _axis(axis: FoundAxis | None, count: int, base: int) -> str:
    if axis is None:
        return f'{{ kind = "fixed", start = 0, step = 1, count = {count}, title = "unknown" }}'
    return f'{{ kind = "stored", address = 0x{axis.address + base:X}, storage = "{axis.storage}", count = {axis.count} }}'
