"""Which table is in hand under Maps, of which slot, which of its cells, and how its numbers are shown."""

from __future__ import annotations

import numpy as np
from psygnal import Signal

from yarvic.core.calibration.cells import Mask
from yarvic.core.calibration.finding import Names
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.storing import steps
from yarvic.core.calibration.table import Table
from yarvic.core.checks.limits import default_limits
from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray, Value
from yarvic.core.units import UNITS, convert
from yarvic.state.results import PullResult, RevisionResults
from yarvic.state.selection import DRAFT
from yarvic.state.session import Session

SCALARS = "scalars"


class ShownTable:
    """What is shown. `changed`: another table, slot or comparison; `values_changed`: the numbers moved."""

    changed = Signal()
    values_changed = Signal()

    def __init__(self, session: Session) -> None:
        self.session = session
        self.key = ""
        self.row = self.column = 0
        self.mask: Mask = np.zeros((0, 0), dtype=bool)
        self._named: tuple[Layout | None, Names | None] = (None, None)

    def titles(self) -> list[tuple[str, str]]:
        """Keys and titles of everything that can be shown."""
        layout = self._layout()
        if layout is None:
            return []
        tables = [(e.key, e.named) for e in layout.entries if e.kind not in ("value", "text")]
        return [*tables, (SCALARS, "Limits and constants")]

    def _layout(self) -> Layout | None:
        s = self.session
        if s.job is None or not s.job.has_maps or (s.working == DRAFT and s.draft is None):
            return None
        return s.job.layout

    def layout(self) -> Layout:
        """The layout of the maps in hand. Raises CalibrationError where there are none."""
        found = self._layout()
        if found is None:
            raise CalibrationError("there are no maps", remedy="Open a job first.")
        return found

    def names(self) -> Names | None:
        """What all tables and values are called, to be searched; worked out once for a layout."""
        layout = self._layout()
        if layout is not self._named[0]:
            self._named = layout, Names(layout) if layout is not None else None
        return self._named[1]

    def table(self) -> Table | None:
        """The table in hand; None when the scalars are shown."""
        maps = self.session.calibration(self.session.working, self.session.slot)
        return maps.tables.get(self.key) if maps is not None else None

    def retard_limits_deg(self) -> tuple[float, float]:
        """From which retard on the job's checks watch, and from which they stop: the limits that they are judged by."""
        job = self.session.job
        rule = (job.sheet.limits_with(()) if job is not None else default_limits()).rules["knock_retard"]
        return rule.watch_canonical, rule.stop_canonical

    def display_unit(self, unit: str) -> str:
        """The unit in which numbers of a table unit are shown."""
        return self.session.settings.units.get(UNITS[unit].quantity, unit) if unit in UNITS else unit

    def decimals(self, table: Table) -> int:
        """Digits behind the point: as many as tell the table's steps apart in the unit in which it is shown."""
        shown = self.display_unit(table.unit)
        if shown == table.unit:
            return table.decimals
        origin, step = table.storing.origin, table.storing.step
        if not step > 0.0:
            return UNITS[shown].decimals
        origin, one = (float(convert(v, table.unit, shown)) for v in (origin, origin + step))
        return steps(one - origin, origin).decimals(UNITS[shown].decimals)

    def shown(self, table: Table) -> FloatArray:
        """The table's values in the display unit."""
        return np.asarray(self.shown_value(table.values, table.unit), dtype=np.float64)

    def shown_value(self, value: Value, unit: str) -> Value:
        """A number of a table unit in the unit in which it is shown; as it is where nobody knows its unit."""
        return convert(value, unit, self.display_unit(unit)) if unit in UNITS else value

    def entered(self, value: Value, unit: str) -> FloatArray:
        """Numbers in the unit in which they are shown, in the table's unit."""
        return np.asarray(convert(value, self.display_unit(unit), unit) if unit in UNITS else value, dtype=np.float64)

    def _scale(self, unit: str) -> float:
        """What a step of one in the table's unit is where it is shown."""
        return UNITS[unit].factor / UNITS[self.display_unit(unit)].factor if unit in UNITS else 1.0

    def shown_bounds(self, table: Table) -> tuple[float, float]:
        """The table's bounds in the display unit, the lower first."""
        low, high = sorted(float(self.shown_value(v, table.unit)) for v in (table.low, table.high))
        return low, high

    def bounds(self, table: Table) -> str:
        """The table's bounds in the display unit, in words."""
        unit, places = self.display_unit(table.unit), self.decimals(table)
        low, high = self.shown_bounds(table)
        if not np.isfinite([low, high]).any():
            return "none stated"
        return f"{round(low, places):g} to {round(high, places):g} {unit}".rstrip()

    def runs_of_slot(self, results: RevisionResults) -> list[PullResult]:
        """The runs that were made on the slot in hand; one of which nobody knows the slot belongs to none of several."""
        job = self.session.job
        if job is None:
            return []
        return [
            p
            for p in results.pulls
            if not p.evidence.is_sheet and job.sheet.vehicle.ran_on(self.session.slot, p.evidence.conditions)
        ]

    def cells_in_hand(self) -> Mask:
        """The cells selected, none where another table was shown when they were."""
        table = self.table()
        shape = table.values.shape if table is not None else (0, 0)
        return self.mask if self.mask.shape == shape else np.zeros(shape, dtype=bool)
