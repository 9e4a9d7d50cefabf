"""What is answered of one column: channel, unit, what a pressure is counted from, sign, the fuel of a ratio."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCompleter, QFrame, QVBoxLayout

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.dictionary import TIME, read_header
from yarvic.core.evidence.mapping import AFR, PHI, Column
from yarvic.core.units import logged_units_of
from yarvic.desk.views.importing.columns import doubt_of, read_as
from yarvic.desk.widgets.entry import Line, choice
from yarvic.desk.widgets.words import act, label, row, show_choice, word

REFERENCES = (("absolute", "absolute"), ("gauge", "gauge (over the barometer)"))
SIGNS = (("1", "as it stands"), ("-1", "the other way: positive is retarded"))


class Answer(QFrame):
    """The column in hand; `tell` is given what is said of it."""

    def __init__(self, tell: Callable[..., None], onward: Callable[[], None]) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self._tell, self._onward = tell, onward
        self._column: Column | None = None
        self._times: list[tuple[str, str]] = []
        self.name = label("", "title")
        self.question = label("", "fault", wrap=True)
        self.channel = Line("Read as", self._channel, 190, "a channel, such as Boost pressure")
        titles = sorted(c.title for c in CHANNELS.values() if not c.waveform)
        completer = QCompleter(titles, self.channel)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.setFilterMode(Qt.MatchFlag.MatchContains)
        completer.activated.connect(lambda text: self._completed(str(text)))
        self.channel.setCompleter(completer)
        self.unit = choice("Unit", self._units, lambda u: self._tell(unit=u))
        self.reference = choice("Counted from", lambda: list(REFERENCES), lambda r: self._tell(reference=r))
        self.sign = choice("Sign", lambda: list(SIGNS), lambda s: self._tell(sign=int(s)))
        self.aside = word("Leave aside", lambda: self._tell(channel=""))
        self.confirm = act("Confirm", self._confirm)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 8)
        column.setSpacing(4)
        column.addLayout(row(self.name, None, spacing=8))
        column.addWidget(self.question)
        column.addLayout(
            row(
                label("Read as", "quiet"),
                self.channel,
                self.unit,
                self.reference,
                self.sign,
                None,
                self.aside,
                self.confirm,
                spacing=6,
            )
        )
        column.addWidget(self.channel.fault)

    def show_column(self, column: Column | None, beside: str = "", times: Sequence[tuple[str, str]] = ()) -> None:
        """Show another column, or what was said of it; `times`: what the time can be said to count in."""
        self._column, self._times = column, list(times)
        for widget in (self.channel, self.unit, self.reference, self.sign, self.aside, self.confirm):
            widget.setEnabled(column is not None)
        if column is None:
            self.name.setText("No column is selected")
            self.question.setText("")
            return
        kind = CHANNELS.get(column.channel)
        self.name.setText(f"{column.name} [{column.header_unit}]" if column.header_unit else column.name)
        self.question.setText(doubt_of(column, beside))
        self.question.setObjectName("fault" if column.question or beside else "quiet")
        style = self.question.style()
        if style is not None:
            style.polish(self.question)
        is_time = column.channel == TIME
        self.channel.show_text(read_as(column) if kind is not None or is_time else "")
        self.channel.setEnabled(not is_time)
        self.aside.setEnabled(not is_time)
        show_choice(self.unit, column.unit or "unit?")
        show_choice(self.reference, column.reference or "counted from?")
        show_choice(self.sign, "other way" if column.sign == -1 else "sign as it stands")
        self.unit.setVisible(kind is not None or is_time)
        self.reference.setVisible(kind is not None and kind.reference == "absolute")
        self.sign.setVisible(kind is not None and bool(kind.sign))
        self.confirm.setEnabled(bool((kind is not None or is_time) and column.unit) and column.how != "confirmed")

    def _units(self) -> list[tuple[str, str]]:
        if self._column is not None and self._column.channel == TIME:
            return self._times
        kind = CHANNELS.get(self._column.channel) if self._column is not None else None
        if kind is None:
            return []
        found = [(u, u) for u in logged_units_of(kind.quantity)]
        return (
            [*found, (AFR, "air-fuel ratio"), (PHI, "phi: one over lambda")] if kind.quantity == "mixture" else found
        )

    def _completed(self, text: str) -> None:
        self.channel.setText(text)
        self.channel.setModified(True)
        self.channel.done()

    def _channel(self, text: str) -> None:
        if not text.strip():
            self._tell(channel="")
            return
        key = next((k for k, c in CHANNELS.items() if c.title.casefold() == text.strip().casefold()), "")
        key = key or read_header(text.strip()).key
        if key not in CHANNELS:
            raise ValueError(
                f"There is no channel {text.strip()!r}: write for example Boost pressure, or Lambda bank 2."
            )
        self._tell(channel=key)

    def _confirm(self) -> None:
        self._tell()
        self._onward()
