"""The vault: every image that was read or written, found by what is known of it, with what can be done with one."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QModelIndex, Qt
from PyQt6.QtWidgets import QAbstractItemView, QFileDialog, QFrame, QLineEdit, QTableView

from yarvic.core.formats.images import FORMS, SUFFIXES, Form
from yarvic.core.link.kept import Kept
from yarvic.desk.theme import font, tokens
from yarvic.desk.views.view import Desk
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.headed import Headed, dress_rows
from yarvic.desk.widgets.words import act, chooser, label, row, scrolled_sheet, word
from yarvic.state.vault import VaultState

HEADS = ("Image", "Unit", "Vehicle", "Revision", "Family", "Seen", "Bytes")
WIDTHS = {0: 128, 2: 96, 3: 76, 4: 112, 5: 140, 6: 76}
UNIT, UNIT_PX = 1, 150
LISTED_PX, MOST_SEEN = 96, 6


class VaultModel(Headed):
    """A row for each image."""

    def __init__(self, state: VaultState) -> None:
        super().__init__(HEADS)
        self.state = state
        self.listed: list[Kept] = []

    def rows(self) -> list[Kept]:
        """The images that fit."""
        return self.listed

    def refresh(self) -> None:
        """Take them up anew."""
        self.beginResetModel()
        self.listed = self.state.found()
        self.endResetModel()

    def _damaged(self, found: Kept) -> bool:
        return any(found.sha[:12] in fault for fault in self.state.held.faults)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole):
        """The words of a cell; what a unit came with stands out."""
        if not index.isValid():
            return None
        found = self.listed[index.row()]
        if role == Qt.ItemDataRole.DisplayRole:
            return (
                f"{'damaged' if self._damaged(found) else found.in_a_word()} {found.sha[:6]}",
                found.all_of("unit") or found.all_of("serial") or "unknown",
                found.all_of("vehicle"),
                found.all_of("revision"),
                found.all_of("family"),
                found.last.time[:16].replace("T", " "),
                f"{found.size:,}",
            )[index.column()]
        if role == Qt.ItemDataRole.FontRole and found.stock:
            return font(bold=True)
        if role == Qt.ItemDataRole.ForegroundRole and self._damaged(found):
            return tokens().color("stop")
        if role == Qt.ItemDataRole.ToolTipRole:
            return found.sha
        return None


class VaultPage(QFrame):
    """A line to search in, the acts, the rows, and what is known of the one in hand."""

    def __init__(self, state: VaultState, window: Desk) -> None:
        super().__init__()
        self.state, self.window_ = state, window
        self.search = QLineEdit()
        self.search.setPlaceholderText("Part of a unit, vehicle, revision, family or date, such as 2026-11")
        self.search.setAccessibleName("Search the vault")
        self.search.textChanged.connect(self._searched)
        self.count = label("", "quiet")
        self.compare = act("Compare maps", self._compare)
        self.take = word("Into the draft", self._take)
        self.bytewise = word("Byte by byte", self._bytewise)
        self.compare.setToolTip("Holds the working maps against the image, table by table")
        self.take.setToolTip("Takes the maps of the image into the draft")
        self.bytewise.setToolTip("Compares two rows that are chosen, or one with another file")
        self.export = chooser("Export the image", self._forms)
        self.export.setText("Export")
        self.prove = word("Check all bytes", state.prove)
        self.remove = word("Remove", self._remove)
        self.fault, self.damage = FaultLine(), label("", "fault", wrap=True)
        self.model = VaultModel(state)
        self.table = QTableView()
        self.table.setModel(self.model)
        dress_rows(self.table, "Images of the vault", WIDTHS, UNIT, UNIT_PX)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.table.doubleClicked.connect(lambda index: self._compare())
        self.about = label("", "quiet", wrap=True)
        self.about.setMinimumHeight(LISTED_PX)
        self.about.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.about.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        column = scrolled_sheet(self)
        column.setSpacing(6)
        column.addWidget(self.search)
        column.addLayout(row(self.compare, self.take, self.bytewise, self.export, None, spacing=8))
        column.addLayout(row(self.count, None, self.prove, self.remove, spacing=8))
        column.addWidget(self.fault)
        column.addWidget(self.damage)
        column.addWidget(self.table, 1)
        column.addWidget(self.about)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.selectionChanged.connect(lambda *_: self._chosen_changed())
        state.changed.connect(self._show)

    def showEvent(self, event) -> None:
        """In sight: another window may have added to it."""
        self.state.look()

    def refresh(self) -> None:
        """What can be done now."""
        self._chosen_changed()

    def _show(self) -> None:
        chosen = {k.sha for k in self.chosen()}
        self.model.refresh()
        for n, each in enumerate(self.model.listed):
            if each.sha in chosen:
                self.table.selectRow(n)
        count, all_ = len(self.model.listed), len(self.state.held.images)
        self.count.setText(f"{count:,} of {all_:,} fit" if self.state.text else f"{all_:,} kept")
        faults = self.state.held.faults
        more = f" and {len(faults) - 3} more" if len(faults) > 3 else ""
        self.damage.setText(
            f"Damaged: {'; '.join(faults[:3])}{more}. Read the unit again, or take it from a copy of the vault."
        )
        self.damage.setVisible(bool(faults))
        self._chosen_changed()

    def chosen(self) -> list[Kept]:
        """The images of the rows in hand."""
        selection = self.table.selectionModel()
        assert selection is not None
        rows = sorted({i.row() for i in selection.selectedRows()})
        return [self.model.listed[n] for n in rows if n < len(self.model.listed)]

    def _chosen_changed(self) -> None:
        chosen, s = self.chosen(), self.state.session
        one = chosen[0] if len(chosen) == 1 else None
        free = s.busy is None
        family = s.job.layout.family if s.job is not None and s.job.has_maps else None
        same = one is not None and any(seen.family == family for seen in one.seen)
        self.compare.setEnabled(free and same)
        self.take.setEnabled(free and same and s.job is not None and not s.job.read_only)
        self.bytewise.setEnabled(free and len(chosen) in (1, 2))
        self.export.setEnabled(free and one is not None)
        self.prove.setEnabled(free and bool(self.state.held.images))
        self.remove.setEnabled(free and one is not None and not one.stock)
        self.about.setText(self._about(one, same))

    def _about(self, one: Kept | None, same: bool) -> str:
        if not self.state.held.images:
            return (
                "Nothing is kept yet. What a unit holds is kept before each write, and by Read and keep; what is written is"
                f" kept too. The vault is in {self.state.folder}."
            )
        if one is None:
            return f"Choose an image. The vault is in {self.state.folder}."
        lines = [f"{one.size:,} bytes, SHA-256 {one.sha}"]
        for s in one.seen[-MOST_SEEN:]:
            of = ", ".join(x for x in (s.unit or s.serial, s.family, s.vehicle, s.revision) if x)
            what = "read, as it came with the unit" if s.stock else s.how
            lines.append(f"{s.time[:16].replace('T', ' ')} UTC   {what}: {of or 'nothing more is known'}")
        if one.stock:
            lines.append("A stock image is not removed: it is the way back.")
        if not same:
            lines.append("Of another family than the open job: it can be exported and compared byte by byte.")
        return "\n".join(lines)

    # -- acting

    def _attempt(self, do: Callable[[], object]) -> None:
        self.fault.hide()
        self.fault.attempt(do)

    def _searched(self, text: str) -> None:
        self.state.text = text
        self._show()

    def _compare(self) -> None:
        chosen = self.chosen()
        if len(chosen) == 1 and self.compare.isEnabled():

            def do() -> None:
                self.state.hold_against(self.window_.maps, chosen[0].sha)
                self.state.session.go("maps")
                self.state.session.panel_asked.emit("compare")

            self._attempt(do)

    def _take(self) -> None:
        chosen = self.chosen()
        if len(chosen) == 1:
            self._attempt(partial(self.state.take_into_draft, chosen[0].sha))

    def _bytewise(self) -> None:
        folder = self.state.folder / "images"
        self.window_.open_comparing(*(folder / f"{k.sha}.bin" for k in self.chosen()))

    def _forms(self) -> list[tuple[str, Callable[[], None]]]:
        return [(text, partial(self._ask_to_export, form)) for form, text in FORMS.items()]

    def _ask_to_export(self, form: Form) -> None:
        chosen = self.chosen()
        if len(chosen) != 1:
            return
        request = self.state.session.request("exporting from the vault")
        proposed = self.state.file_name(chosen[0], form)
        path, _ = QFileDialog.getSaveFileName(self, "Export an image of the vault", proposed, f"*{SUFFIXES[form]}")
        if path:
            self._attempt(lambda: self.state.export(chosen[0].sha, Path(path), form, request))

    def _remove(self) -> None:
        chosen = self.chosen()
        if len(chosen) == 1:
            self._attempt(partial(self.state.remove, chosen[0].sha))
