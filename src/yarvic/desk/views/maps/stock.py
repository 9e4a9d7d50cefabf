"""Where a job without maps gets them: a layout and the image the vehicle arrived with, from files or from the unit."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QFrame, QVBoxLayout

from yarvic.bench.vehicles import VEHICLES, layout_text, stock_image
from yarvic.core.calibration.layout import parse_layout
from yarvic.core.errors import FormatError, YarvicError
from yarvic.core.formats.files import read_text
from yarvic.core.formats.hex_image import read_image
from yarvic.desk.widgets.entry import Line, Sheet
from yarvic.desk.widgets.words import act, chooser, label, row, show_choice, word
from yarvic.state.session import Session

FIELD_PX = 380
MOST_LAYOUT_BYTES = 1_000_000


class StockForm(QFrame):
    """Two files, or a read of the unit on the link."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("sheet")
        self.layout_file = Line("Layout file", lambda text: None, FIELD_PX, "layout of the control unit, TOML")
        self.image_file = Line("Image file", lambda text: None, FIELD_PX, "stock image: Intel HEX or raw bytes")
        self.go = act("Import the stock image", self.import_files)
        self.unit = chooser("Read from a simulated unit", self._units)
        show_choice(self.unit, "Read from a simulated unit")
        self.fault = label("", "fault", wrap=True)
        self.fault.hide()
        sheet = Sheet("")
        for name, field, files in (
            ("Layout", self.layout_file, "Layout (*.toml);;All files (*)"),
            ("Image", self.image_file, "Images (*.hex *.bin);;All files (*)"),
        ):
            sheet.line(name, field)
            sheet.wide(word(f"Choose the {name.lower()} file", partial(self._choose, field, files)))
        column = QVBoxLayout(self)
        column.setContentsMargins(40, 30, 40, 30)
        column.setSpacing(10)
        column.addWidget(label("This job has no maps yet", "big"))
        text = (
            "Read the unit before anything is changed and keep the image: it is what later revisions are compared with."
            " The layout file says where tables lie in its memory."
        )
        column.addWidget(label(text, "quiet", wrap=True))
        column.addLayout(sheet)
        column.addLayout(row(self.go, self.unit, None, spacing=12))
        column.addWidget(self.fault)
        column.addStretch(1)

    def _choose(self, field: Line, files: str) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, "Choose a file", "", files)
        if chosen:
            field.setText(chosen)

    def _units(self) -> list[tuple[str, Callable[[], None]]]:
        return [(f"{name.capitalize()}, simulated", partial(self.read_unit, name)) for name in VEHICLES]

    def read_unit(self, name: str) -> None:
        """Read the unit of a simulated vehicle."""
        self._import(lambda: (layout_text(name), stock_image(name)))

    def import_files(self) -> None:
        """Take the two files."""
        self._import(self._files)

    def _files(self) -> tuple[str, bytes]:
        for field, what in ((self.layout_file, "layout"), (self.image_file, "image")):
            if not field.text().strip():
                raise FormatError(f"the {what} file is not chosen", remedy="Choose it, or read the unit.")
        path = Path(self.layout_file.text().strip()).expanduser()
        text = read_text(path, MOST_LAYOUT_BYTES)
        layout = parse_layout(text)
        return text, read_image(Path(self.image_file.text().strip()).expanduser(), layout.size)

    def _import(self, read: Callable[[], tuple[str, bytes]]) -> None:
        self.fault.hide()
        try:
            layout, image = read()
            source = Path(self.image_file.text().strip()).name or "stock image"
            self.session.import_stock(layout, image, self.session.settings.author, source=source)
        except YarvicError as error:
            self.fault.setText(str(error))
            self.fault.show()
