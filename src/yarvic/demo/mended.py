"""The maps that the demo's stories release, without their jobs: engines as they leave the shop."""

from __future__ import annotations

from functools import cache

from yarvic.bench.vehicles import layout_text, stock_image
from yarvic.core.calibration.image import pack, unpack
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.demo import fieldfare, ptarmigan, wether
from yarvic.demo.story import Change

# What each story changes up to its release: tables, and scalars.
_CHANGES: dict[str, tuple[tuple[Change, ...], dict[str, float]]] = {
    "ptarmigan": ((ptarmigan.fuel_to_target,), {}),
    "wether": ((wether.clean,), {}),
    "fieldfare": ((fieldfare.lean_the_top, fieldfare.feed_the_middle), {"intake_switch": 9050.0}),
}
VEHICLES = tuple(_CHANGES)


@cache
def mended_image(name: str) -> bytes:
    """The image that a demo vehicle is released with."""
    layout = parse_layout(layout_text(name))
    stock = stock_image(name)
    slots = {slot: unpack(stock, layout, slot) for slot in layout.sets}
    slot = next(iter(layout.sets))
    maps = slots[slot]
    changes, scalars = _CHANGES[name]
    for change in changes:
        for table, _ in change(maps):
            maps = maps.with_table(table)
    for key, value in scalars.items():
        maps = maps.with_scalar(maps.scalar(key).with_value(value))
    return pack({**slots, slot: maps}, layout, "mended", stock)
