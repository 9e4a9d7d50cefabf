"""Flash: the page that writes, by the link or by file, and beside it the vault and the log as it comes."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QStackedWidget, QWidget

from yarvic.desk.overlays import Command
from yarvic.desk.views.flash.by_file import ByFile
from yarvic.desk.views.flash.vault import VaultPage
from yarvic.desk.views.flash.write import WritePage
from yarvic.desk.views.view import Desk, View
from yarvic.desk.widgets.words import chooser, show_choice, word
from yarvic.state.session import Session
from yarvic.state.vault import VaultState


class FlashView(View):
    """The way to the unit is chosen at its head."""

    def __init__(self, session: Session, window: Desk) -> None:
        super().__init__(session, "Flash")
        self.window_ = window
        self.way = chooser("How the unit is reached", self._ways)
        self.vault_word = word("Vault", partial(self.toggle, "vault"), "U", checkable=True)
        self.live_word = word("Live log", window.open_live)
        for widget in (self.way, self.vault_word, self.live_word):
            self.head.addWidget(widget)
        self.add_bench(window.open_bench)
        self.write = WritePage(session)
        self.by_file = ByFile(session)
        self.vault = VaultPage(VaultState(session), window)
        key = QShortcut(QKeySequence("U"), self)
        key.setContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
        key.activated.connect(partial(self.toggle, "vault"))
        self.panel = ""  # the page that stands in place of the one that writes
        self.pages = QStackedWidget()
        for page in (self.write, self.by_file, self.vault):
            self.pages.addWidget(page)
        self.column.addWidget(self.pages, 1)
        self.refresh_on(
            session.job_changed, session.selection_changed, session.bench_changed, session.draft_changed,
            session.link.changed,
        )  # fmt: skip

    def _ways(self) -> list:
        link = self.session.link
        return [(way.title, partial(link.choose_way, way.key)) for way in link.ways()]

    def refresh(self) -> None:
        """Show the page of the way that was chosen."""
        s = self.session
        way = s.link.way
        by_hand = way.make is None
        show_choice(self.way, way.title)
        self.way.setEnabled(s.busy is None and s.job is not None and s.job.has_maps)
        self.bench_word.setVisible(s.bench is not None)
        page: WritePage | ByFile | VaultPage = self.by_file if by_hand else self.write
        about = "writes what differs, block by block, and reads it back"
        if self.panel == "vault":
            page, about = self.vault, "every image that was read or written, for all jobs of this shop"
        elif by_hand:
            about = "no unit is on a link here: it is written by file, and read back"
        self.about.setText(about)
        self.vault_word.setChecked(self.panel == "vault")
        self.pages.setCurrentWidget(page)
        page.refresh()

    def toggle(self, name: str) -> None:
        """A page in place of the one that writes, or that one again."""
        self.show_panel("" if self.panel == name else name)

    def show_panel(self, name: str) -> None:
        """Show a page of this step."""
        self.panel = name
        self.refresh()

    def escape(self) -> None:
        """Back to the page that writes."""
        self.show_panel("")

    def keys(self) -> list[tuple[str, str]]:
        """Keys of this view."""
        if self.session.link.way.make is None:
            return [("Tab, Space", "reach a word or a tick, and press it")]
        return [
            ("Tab, Space", "reach and press Write and read back"),
            ("B", "bench: weather, run, fuel, faults, unit"),
        ]

    def commands(self) -> list[Command]:
        """Commands of this view."""
        link = self.session.link
        if link.way.make is None:
            return self.by_file.commands()
        return [
            Command("Flash the working map", "", link.write),
            Command("Write all blocks of the working map", "", partial(link.write, everything=True)),
            Command("Read the unit into the vault", "", link.read),
            Command("Log from the unit", "", self.window_.open_live),
            Command("Look through the vault", "U", partial(self.show_panel, "vault")),
        ]

    def main_widget(self) -> QWidget:
        """The action takes the focus."""
        if self.panel == "vault":
            return self.vault.search
        return self.by_file.export if self.session.link.way.make is None else self.write.go


def make(session: Session, window: Desk) -> FlashView:
    """The view of this step."""
    return FlashView(session, window)
