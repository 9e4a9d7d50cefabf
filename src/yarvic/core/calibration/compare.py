"""Differences between two calibrations."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.table import Scalar, Table, Text
from yarvic.core.physics import FloatArray

# What two numbers that went different ways may differ by and still be the same, as a share of them.
LEAST = 1e-12


@dataclass(frozen=True)
class Difference:
    """How one table or scalar differs: number of cells, least and greatest change (new less old)."""

    key: str
    title: str
    unit: str
    cells: int
    least: float
    greatest: float
    decimals: int
    axes: bool = False  # whether its break points moved
    texts: tuple[str, str] | None = None  # of a text: what it was, and what it is

    def sentence(self) -> str:
        """The difference in words, with its sign and unit."""
        if self.texts is not None:
            before, now = self.texts
            same = "its bytes behind the end changed" if before == now else f"“{before}” became “{now}”"
            return f"{self.title}: {same}"
        unit = "" if self.unit == "lambda" else f" {self.unit}"
        d = self.decimals
        if np.isnan(self.least):
            amount = "to or from what is no number"
        elif abs(self.least - self.greatest) < 0.5 * 10**-d:
            amount = f"by {self.greatest:+.{d}f}{unit}"
        else:
            amount = f"by {self.least:+.{d}f} to {self.greatest:+.{d}f}{unit}"
        cells = "1 cell" if self.cells == 1 else f"{self.cells} cells"
        if self.axes:
            return f"{self.title}: break points moved" + (f", {cells} {amount}" if self.cells else "")
        return f"{self.title}: {cells} {amount}"


def compare(old: Calibration, new: Calibration, keys: Iterable[str] | None = None) -> list[Difference]:
    """All tables, values and texts that differ, in the layout's order; `keys` are those that can, where that is known."""
    found = []
    for key in [*new.tables, *new.scalars, *new.texts] if keys is None else keys:
        if key in new.tables:
            found += _of_tables(old.table(key), new.tables[key])
        elif key in new.scalars:
            before, now = old.scalar(key), new.scalars[key]
            if _differ(np.array(before.value), np.array(now.value)).any():
                step = now.value - before.value
                found.append(Difference(key, now.title, now.unit, 1, step, step, now.decimals))
        elif key in new.texts:
            found += _of_texts(old.held(key), new.texts[key])
    return found


def compare_images(old: Image, new: Image) -> dict[str, list[Difference]]:
    """By slot, the tables, values and texts that differ between two images of one layout."""
    return {slot: compare(old[slot], new[slot], old.changed_keys(new, slot)) for slot in new}


def _of_texts(before: Table | Scalar | Text, now: Text) -> list[Difference]:
    if not isinstance(before, Text) or (before.text, before.raw) == (now.text, now.raw):
        return []
    return [Difference(now.key, now.title, "", 1, np.nan, np.nan, 0, texts=(before.text, now.text))]


def _of_tables(before: Table, now: Table) -> list[Difference]:
    if before.values.shape != now.values.shape:
        return [Difference(now.key, now.title, now.unit, now.values.size, np.nan, np.nan, now.decimals)]
    moved = not (np.array_equal(before.x.values, now.x.values) and np.array_equal(before.y.values, now.y.values))
    differ = _differ(before.values, now.values)
    if not differ.any():
        return [Difference(now.key, now.title, now.unit, 0, 0.0, 0.0, now.decimals, moved)] if moved else []
    change = (now.values - before.values)[differ]
    change = change[np.isfinite(change)]
    low, high = (float(change.min()), float(change.max())) if change.size else (np.nan, np.nan)
    return [Difference(now.key, now.title, now.unit, int(differ.sum()), low, high, now.decimals, moved)]


def _differ(one: FloatArray, other: FloatArray) -> NDArray[np.bool_]:
    return ~np.isclose(one, other, rtol=LEAST, atol=0.0, equal_nan=True)
