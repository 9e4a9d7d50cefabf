"""The ratings: families side by side, where the engine stands, where it may go, and why not elsewhere."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QAbstractButton, QGridLayout, QScrollArea, QVBoxLayout, QWidget

from yarvic.core.checks.finding import PASS, STOP, WATCH, amount
from yarvic.core.errors import YarvicError
from yarvic.core.physics.power import RAD_PER_S_PER_RPM
from yarvic.core.plan.cost import rerating_bill
from yarvic.core.plan.plan import Target
from yarvic.core.plan.ratings import Move, moves
from yarvic.core.plan.solve import Solution, cheapest
from yarvic.desk.theme import CAPTION_PX, font, tokens
from yarvic.desk.views.plan.stages import bill_text
from yarvic.desk.widgets.glyphs import draw_glyph
from yarvic.desk.widgets.words import Empty, label, row, tip, word
from yarvic.state.acts import SOLVING
from yarvic.state.aside import aside
from yarvic.state.plan import PlanState
from yarvic.state.session import Session

CARD_W, CARD_H, NAME_W = 150, 186, 128


class RatingCard(QAbstractButton):
    """A rating: power and torque with their speeds, duty, and whether the engine may be moved to it."""

    def __init__(self, move: Move, units: Mapping[str, str]) -> None:
        super().__init__()
        self.move_ = move
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setMinimumSize(CARD_W, CARD_H)
        self.setMaximumHeight(CARD_H)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        w, at_w = move.rating.peak_power
        t, at_t = move.rating.peak_torque
        self.lines = (
            f"{amount(w, units.get('power', 'kW'))} at {at_w:,.0f} rpm",
            f"{amount(t, units.get('torque', 'N m'))} at {at_t:,.0f} rpm",
            move.rating.duty,
        )
        self.state = "fitted here" if move.here else "a file away" if move.allowed else "refused"
        self.severity = STOP if not move.allowed and not move.here else WATCH if move.notes else PASS
        self.why = "; ".join((*move.reasons, *move.notes))
        self.setAccessibleName(f"{move.rating.title}, {self.state}. {', '.join(self.lines)}. {self.why}")
        tip(self, self.why)

    def sizeHint(self) -> QSize:
        """A card."""
        return QSize(CARD_W, CARD_H)

    def paintEvent(self, event) -> None:
        """Title, numbers, duty, state with its glyph and the first reason."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        t = tokens()
        strong = self.isChecked()
        painter.setPen(QPen(t.color("working" if strong or self.hasFocus() else "line"), 2 if strong else 1))
        painter.setBrush(t.color("ground" if self.move_.here else "sheet"))
        painter.drawRoundedRect(QRectF(1, 1, self.width() - 2, self.height() - 2), 4, 4)
        if self.hasFocus():
            painter.setPen(QPen(t.color("ink"), 1, Qt.PenStyle.DotLine))
            painter.drawRoundedRect(QRectF(4, 4, self.width() - 8, self.height() - 8), 3, 3)
        painter.setPen(t.color("ink"))
        painter.setFont(font(bold=True))
        painter.drawText(QPointF(10, 21), self.move_.rating.title)
        painter.setFont(font(CAPTION_PX))
        for i, line in enumerate(self.lines):
            painter.setPen(t.color("ink" if i < 2 else "quiet"))
            painter.drawText(QPointF(10, 39 + 15 * i), line)
        draw_glyph(painter, self.severity, 9, 78)
        painter.setPen(t.severity(self.severity))
        painter.setFont(font(CAPTION_PX, bold=True))
        painter.drawText(QPointF(26, 88), self.state)
        painter.setPen(t.color("quiet"))
        painter.setFont(font(CAPTION_PX))
        room = QRectF(10, 93, self.width() - 16, self.height() - 98)
        painter.drawText(room, int(Qt.TextFlag.TextWordWrap), self.why)


