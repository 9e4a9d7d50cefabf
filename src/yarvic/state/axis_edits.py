"""Break points of the table in hand: moved, put in, taken out; each is one step, with all tables that share the axis."""

from __future__ import annotations

from dataclasses import dataclass

from yarvic.core.calibration.axes import (
    Along,
    Moved,
    axis_of,
    change_of_function,
    deleted_points,
    inserted_points,
    least_missed,
    moved_points,
    widest_gap,
    with_axis,
)
from yarvic.core.calibration.edits import Edit, Step
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.layout import Entry
from yarvic.core.calibration.table import Axis, Table
from yarvic.core.errors import CalibrationError
from yarvic.core.physics import FloatArray
from yarvic.state.shown_table import ShownTable


@dataclass(frozen=True)
class AxisChange:
    """What a change of break points comes to: its edits, what it is in words, and by how much each table's function
    changes at most (with its title and its digits).
    """

    step: Step
    what: str
    moved: tuple[tuple[Table, Moved], ...]

    def sentence(self) -> str:
        """What comes of it, in words."""
        worst = max(self.moved, key=lambda each: abs(each[1].most))
        table, most = worst
        others = f" of {len(self.moved)} tables that share the axis" if len(self.moved) > 1 else ""
        if all(abs(m.most) <= t.storing.step / 2.0 for t, m in self.moved if t.storing.step > 0.0) and all(
            m.most == 0.0 for t, m in self.moved if not t.storing.step > 0.0
        ):
            return f"{self.what}: the function{others} stays as it is, but for rounding"
        where = f"{most.x:g} {table.x.unit}".rstrip()
        if not table.is_curve:
            where += f", {most.y:g} {table.y.unit}".rstrip()
        of = f" of {table.title}, the most{others}," if others else ""
        return (
            f"{self.what}: the function{of} changes by up to {most.most:+.{table.decimals}f} {table.unit}".rstrip()
            + (f" at {where}")
        )


class AxisEdits:
    """Acts on the axes of the table in hand. What each would come to is worked out first; `do` does it."""

    def __init__(self, maps: ShownTable) -> None:
        self.maps = maps

    def shared_with(self, along: Along) -> list[str]:
        """The titles of the other tables that move with an axis."""
        entry = self._entry()
        return [e.named for e in self._sharing(entry, along) if e.key != entry.key]

    def why_not(self, along: Along) -> str:
        """Why the break points of an axis cannot be changed; empty where they can."""
        table, image = self._in_hand()
        try:
            image.axis_as_stored(self.maps.session.slot, table.key, along, axis_of(table, along).values)
        except CalibrationError as error:
            return f"{error.what}."
        return ""

    def move(self, along: Along, place: int, to: float) -> AxisChange:
        """Move a break point. Raises CalibrationError where it would pass its neighbours."""
        table, _ = self._in_hand()
        axis = axis_of(table, along)
        values = moved_points(axis, place, to)
        what = f"{self._named(axis)} {axis.values[place]:g} moved to {to:g} {axis.unit}".rstrip()
        return self._change(along, values, what)

    def insert(self, along: Along, at: float) -> AxisChange:
        """Put a break point in; where the axis has no room for it, the one that is missed least is given up for it."""
        table, image = self._in_hand()
        axis = axis_of(table, along)
        values, what = (
            inserted_points(axis, at),
            f"{self._named(axis)} {at:g} {axis.unit} inserted".replace("  ", " "),
        )
        _, most = image.room_for_points(self.maps.session.slot, table.key, along)
        if values.size > most:
            grown = with_axis(table, along, values)
            given = least_missed(grown, along, keep=at)
            what += f" for {values[given]:g}"
            values = deleted_points(axis_of(grown, along), given)
        return self._change(along, values, what)

    def delete(self, along: Along, place: int) -> AxisChange:
        """Take a break point out; where the axis must keep their number, it goes into the middle of the widest gap."""
        table, image = self._in_hand()
        axis = axis_of(table, along)
        values = deleted_points(axis, place)
        what = f"{self._named(axis)} {axis.values[place]:g} {axis.unit} deleted".replace("  ", " ")
        least, _ = image.room_for_points(self.maps.session.slot, table.key, along)
        if values.size < least:
            left = Axis(axis.title, axis.unit, values)
            again = widest_gap(left, float(axis.values[place]))
            values = inserted_points(left, again)
            what += f", inserted at {again:g}"
        return self._change(along, values, what)

    def do(self, change: AxisChange) -> None:
        """Do it, as one step. Raises CalibrationError, JobError; then nothing has changed."""
        session = self.maps.session
        draft = session.editable_draft()
        draft.add(change.step)
        session.edited(draft)
        session.say(change.sentence() + ".")

    def _change(self, along: Along, wanted: FloatArray, what: str) -> AxisChange:
        table, image = self._in_hand()
        slot = self.maps.session.slot
        values = image.axis_as_stored(slot, table.key, along, wanted)
        whole = f"{table.title}: {what}"
        edits: list[Edit] = []
        moved: list[tuple[Table, Moved]] = []
        entry = self._entry()
        for each in self._sharing(entry, along):
            before = image[slot].table(each.key)
            after = before
            for a in self._alongs(each, entry, along):
                after = with_axis(after, a, values)
            edits += image.edits_to(slot, after, whole, axes_known=each.key != entry.key)
            moved.append((before, change_of_function(before, after)))
        if not edits:
            raise CalibrationError(
                "it is stored as the same break point", concerns=table.title, remedy="Move it by a whole step."
            )
        return AxisChange(tuple(edits), whole, tuple(moved))

    def _sharing(self, entry: Entry, along: Along) -> list[Entry]:
        """The entry itself, then those that share an axis of it."""
        axis = getattr(entry, along)
        if axis is None or axis.kind != "shared":
            return [entry]
        others = [
            e
            for e in self.maps.layout().entries
            if e.key != entry.key
            and any(a is not None and a.kind == "shared" and a.of == axis.of for a in (e.x, e.y))
        ]
        return [entry, *others]

    def _alongs(self, each: Entry, entry: Entry, along: Along) -> list[Along]:
        """Along which axes a table changes with the one in hand."""
        axis = getattr(entry, along)
        if axis.kind != "shared":
            return [along]
        both: tuple[Along, Along] = ("x", "y")
        return [a for a in both if getattr(each, a) is not None and getattr(each, a).of == axis.of]

    def _in_hand(self) -> tuple[Table, Image]:
        session = self.maps.session
        table, image = self.maps.table(), session.image(session.working)
        if table is None or image is None:
            raise CalibrationError("these are single values", remedy="Choose a table.")
        return table, image

    def _entry(self) -> Entry:
        return self.maps.layout().by_key[self._in_hand()[0].key]

    def _named(self, axis: Axis) -> str:
        return axis.title.lower() or "break point"
