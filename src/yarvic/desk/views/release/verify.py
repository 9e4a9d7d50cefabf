"""What a package or a job turned out to be, said apart: whole, by whose key, and whether that key is known here."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QFrame, QGridLayout, QScrollArea, QVBoxLayout, QWidget

from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.errors import in_plain
from yarvic.core.release.package import Signer
from yarvic.desk.widgets.glyphs import Glyph
from yarvic.desk.widgets.words import act, label, row
from yarvic.state.verifying import Report

MOST_SHOWN = 8
WIDTH, MARGIN, SCROLL_BAR, SPARE, TALLEST = 640, 24, 16, 8, 360
# How bad each answer is for who relies on the package.
_SEVERITY = {
    "known": PASS, "unknown": WATCH, "unsigned": NO_DATA, "demo": NO_DATA, "ended": WATCH, "revoked": STOP,
    "does not fit": STOP,
}  # fmt: skip


class VerifyDialog(QDialog):
    """A report, to be read and closed."""

    def __init__(self, parent: QWidget, report: Report) -> None:
        super().__init__(parent)
        self.setWindowTitle("Verified")
        self.setModal(True)
        self.setMinimumWidth(WIDTH)
        column = QVBoxLayout(self)
        column.setContentsMargins(MARGIN, 20, MARGIN, 18)
        column.setSpacing(12)
        column.addWidget(label(in_plain(report.title), "title", wrap=True))
        for line in report.about:
            column.addWidget(label(in_plain(line), "quiet", wrap=True))
        self.told = QWidget()
        self.lines = QGridLayout(self.told)
        self.lines.setContentsMargins(0, 0, 0, 0)
        self.lines.setHorizontalSpacing(8)
        self.lines.setColumnStretch(1, 1)
        self._say(PASS if report.intact else STOP, report.verdict)
        for fault in report.faults[:MOST_SHOWN]:
            self._say("", fault)
        if len(report.faults) > MOST_SHOWN:
            self._say("", f"and {len(report.faults) - MOST_SHOWN} more")
        for name, signer in report.signers[:MOST_SHOWN]:
            self._say(_severity(signer), f"Release {name}: {signer.sentence}" if name else signer.sentence)
        for line in report.since[:MOST_SHOWN]:
            self._say(NO_DATA if line is report.since[0] and not report.all_signed else "", line)
        if len(report.since) > MOST_SHOWN:
            self._say("", f"and {len(report.since) - MOST_SHOWN} more lines")
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QFrame.Shape.NoFrame)
        area.setWidget(self.told)
        area.setAccessibleName("What was found")
        # As high as its words are at this width, and no higher than a small screen.
        inside = WIDTH - 2 * MARGIN - SCROLL_BAR
        area.setMinimumHeight(min(self.lines.totalHeightForWidth(inside) + SPARE, TALLEST))
        column.addWidget(area, 1)
        self.close_ = act("Close", self.accept)
        column.addLayout(row(None, self.close_))

    def _say(self, severity: str, text: str) -> None:
        at = self.lines.rowCount()
        if severity:
            self.lines.addWidget(Glyph(severity), at, 0)
        self.lines.addWidget(label(in_plain(text), wrap=True), at, 1)


def _severity(signer: Signer) -> str:
    return _SEVERITY[signer.state]
