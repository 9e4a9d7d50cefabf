"""The Maps view: chooser, words, slices, cells, the strip for a number, the strip for a commit."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import (
    QFrame,
    QSplitter,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.calibration.cells import Mask
from yarvic.core.calibration.table import Axis, Table
from yarvic.core.errors import YarvicError
from yarvic.desk.overlays import Command
from yarvic.desk.views.maps.acts import MapActs
from yarvic.desk.views.maps.axis import AxisStrip
from yarvic.desk.views.maps.commit import CommitStrip
from yarvic.desk.views.maps.finder import Finder
from yarvic.desk.views.maps.formula import FormulaStrip
from yarvic.desk.views.maps.grid import KNOCK_DEG, Grid
from yarvic.desk.views.maps.roles import RolesPanel
from yarvic.desk.views.maps.scalars import ScalarTable
from yarvic.desk.views.maps.slices import Slices
from yarvic.desk.views.maps.stock import StockForm
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.words import Elided, chooser, label, show_choice, word
from yarvic.state.maps import SCALARS
from yarvic.state.roles import RolesState
from yarvic.state.selection import DRAFT
from yarvic.state.session import Session

# More tables than this are searched, not listed in a menu; and so many are commands of their own.
MOST_IN_MENU, MOST_COMMANDS = 40, 100


class MapsView(View):
    """The table in hand."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Maps")
        self.maps = window.maps
        self._cells: Mask = self.maps.mask  # in hand before an edit
        self._head()
        self.stock = StockForm(session)
        self.stock.hide()
        self.column.addWidget(self.stock, 1)
        self.full = QWidget()
        self.inside = QVBoxLayout(self.full)
        self.inside.setContentsMargins(0, 0, 0, 0)
        self.inside.setSpacing(6)
        self.column.addWidget(self.full, 1)
        self.grid = Grid(self.maps)
        self.slices = Slices(self.maps)
        self.scalars = ScalarTable(self.maps, self._scalar_typed)
        self.roles = RolesPanel(RolesState(session, self.maps))
        self._words()
        edits = self.maps.edits
        self.formula = FormulaStrip(lambda text: edits.preview(edits.formula(text)).sentence())
        self.formula.given.connect(self._calculate)
        self.axis = AxisStrip(self.maps)
        for strip in (self.formula, self.axis):
            strip.left.connect(self.escape)
            self.inside.addWidget(strip)
        self._body()
        self.commit = CommitStrip(session)
        self.inside.addWidget(self.commit)
        self.grid.typed.connect(self._ask)
        self.grid.chosen.connect(self._selection_moved)
        self.slices.dragged.connect(self._dragged)
        self.refresh_on(self.maps.changed, session.job_changed)
        self.maps.values_changed.connect(self._revalue)

    # -- making

    def _head(self) -> None:
        self.chooser = chooser("Table", self._few)
        self.find_word = word("Find", self.open_finder, "Ctrl+F")
        self.roles_word = word("Roles", self.refresh, checkable=True)
        self.finder = Finder(self)
        self.slot = chooser("Fuel slot", self._slots)
        self.differs = Elided()
        self.head.insertWidget(1, self.chooser)
        for widget in (self.find_word, self.roles_word, self.slot, self.differs):
            self.head.addWidget(widget)
        shortcut = QShortcut(QKeySequence("Ctrl+F"), self)
        shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        shortcut.activated.connect(self.open_finder)

    def _words(self) -> None:
        self.acts = MapActs(self.maps, self.grid)
        self.acts.asked.connect(self._ask)
        self.acts.axis_asked.connect(self._open_axis)
        self.acts.table_asked.connect(self._ask_table)
        self.acts.about_to.connect(self._remember_cells)
        self.acts.done.connect(self._done)
        bar = self.acts.bar
        for keys, by in (("N", 1), ("Shift+N", -1)):
            shortcut = QShortcut(QKeySequence(keys), self)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(partial(self.maps.step, by))
        bar.addSpacing(16)
        self.undo_word = word("Undo", self.maps.edits.undo, "Ctrl+Z")
        self.redo_word = word("Redo", self.maps.edits.redo, "Ctrl+Shift+Z")
        bar.addWidget(self.undo_word)
        bar.addWidget(self.redo_word)
        self.hand = Elided()
        self.hand.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        bar.addWidget(self.hand, 1)
        self.inside.addWidget(self.acts)

    def _body(self) -> None:
        self.body = QStackedWidget()
        split = QSplitter(Qt.Orientation.Vertical)
        chart = QFrame()
        chart.setObjectName("sheet")
        inner = QVBoxLayout(chart)
        inner.setContentsMargins(2, 2, 2, 2)
        inner.addWidget(self.slices)
        split.addWidget(chart)
        table = QWidget()
        column = QVBoxLayout(table)
        column.setContentsMargins(0, 4, 0, 0)
        column.setSpacing(4)
        self.corner = Elided("caption")
        column.addWidget(self.corner)
        column.addWidget(self.grid, 1)
        self.foot = label("", "caption", wrap=True)
        column.addWidget(self.foot)
        split.addWidget(table)
        split.setStretchFactor(0, 2)
        split.setStretchFactor(1, 5)
        split.setSizes([180, 420])
        split.setChildrenCollapsible(False)
        self.body.addWidget(split)
        self.body.addWidget(self.scalars)
        self.body.addWidget(self.roles)
        self.inside.addWidget(self.body, 1)

    # -- showing

    def refresh(self) -> None:
        """Another table, slot, revision or unit."""
        s = self.session
        bare = s.job is not None and not s.job.has_maps
        for widget in (self.full, self.chooser, self.differs, self.find_word, self.roles_word):
            widget.setVisible(not bare)
        self.slot.setVisible(s.job is not None and not bare and len(s.job.layout.slots) > 0)
        self.stock.setVisible(bare)
        if bare:
            self.about.setText("fuel, ignition, boost, and the values around them")
            return
        keys = dict(self.maps.titles())
        if self.maps.key not in keys and keys:
            self.maps.key = self.maps.first()
        table = self.maps.table()
        show_choice(self.chooser, keys.get(self.maps.key, ""))
        show_choice(self.slot, f"{s.slot} slot" if s.job else "")
        if self.roles_word.isChecked():
            self.roles.refresh()
        self.body.setCurrentIndex(2 if self.roles_word.isChecked() else 1 if self.maps.key == SCALARS else 0)
        self.acts.enable(table is not None)
        self.grid.reload()
        self._selection_moved()
        if table is not None:
            unit = self.maps.display_unit(table.unit)
            axes = [a.title.lower() for a in (table.x, table.y) if a.title]
            self.about.setText(" · ".join(p for p in (unit, " by ".join(axes)) if p))
            self.corner.setText(
                "     ".join(p for p in (*_axes_in_words(table), f"bounds {self.maps.bounds(table)}") if p)
            )
        elif s.job is None:
            self.about.setText("the tables appear here once a job is open")
        else:
            self.about.setText("single values; type into the value's cell to change it")
        self._show_values()
        self.finder.hide()
        self.escape()

    def _revalue(self) -> None:
        if not self.isVisible():
            self._stale = True
            return
        self.grid.cells.revalue()
        self._show_values()

    def _show_values(self) -> None:
        self.slices.refresh()
        s = self.session
        difference = self.maps.difference()
        reference = s.name_of(s.reference)
        if difference is not None and reference:
            count = int((abs(difference) > 1e-9).sum())
            self.differs.setText(f"{count} cells differ from {reference}")
        else:
            self.differs.setText("")
        results, revision = self.session.working_results(), s.evidence_revision()
        if self.maps.evidence() is not None and results is not None and revision is not None:
            simulated = " simulated" if results.simulated else ""
            self.foot.setText(
                f"Bar at a cell's foot: time spent there in {len(results.pulls)}{simulated} runs of {revision.name};"
                f" red and thick where a cylinder was retarded more than {KNOCK_DEG:g} deg. Bold: differs from the"
                " reference, by the small number."
            )
        else:
            self.foot.setText("Bold: differs from the reference, by the small number.")
        in_draft = s.working == DRAFT and s.draft is not None
        self.commit.show_draft(in_draft)
        self.undo_word.setEnabled(in_draft and s.draft is not None and s.draft.can_undo)
        self.redo_word.setEnabled(in_draft and s.draft is not None and s.draft.can_redo)
        self._show_scalars()

    def _show_scalars(self) -> None:
        # They may be thousands: only while they are looked at.
        if self.maps.key == SCALARS:
            self.scalars.refresh()

    def _selection_moved(self) -> None:
        table = self.maps.table()
        count = int(self.maps.mask.sum())
        if table is not None and count:
            index = self.grid.currentIndex()
            where = self.grid.cells.words(index.row(), index.column()) if index.isValid() else ""
            self.hand.setText(f"{count} cells selected" if count > 1 else where)
        else:
            self.hand.setText("")
        self.slices.refresh()

    # -- choosing

    def _few(self) -> list[tuple[str, Callable[[], None]]]:
        """All tables, where they are few; of many the list to be searched opens."""
        titles = self.maps.titles()
        if len(titles) > MOST_IN_MENU:
            self.open_finder()
            return []
        return [(title, partial(self._show_table, key)) for key, title in titles]

    def _show_table(self, key: str) -> None:
        self.roles_word.setChecked(False)
        if key == self.maps.key:
            self.refresh()
        self.maps.choose(key)

    def open_finder(self) -> None:
        """Open the list of all tables and values, to be searched."""
        names = self.maps.names()
        if names is not None:
            self.finder.open(names, self.chooser.mapTo(self, self.chooser.rect().bottomLeft()), self._found)

    def _found(self, key: str) -> None:
        self.roles_word.setChecked(False)
        self.maps.find(key)
        self.refresh()
        if self.maps.key == SCALARS:
            self.scalars.show_key(key)
            self.scalars.setFocus()
        else:
            self.grid.setFocus()

    def show_panel(self, name: str) -> None:
        """Show the roles, or the tables again."""
        if name == "roles" and not self.roles_word.isChecked():
            self.roles_word.setChecked(True)
        self.refresh()

    def _slots(self) -> list[tuple[str, Callable[[], None]]]:
        job = self.session.job
        return (
            [(f"{n} slot", partial(self.maps.choose_slot, n)) for n in job.layout.sets]
            if job is not None and job.has_maps
            else []
        )

    # -- editing

    def _ask(self, text: str) -> None:
        if self.maps.table() is not None:
            self.formula.ask(text)

    def _calculate(self, text: str) -> None:
        self._remember_cells()
        try:
            self.maps.edits.calculate(text)
        except YarvicError as error:
            self.formula.refuse(error)
            return
        self.formula.hide()
        self._done()

    def _remember_cells(self) -> None:
        self._cells = self.maps.mask.copy()

    def _done(self) -> None:
        # Beginning a draft shows the rung anew; the cells stay in hand.
        mask = self._cells
        if mask.shape == self.maps.mask.shape and not (mask == self.maps.mask).all() and mask.any():
            rows, columns = (np.flatnonzero(mask.any(axis=a)) for a in (1, 0))
            self.grid.select_block(int(rows[0]), int(columns[0]), int(rows[-1]), int(columns[-1]))
        self.grid.setFocus()

    def _open_axis(self, along: str) -> None:
        index = self.grid.currentIndex()
        self.formula.hide()
        self.axis.open("x" if along == "x" else "y", max(index.column() if along == "x" else index.row(), 0))

    def _ask_table(self, way: str) -> None:
        names = self.maps.names()
        if names is not None and self.maps.table() is not None:
            self.finder.open(
                names, self.acts.mapTo(self, self.acts.rect().bottomLeft()), partial(self._from_table, way)
            )

    def _from_table(self, way: str, key: str) -> None:
        self.acts.do(partial(self.maps.edits.from_table, key, "copy" if way == "copy" else "scale"))

    def _dragged(self, wanted: object) -> None:
        try:
            self.maps.edits.drag(wanted)  # type: ignore[arg-type]
        except YarvicError as error:
            self.session.say(str(error), trouble=True)
            self.slices.refresh()

    def _scalar_typed(self, key: str, text: str) -> None:
        try:
            self.maps.edits.set_value(key, text)
        except YarvicError as error:
            self.session.say(str(error), trouble=True)
            self._show_scalars()

    def escape(self) -> None:
        """Leave the strip; the cells stay as they are."""
        if self.finder.isVisible():
            self.finder.hide()
            self.grid.setFocus()
            return
        self.commit.leave()
        for strip in (self.formula, self.axis):
            if strip.isVisible():
                strip.hide()
                self.grid.setFocus()

    # -- keys

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        named = [(c.keys, c.title[0].lower() + c.title[1:]) for c in self.acts.commands() if c.keys]
        return [
            ("Arrows, Shift+arrows", "move, select"),
            ("a digit, + - * / =", "arithmetic on the selected cells"),
            *named,
            ("Alt+Up, Alt+Down", "up, down by a step of the storage; with Shift by ten"),
            ("N, Shift+N", "next, previous table"),
            ("Ctrl+F", "find a table or value by part of its name"),
            ("Drag a point of the slice", "set one cell"),
        ]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        job = self.session.job
        if job is None or not job.has_maps:
            return []
        few = self.maps.titles()[:MOST_COMMANDS]
        tables = [Command(f"Show {title}", "", partial(self._show_table, key)) for key, title in few]
        slots = [Command(f"Show the {n} slot", "", partial(self.maps.choose_slot, n)) for n in job.layout.slots]
        own = [
            Command("Find a table or value", "Ctrl+F", self.open_finder),
            Command("Roles: which table does what", "", partial(self.show_panel, "roles")),
        ]
        return [*own, *tables, *self.acts.commands(), *slots]

    def main_widget(self) -> QWidget:
        """The cells take the keys."""
        return self.grid


def _axes_in_words(table: Table) -> tuple[str, str]:
    """What runs down, and what across."""

    def words(where: str, axis: Axis) -> str:
        unit = "" if axis.unit in ("", "fraction") else f", {axis.unit}"
        shared = f", shared ({axis.of})" if axis.of else ""
        return f"{where}: {axis.title.lower() or 'its number'}{unit}{shared}"

    return ("" if table.is_curve else words("down", table.y)), words("across", table.x)


def make(session: Session, window: Desk) -> MapsView:
    """The view of this step."""
    return MapsView(session, window)
