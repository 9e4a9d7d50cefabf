"""What the maps in hand are held against: the reference on the ladder, another slot, or an image from outside."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
from psygnal import Signal

from yarvic.core.calibration.compare import Difference, compare
from yarvic.core.calibration.image import Image, open_image
from yarvic.core.calibration.merging import Thing, edits_to_all
from yarvic.core.calibration.roles import title_of
from yarvic.core.calibration.table import Table
from yarvic.core.errors import CalibrationError, name_of
from yarvic.core.formats.images import in_memory, read_image
from yarvic.state.shown_table import ShownTable

As = Literal["value", "percent"]


@dataclass(frozen=True)
class Weighed:
    """How an entry differs, and how much that matters: `share` of its own greatest value that it moved at most."""

    difference: Difference
    size: int
    share: float
    role: str

    @property
    def matters(self) -> float:
        """What the list is sorted by: what has a role counts double, and a change of many cells more than of few."""
        part = (self.difference.cells / max(self.size, 1)) ** 0.5
        return float((2.0 if self.role else 1.0) * max(self.share, 1e-6) * max(part, 0.05))


class Compared:
    """The other side. `changed`: it is another one, or differences are shown otherwise."""

    changed = Signal()

    def __init__(self, maps: ShownTable) -> None:
        self.maps = maps
        self.slot = ""  # of the working rung, in place of the reference; empty: none
        self.outside: tuple[str, Image] | None = None  # an image's name and content
        self.shown_as: As = "value"
        self._turned: tuple[Image, str, str, Image] | None = None

    # -- what it is

    def name(self) -> str:
        """What the maps in hand are held against, in a word; empty where there is nothing."""
        if self.outside is not None:
            return self.outside[0]
        session = self.maps.session
        return f"slot {self.slot}" if self.slot else session.name_of(session.reference)

    def image(self) -> Image | None:
        """The other side as an image that is read by the slot in hand."""
        session = self.maps.session
        if self.outside is not None:
            return self.outside[1]
        if self.slot and self.slot != session.slot:
            working = session.image(session.working)
            return self._with_slot(working, self.slot) if working is not None else None
        return session.image(session.reference)

    def _with_slot(self, image: Image, slot: str) -> Image:
        """The image with the bytes of another slot in the place of the slot in hand."""
        here = self.maps.session.slot
        if self._turned is not None and self._turned[:3] == (image, here, slot):
            return self._turned[3]
        layout = image.layout
        data = bytearray(image.data)
        size = layout.slot_size
        source, target = (layout.slot_offset(s) - layout.base for s in (slot, here))
        data[target : target + size] = image.data[source : source + size]
        made = Image(layout, bytes(data))
        self._turned = image, here, slot, made
        return made

    def against_reference(self) -> None:
        """Hold the maps against the reference on the ladder again."""
        self.slot, self.outside = "", None
        self.changed.emit()

    def against_slot(self, slot: str) -> None:
        """Hold the slot in hand against another one of the same maps."""
        self.slot, self.outside = slot, None
        self.changed.emit()

    def against_file(self, path: Path) -> None:
        """Hold the maps against an image of the same unit, once it is read. What is wrong with it is shown."""
        session = self.maps.session
        layout = self.maps.layout()

        def read() -> Image:
            return open_image(in_memory(read_image(path), layout), layout, source=path.name)

        session.read_file(session.image_request(), path, read, lambda image: self.against_image(name_of(path), image))

    def against_image(self, name: str, image: Image) -> None:
        """Hold the maps against an image of the same unit."""
        self.slot, self.outside = "", (name, image)
        self.changed.emit()
        self.maps.session.say(f"The maps are held against {name}.")

    def show_as(self, way: As) -> None:
        """Show differences as values or in per cent."""
        self.shown_as = way
        self.changed.emit()

    def forget(self) -> None:
        """Another job has other images."""
        self.slot, self.outside, self._turned = "", None, None

    # -- what differs

    def differences(self) -> list[Weighed]:
        """The tables and values of the slot in hand that differ, what matters most first."""
        session = self.maps.session
        working, other = session.image(session.working), self.image()
        if working is None or other is None:
            return []
        keys = working.changed_keys(other, session.slot)
        found = compare(other[session.slot], working[session.slot], keys)
        layout = working.layout
        listed = [self._weighed(d, working, other, title_of(layout.role_of(d.key))) for d in found]
        return sorted(listed, key=lambda w: -w.matters)

    def _weighed(self, d: Difference, working: Image, other: Image, role: str) -> Weighed:
        slot = self.maps.session.slot
        if d.texts is not None:
            return Weighed(d, 1, 1.0, role)
        if d.key in working[slot].scalars:
            now = working[slot].scalars[d.key].value
            then = other[slot].scalars[d.key].value
            span = max(abs(now), abs(then))
            return Weighed(d, 1, abs(now - then) / span if span > 0.0 else 0.0, role)
        table = other[slot].table(d.key)
        there = np.abs(table.values[np.isfinite(table.values)])
        greatest = float(there.max()) if there.size else 0.0
        most = max(abs(d.least), abs(d.greatest)) if d.cells and np.isfinite(d.least) else 0.0
        return Weighed(d, table.values.size, most / greatest if greatest > 0.0 else 1.0, role)

    # -- taking over

    def take_over(self, keys: list[str]) -> None:
        """Make tables and values what they are on the other side, as one step. Raises CalibrationError, JobError."""
        session = self.maps.session
        other = self.image()
        if other is None:
            raise CalibrationError("there is no reference", remedy="Shift-click a rung on the ladder.")
        draft = session.editable_draft()
        slot = session.slot
        things: dict[tuple[str, str], Thing] = {}
        for key in keys:
            things[slot, key] = other[slot].held(key)
        what = (
            f"{len(keys)} tables taken over from {self.name()}" if len(keys) > 1 else f"taken over from {self.name()}"
        )
        step = edits_to_all(draft.image, things, what)
        if step:
            draft.add(step)
            session.edited(draft)
        session.say(f"{what[0].upper()}{what[1:]}." if step else "Nothing changed.")

    def reference_table(self, key: str) -> Table | None:
        """A table of the other side."""
        image = self.image()
        return image[self.maps.session.slot].tables.get(key) if image is not None else None
