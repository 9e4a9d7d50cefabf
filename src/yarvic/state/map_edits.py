"""What is done to the maps in hand: each act is one step of the draft, one undo, all or nothing."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from psygnal import Signal

from yarvic.core.calibration.arithmetic import Formula, formula, worked
from yarvic.core.calibration.cells import (
    Along,
    Mask,
    copy_cells,
    fill_cells,
    interpolate_cells,
    set_cells,
    smooth_cells,
    step_cells,
)
from yarvic.core.calibration.other_tables import Way, taken_from
from yarvic.core.calibration.table import Axis, Scalar, Table
from yarvic.core.errors import CalibrationError, YarvicError
from yarvic.core.formats.cell_text import Pasted, read_cells, written_cells
from yarvic.core.physics import FloatArray
from yarvic.core.typed_numbers import parse_number
from yarvic.state.doubts import Doubts
from yarvic.state.selection import DRAFT
from yarvic.state.shown_table import ShownTable

LINES: Mapping[Along, str] = {"both": "both ways", "rows": "along the rows", "columns": "along the columns"}


@dataclass(frozen=True)
class Operation:
    """What is done to a table, in words, and what is asked of its cells before the storage rounds it (None: nothing)."""

    words: str
    of: Callable[[Table], Table]
    asked: Callable[[Table], FloatArray] | None = None


@dataclass(frozen=True)
class Preview:
    """What would come of an operation: cells that would change, their values before and after in the display unit, and
    how many are stored as another number than was asked.
    """

    words: str
    cells: int
    before: tuple[float, float]
    after: tuple[float, float]
    rounded: int
    decimals: int
    unit: str

    def sentence(self) -> str:
        """What would come of it, in words."""
        if not self.cells:
            return f"{self.words}: nothing changes"
        cells = "1 cell" if self.cells == 1 else f"{self.cells} cells"
        text = (
            f"{cells} {self.words}: {self._range(self.before)} becomes {self._range(self.after)} {self.unit}".rstrip()
        )
        if self.rounded:
            text += f"; {self.rounded} rounded to what is stored"
        return text

    def _range(self, ends: tuple[float, float]) -> str:
        low, high = (f"{v:.{self.decimals}f}" for v in ends)
        return low if low == high else f"{low} to {high}"


def _on_axis(axis: Axis, wanted: FloatArray, table: Table) -> list[int]:
    """Which break points some values are. Raises CalibrationError for one that is none."""
    found = []
    for value in wanted:
        near = int(np.argmin(np.abs(axis.values - value)))
        if not abs(axis.values[near] - value) <= 1e-6 * max(abs(value), 1.0) or near in found:
            raise CalibrationError(
                f"the clipboard's axis value {value:g} is no break point of {axis.title.lower() or 'the axis'}",
                concerns=table.title,
                remedy="Paste the cells without their axis values, or change the axis first.",
            )
        found.append(near)
    return found


class MapEdits:
    """Acts on the table, axis or value in hand. `done`: an edit was made; it carries the table before and after."""

    done = Signal(object, object)

    def __init__(self, maps: ShownTable, reference: Callable[[], Table | None], doubts: Doubts) -> None:
        self.maps, self._reference, self._doubts = maps, reference, doubts

    # -- what can be done

    def formula(self, text: str) -> Operation:
        """Arithmetic as it is typed, in the display unit. Raises CalibrationError with how to write it."""
        table, mask = self._in_hand()
        words = table.storing.words
        number = words.number(text.strip().removeprefix("=")) if words is not None else None
        if number is not None:
            return Operation(f"set to {text.strip().removeprefix('=').strip()}", lambda t: set_cells(t, mask, number))
        made = formula(text, self.maps.display_unit(table.unit))
        return Operation(
            made.words, lambda t: set_cells(t, mask, self._worked(made, t)), lambda t: self._worked(made, t)
        )

    def _worked(self, made: Formula, table: Table) -> FloatArray:
        maps = self.maps
        x, y = np.meshgrid(table.x.values, table.y.values)
        cells = {"value": maps.shown(table), "x": x, "y": y}
        reference = self._reference()
        if reference is not None and reference.values.shape == table.values.shape:
            cells["reference"] = maps.shown(reference)
        return maps.entered(worked(made, cells), table.unit)

    def between(self, along: Along = "both") -> Operation:
        """Draw the selection straight between its ends."""
        _, mask = self._in_hand()
        return Operation(f"drawn straight {LINES[along]}", lambda t: interpolate_cells(t, mask, along))

    def smooth(self, strength: float = 0.5, along: Along = "both") -> Operation:
        """Move the cells towards the mean of their surroundings."""
        _, mask = self._in_hand()
        words = f"smoothed by 1-2-1 {LINES[along]}, strength {strength:g}"
        return Operation(words, lambda t: smooth_cells(t, mask, strength, along))

    def fill(self, along: Along) -> Operation:
        """Copy the first cell of each row or column of the selection to the others."""
        _, mask = self._in_hand()
        return Operation(f"filled {LINES[along]}", lambda t: fill_cells(t, mask, along))

    def to_reference(self) -> Operation:
        """Take the reference's values. Raises CalibrationError without a reference."""
        _, mask = self._in_hand()
        reference = self._reference()
        if reference is None:
            raise CalibrationError("there is no reference", remedy="Shift-click a rung on the ladder.")
        return Operation("copied from the reference", lambda t: copy_cells(t, mask, reference))

    def steps(self, count: int) -> Operation:
        """Move the cells by so many steps of the storage."""
        _, mask = self._in_hand()
        words = f"moved by {count:+d} {'step' if abs(count) == 1 else 'steps'} of the storage"
        return Operation(words, lambda t: step_cells(t, mask, count))

    def from_table(self, key: str, way: Way) -> Operation:
        """Take the cells from another table of this slot, where they stand on its axes, or multiply them by it."""
        _, mask = self._in_hand()
        session = self.maps.session
        maps = session.calibration(session.working, session.slot)
        if maps is None:
            raise CalibrationError("there are no maps", remedy="Open a job first.")
        other = maps.table(key)
        beyond = taken_from(self._in_hand()[0], mask, other, way).beyond
        words = f"{'copied from' if way == 'copy' else 'scaled by'} {other.title}"
        if beyond:
            words += f" ({beyond} beyond its axes: its end was taken)"
        return Operation(words, lambda t: taken_from(t, mask, other, way).table)

    def paste(self, text: str) -> Operation:
        """Take cells of a spreadsheet: with axis values where those stand, else from the first selected cell on.

        Raises CalibrationError for cells that do not fit, with nothing changed.
        """
        table, mask = self._in_hand()
        pasted = read_cells(text, table.storing.words)
        rows, columns = self._where(table, mask, pasted)
        wanted = {
            (r, c): float(pasted.values[i, j])
            for i, r in enumerate(rows)
            for j, c in enumerate(columns)
            if np.isfinite(pasted.values[i, j])
        }
        if pasted.values.size == 1 and mask.sum() > 1:
            wanted = {(int(r), int(c)): float(pasted.values[0, 0]) for r, c in np.argwhere(mask)}
        if not wanted:
            raise CalibrationError("the clipboard holds empty cells", remedy="Copy cells with numbers.")
        return self.values(wanted, f"pasted, {pasted.values.shape[0]} x {pasted.values.shape[1]}")

    def _where(self, table: Table, mask: Mask, pasted: Pasted) -> tuple[list[int], list[int]]:
        """The rows and columns that pasted cells belong to."""
        rows, columns = pasted.values.shape
        if pasted.x is not None:
            y = pasted.y if pasted.y is not None and not table.is_curve else table.y.values[:rows]
            return _on_axis(table.y, y, table), _on_axis(table.x, pasted.x, table)
        chosen = np.argwhere(mask)
        if not chosen.size:
            raise CalibrationError("no cells are selected", concerns=table.title, remedy="Select the first cell.")
        top, left = (int(v) for v in chosen.min(axis=0))
        block = tuple(int(v) for v in chosen.max(axis=0) - chosen.min(axis=0) + 1)
        if len(chosen) > 1 and pasted.values.size > 1 and block != (rows, columns):
            raise CalibrationError(
                f"the clipboard holds {rows} x {columns} cells, {block[0]} x {block[1]} are selected",
                concerns=table.title,
                remedy="Select as many, or only the first cell.",
            )
        if top + rows > table.values.shape[0] or left + columns > table.values.shape[1]:
            raise CalibrationError(
                f"the clipboard's {rows} x {columns} cells do not fit from {table.place(top, left)} on",
                concerns=table.title,
                remedy="Begin further up or left, or copy fewer.",
            )
        return list(range(top, top + rows)), list(range(left, left + columns))

    def copied(self, *, axes: bool = False) -> str:
        """The selected rectangle as text for a spreadsheet, in the display unit, with its axis values where wanted."""
        table, mask = self._in_hand()
        chosen = np.argwhere(mask)
        if not chosen.size:
            raise CalibrationError("no cells are selected", concerns=table.title, remedy="Select cells first.")
        (top, left), (bottom, right) = chosen.min(axis=0), chosen.max(axis=0)
        rows, columns = slice(top, bottom + 1), slice(left, right + 1)
        values, words = self.maps.shown(table)[rows, columns], table.storing.words
        decimals = self.maps.decimals(table)
        if words is not None:
            return "\n".join("\t".join(words.word(v) or f"{v:g}" for v in row) for row in values) + "\n"
        if not axes:
            return written_cells(values, decimals)
        y = None if table.is_curve else table.y.values[rows]
        unit = self.maps.display_unit(table.unit)
        return written_cells(values, decimals, table.x.values[columns], y, f"{table.title}, {unit}")

    def values(self, wanted: Mapping[tuple[int, int], float], words: str) -> Operation:
        """Give single cells their own values, in the display unit."""
        table, _ = self._in_hand()
        mask = np.zeros(table.values.shape, dtype=bool)
        new = np.zeros(table.values.shape)
        for cell, value in wanted.items():
            mask[cell] = True
            new[cell] = float(self.maps.entered(value, table.unit))
        return Operation(words, lambda t: set_cells(t, mask, new), lambda t: np.where(mask, new, t.values))

    def _in_hand(self) -> tuple[Table, Mask]:
        table = self.maps.table()
        if table is None:
            raise CalibrationError("these are single values", remedy="Type the new value into its row.")
        return table, self.maps.cells_in_hand()

    # -- doing it

    def preview(self, operation: Operation) -> Preview:
        """What would come of an operation. Raises CalibrationError as doing it would."""
        table, _ = self._in_hand()
        after = operation.of(table)
        maps = self.maps
        changed = ~((after.values == table.values) | (np.isnan(after.values) & np.isnan(table.values)))
        ends = [(0.0, 0.0), (0.0, 0.0)]
        if changed.any():
            shown = (maps.shown(t)[changed] for t in (table, after))
            ends = [(float(np.nanmin(v)), float(np.nanmax(v))) for v in shown]
        rounded = 0
        if operation.asked is not None:
            away = np.abs(operation.asked(table) - after.values)[self.maps.cells_in_hand()]
            rounded = int((away > 0.5 * 10.0 ** -(table.decimals + 2)).sum())
        unit = maps.display_unit(table.unit)
        return Preview(operation.words, int(changed.sum()), ends[0], ends[1], rounded, maps.decimals(table), unit)

    def do(self, operation: Operation) -> None:
        """Do it, as one step of the draft. Raises CalibrationError, JobError; then nothing has changed."""
        table, mask = self._in_hand()
        said = self.preview(operation)
        cells = int(mask.sum())
        what = f"{table.title}: {'1 cell' if cells == 1 else f'{cells} cells'} {operation.words}"
        self.change(operation.of(table), what, f" {said.rounded} rounded to what is stored." if said.rounded else "")

    def change(self, new: Table, what: str, more: str = "") -> None:
        """Put a table into the draft in place of the one in hand. Raises CalibrationError, JobError."""
        session = self.maps.session
        before = self.maps.table()
        draft = session.editable_draft()
        step = draft.change(session.slot, new, what)
        if step is not None:
            session.edited(draft)
            self.done.emit(before, new)
        session.say(f"{what}.{more}" if step is not None else "Nothing changed.")

    def calculate(self, text: str) -> None:
        """Do arithmetic as it is typed. Raises CalibrationError, JobError; then nothing has changed."""
        self.do(self.formula(text))

    def drag(self, wanted: Mapping[tuple[int, int], float]) -> None:
        """Set cells to values in the display unit, as points of the slice were dragged there; bounds stop them."""
        table = self.maps.table()
        if table is None:
            return
        low, high = (float(v) for v in self.maps.shown_bounds(table))
        clipped = {cell: min(max(value, low), high) for cell, value in wanted.items()}
        count = len(clipped)
        what = f"{table.title}: {'a point' if count == 1 else f'{count} points'} dragged"
        self.change(self.values(clipped, "").of(table), what)

    def set_value(self, key: str, text: str) -> None:
        """Set a single value from what was typed, a number in its own unit or a word. Raises CalibrationError, UnitError."""
        session = self.maps.session
        maps = session.calibration(session.working, session.slot)
        if maps is None:
            return
        now: Scalar = maps.scalar(key)
        words = now.storing.words
        value = words.number(text) if words is not None else None
        new = now.with_value(parse_number(text, lambda v: now.low <= v <= now.high) if value is None else value)
        draft = session.editable_draft()
        if draft.change(session.slot, new, f"{now.title} set to {new.shown()} {now.unit}".rstrip()) is not None:
            session.edited(draft)
            doubts = self._doubts.of_value(key)
            if doubts:
                session.say(f"{now.title} set to {new.shown()} {now.unit}. {doubts[0].sentence}.", trouble=True)

    def undo(self) -> None:
        """Take the last edit of the draft back."""
        self._redo_or_undo(redo=False)

    def redo(self) -> None:
        """Do it again."""
        self._redo_or_undo(redo=True)

    def _redo_or_undo(self, *, redo: bool) -> None:
        session = self.maps.session
        draft = session.draft
        if not redo and session.can_bring_back():
            session.attempt(session.bring_back)
            return
        if draft is None or session.working != DRAFT:
            session.say("Nothing to undo: no draft is selected.")
            return
        try:
            step = draft.redo() if redo else draft.undo()
        except YarvicError as error:
            session.failed.emit(error)
            return
        word = "Redone" if redo else "Undone"
        session.say(f"{word}: {step[0].what}." if step else "There is nothing more.")
