"""The Maps step: which table is shown, which cells are in hand, and what is done to them."""

from __future__ import annotations

import numpy as np
from psygnal import Signal

from yarvic.core.calibration.cells import Mask
from yarvic.core.calibration.finding import Names
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.storing import steps
from yarvic.core.calibration.table import Scalar, Table, Text
from yarvic.core.checks.limits import default_limits
from yarvic.core.errors import CalibrationError
from yarvic.core.evidence.cells import CellEvidence
from yarvic.core.physics import FloatArray, Value
from yarvic.core.units import UNITS, convert
from yarvic.state.axis_edits import AxisEdits
from yarvic.state.cell_evidence import EvidenceInCells
from yarvic.state.compared import Compared
from yarvic.state.doubts import Doubts
from yarvic.state.exporting import Exporting
from yarvic.state.history import History, Merging
from yarvic.state.listing import Listing
from yarvic.state.map_edits import MapEdits
from yarvic.state.results import PullResult, RevisionResults
from yarvic.state.selection import DRAFT
from yarvic.state.session import Session

SCALARS = "scalars"


class MapsState:
    """What Maps shows. `changed`: another table, slot or comparison; `values_changed`: the numbers moved."""

    changed = Signal()
    values_changed = Signal()

    def __init__(self, session: Session) -> None:
        self.session = session
        self.key = ""
        self.row = self.column = 0
        self.mask: Mask = np.zeros((0, 0), dtype=bool)
        self.edits, self.axes, self.listing = MapEdits(self), AxisEdits(self), Listing(self)
        self.doubts, self.history, self.merging = Doubts(self), History(self), Merging(self)
        self.files = Exporting(self)
        self._named: tuple[Layout | None, Names | None] = (None, None)
        self.compared = Compared(self)
        self.compared.changed.connect(lambda: self.changed.emit())
        self.cells = EvidenceInCells(self)
        session.draft_changed.connect(lambda: self.values_changed.emit())
        session.selection_changed.connect(lambda: self.changed.emit())
        session.units_changed.connect(lambda: self.changed.emit())
        session.results_changed.connect(self._forget)
        session.job_changed.connect(self._settle)
        self._settle()

    def _settle(self) -> None:
        """Show what is there: of another job what is shown first."""
        if self.key not in dict(self.titles()):
            self.key = self.first()
            self.listing.forget()
        self.compared.forget()
        self.history.forget()
        self.merging.cancel()

    def _forget(self) -> None:
        self.cells.forget()
        self.values_changed.emit()

    # -- what is shown

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

    def first(self) -> str:
        """The key of what is shown first: the spark, else the table that has another role, else the first."""
        layout = self._layout()
        if layout is None:
            return ""
        keys = [k for k, _ in self.titles()]
        by_role = [k for role in ("spark_advance", *layout.roles) for k in layout.of_role(role) if k in keys]
        return next(iter([*by_role, *keys]), "")

    def names(self) -> Names | None:
        """What all tables and values are called, to be searched; worked out once for a layout."""
        layout = self._layout()
        if layout is not self._named[0]:
            self._named = layout, Names(layout) if layout is not None else None
        return self._named[1]

    def find(self, key: str) -> None:
        """Show a table or a value that was found."""
        layout = self._layout()
        entry = layout.by_key.get(key) if layout is not None else None
        if entry is not None:
            self.choose(SCALARS if entry.kind in ("value", "text") else key)

    def choose(self, key: str) -> None:
        """Show another table."""
        if key != self.key:
            self.listing.went_from(self.key)
            self.key = key
            self.row = self.column = 0
            self.mask = np.zeros((0, 0), dtype=bool)
            self.changed.emit()

    def go_back(self) -> None:
        """Show what was shown before."""
        key = self.listing.back()
        if key in dict(self.titles()):
            self.choose(key)
            self.listing.back()  # not where it came from: the way back leads back only

    def step(self, by: int) -> None:
        """Show the next or the previous table."""
        keys = [k for k, _ in self.titles()]
        if self.key in keys:
            self.choose(keys[(keys.index(self.key) + by) % len(keys)])

    def choose_slot(self, slot: str) -> None:
        """Show another fuel slot."""
        if slot != self.session.slot:
            self.session.slot = slot
            self.changed.emit()

    def table(self) -> Table | None:
        """The table in hand; None when the scalars are shown."""
        maps = self.session.calibration(self.session.working, self.session.slot)
        return maps.tables.get(self.key) if maps is not None else None

    def reference(self) -> Table | None:
        """The same table of what it is held against."""
        return self.compared.reference_table(self.key)

    def value_keys(self) -> list[str]:
        """The keys of all values in hand, then those of the texts."""
        now = self.session.calibration(self.session.working, self.session.slot)
        return [*now.scalars, *now.texts] if now is not None else []

    def value(self, key: str) -> tuple[Scalar | Text | None, Scalar | Text | None]:
        """A value or text in hand, with that of what it is held against."""
        now = self.session.calibration(self.session.working, self.session.slot)
        other = self.compared.image()
        if now is None:
            return None, None
        then = None
        if other is not None:
            held = other[self.session.slot]
            then = held.scalars.get(key) or held.texts.get(key)
        return now.scalars.get(key) or now.texts.get(key), then

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

    def difference(self) -> FloatArray | None:
        """Working less reference in the display unit; None without a reference on the same axes."""
        now, then = self.table(), self.reference()
        if now is None or then is None or now.values.shape != then.values.shape:
            return None
        return np.asarray((now.values - then.values) * self._scale(now.unit), dtype=np.float64)

    def percent(self) -> FloatArray | None:
        """Working less reference in per cent of the reference's values as they are shown; NaN where those are nought."""
        now, then = self.table(), self.reference()
        if now is None or then is None or now.values.shape != then.values.shape:
            return None
        shown, before = self.shown(now), self.shown(then)
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(np.where(before != 0.0, (shown - before) / np.abs(before) * 100.0, np.nan))

    def evidence(self) -> CellEvidence | None:
        """Time and knock by cell, from the chosen runs; None while that is worked out, and where there is none."""
        facts = self.cells.facts()
        return facts.evidence if facts is not None else None

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

    def select(self, mask: Mask, row: int, column: int = 0) -> None:
        """Take cells selected; `row` and `column` are those that the slices draw strongly."""
        self.mask = mask
        self.row, self.column = row, column
