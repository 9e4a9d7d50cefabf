"""The Maps step: which table is shown, which cells are in hand, and what is done to them."""

from __future__ import annotations

import numpy as np

from yarvic.core.calibration.cells import Mask
from yarvic.core.calibration.table import Scalar, Table, Text
from yarvic.core.evidence.cells import CellEvidence
from yarvic.core.physics import FloatArray
from yarvic.state.axis_edits import AxisEdits
from yarvic.state.cell_evidence import EvidenceInCells
from yarvic.state.compared import Compared
from yarvic.state.doubts import Doubts
from yarvic.state.exporting import Exporting
from yarvic.state.history import History, Merging
from yarvic.state.listing import Listing
from yarvic.state.map_edits import MapEdits
from yarvic.state.session import Session
from yarvic.state.shown_table import SCALARS, ShownTable


class MapsState(ShownTable):
    """The table that is shown with all that is done to it, and what it is held against."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.compared = Compared(self)
        self.compared.changed.connect(lambda: self.changed.emit())
        self.cells = EvidenceInCells(self)
        self.doubts = Doubts(self, self.evidence)
        self.edits, self.axes = MapEdits(self, self.reference, self.doubts), AxisEdits(self)
        self.listing, self.files = Listing(self, self.compared), Exporting(self, self.compared)
        self.history, self.merging = History(self), Merging(self)
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

    def first(self) -> str:
        """The key of what is shown first: the spark, else the table that has another role, else the first."""
        layout = self._layout()
        if layout is None:
            return ""
        keys = [k for k, _ in self.titles()]
        by_role = [k for role in ("spark_advance", *layout.roles) for k in layout.of_role(role) if k in keys]
        return next(iter([*by_role, *keys]), "")

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

    def select(self, mask: Mask, row: int, column: int = 0) -> None:
        """Take cells selected; `row` and `column` are those that the slices draw strongly."""
        self.mask = mask
        self.row, self.column = row, column
