"""The customer's sheet on the screen, drawn from the PDF that will be packed."""

from __future__ import annotations

from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QSize, Qt
from PyQt6.QtGui import QPainter, QPixmap
from PyQt6.QtWidgets import QLabel, QScrollArea

from yarvic.desk.theme import PAPER


class SheetPreview(QScrollArea):
    """The customer's sheet as it will print, drawn from the PDF itself."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Customer sheet")
        self.setFrameShape(self.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._label = QLabel()
        self._label.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignHCenter)
        self._label.setWordWrap(True)
        self.setWidget(self._label)
        self._pdf = b""

    def show_pdf(self, pdf: bytes) -> None:
        """Render the first page at the width there is."""
        from PyQt6.QtPdf import QPdfDocument

        self._pdf = pdf
        document = QPdfDocument(self)
        buffer = QBuffer(self)
        buffer.setData(QByteArray(pdf))
        buffer.open(QIODevice.OpenModeFlag.ReadOnly)
        document.load(buffer)
        viewport = self.viewport()
        width = max(120, (viewport.width() if viewport is not None else 300) - 8)
        scale = self.devicePixelRatioF()
        size = document.pagePointSize(0)
        height = width * size.height() / max(size.width(), 1.0)
        image = document.render(0, QSize(round(width * scale), round(height * scale)))
        image.setDevicePixelRatio(scale)
        page = QPixmap(image.size())
        page.setDevicePixelRatio(scale)
        page.fill(PAPER.color("sheet"))  # paper stays paper, in Night too
        painter = QPainter(page)
        painter.drawImage(0, 0, image)
        painter.end()
        self._label.setPixmap(page)
        buffer.close()
        document.deleteLater()
        buffer.deleteLater()

    def say(self, text: str) -> None:
        """Say why there is no sheet."""
        self._pdf = b""
        self._label.setText(text)

    def resizeEvent(self, event) -> None:
        """Draw it for the new width."""
        super().resizeEvent(event)
        if self._pdf:
            self.show_pdf(self._pdf)
