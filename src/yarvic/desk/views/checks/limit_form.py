"""The limit of the check in hand, to be changed for this job: with a reason and a name, or put back as it ships."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QVBoxLayout

from yarvic.core.checks.finding import Finding
from yarvic.core.checks.limits import default_limits
from yarvic.core.errors import YarvicError
from yarvic.core.units import from_canonical, unit
from yarvic.desk.widgets.entry import Line
from yarvic.desk.widgets.words import act, label, row, word
from yarvic.state.check_limits import as_shipped, bounds_in_words, own_limit, set_limit, shown_unit
from yarvic.state.session import Session


class LimitForm(QFrame):
    """It stays with the check that it was opened for, whatever is chosen meanwhile, and names it."""

    def __init__(self, session: Session, shown: Callable[[bool], None]) -> None:
        super().__init__()
        self.session, self._shown = session, shown
        self.setObjectName("card")
        self.key, self.unit = "", ""
        self.about = label("", "title")
        self.bounds = label("", "caption")
        self.watch = Line("Watch from", lambda text: None, 64)
        self.stop = Line("Stop from", lambda text: None, 64)
        self.why = Line("Reason for this limit", lambda text: None, hint="why, in a sentence")
        self.name = Line("Your name", lambda text: None, 116, "your name")
        self.fault = label("", "fault", wrap=True)
        self.shipped = word("As shipped", self._as_shipped)
        self.unit_words = [label("", "caption") for _ in range(2)]
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 10, 6)
        column.setSpacing(3)
        column.addLayout(row(self.about, self.bounds, None, self.shipped, word("Cancel", self.leave)))
        names = (label("watch from", "caption"), self.watch, self.unit_words[0])
        stops = (label("stop from", "caption"), self.stop, self.unit_words[1])
        column.addLayout(row(*names, *stops, None))
        column.addLayout(row(self.why, label("by", "caption"), self.name, act("Keep", self.keep)))
        column.addWidget(self.fault)
        for field in (self.watch, self.stop, self.why, self.name):
            field.returnPressed.connect(self.keep)
        self.hide()

    def leave(self) -> None:
        """Go, and give the room back."""
        self.hide()
        self._shown(False)

    def keyPressEvent(self, event) -> None:
        """Enter keeps what is written, and goes no further; Escape leaves."""
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        elif event.key() not in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            super().keyPressEvent(event)

    def can_change(self, finding: Finding | None) -> bool:
        """Whether a finding was judged by a limit that is changed here; those of components are Plan's."""
        session = self.session
        return bool(finding is not None and session.job is not None and not session.job.read_only and finding.limit)

    def open(self, finding: Finding) -> None:
        """Begin with the limit by which a finding was judged."""
        key, rule = finding.limit, finding.rule
        if not key or rule is None:
            return
        self.key, self.unit = key, shown_unit(self.session, key)
        decimals = max(unit(self.unit).decimals, 2)
        numbers = (rule.watch_canonical, rule.stop_canonical)
        for field, number in zip((self.watch, self.stop), numbers, strict=True):
            field.setText(f"{round(float(from_canonical(number, self.unit)), decimals):g}")
        self.about.setText(f"Limit of {rule.title.lower()}")
        self.bounds.setText(f"within {bounds_in_words(key, self.unit)}; trouble lies {rule.side}")
        for each in self.unit_words:
            each.setText(self.unit.removesuffix(" diff"))
        own = own_limit(self.session, key)
        self.why.setText(own.reason if own is not None else "")
        self.name.setText(own.name if own is not None else self.session.settings.author)
        self.shipped.setVisible(own is not None)
        self.fault.hide()
        self.show()
        self._shown(True)
        self.watch.setFocus()

    def keep(self) -> None:
        """Keep what was written; the evidence is judged anew by it."""
        try:
            numbers = (self.watch.text(), self.stop.text())
            set_limit(self.session, self.key, numbers, self.unit, self.why.text(), self.name.text())
        except YarvicError as error:
            self.fault.setText(str(error))
            self.fault.show()
            return
        title = default_limits().rules[self.key].title
        self.leave()
        self.session.say(f"{title}: judged by this job's own limit. Ctrl+Z undoes it.")

    def _as_shipped(self) -> None:
        try:
            as_shipped(self.session, self.key)
        except YarvicError as error:
            self.fault.setText(str(error))
            self.fault.show()
            return
        self.leave()
