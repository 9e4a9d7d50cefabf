"""Tables looked for in an image without a description: what was found, which of it a person confirmed."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import numpy as np
from psygnal import Signal

from yarvic.core.calibration.storing import SIZES, dtype_of
from yarvic.core.calibration.undescribed.discover import Discovered, FoundAxis, FoundTable, discover
from yarvic.core.calibration.undescribed.proposed_layout import proposed_layout
from yarvic.core.errors import CalibrationError, YarvicError
from yarvic.core.formats.files import write_whole
from yarvic.core.formats.images import ImageFile, read_image
from yarvic.core.physics import FloatArray
from yarvic.core.typed_numbers import parse_address
from yarvic.state.session import Session
from yarvic.state.work import Asked, Progress

KIND = "looking for tables"
MOST_LISTED = 3000


class SearchState:
    """The image, what was found in it, the confirmed. `changed` is emitted when any of it is another."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        self.session = session
        self.path: Path | None = None
        self.image: ImageFile | None = None
        self.found: Discovered | None = None
        self.error: YarvicError | None = None
        self._stated_base = 0
        self.family = ""
        self.confirmed: set[int] = set()
        self.under_way = False
        self._looks = 0  # the one that counts is the last: another look at the same file is another

    def look(self, path: Path) -> None:
        """Look for tables in an image, beside the window. What was found in another before is forgotten."""
        self.path, self.image, self.found, self.error = path, None, None, None
        self.confirmed = set()
        self.under_way = True
        self._looks += 1
        this = self._looks

        def work(progress: Progress, cancelled: Asked) -> tuple[ImageFile, Discovered]:
            image = read_image(path)
            found = discover(image.data, lambda share: progress(share, path.name), cancelled)
            return image, found

        def show(outcome: tuple[ImageFile, Discovered]) -> None:
            if this == self._looks:
                self.image, self.found = outcome
                self.changed.emit()

        def failed(error: YarvicError) -> None:
            if this == self._looks:
                self.error = error
                self.changed.emit()

        def ended() -> None:
            if this == self._looks:
                self.under_way = False
                self.changed.emit()

        request = self.session.request(KIND)
        self.session.requests.submit(
            request, f"Looking for tables in {path.name}", work, show, failed=failed, ended=ended
        )
        self.changed.emit()

    @property
    def base(self) -> int:
        """The address of the first byte: the file's own, else as a person stated it."""
        own = self.image.base if self.image is not None else None
        return self._stated_base if own is None else own

    @property
    def tables(self) -> tuple[FoundTable, ...]:
        """What was found, the likeliest first; no more than a person could look through."""
        return self.found.tables[:MOST_LISTED] if self.found is not None else ()

    def state_base(self, words: str) -> None:
        """State the address of the first byte. Raises CalibrationError where the file names it, UnitError."""
        if self.image is not None and self.image.base is not None:
            raise CalibrationError(
                f"the file itself says 0x{self.image.base:X}", concerns="address", remedy="Keep that address."
            )
        self._stated_base = parse_address(words)
        self.changed.emit()

    def confirm(self, tables: Iterable[FoundTable], *, yes: bool) -> None:
        """Confirm tables, or no longer."""
        addresses = {t.address for t in tables}
        self.confirmed = self.confirmed | addresses if yes else self.confirmed - addresses
        self.changed.emit()

    def values(self, table: FoundTable) -> FloatArray:
        """The numbers of a table, (rows, columns), as they are stored."""
        return self._numbers(table.address, table.storage, table.rows * table.columns).reshape(table.rows, -1)

    def axis(self, axis: FoundAxis) -> FloatArray:
        """The numbers of an axis."""
        return self._numbers(axis.address, axis.storage, axis.count)

    def _numbers(self, address: int, storage: str, count: int) -> FloatArray:
        assert self.image is not None and self.found is not None
        part = self.image.data[address : address + count * SIZES[storage]]
        return np.asarray(np.frombuffer(part, dtype_of(storage, self.found.byte_order)), dtype=np.float64)

    def sentence(self, table: FoundTable) -> str:
        """Why this place looks like a table."""
        bends = f"its rows bend {table.bends * 100:.1f} % of its span"
        if table.x is None or table.y is None:
            known = (
                "no axis of its lengths stands",
                "an axis of one of its lengths stands",
                "axes of both its lengths stand",
            )
            return f"No axes before it; {known[table.lengths_elsewhere]} elsewhere; {bends}."
        parts = []
        for name, axis in (("x", table.x), ("y", table.y)):
            numbers = self.axis(axis)
            parts.append(f"{name} {axis.count} points, {numbers[0]:g} to {numbers[-1]:g} ({axis.storage})")
        counts = ", their counts before them" if table.counted else ""
        return f"Axes right before it: {'; '.join(parts)}{counts}; {bends}."

    def save(self, path: Path) -> int:
        """Write the confirmed as a layout, and say how many they are. Raises CalibrationError, FormatError."""
        if self.image is None or self.found is None or not self.confirmed:
            raise CalibrationError(
                "nothing is confirmed yet", concerns="layout", remedy="Confirm the places that are tables."
            )
        if not self.family:
            raise CalibrationError(
                "the layout needs a name of the family", concerns="layout", remedy="Write what the unit is called."
            )
        if self.path is not None and path.resolve() == self.path.resolve():
            raise CalibrationError(
                "is the image itself", concerns=path.name, remedy="Save the layout under another name."
            )
        tables = [t for t in self.tables if t.address in self.confirmed]
        text = proposed_layout(self.family, self.found.byte_order, self.base, len(self.image.data), tables)
        write_whole(path, text.encode("utf-8"))
        return len(tables)
