"""What a job without maps takes them from: a description of the memory and the image that the vehicle arrived with."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

from psygnal import Signal
from pydantic import ValidationError

from yarvic.core.calibration.checksum import Checksum
from yarvic.core.calibration.faults import Fault, inspected
from yarvic.core.calibration.image import check_image
from yarvic.core.document import first_fault
from yarvic.core.errors import CalibrationError, JobError, YarvicError, name_of
from yarvic.core.formats.descriptions import Taken, read_description, under
from yarvic.core.formats.images import read_image
from yarvic.core.typed_numbers import parse_address
from yarvic.state.session import Session
from yarvic.state.work import Asked, Progress

MOST_TOLD = 200
LOOKING = "looking at the image"


@dataclass(frozen=True)
class Sum:
    """A checksum as a person states it: its rule, from where to where (the last address included), and where it lies."""

    kind: str
    first: str
    last: str
    address: str

    def checksum(self) -> Checksum:
        """As a layout has it. Raises CalibrationError, UnitError for what cannot be."""
        try:
            span = parse_address(self.first), parse_address(self.last) + 1
            return Checksum(kind=self.kind, ranges=(span,), address=parse_address(self.address))  # type: ignore[arg-type]
        except ValidationError as error:
            raise CalibrationError(first_fault(error), concerns="checksum", remedy="Correct it.") from None


class StockState:
    """The files chosen, and what they hold. `changed` is emitted when any of it is another."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        self.session = session
        self.description: Path | None = None
        self.image: Path | None = None
        self.base = ""
        self.sum: Sum | None = None
        self.taken: Taken | None = None
        self.error: YarvicError | None = None
        session.job_changed.connect(self._forget)

    def _forget(self) -> None:
        self.description = self.image = self.taken = self.error = self.sum = None
        self.base = ""
        self.changed.emit()

    def choose(
        self, *, description: Path | None = None, image: Path | None = None, base: str | None = None,
        sum_: Sum | None = None,
    ) -> None:  # fmt: skip
        """Choose a file, the address of raw bytes, or state a checksum; what is chosen already stays."""
        before = self.description, self.image, self.base, self.sum
        self.description = description or self.description
        self.image = image or self.image
        self.base = self.base if base is None else base.strip()
        self.sum = sum_ or (self.sum if description is None else None)
        if (self.description, self.image, self.base, self.sum) != before:
            self.taken = self.error = None
            self.changed.emit()
            self._look()

    def _look(self) -> None:
        """Read both files beside the window, as soon as both are chosen."""
        description, image, base, stated = self.description, self.image, self.base, self.sum
        if description is None or image is None:
            return

        def read(progress: Progress, cancelled: Asked) -> Taken:
            progress(0.1, description.name)
            layout, faults = read_description(description)
            progress(0.5, image.name)
            if stated is not None:
                layout, more = inspected(layout.changed(checksums=(*layout.checksums, stated.checksum())))
                faults = [*faults, *(f for f in more if f not in faults)]
            return under(layout, faults, read_image(image), parse_address(base) if base else None)

        def show(taken: Taken) -> None:
            if (description, image, base, stated) == (self.description, self.image, self.base, self.sum):
                self.taken, self.error = taken, None
                self.changed.emit()

        # A newer choice takes the place of an older one.
        request = self.session.request(LOOKING)
        self.session.requests.submit(request, f"Reading {image.name}", read, show, failed=self._fail)

    def _fail(self, error: YarvicError) -> None:
        self.taken, self.error = None, error
        self.changed.emit()

    def refusal(self) -> YarvicError | None:
        """Why the image may not be the stock image: another family, or a checksum that does not hold."""
        if self.taken is None:
            return self.error
        try:
            check_image(self.taken.data, self.taken.layout, source=self.taken.image.name)
        except YarvicError as error:
            return error
        return None

    def faults(self) -> list[Fault]:
        """What is wrong beside that, each to be left as it is."""
        return list(self.taken.faults[:MOST_TOLD]) if self.taken is not None else []

    def import_(self) -> None:
        """Make the image the stock image of the job. Raises JobError, CalibrationError; then it has none yet."""
        taken = self.taken
        if taken is None:
            raise JobError("nothing is chosen yet", remedy="Choose the description and the image.")
        refusal = self.refusal()
        if refusal is not None:
            raise refusal
        layout = taken.layout
        if layout.origin.name == "" and self.description is not None:
            layout = layout.changed(origin=layout.origin.model_copy(update={"name": name_of(self.description)}))
        source = f"{taken.image.name}, SHA-256 {taken.image.sha256[:12]}"
        self.session.import_stock(layout, taken.data, self.session.settings.author, source=source)

    def with_checksum(self, stated: Sum) -> None:
        """State a checksum. Raises CalibrationError, UnitError for one that cannot be."""
        stated.checksum()
        self.choose(sum_=replace(stated))
