"""The Maps view: chooser, words, slices, cells, the strip for a number, the strip for a commit."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from yarvic.core.errors import YarvicError
from yarvic.desk.overlays import Command
from yarvic.desk.views.maps.acts import MapActs
from yarvic.desk.views.maps.axis import AxisStrip
from yarvic.desk.views.maps.commit import CommitStrip
from yarvic.desk.views.maps.compare import ComparePage
from yarvic.desk.views.maps.files import MapFiles
from yarvic.desk.views.maps.finder import Finder
from yarvic.desk.views.maps.formula import FormulaStrip
from yarvic.desk.views.maps.history import HistoryPage
from yarvic.desk.views.maps.listing import ListPage
from yarvic.desk.views.maps.merge import MergePage
from yarvic.desk.views.maps.roles import RolesPanel
from yarvic.desk.views.maps.scalars import ScalarTable
from yarvic.desk.views.maps.stock import StockForm
from yarvic.desk.views.maps.table_page import TablePage
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.words import Elided, chooser, show_choice, word
from yarvic.state.roles import RolesState
from yarvic.state.selection import DRAFT
from yarvic.state.session import Session
from yarvic.state.shown_table import SCALARS

# More tables than this are searched, not listed in a menu; and so many are commands of their own.
MOST_IN_MENU, MOST_COMMANDS = 40, 100
PICTURES = ("slices", "isolines", "relief")
# Pages in place of the table: name, word, key.
PAGES = (("list", "List", "L"), ("compare", "Compare", "D"), ("history", "History", ""), ("roles", "Roles", ""))


class MapsView(View):
    """The table in hand."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Maps")
        self.maps = window.maps
        self._about = ""
        self._head()
        self.stock = StockForm(session, window)
        self.stock.hide()
        self.column.addWidget(self.stock, 1)
        self.full = QWidget()
        self.inside = QVBoxLayout(self.full)
        self.inside.setContentsMargins(0, 0, 0, 0)
        self.inside.setSpacing(6)
        self.column.addWidget(self.full, 1)
        self.page = TablePage(self.maps)
        self.grid, self.slices = self.page.grid, self.page.slices
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
        self.page.moved.connect(self._show_hand)
        self.refresh_on(self.maps.changed, session.job_changed)
        self.maps.values_changed.connect(self._revalue)

    # -- making

    def _head(self) -> None:
        self.chooser = chooser("Table", self._few)
        self.page_words = {
            name: word(text, partial(self._toggle, name), key, checkable=True) for name, text, key in PAGES
        }
        self.finder = Finder(self)
        self.slot = chooser("Fuel slot", self._slots)
        self.files = MapFiles(self, self.maps)
        self.files_word = chooser("Files: export and import", self.files.choices)
        show_choice(self.files_word, "Files")
        self.head.insertWidget(1, self.chooser)
        self.head.setSpacing(4)
        for widget in (*self.page_words.values(), self.files_word, self.slot):
            self.head.addWidget(widget)
        # From anywhere in the window while the maps are in sight; what it opened it closes.
        shortcut = QShortcut(QKeySequence("Ctrl+F"), self)
        shortcut.setContext(Qt.ShortcutContext.WindowShortcut)
        shortcut.activated.connect(self._toggle_list)

    def _words(self) -> None:
        self.acts = MapActs(self.maps, self.grid)
        self.acts.asked.connect(self._ask)
        self.acts.axis_asked.connect(self._open_axis)
        self.acts.table_asked.connect(self._ask_table)
        self.acts.done.connect(self.grid.setFocus)
        bar = self.acts.bar
        for keys, act in (
            ("N", partial(self.maps.step, 1)),
            ("Shift+N", partial(self.maps.step, -1)),
            ("L", self._toggle_list),
            ("D", partial(self._toggle, "compare")),
            ("Shift+D", self.page.toggle_beside),
            ("Backspace", self.maps.go_back),
            ("V", self.page.next_picture),
            ("O", self.slices.turn),
        ):
            shortcut = QShortcut(QKeySequence(keys), self)
            shortcut.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            shortcut.activated.connect(act)
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
        self.listed, self.compare = ListPage(self.maps), ComparePage(self.maps)
        self.history, self.merge = HistoryPage(self.maps), MergePage(self.maps)
        self.listed.taken.connect(self._found)
        self.compare.taken.connect(self._found)
        self.history.merge_asked.connect(self._merge)
        self.compare.merge_asked.connect(self._merge_image)
        self.merge.left.connect(partial(self.show_panel, ""))
        self.panels: dict[str, ListPage | ComparePage | HistoryPage | MergePage | RolesPanel] = {
            "list": self.listed,
            "compare": self.compare,
            "history": self.history,
            "roles": self.roles,
            "merge": self.merge,
        }
        self.panel = ""  # the page that stands in place of the table
        for page in (self.page, self.scalars, *self.panels.values()):
            self.body.addWidget(page)
        self.inside.addWidget(self.body, 1)

    # -- showing

    def refresh(self) -> None:
        """Another table, slot, revision or unit."""
        s = self.session
        bare = s.job is not None and not s.job.has_maps
        for widget in (self.full, self.chooser, self.files_word, *self.page_words.values()):
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
        for name, button in self.page_words.items():
            button.setChecked(name == self.panel)
        self.body.setCurrentWidget(self._page())
        if self.panel:
            self.panels[self.panel].refresh()
        self.acts.setVisible(not self.panel)
        self.acts.enable(table is not None)
        self.page.refresh()
        self._show_hand()
        if table is not None:
            unit = self.maps.display_unit(table.unit)
            axes = [a.title.lower() for a in (table.x, table.y) if a.title]
            self._about = " · ".join(p for p in (unit, " by ".join(axes)) if p)
        elif s.job is None:
            self._about = "the tables appear here once a job is open"
        else:
            self._about = "single values; type into the value's cell to change it"
        self._show_values()
        self.commit.leave()
        for strip in (self.finder, self.formula):
            strip.hide()
        if self.axis.isVisible():
            self.axis.refresh()

    def _page(self) -> QWidget:
        """What stands in the middle: a page, the single values, or the table."""
        if self.panel:
            return self.panels[self.panel]
        return self.scalars if self.maps.key == SCALARS else self.page

    def _toggle(self, name: str) -> None:
        self.show_panel("" if self.panel == name else name)

    def show_panel(self, name: str) -> None:
        """Show a page (list, compare, history, roles, merge) in place of the table, or the table as a picture again."""
        if name in PICTURES:
            self.page.show_picture(PICTURES.index(name))
        self.panel = name if name in self.panels else ""
        self.refresh()
        if self.panel == "list":
            self.listed.search.setFocus()
            self.listed.search.selectAll()
        elif not self.panel and self.isVisible():
            self.main_widget().setFocus()

    def _toggle_list(self) -> None:
        """Show the list, or leave it."""
        if self.panel == "list":
            self.escape()
        else:
            self.open_list()

    def open_list(self) -> None:
        """Show the list of all tables and values, ready to be searched."""
        self.show_panel("list")

    def _merge(self, revision_id: int) -> None:
        revision = self.session.revision(revision_id)
        if revision is None:
            return
        self._merging(partial(self.maps.merging.with_revision, revision))

    def _merge_image(self) -> None:
        found = self.maps.compared.outside
        if found is not None:
            self._merging(partial(self.maps.merging.with_image, found[1], found[0]))

    def _merging(self, begin: Callable[[], None]) -> None:
        try:
            begin()
        except YarvicError as error:
            self.session.say(str(error), trouble=True)
            return
        self.show_panel("merge")

    def _revalue(self) -> None:
        if not self.isVisible():
            self._stale = True
            return
        self.page.revalue()
        self._show_values()
        if self.panel:
            self.panels[self.panel].refresh()

    def _show_values(self) -> None:
        s = self.session
        difference, name = self.maps.difference(), self.maps.compared.name()
        count = int((np.abs(difference) > 1e-9).sum()) if difference is not None else 0
        cells = "1 cell differs" if count == 1 else f"{count} cells differ"
        self.about.setText(f"{self._about} · {cells} from {name}" if difference is not None else self._about)
        in_draft = s.working == DRAFT and s.draft is not None
        self.commit.show_draft(in_draft)
        self.undo_word.setEnabled(in_draft and s.draft is not None and s.draft.can_undo)
        self.redo_word.setEnabled(in_draft and s.draft is not None and s.draft.can_redo)
        self._show_scalars()

    def _show_scalars(self) -> None:
        # They may be thousands: only while they are looked at.
        if self.maps.key == SCALARS:
            self.scalars.refresh()

    def _show_hand(self) -> None:
        table = self.maps.table()
        count = int(self.maps.mask.sum())
        if table is not None and count:
            index = self.grid.currentIndex()
            where = self.grid.cells.words(index.row(), index.column()) if index.isValid() else ""
            self.hand.setText(f"{count} cells selected" if count > 1 else where)
        else:
            self.hand.setText("")

    # -- choosing

    def _few(self) -> list[tuple[str, Callable[[], None]]]:
        """All tables, where they are few; of many the list to be searched opens."""
        titles = self.maps.titles()
        if len(titles) > MOST_IN_MENU:
            self.open_list()
            return []
        return [(title, partial(self._show_table, key)) for key, title in titles]

    def _show_table(self, key: str) -> None:
        self.panel = ""
        if key == self.maps.key:
            self.refresh()
        self.maps.choose(key)

    def _found(self, key: str) -> None:
        self.panel = ""
        self.maps.find(key)
        self.refresh()
        if self.maps.key == SCALARS:
            self.scalars.show_key(key)
            self.scalars.setFocus()
        else:
            self.grid.setFocus()

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
        try:
            self.maps.edits.calculate(text)
        except YarvicError as error:
            self.formula.refuse(error)
            return
        self.formula.hide()
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

    def _scalar_typed(self, key: str, text: str) -> None:
        try:
            self.maps.edits.set_value(key, text)
        except YarvicError as error:
            self.session.say(str(error), trouble=True)
            self._show_scalars()

    def escape(self) -> None:
        """Leave the strip or the list; the cells stay as they are."""
        strips = [w for w in (self.finder, self.formula, self.axis) if w.isVisible()]
        self._leave_strips()
        if not strips and self.panel:
            self.show_panel("")
        if strips or self._page() is self.page:
            self.grid.setFocus()

    def _leave_strips(self) -> None:
        self.commit.leave()
        for strip in (self.finder, self.formula, self.axis):
            strip.hide()

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
            ("L, Ctrl+F", "list and find tables and values"),
            ("D, Shift+D", "what differs from the reference; both sides beside each other"),
            ("Backspace", "back to the table before"),
            ("V", "slices, isolines, relief; arrows turn the relief"),
            ("O", "slices the other way: columns over the row axis"),
            ("Drag a point of the slice", "set the cell, or all selected ones with it"),
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
            Command("Find a table or value", "Ctrl+F", self.open_list),
            Command("Back to the table before", "Backspace", self.maps.go_back),
            Command("Compare with the reference, another slot or an image", "D", partial(self.show_panel, "compare")),
            Command("History of the table, branches and marks", "", partial(self.show_panel, "history")),
            Command("Roles: which table does what", "", partial(self.show_panel, "roles")),
        ]
        return [*own, *tables, *self.acts.commands(), *self.files.commands(), *slots]

    def main_widget(self) -> QWidget:
        """The cells take the keys."""
        return self.grid


def make(session: Session, window: Desk) -> MapsView:
    """The view of this step."""
    return MapsView(session, window)
