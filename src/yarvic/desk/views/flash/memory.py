"""The unit's memory as a strip of blocks: what is the same, what differs and by which tables, what was proven."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt
from PyQt6.QtGui import QHelpEvent, QPainter, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from yarvic.desk.theme import tokens

# What a block is; each is drawn by its shape as well.
SAME, DIFFERS, READ, WRITTEN, PROVEN, OTHER, ASIDE, UNKNOWN = (
    "same", "differs", "read", "written", "read back equal", "read back other than written", "left aside",
    "not read yet",
)  # fmt: skip
COLUMNS = 32
MOST_PX = 26.0


class Memory(QWidget):
    """The unit's memory, one square a block; `names` are what lies in a block that differs."""

    def __init__(self) -> None:
        super().__init__()
        self.states: list[str] = []
        self.names: Mapping[int, tuple[str, ...]] = MappingProxyType({})
        self.block, self.base = 1, 0
        self.setMinimumHeight(96)
        self.setAccessibleName("Memory of the unit, block by block")

    def show_states(self, states: list[str], names: Mapping[int, tuple[str, ...]] | None = None) -> None:
        """Show all blocks."""
        self.states = states
        if names is not None:
            self.names = names
        counts = {
            s: states.count(s) for s in (SAME, DIFFERS, READ, WRITTEN, PROVEN, OTHER, ASIDE, UNKNOWN) if s in states
        }
        said = ", ".join(f"{n} {word}" for word, n in counts.items())
        tables = ", ".join(dict.fromkeys(n for each in self.names.values() for n in each))
        self.setAccessibleDescription(f"{said}; {tables}" if tables else said)
        self.update()

    def _size(self) -> float:
        rows = max(-(-len(self.states) // COLUMNS), 1)
        return min((self.width() - 4) / COLUMNS, self.height() / rows, MOST_PX)

    def event(self, event) -> bool:
        """Where the mouse rests: the block's addresses, what it is, and what lies there."""
        if event.type() == QEvent.Type.ToolTip and isinstance(event, QHelpEvent):
            size = self._size()
            at = int(event.pos().y() // size) * COLUMNS + int(event.pos().x() // size)
            if 0 <= at < len(self.states) and event.pos().x() < size * COLUMNS:
                first = self.base + at * self.block
                names = f"\n{', '.join(self.names[at])}" if at in self.names else ""
                text = f"0x{first:X} to 0x{first + self.block - 1:X}: {self.states[at]}{names}"
                QToolTip.showText(event.globalPos(), text, self)
            else:
                QToolTip.hideText()
            return True
        return super().event(event)

    def paintEvent(self, event) -> None:
        """Outline same, heavy outline differs, bar read, half filled written, filled proven, crossed otherwise,
        a dash where nothing is compared, dashed where nothing was read."""
        painter = QPainter(self)
        t = tokens()
        if not self.states:
            return
        size = self._size()
        for i, state in enumerate(self.states):
            x, y = (i % COLUMNS) * size, (i // COLUMNS) * size
            box = QRectF(x + 1.5, y + 1.5, size - 4, size - 4)
            dashes = Qt.PenStyle.DashLine if state == UNKNOWN else Qt.PenStyle.SolidLine
            painter.setPen(QPen(t.color("line"), 1, dashes))
            painter.setBrush(t.color("ground"))
            painter.drawRect(box)
            if state == ASIDE:
                painter.setPen(QPen(t.color("quiet"), 2))
                painter.drawLine(box.center() - QPointF(size / 6, 0), box.center() + QPointF(size / 6, 0))
            elif state == READ:
                painter.fillRect(QRectF(box.left(), box.bottom() - 3, box.width(), 3), t.color("quiet"))
            elif state in (DIFFERS, OTHER):
                painter.setPen(QPen(t.color("working" if state == DIFFERS else "stop"), 2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                inner = box.adjusted(1, 1, -1, -1)
                painter.drawRect(inner)
                if state == OTHER:
                    painter.drawLine(inner.topLeft(), inner.bottomRight())
                    painter.drawLine(inner.bottomLeft(), inner.topRight())
            elif state == WRITTEN:
                painter.fillRect(box.adjusted(0, box.height() / 2, 0, 0), t.color("working"))
            elif state == PROVEN:
                painter.fillRect(box, t.color("working"))
