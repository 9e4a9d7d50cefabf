"""Setting a pull aside: a word that opens a line for the reason; and the way back."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QWidget

from yarvic.core.job.model import Evidence
from yarvic.desk.widgets.words import word


def title_of(run: Evidence, pull: int | None) -> str:
    """A run, or one of its pulls, in words."""
    return run.title if pull is None else f"{run.title}, pull {pull + 1}"


def left_out(
    runs: Iterable[Evidence], count_again: Callable[[Evidence, int | None], None]
) -> list[tuple[str, Callable[[], None]]]:
    """What of some runs is left out with the reason, each with what lets it count again."""
    return [
        (f"Count again: {title_of(run, pull)}, left out because {why}", partial(count_again, run, pull))
        for run in runs
        for pull, why in run.aside.items()
    ]


class SetAsideForm(QWidget):
    """Nothing is set aside without a reason: the word asks for it, Enter does it, Esc lets it be."""

    def __init__(self, do: Callable[[str], None]) -> None:
        super().__init__()
        self._do = do
        self.word = word("Leave out", self._ask)
        self.reason = QLineEdit()
        self.reason.setPlaceholderText("why it does not count")
        self.reason.setAccessibleName("Why this pull does not count")
        self.reason.setFixedWidth(170)
        self.reason.returnPressed.connect(self._done)
        self.reason.hide()
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.word)
        layout.addWidget(self.reason)

    def _ask(self) -> None:
        self.reason.setVisible(not self.reason.isVisible())
        self.reason.clear()
        if self.reason.isVisible():
            self.reason.setFocus()

    def _done(self) -> None:
        text = self.reason.text().strip()
        if text:
            self.reason.hide()
            self._do(text)

    def keyPressEvent(self, event) -> None:
        """Esc lets it be."""
        if event.key() == Qt.Key.Key_Escape and self.reason.isVisible():
            self.reason.hide()
        else:
            super().keyPressEvent(event)
