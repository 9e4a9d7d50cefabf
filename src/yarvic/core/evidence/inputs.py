"""What measures an axis: the channel of its input, by the name that its description gives and the unit that it is in."""

from __future__ import annotations

from collections.abc import Mapping

from yarvic.core.calibration.layout import Axis, Entry, Layout
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.dictionary import read_header
from yarvic.core.units import UNITS


def with_inputs(layout: Layout) -> Layout:
    """The layout with the channels of its axes proposed, where a name says for certain and the unit measures it.

    What a person or the layout's writer said stays. A proposal is marked as one: `input_said` is False.
    """
    cache: dict[tuple[str, str], str] = {}
    units = {a.key: (a.title, a.unit) for a in layout.axes}

    def of(axis: Axis | None) -> Axis | None:
        if axis is None or axis.input_said:
            return axis
        title, unit = axis.title, axis.unit
        if axis.kind == "shared":
            shared = units.get(axis.of, ("", ""))
            title, unit = title or shared[0], unit or shared[1]
        key = title, unit
        if key not in cache:
            cache[key] = input_of(title, unit)
        return axis if cache[key] == axis.input else axis.model_copy(update={"input": cache[key]})

    entries: list[Entry] = []
    for entry in layout.entries:
        x, y = of(entry.x), of(entry.y)
        same = x is entry.x and y is entry.y
        entries.append(entry if same else entry.model_copy(update={"x": x, "y": y}))
    return layout.changed(entries=tuple(entries))


# Names that are usual for an axis and in no log, by the channel that they stand for.
_ALSO: Mapping[str, str] = {"load": "filling", "relative load": "filling", "rl": "filling", "nmot": "engine_speed"}


def input_of(title: str, unit: str) -> str:
    """The channel that a name and its unit stand for; empty where that is not certain, or the unit measures another
    thing.
    """
    header = read_header(title, unit)
    key = header.key if header.named is not None and header.named.certain and header.named.sign > 0 else ""
    key = key or _ALSO.get(title.strip().casefold(), "")
    if not key and unit in UNITS and UNITS[unit].quantity == "engine speed":
        key = "engine_speed"  # nothing else is an axis in this unit
    if key not in CHANNELS or unit not in UNITS or UNITS[unit].quantity != CHANNELS[key].quantity:
        return ""
    return key
