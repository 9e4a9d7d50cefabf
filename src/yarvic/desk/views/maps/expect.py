"""The line under a draft that says what its revision is to bring about, so that the next pulls answer it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Literal

from PyQt6.QtWidgets import QLineEdit, QWidget

from yarvic.core.errors import CalibrationError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.expected import KNOCK_RETARD, Expected
from yarvic.core.typed_numbers import parse_number
from yarvic.desk.widgets.words import chooser, label, row, show_choice
from yarvic.state.session import Session

# What a calibrator mostly expects something of; all are channels of the dictionary.
CHANNEL_KEYS = (
    "lambda_measured", "boost_pressure", "charge_temperature", "rail_pressure", "exhaust_temperature", "injector_window",
    "fuel_trim", "smoke",
)  # fmt: skip
STATISTICS: tuple[Literal["greatest", "least", "mean"], ...] = ("greatest", "least", "mean")


class ExpectLine(QWidget):
    """Which channel, which statistic of it, against which limit, between which engine speeds."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.channel, self.index = KNOCK_RETARD, 0
        self.statistic: Literal["greatest", "least", "mean"] = "greatest"
        self.way: Literal["below", "above"] = "below"
        self.which = chooser("Of what", self._channels)
        self.how = chooser("Which of its values", self._statistics)
        self.side = chooser("Below or above", self._ways)
        self.limit, self.low, self.high = (QLineEdit() for _ in range(3))
        for line, width, placeholder, name in (
            (self.limit, 70, "limit", "Limit"),
            (self.low, 64, "from", "From engine speed"),
            (self.high, 64, "to", "To engine speed"),
        ):
            line.setFixedWidth(width)
            line.setPlaceholderText(placeholder)
            line.setAccessibleName(name)
        self.unit = label("", "quiet")
        self.setLayout(
            row(label("Expects", "quiet"), self.how, self.which, self.side, self.limit, self.unit, self.low, self.high,
                label("rpm", "quiet"), None, spacing=4)
        )  # fmt: skip
        self._show()

    def _show(self) -> None:
        show_choice(self.which, self._title())
        show_choice(self.how, self.statistic)
        show_choice(self.side, self.way)
        self.unit.setText(self._unit())

    def _title(self) -> str:
        return Expected(
            channel=self.channel, index=self.index, statistic="mean", way="below", limit=0.0, unit=self._unit()
        ).title

    def _unit(self) -> str:
        if self.channel == KNOCK_RETARD:
            return "deg"
        kind = CHANNELS[self.channel]
        return self.session.settings.units.get(kind.unit_choice, kind.unit)

    def _channels(self) -> list[tuple[str, Callable[[], None]]]:
        job = self.session.job
        cylinders = (job.sheet.vehicle.cylinders or 0) if job is not None else 0
        found: list[tuple[str, Callable[[], None]]] = [("knock retard", partial(self._choose, KNOCK_RETARD, 0))]
        found += [
            (f"knock retard of cylinder {n}", partial(self._choose, KNOCK_RETARD, n)) for n in range(1, cylinders + 1)
        ]
        return found + [(CHANNELS[key].title.lower(), partial(self._choose, key, 0)) for key in CHANNEL_KEYS]

    def _choose(self, channel: str, index: int) -> None:
        self.channel, self.index = channel, index
        self._show()

    def _statistics(self) -> list[tuple[str, Callable[[], None]]]:
        return [(s, partial(self._choose_statistic, s)) for s in STATISTICS]

    def _choose_statistic(self, statistic: Literal["greatest", "least", "mean"]) -> None:
        self.statistic = statistic
        self._show()

    def _ways(self) -> list[tuple[str, Callable[[], None]]]:
        return [("below", partial(self._choose_way, "below")), ("above", partial(self._choose_way, "above"))]

    def _choose_way(self, way: Literal["below", "above"]) -> None:
        self.way = way
        self._show()

    def expected(self) -> tuple[Expected, ...]:
        """What is expected; nothing while no limit is given. Raises UnitError, CalibrationError."""
        if not self.limit.text().strip():
            return ()
        low, high = (parse_number(line.text()) if line.text().strip() else None for line in (self.low, self.high))
        if low is not None and high is not None and low >= high:
            raise CalibrationError("the engine speeds of what is expected do not rise", remedy="Correct from and to.")
        return (
            Expected(
                channel=self.channel, index=self.index, statistic=self.statistic, way=self.way,
                limit=parse_number(self.limit.text()), unit=self._unit(), from_rpm=low, to_rpm=high,
            ),
        )  # fmt: skip

    def clear(self) -> None:
        """Expect nothing."""
        for line in (self.limit, self.low, self.high):
            line.clear()
