"""What is answered of one column: channel, unit, what a pressure is counted from, sign; its factor, what is added."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCompleter, QFrame, QVBoxLayout, QWidget

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.dictionary import TIME, read_header
from yarvic.core.evidence.mapping import AFR, PHI, Column
from yarvic.core.typed_numbers import parse_number
from yarvic.core.units import logged_units_of
from yarvic.desk.views.importing.columns import doubt_of, read_as
from yarvic.desk.widgets.entry import Line, choice
from yarvic.desk.widgets.words import act, label, row, show_choice, word

REFERENCES = (("absolute", "absolute"), ("gauge", "gauge (over the barometer)"))
NUMBER_TIMES, ROW_LASTS = "Times", "A row lasts"
SIGNS = (("1", "as it stands"), ("-1", "the other way: positive is retarded"))


@dataclass(frozen=True)
class About:
    """A column with what may be said of it.

    `times`: what time can be said to count in; `others`: names of the columns that may be added to it. `own_time`: it is
    what the file calls its time; `rows`: it is the counted rows of a log without a column of time.
    """

    place: int
    column: Column
    beside: str = ""
    times: Sequence[tuple[str, str]] = ()
    others: Sequence[str] = ()
    own_time: bool = False
    rows: bool = False


class Answer(QFrame):
    """The column in hand; `tell` is given what is said of it."""

    def __init__(self, tell: Callable[..., None], onward: Callable[[], None]) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self._tell, self._onward = tell, onward
        self._about: About | None = None
        self.name = label("", "title")
        self.question = label("", "fault", wrap=True)
        self.channel = Line("Read as", self._channel, 190, "a channel, such as Boost pressure")
        titles = sorted(["Time", *(c.title for c in CHANNELS.values() if not c.waveform)])
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
        self.factor_name = label(NUMBER_TIMES, "quiet")
        self.factor = Line("Its number is multiplied by", lambda t: self._number("factor", t, 1.0), 76, "1")
        self.offset = Line("Then added to it", lambda t: self._number("offset", t, 0.0), 76, "0")
        self.plus = choice("Column that is added", self._others, lambda name: self._tell(plus=name))
        self.plus_unit = choice("Unit of what is added", self._units, lambda u: self._tell(plus_unit=u))
        self.plus_name = label("in", "quiet")
        column.addLayout(
            row(
                self.factor_name,
                self.factor,
                label("plus", "quiet"),
                self.offset,
                label("and column", "quiet"),
                self.plus,
                self.plus_name,
                self.plus_unit,
                None,
                spacing=6,
            )
        )
        column.addWidget(self.factor.fault)
        column.addWidget(self.offset.fault)

    def show_column(self, about: About | None) -> None:
        """Show another column, or what was said of it."""
        if about is None or self._about is None or about.place != self._about.place:
            for line in (self.channel, self.factor, self.offset):
                line.setModified(False)  # what was written and not taken was about another column
        self._about = about
        for widget in (self.channel, self.unit, self.reference, self.sign, self.aside, self.confirm, *self._scale):
            widget.setEnabled(about is not None)
        if about is None:
            self.name.setText("No column is selected")
            self.question.setText("")
            return
        column, beside, rows, own_time = about.column, about.beside, about.rows, about.own_time
        kind = CHANNELS.get(column.channel)
        name = "Its rows, counted" if rows else column.name
        self.name.setText(f"{name} [{column.header_unit}]" if column.header_unit else name)
        self.question.setText(doubt_of(column, beside))
        self.question.setObjectName("fault" if column.question or beside else "quiet")
        style = self.question.style()
        if style is not None:
            style.polish(self.question)
        is_time = column.channel == TIME
        self.channel.show_text(read_as(column) if kind is not None or is_time else "")
        self.channel.setEnabled(not (is_time and own_time))
        self.aside.setEnabled(not (is_time and own_time))
        show_choice(self.unit, column.unit or "unit?")
        show_choice(self.reference, column.reference or "counted from?")
        show_choice(self.sign, "other way" if column.sign == -1 else "sign as it stands")
        self.unit.setVisible(kind is not None or is_time)
        self.reference.setVisible(kind is not None and kind.reference == "absolute")
        self.sign.setVisible(kind is not None and bool(kind.sign))
        self._show_scale(column, rows=rows)
        self.confirm.setEnabled(bool((kind is not None or is_time) and column.unit) and column.how != "confirmed")

    @property
    def _scale(self) -> tuple[QWidget, ...]:
        return (self.factor, self.offset, self.plus, self.plus_unit)

    def _show_scale(self, column: Column, *, rows: bool) -> None:
        """What is done with its numbers; nothing of a column that is left aside."""
        self.factor_name.setText(ROW_LASTS if rows else NUMBER_TIMES)
        self.factor.show_text(f"{column.factor:.12g}" if column.factor != 1.0 or rows else "")
        self.offset.show_text(f"{column.offset:.12g}" if column.offset else "")
        show_choice(self.plus, column.plus or "none")
        show_choice(self.plus_unit, column.plus_unit or column.unit or "unit?")
        for widget in self._scale:
            widget.setEnabled(bool(column.channel))
        for widget in (self.plus_name, self.plus_unit):
            widget.setVisible(bool(column.plus))

    def _others(self) -> list[tuple[str, str]]:
        return [("", "none"), *((n, n) for n in (self._about.others if self._about is not None else ()))]

    def _number(self, entry: str, text: str, plain: float) -> None:
        """A factor or an offset as it was written; empty: none."""
        self._tell(**{entry: parse_number(text) if text.strip() else plain})

    def _units(self) -> list[tuple[str, str]]:
        if self._about is None:
            return []
        if self._about.column.channel == TIME:
            return list(self._about.times)
        kind = CHANNELS.get(self._about.column.channel)
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
        if text.strip().casefold() == TIME:
            key = TIME
        key = key or read_header(text.strip()).key
        if key not in CHANNELS and key != TIME:
            raise ValueError(
                f"There is no channel {text.strip()!r}: write for example Boost pressure, or Lambda bank 2."
            )
        self._tell(channel=key)

    def _confirm(self) -> None:
        self._tell()
        self._onward()
