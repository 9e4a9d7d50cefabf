"""Differences between two calibrations."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.calibration.calibration import Calibration


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

    def sentence(self) -> str:
        """The difference in words, with its sign and unit."""
        unit = "" if self.unit == "lambda" else f" {self.unit}"
        d = self.decimals
        if abs(self.least - self.greatest) < 0.5 * 10**-d:
            amount = f"by {self.greatest:+.{d}f}{unit}"
        else:
            amount = f"by {self.least:+.{d}f} to {self.greatest:+.{d}f}{unit}"
        cells = "1 cell" if self.cells == 1 else f"{self.cells} cells"
        return f"{self.title}: {cells} {amount}"


def compare(old: Calibration, new: Calibration) -> list[Difference]:
    """All tables and scalars that differ, in the order of the layout."""
    found = []
    for key, table in new.tables.items():
        before = old.table(key)
        if before.values.shape != table.values.shape:
            found.append(Difference(key, table.title, table.unit, table.values.size, np.nan, np.nan, table.decimals))
            continue
        change = table.values - before.values
        changed = change[np.abs(change) > 1e-9]
        if changed.size:
            low, high = float(changed.min()), float(changed.max())
            found.append(Difference(key, table.title, table.unit, changed.size, low, high, table.decimals))
    for key, scalar in new.scalars.items():
        step = scalar.value - old.scalar(key).value
        if abs(step) > 1e-9:
            found.append(Difference(key, scalar.title, scalar.unit, 1, step, step, scalar.decimals))
    return found
