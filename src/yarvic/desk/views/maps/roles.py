"""Roles: which table does what. Proposals with their reasons; a person confirms, chooses another, or says that none does."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import (
    QFileDialog,
    QFrame,
    QGridLayout,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from yarvic.core.calibration.roles import Kind, kinds
from yarvic.desk.widgets.fault import FaultLine
from yarvic.desk.widgets.words import Elided, act, chooser, label, row, show_choice, sideways, word
from yarvic.state.roles import RolesState

NONE = "no table does"
MOST_LEFT = 2000


class RolesPanel(QFrame):
    """A line for each role: what does it, how sure that is and why, and who said so."""

    def __init__(self, roles: RolesState) -> None:
        super().__init__()
        self.roles = roles
        self.setObjectName("sheet")
        self.choosers: dict[str, QPushButton] = {}
        self.reasons: dict[str, Elided] = {}
        self.confirm = act("Confirm all that are proposed", self._confirm_all)
        self.fault = FaultLine()
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 12, 16, 12)
        column.setSpacing(8)
        text = "What each table does. A title alone is never relied on: a person confirms."
        column.addWidget(label(text, "quiet", wrap=True))
        column.addWidget(self._lines())
        self.axes = {which: chooser(f"What axis {which} is of", partial(self._inputs, which)) for which in ("x", "y")}
        self.in_hand = label("", "quiet")
        column.addLayout(row(self.in_hand, *self.axes.values(), None, spacing=8))
        self.left_title = label("", "quiet")
        self.left = QPlainTextEdit()
        self.left.setReadOnly(True)
        self.left.setAccessibleName("What is left out of the description, and why")
        column.addWidget(self.left_title)
        column.addWidget(self.left, 1)
        column.addStretch(0)
        column.addLayout(
            row(
                self.confirm,
                word("Export as TOML", self._save),
                word("Import from TOML", self._load),
                None,
                spacing=10,
            )
        )
        column.addWidget(self.fault)

    def _lines(self) -> QScrollArea:
        inner = QWidget()
        grid = QGridLayout(inner)
        grid.setContentsMargins(0, 0, 8, 0)
        grid.setHorizontalSpacing(12)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(2, 1)
        for line, (role, kind) in enumerate(kinds().items()):
            button = chooser(kind.title, partial(self._choices, role))
            self.choosers[role] = button
            self.reasons[role] = Elided("caption")
            grid.addWidget(label(kind.title), line, 0)
            grid.addWidget(button, line, 1)
            grid.addWidget(self.reasons[role], line, 2)
        grid.setRowStretch(len(kinds()), 1)
        return sideways(inner)

    def refresh(self) -> None:
        """Show what is confirmed, and what is proposed."""
        proposed = 0
        for role, kind in kinds().items():
            said, likeliest = self.roles.said(role), self.roles.likeliest(role)
            if said is not None:
                self._show(role, ", ".join(self.roles.title(k) for k in said.entries), f"confirmed by {said.by}")
            elif likeliest is not None:
                proposed += 1
                why = f"proposed, {likeliest.confidence * 100:.0f} %: {likeliest.reason}"
                self._show(role, f"{self.roles.title(likeliest.key)}?", why)
            else:
                self._show(role, "unknown", self._why_not(kind))
        self.confirm.setEnabled(proposed > 0 and self.roles.may_write)
        self.fault.hide()
        self._show_axes()
        left = self.roles.left_out()
        self.left_title.setText(f"{len(left)} of the description {'is' if len(left) == 1 else 'are'} left out")
        self.left.setPlainText("\n".join(f"{x.key}: {x.reason}" for x in left[:MOST_LEFT]))
        for widget in (self.left_title, self.left):
            widget.setVisible(bool(left))

    def _show_axes(self) -> None:
        """What measures the axes of the table in hand."""
        axes = self.roles.axes()
        self.in_hand.setText(f"{self.roles.title(self.roles.shown())} is over" if axes else "")
        for which, button in self.axes.items():
            button.setVisible(which in axes)
            if which in axes:
                show_choice(button, axes[which])

    def _inputs(self, which: str) -> list[tuple[str, Callable[[], None]]]:
        return [
            (title, partial(self._attempt, partial(self.roles.say_input, which, channel)))
            for channel, title in self.roles.inputs(which)
        ]

    @staticmethod
    def _why_not(kind: Kind) -> str:
        return f"no table is called so: choose one, of {' or '.join(kind.kinds)}"

    def _show(self, role: str, text: str, why: str) -> None:
        button = self.choosers[role]
        show_choice(button, text)
        self.reasons[role].setText(why)

    def _choices(self, role: str) -> list[tuple[str, Callable[[], None]]]:
        offered: list[tuple[str, Callable[[], None]]] = [
            (f"{self.roles.title(p.key)}   {p.confidence * 100:.0f} %", partial(self._say, role, [p.key]))
            for p in self.roles.proposals(role)
        ]
        known = {p.key for p in self.roles.proposals(role)}
        shown = self.roles.shown()
        if shown and shown not in known:
            offered.append((f"{self.roles.title(shown)}, shown under Maps", partial(self._say, role, [shown])))
        offered.append((NONE, partial(self._say, role, [])))
        return offered

    def _say(self, role: str, keys: list[str]) -> None:
        self._attempt(lambda: self.roles.say(role, keys))

    def _confirm_all(self) -> None:
        self._attempt(self.roles.confirm_all)

    def _attempt(self, doing: Callable[[], object]) -> None:
        if self.fault.attempt(doing):
            self.refresh()

    def _save(self) -> None:
        chosen, _ = QFileDialog.getSaveFileName(self, "Export the roles", "roles.toml", "Roles (*.toml)")
        if chosen:
            self._attempt(lambda: self.roles.save(Path(chosen)))

    def _load(self) -> None:
        chosen, _ = QFileDialog.getOpenFileName(self, "Import roles", "", "Roles (*.toml);;All files (*)")
        if chosen:
            self._attempt(lambda: self.roles.load(Path(chosen)))
