"""Cylinders side by side: a row for each, a column for each band of engine speed, deeper where it matters more."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QFrame, QVBoxLayout, QWidget

from yarvic.core.evidence.by_cylinder import ByCylinder, Way, by_cylinder, families_by_cylinder, usual_way
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.units import UNITS, from_canonical
from yarvic.desk.theme import CAPTION_PX, font, mix, tokens
from yarvic.desk.widgets.words import chooser, label, row, show_choice
from yarvic.state.results import PullResult

NAME_PX, HEAD_PX, WHOLE_PX, MOST_ROW_PX, DEEPEST = 92, 40, 92, 84, 0.55
WAYS: dict[Way, str] = {"lowest": "Lowest", "highest": "Highest", "mean": "Mean"}


class Cylinders(QFrame):
    """Of the pull that is drawn, or of all pulls of its revision together."""

    def __init__(self, pulls: Callable[[], list[PullResult]], unit_of: Callable[[str], str]) -> None:
        super().__init__()
        self._pulls, self._unit_of = pulls, unit_of
        self.setObjectName("sheet")
        self.family, self.way = "", "lowest"
        self._chosen: Way | None = None
        self.pick = chooser("What of each cylinder is shown", self._families)
        self.by = chooser("Lowest, highest or mean of each band", self._ways)
        self.grid = _Grid()
        self.words = label("", "caption", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(6, 4, 6, 4)
        column.addLayout(row(self.pick, self.by, None))
        column.addWidget(self.grid, 1)
        column.addWidget(self.words)

    @staticmethod
    def there(p: PullResult | None) -> bool:
        """Whether several cylinders were logged with a pull."""
        return p is not None and not p.evidence.is_sheet and bool(families_by_cylinder(p.log))

    def _families(self) -> list[tuple[str, Callable[[], None]]]:
        pulls = self._pulls()
        found = families_by_cylinder(pulls[0].log) if pulls else {}
        return [(_title(f), partial(self.choose, f)) for f in found]

    def _ways(self) -> list[tuple[str, Callable[[], None]]]:
        return [(title, partial(self.choose_way, way)) for way, title in WAYS.items()]

    def choose(self, family: str) -> None:
        """Show another family of channels."""
        self.family, self._chosen = family, None
        self.refresh()

    def choose_way(self, way: Way) -> None:
        """Show another number of each band."""
        self._chosen = way
        self.refresh()

    def refresh(self) -> None:
        """Take up the pulls that are drawn."""
        pulls = [p for p in self._pulls() if self.there(p)]
        if not pulls:
            self.grid.show_table(None, "", "")
            return
        families = families_by_cylinder(pulls[0].log)
        self.family = self.family if self.family in families else next(iter(families))
        way = self._chosen or usual_way(self.family)
        show_choice(self.pick, _title(self.family))
        show_choice(self.by, WAYS[way])
        found = by_cylinder([(p.log, p.pull) for p in pulls], self.family, way)
        key = families[self.family][found.cylinders[0]]
        unit = self._unit_of(key)
        self.grid.show_table(found, unit, f"{WAYS[way]} of all")
        of = pulls[0].title if len(pulls) == 1 else f"{len(pulls)} pulls together"
        worst = f" {CHANNELS[key].sign.capitalize()}." if CHANNELS[key].sign else ""
        doubts = [c.doubt.sentence for k in families[self.family].values() if (c := pulls[0].log.channels[k]).doubt]
        worst += f" In doubt: {doubts[0]}." if doubts else ""
        self.words.setText(
            f"{of}: {WAYS[way].lower()} {_title(self.family).lower()} in each band of engine speed, {unit}.{worst}"
            f" Deeper tint: further from the middle of all cylinders."
        )


def _title(family: str) -> str:
    kind = CHANNELS.get(family)
    return kind.title.removesuffix(" all cylinders") if kind is not None else family


class _Grid(QWidget):
    """The table, painted."""

    def __init__(self) -> None:
        super().__init__()
        self.table: ByCylinder | None = None
        self._unit, self._of_all = "", ""
        self.setAccessibleName("Cylinders by engine speed")

    def show_table(self, table: ByCylinder | None, unit: str, of_all: str) -> None:
        """Paint another table; the numbers are shown in `unit`."""
        self.table, self._unit, self._of_all = table, unit, of_all
        self.setAccessibleDescription(self._in_words())
        self.update()

    def _shown(self, value: float) -> str:
        if not np.isfinite(value):
            return ""
        text = f"{float(from_canonical(value, self._unit)):.{UNITS[self._unit].decimals}f}"
        return text.lstrip("-") if not text.strip("-0.") else text

    def _in_words(self) -> str:
        if self.table is None:
            return ""
        each = zip(self.table.cylinders, self.table.whole, strict=True)
        return ", ".join(f"cylinder {n}: {self._shown(float(v))}" for n, v in each)

    def paintEvent(self, event) -> None:
        """Rows and columns."""
        table = self.table
        if table is None:
            return
        painter, t = QPainter(self), tokens()
        painter.setFont(font(CAPTION_PX))
        columns = table.edges_rpm.size - 1
        wide = (self.width() - NAME_PX - WHOLE_PX) / max(columns, 1)
        high = min((self.height() - HEAD_PX) / max(len(table.cylinders), 1), MOST_ROW_PX)
        every = int(np.ceil(52.0 / max(wide, 1.0)))
        painter.setPen(t.color("quiet"))
        for n, edge in enumerate(table.edges_rpm[:-1]):
            if n % every == 0:
                painter.drawText(QRectF(NAME_PX + n * wide, 4, wide * every, 16), _LEFT, f"{edge:,.0f}")
        painter.drawText(QRectF(NAME_PX + columns * wide + 10, 4, WHOLE_PX, 16), _LEFT, self._of_all)
        painter.drawText(QRectF(4, 4, NAME_PX, 16), _LEFT, "from rpm")
        middle = float(np.nanmedian(table.values)) if np.isfinite(table.values).any() else 0.0
        far = float(np.nanmax(np.abs(table.values - middle))) if np.isfinite(table.values).any() else 0.0
        for r, number in enumerate(table.cylinders):
            top = HEAD_PX - 14 + r * high
            painter.setPen(t.color("ink"))
            painter.drawText(QRectF(4, top, NAME_PX, high), _MIDDLE, f"Cylinder {number}")
            for n in range(columns):
                value = float(table.values[r, n])
                box = QRectF(NAME_PX + n * wide, top, wide - 1.0, high - 1.0)
                share = abs(value - middle) / far if far > 0.0 and np.isfinite(value) else 0.0
                painter.fillRect(box, mix(t.color("sheet"), t.color("working"), 0.04 + DEEPEST * share))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, self._shown(value) if wide > 30.0 else "")
            whole = self._shown(float(table.whole[r])) or "no value"
            painter.drawText(QRectF(NAME_PX + columns * wide + 10, top, WHOLE_PX, high), _MIDDLE, whole)
        painter.end()


_LEFT = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop
_MIDDLE = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
