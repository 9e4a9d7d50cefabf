"""The link as a picture: laptop, cable, unit with its lock, battery."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QWidget

from yarvic.desk.theme import BODY_PX, CAPTION_PX, font, tokens
from yarvic.state.session import Session

HEIGHT, BOX, GAP, LINE = 106, 94.0, 44.0, 19.0
LOCKS = {"open": "open by its port", "once": "opened once by its port", "bench": "bench only"}
# How the writes that wait for a lock are called.
LOCKED = {"once": "locked: to be opened by its port", "bench": "locked: bench only"}


class LinkPicture(QWidget):
    """Three boxes and two lines; it says what was found when the unit was looked at last."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.volts: float | None = None  # as they are while it is written
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName("Link to the unit")

    def boxes(self) -> list[tuple[str, tuple[str, ...]]]:
        """Title and lines of each box."""
        s = self.session
        revision, looked = s.working_revision(), s.link.looked
        now = looked.now if looked is not None else None
        desk = f"{revision.name} to write" if revision else "draft: not to be flashed"
        kept = s.settings
        way = f"{kept.interface} {kept.channel}".strip() if s.link.elsewhere else "virtual bus, simulated"
        if now is None:
            fault = looked.fault.what if looked is not None and looked.fault is not None else "being asked"
            unit: tuple[str, ...] = (fault[:1].upper() + fault[1:], "", "")
            return [("This desk", (desk, way)), ("Control unit", unit), ("Battery", ("unknown", ""))]
        lock = (LOCKS if now.state.opened else LOCKED).get(now.state.lock, now.state.lock)
        runs = "in boot mode" if now.state.boot else "runs its application"
        unit = (now.identity.name, f"holds {self._holds(now.identity.running)}", f"{runs}, {lock}")
        volts = now.supply.voltage_v if self.volts is None else self.volts
        kept_up = "on a maintainer" if now.supply.maintained else "no maintainer"
        return [
            ("This desk", (desk, way)),
            ("Control unit", unit),
            ("Battery", (f"{volts:.1f} V", kept_up, "engine runs" if now.state.engine_runs else "engine off")),
        ]

    def _holds(self, running: str) -> str:
        s = self.session
        reach = s.link.reached()
        if s.bench is not None and reach is s.bench.link:
            return s.bench.holds_in_words()
        held = s.link.holds()
        return held.name if held is not None else running or "nothing that starts"

    def refresh(self) -> None:
        """Show what is known now."""
        said = "; ".join(f"{title}: {', '.join(line for line in lines if line)}" for title, lines in self.boxes())
        self.setAccessibleDescription(said)
        self.update()

    def paintEvent(self, event) -> None:
        """Boxes joined by the cable; the cable is broken where the unit does not answer."""
        if self.session.job is None or not self.session.job.has_maps:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = tokens()
        looked = self.session.link.looked
        answers = looked is None or looked.now is not None
        # The unit says most.
        shares = (0.27, 0.46, 0.27)
        room, x = self.width() - 2 * GAP - 4, 2.0
        for n, ((title, lines), share) in enumerate(zip(self.boxes(), shares, strict=True)):
            box = QRectF(x, 6, room * share, BOX)
            painter.setPen(QPen(t.color("line"), 1))
            painter.setBrush(t.color("ground"))
            painter.drawRoundedRect(box, 4, 4)
            painter.setFont(font(bold=True))
            painter.setPen(t.color("ink"))
            painter.drawText(QPointF(box.left() + 12, box.top() + 22), title)
            for m, line in enumerate(lines):
                painter.setFont(font(BODY_PX if m == 0 else CAPTION_PX))
                painter.setPen(t.color("ink" if m == 0 else "quiet"))
                text = painter.fontMetrics().elidedText(line, Qt.TextElideMode.ElideMiddle, int(box.width()) - 20)
                painter.drawText(QPointF(box.left() + 12, box.top() + 43 + m * LINE), text)
            if n:
                style = Qt.PenStyle.SolidLine if answers else Qt.PenStyle.DotLine
                painter.setPen(QPen(t.color("working" if answers else "stop"), 2, style))
                middle = 6 + BOX / 2
                painter.drawLine(QPointF(box.left() - GAP, middle), QPointF(box.left(), middle))
            x += room * share + GAP
