"""Taking a table's cells from another table, read where they stand on its own axes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from yarvic.core.calibration.cells import Mask, set_cells
from yarvic.core.calibration.table import Axis, Table
from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, convert

Way = Literal["copy", "scale"]


@dataclass(frozen=True)
class Taken:
    """The table that came of it, and how many of the cells lay beyond the other's axes, where its end was taken."""

    table: Table
    beyond: int


def taken_from(table: Table, mask: Mask, other: Table, way: Way) -> Taken:
    """The cells selected take the other's values ("copy") or are multiplied by them ("scale", per cent as hundredths).

    Each is read where the cell stands on the other's axes, with straight lines between. Raises CalibrationError where
    an axis or a unit of the other has no like here.
    """
    at, beyond = _places(table, other)
    found = np.asarray(other.look_up(*at), dtype=np.float64)
    if way == "copy":
        if other.unit != table.unit:
            found = np.asarray(_in_unit(found, other.unit, table.unit, other.title), dtype=np.float64)
        new = found
    else:
        if other.unit not in ("", "%", "-"):
            raise CalibrationError(
                f"its values are in {other.unit}: they are no factors",
                concerns=other.title,
                remedy="Copy it instead.",
            )
        new = table.values * (found / 100.0 if other.unit == "%" else found)
    return Taken(set_cells(table, mask, new), int((beyond & mask).sum()))


def _in_unit(values: FloatArray, unit: str, wanted: str, title: str) -> FloatArray:
    if unit not in UNITS or wanted not in UNITS or UNITS[unit].quantity != UNITS[wanted].quantity:
        raise CalibrationError(
            f"it is in {unit or 'no unit'}, not in {wanted or 'no unit'}",
            concerns=title,
            remedy="Choose a like table.",
        )
    return np.asarray(convert(values, unit, wanted), dtype=np.float64)


def _places(table: Table, other: Table) -> tuple[tuple[FloatArray, FloatArray], Mask]:
    """Where each cell of a table stands on the other's axes, and which stand beyond them."""
    columns, rows = np.meshgrid(table.x.values, table.y.values)
    own = [(table.x, columns)] if table.is_curve else [(table.x, columns), (table.y, rows)]
    beyond = np.zeros(table.values.shape, dtype=bool)
    places: list[FloatArray] = []
    used: list[int] = []
    for axis in (other.x,) if other.is_curve else (other.x, other.y):
        like = [n for n, (mine, _) in enumerate(own) if _alike(mine, axis)]
        if len(like) != 1 or like[0] in used:
            raise CalibrationError(
                f"its axis {axis.title} in {axis.unit or 'no unit'} has no like in {table.title}",
                concerns=other.title,
                remedy="Choose a table over the same axes.",
            )
        used.append(like[0])
        mine, values = own[like[0]]
        if mine.unit != axis.unit:
            values = _in_unit(values, mine.unit, axis.unit, axis.title)
        beyond |= (values < axis.values[0]) | (values > axis.values[-1])
        places.append(np.asarray(values, dtype=np.float64))
    if other.is_curve:
        places.append(np.zeros(table.values.shape))
    return (places[0], places[1]), beyond


def _alike(one: Axis, other: Axis) -> bool:
    """Whether two axes stand for the same thing: by the channel that measures them, else by shared axis or title."""
    if one.input and other.input:
        return one.input == other.input
    if one.of and one.of == other.of:
        return True
    titles = one.title.strip().casefold() == other.title.strip().casefold() != ""
    return titles and (
        one.unit == other.unit
        or (one.unit in UNITS and other.unit in UNITS and UNITS[one.unit].quantity == UNITS[other.unit].quantity)
    )
