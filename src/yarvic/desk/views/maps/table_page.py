"""The table in hand: its pictures above, its cells below."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from yarvic.core.calibration.table import Axis, Table
from yarvic.core.errors import YarvicError
from yarvic.desk.views.maps.doubt import DoubtLine
from yarvic.desk.views.maps.evidence import EvidenceBar
from yarvic.desk.views.maps.grid import Grid
from yarvic.desk.views.maps.isolines import Isolines
from yarvic.desk.views.maps.pane import Pane
from yarvic.desk.views.maps.relief import Relief
from yarvic.desk.views.maps.slices import Slices
from yarvic.desk.widgets.words import Elided, row, word
from yarvic.state.maps import MapsState

# All pictures but the slices need more room.
LEAST_PICTURE_PX = 250


class TablePage(QSplitter):
    """Slices, isolines or relief over the grid. `moved`: other cells are in hand."""

    moved = pyqtSignal()

    def __init__(self, maps: MapsState) -> None:
        super().__init__(Qt.Orientation.Vertical)
        self.maps = maps
        self.grid = Grid(maps)
        self.slices = Slices(maps)
        self.isolines, self.relief = Isolines(maps), Relief(maps)
        self._slices_px = 0  # how high the slices were before another picture needed more
        self.pictures = QStackedWidget()
        self.words = []
        shown: tuple[tuple[str, QWidget], ...] = (
            ("Slices", self.slices),
            ("Isolines", self.isolines),
            ("Relief", self.relief),
        )
        for n, (text, picture) in enumerate(shown):
            self.pictures.addWidget(picture)
            self.words.append(word(text, partial(self.show_picture, n), "V", checkable=True))
        for pane in (self.isolines, self.relief):
            pane.chosen.connect(lambda r, c: self.grid.select_block(r, c, r, c))
        maps.cells.changed.connect(self._evidence_came)
        self.slices.dragged.connect(self._dragged)
        self.grid.chosen.connect(self._selection_moved)
        chart = QFrame()
        chart.setObjectName("sheet")
        inner = QVBoxLayout(chart)
        inner.setContentsMargins(2, 2, 2, 2)
        inner.addWidget(self.pictures)
        self.addWidget(chart)
        self.addWidget(self._cells())
        self.setStretchFactor(0, 2)
        self.setStretchFactor(1, 5)
        self.setSizes([180, 420])
        self.setChildrenCollapsible(False)
        self.show_picture(0)

    def _cells(self) -> QWidget:
        table = QWidget()
        column = QVBoxLayout(table)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(4)
        self.corner = Elided("caption")
        self.doubt = DoubtLine()
        self.doubt.shown.connect(lambda r, c: self.grid.select_block(r, c, r, c))
        self.beside = word("Beside", self._show_beside, "Shift+D", checkable=True)
        above = row(self.corner, self.beside, *self.words, spacing=2)
        above.setStretch(0, 1)
        column.addLayout(above)
        column.addWidget(self.doubt)
        column.addWidget(self._sides(), 1)
        self.evidence = EvidenceBar(self.maps)
        self.evidence.marked.connect(self._mark)
        column.addWidget(self.evidence)
        return table

    def _sides(self) -> QSplitter:
        """The cells, and those of the other side beside them, which scroll together."""
        sides = QSplitter(Qt.Orientation.Horizontal)
        self.other = Grid(self.maps, other=True)
        self.other.hide()
        sides.addWidget(self.grid)
        sides.addWidget(self.other)
        sides.setChildrenCollapsible(False)
        for one, two in ((self.grid, self.other), (self.other, self.grid)):
            for bar, its in (
                (one.verticalScrollBar(), two.verticalScrollBar()),
                (one.horizontalScrollBar(), two.horizontalScrollBar()),
            ):
                if bar is not None and its is not None:
                    bar.valueChanged.connect(its.setValue)
        return sides

    def toggle_beside(self) -> None:
        """Show the other side beside the cells, or hide it again."""
        self.beside.click()

    def _show_beside(self) -> None:
        self.other.setVisible(self.beside.isChecked())
        self._show_other()

    def _show_other(self) -> None:
        if self.other.isVisible():
            self.other.cells.reload()

    def refresh(self) -> None:
        """Another table, or the same in another unit or slot."""
        self.grid.reload()
        self._show_other()
        table = self.maps.table()
        if table is not None:
            bounds = f"bounds {self.maps.bounds(table)}"
            self.corner.setText("     ".join(p for p in (*_axes_in_words(table), bounds) if p))
        self._say()
        self.redraw()

    def revalue(self) -> None:
        """The numbers moved; the cells in hand stay."""
        self.grid.cells.revalue()
        if self.other.isVisible():
            self.other.cells.revalue()
        self._say()
        self.redraw()

    def _evidence_came(self) -> None:
        if self.isVisible():
            self.revalue()

    def _say(self) -> None:
        self.doubt.say(self.maps.doubts.of_table())
        self.evidence.refresh()

    def _mark(self, cells: object) -> None:
        """Select cells, whatever their shape."""
        self.grid.select_cells(cells)  # type: ignore[arg-type]

    # -- pictures

    def show_picture(self, n: int) -> None:
        """Show the table as slices, as isolines or in relief."""
        self.pictures.setCurrentIndex(n)
        for each, button in enumerate(self.words):
            button.setChecked(each == n)
        low, high = self.sizes()
        if n and low < LEAST_PICTURE_PX:
            self._slices_px = low
            self.setSizes([LEAST_PICTURE_PX, low + high - LEAST_PICTURE_PX])
        elif not n and self._slices_px:
            self.setSizes([self._slices_px, low + high - self._slices_px])
            self._slices_px = 0
        self.redraw()

    def next_picture(self) -> None:
        """The next of the three."""
        self.show_picture((self.pictures.currentIndex() + 1) % self.pictures.count())

    def redraw(self) -> None:
        """The picture in sight, soon."""
        shown = self.pictures.currentWidget()
        if isinstance(shown, Pane):
            shown.refresh()

    def _selection_moved(self) -> None:
        self.redraw()
        viewport = self.other.viewport()
        if self.other.isVisible() and viewport is not None:
            viewport.update()
        self.moved.emit()

    def _dragged(self, wanted: object) -> None:
        try:
            self.maps.edits.drag(wanted)  # type: ignore[arg-type]
        except YarvicError as error:
            self.maps.session.say(str(error), trouble=True)
            self.slices.refresh()


def _axes_in_words(table: Table) -> tuple[str, str]:
    """What runs down, and what across."""

    def words(where: str, axis: Axis) -> str:
        unit = "" if axis.unit in ("", "fraction") else f", {axis.unit}"
        shared = f", shared ({axis.of})" if axis.of else ""
        return f"{where}: {axis.title.lower() or 'its number'}{unit}{shared}"

    return ("" if table.is_curve else words("down", table.y)), words("across", table.x)
