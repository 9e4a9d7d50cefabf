"""Where a job without maps gets them: a layout and the image the vehicle arrived with, from files or from the unit."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QFrame, QVBoxLayout

from yarvic.bench.vehicles import VEHICLES, layout_text, stock_image
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.layout_file import parse_layout, read_layout
from yarvic.core.errors import FormatError, YarvicError
from yarvic.core.formats.images import fitted, read_image
from yarvic.desk.widgets.entry import Line, Sheet
from yarvic.desk.widgets.words import act, chooser, label, row, show_choice, word
from yarvic.state.session import Session

FIELD_PX = 380


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
        self._import(lambda: (parse_layout(layout_text(name)), stock_image(name)), "stock image")

    def import_files(self) -> None:
        """Take the two files."""
        layout, image = (self._path(f) for f in (self.layout_file, self.image_file))
        for path, what in ((layout, "layout"), (image, "image")):
            if path is None:
                self._fail(FormatError(f"the {what} file is not chosen", remedy="Choose it, or read the unit."))
                return
        assert layout is not None and image is not None
        self._import(partial(_read, layout, image), image.name)

    @staticmethod
    def _path(field: Line) -> Path | None:
        text = field.text().strip()
        return Path(os.path.expanduser(text)) if text else None

    def _import(self, read: Callable[[], tuple[Layout, bytes]], source: str) -> None:
        """Read beside the window, then give the job its maps."""
        self.fault.hide()
        s = self.session

        def enter(found: tuple[Layout, bytes]) -> None:
            s.import_stock(*found, s.settings.author, source=source)

        s.read_file(s.request("importing the stock image"), Path(source), read, enter, failed=self._fail)

    def _fail(self, error: YarvicError) -> None:
        self.fault.setText(str(error))
        self.fault.show()


def _read(layout_file: Path, image_file: Path) -> tuple[Layout, bytes]:
    layout, faults = read_layout(layout_file)
    if faults:
        raise FormatError(faults[0].sentence(), concerns=layout_file.name, remedy="")
    return fitted(read_image(image_file), layout)