class RatingsPanel(QWidget):
    """Families as rows, ratings as cards; another rating against add-on parts for the same power."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.plan = PlanState(session)
        self.cards: list[RatingCard] = []
        self._hand = ""
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setFrameShape(QScrollArea.Shape.NoFrame)
        self.beside = label("", "", wrap=True)
        self.here = word("The engine has this rating", self._set_here)
        self.note = label(
            "Within a family another rating is a file. Across families it is other hardware. A rating's duty is part of"
            " it: ask who licensed the engine before it is used otherwise.",
            "caption",
            wrap=True,
        )
        self.empty = Empty("Import families from a TOML sheet", self._ask)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.empty)
        column.addWidget(self.area, 1)
        column.addWidget(self.beside)
        column.addLayout(row(self.here, None))
        column.addWidget(self.note)

    def moves(self) -> list[Move]:
        """All ratings, seen from the engine's own."""
        job = self.session.job
        if job is None:
            return []
        v = job.sheet.vehicle
        return moves(
            job.sheet.families, v.family, v.rating, gearbox_torque_nm=self._gearbox_nm(), purpose=job.sheet.purpose
        )

    def _gearbox_nm(self) -> float | None:
        """What the gearbox carries at its input, with the parts that are on: the ledger's limit, else its rating."""
        job = self.session.job
        assert job is not None
        v = job.sheet.vehicle
        carried = [
            limit.with_parts(self.plan.fitted).at("crank", v.loss)
            for limit in job.sheet.limits
            if limit.station == "gearbox" and limit.limited.quantity == "torque"
        ]
        at_crank = [c.canonical("stretch") for c in carried if c.basis == "crank"]
        if v.gearbox_torque_nm is not None:
            at_crank.append(v.gearbox_torque_nm)
        return min(at_crank, default=None)

    def refresh(self) -> None:
        """Show what is kept."""
        job = self.session.job
        if job is None:
            return
        found = self.moves()
        for widget in (self.area, self.beside, self.here, self.note):
            widget.setVisible(bool(found))
        self.empty.setVisible(not found)
        if not found:
            self.empty.say(
                "No engine family is stated",
                "Diesels come in families with ratings. A sheet in TOML brings them: each family with its hardware, each"
                " rating with its torque over engine speed and its duty.",
            )
            return
        here = next((_name(m) for m in found if m.here), _name(found[0]))
        if self._hand not in {_name(m) for m in found}:
            self._hand = here
        self._fill(found)
        self._beside()

    def _fill(self, found: list[Move]) -> None:
        inner = QWidget()
        inner.setObjectName("plain")
        grid = QGridLayout(inner)
        grid.setContentsMargins(0, 0, 8, 0)
        grid.setSpacing(8)
        self.cards = []
        families = list(dict.fromkeys(m.family.key for m in found))
        for line, family in enumerate(families):
            mine = [m for m in found if m.family.key == family]
            title = label(f"{mine[0].family.title}\n\n{mine[0].family.hardware}", "quiet", wrap=True)
            title.setFixedWidth(NAME_W)
            grid.addWidget(title, line, 0)
            for at, move in enumerate(mine):
                card = RatingCard(move, self.session.settings.units)
                card.setChecked(_name(move) == self._hand)
                card.clicked.connect(partial(self._choose, _name(move)))
                grid.addWidget(card, line, at + 1)
                self.cards.append(card)
        grid.setRowStretch(len(families), 1)
        grid.setColumnStretch(max(len([m for m in found if m.family.key == f]) for f in families) + 1, 1)
        old = self.area.takeWidget()
        self.area.setWidget(inner)
        if old is not None:
            old.hide()
            old.deleteLater()

    def _choose(self, name: str, _checked: bool = False) -> None:
        self._hand = name
        self._beside()

    def chosen(self) -> Move | None:
        """The rating in hand."""
        return next((m for m in self.moves() if _name(m) == self._hand), None)

    def _beside(self) -> None:
        """Another rating beside add-on parts that carry the same power."""
        move, job = self.chosen(), self.session.job
        if move is None or job is None:
            return
        plan = job.sheet.plan
        self.here.setVisible(not move.here and move.allowed and not job.read_only)
        power, at = move.rating.peak_power
        if move.here:
            self.beside.setText(f"{move.rating.title} is what the engine has. Choose another to see the way there.")
            return
        lines = []
        if move.allowed:
            lines.append(
                f"{move.rating.title} by a file: {bill_text(rerating_bill(plan), plan.currency)}. A known result."
            )
        else:
            lines.append(f"{move.rating.title} is refused: {'; '.join(move.reasons)}.")
        torque, _ = move.rating.peak_torque
        self.beside.setText("\n".join([*lines, "By add-on parts: being worked out."]))
        self._work_out_parts(lines, power, torque, at)

    def _work_out_parts(self, lines: list[str], power_w: float, torque_nm: float, speed_rpm: float) -> None:
        """The parts for the rating's power and torque: its power, held from where that takes its highest torque."""
        hand, currency, ledger = self._hand, self._currency(), self.plan.ledger()
        low = min(power_w / torque_nm / RAD_PER_S_PER_RPM, speed_rpm)
        target = Target(
            quantity="power", value=round(power_w / 1e3, 1), unit="kW", basis="crank", band_rpm=(low, speed_rpm)
        )

        def show(text: str) -> None:
            if hand == self._hand:  # another rating may have been chosen meanwhile
                self.beside.setText("\n".join([*lines, text]))

        self.session.requests.submit(
            self.session.request(SOLVING, reads=("the ledger", "builds")),
            "Working out the way by parts",
            lambda progress, cancelled: aside(lambda: cheapest(ledger, target), cancelled),
            lambda found: show(self._in_words(found, currency)),
            failed=lambda error: show(f"By add-on parts: {error}"),
            visible=False,
        )

    def _currency(self) -> str:
        return self.session.job.sheet.plan.currency if self.session.job is not None else ""

    @staticmethod
    def _in_words(found: Solution, currency: str) -> str:
        if not found.reached:
            return f"By add-on parts: no set of the ledger carries it, limited by {' and '.join(found.blocks)}."
        titles = ", ".join(c.part.title.lower() for c in found.chosen)
        money = f"{found.cost:,.0f} {currency}".rstrip()
        if not found.chosen:
            return (
                "By a map of one's own: every limit carries that power as the vehicle is, without a licensed result."
            )
        return f"By add-on parts for the same power: {money} for {titles}, and a map of one's own to be proven."

    def _set_here(self) -> None:
        move, sheet = self.chosen(), self.session.sheet
        if move is not None and sheet is not None:
            try:
                sheet.set_vehicle(family=move.family.key, rating=move.rating.key)
            except YarvicError as error:
                self.session.failed.emit(error)

    def _ask(self) -> None:
        from PyQt6.QtWidgets import QFileDialog

        from yarvic.core.job.template import read_sheet

        request = self.session.request("importing the families")
        chosen, _ = QFileDialog.getOpenFileName(self, "Import a job sheet", "", "TOML (*.toml)")
        if not chosen:
            return
        s, path = self.session, Path(chosen)
        try:
            s.still(request)
        except YarvicError as error:
            s.failed.emit(error)
            return
        job, sheet = s.job, s.sheet
        assert job is not None and sheet is not None
        about = s.request(request.kind, reads=("the sheet",))
        s.read_file(
            about,
            path,
            partial(read_sheet, path, onto=job.sheet),
            lambda found: sheet.set("Engine families imported from a sheet.", families=found.families),
        )


def _name(move: Move) -> str:
    return f"{move.family.key}/{move.rating.key}"
