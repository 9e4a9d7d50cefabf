"""Tokens of the two themes, the palette and style sheet made of them, and the fonts. No colour stands elsewhere."""

from __future__ import annotations

from dataclasses import dataclass
from importlib.resources import files

from PyQt6.QtGui import QColor, QFont, QFontDatabase, QPalette
from PyQt6.QtWidgets import QApplication

from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH


@dataclass(frozen=True)
class Tokens:
    """Colours by what they mean."""

    ground: str
    sheet: str
    line: str
    ink: str
    quiet: str
    working: str
    reference: str
    holds: str
    watch: str
    stop: str

    def color(self, name: str) -> QColor:
        """A token as a colour."""
        return QColor(getattr(self, name))

    def severity(self, severity: str) -> QColor:
        """The colour of a verdict; its shape says the same."""
        return self.color({PASS: "holds", WATCH: "watch", STOP: "stop", NO_DATA: "quiet"}[severity])

    def ramp(self, share: float) -> QColor:
        """One hue from sheet to deep water, for map values; share 0 to 1."""
        return mix(self.color("sheet"), self.color("working"), 0.06 + 0.42 * min(max(share, 0.0), 1.0))


PAPER = Tokens(
    ground="#F5F2EC",
    sheet="#FCFBF8",
    line="#D9D3C7",
    ink="#23272B",
    quiet="#64696A",
    working="#1E5A7A",
    reference="#965B20",
    holds="#3C7A57",
    watch="#8A6000",
    stop="#A63A3A",
)
NIGHT = Tokens(
    ground="#1C1F23",
    sheet="#24282D",
    line="#3A4047",
    ink="#E8E4DB",
    quiet="#9AA0A3",
    working="#7FC4E8",
    reference="#E0A766",
    holds="#7FBF98",
    watch="#E2B84D",
    stop="#EE8A80",
)

_current = PAPER
BODY_PX, CAPTION_PX, TITLE_PX, BIG_PX = 13, 11, 15, 20


def tokens() -> Tokens:
    """The tokens of the theme in force."""
    return _current


def mix(a: QColor, b: QColor, share: float) -> QColor:
    """A colour between two."""
    return QColor.fromRgbF(
        a.redF() + (b.redF() - a.redF()) * share,
        a.greenF() + (b.greenF() - a.greenF()) * share,
        a.blueF() + (b.blueF() - a.blueF()) * share,
    )


def load_fonts() -> None:
    """Register the fonts that ship."""
    folder = files("yarvic.desk").joinpath("fonts")
    for name in ("B612-Regular.otf", "B612-Bold.otf", "B612-Italic.otf", "B612Mono-Regular.otf"):
        QFontDatabase.addApplicationFontFromData(folder.joinpath(name).read_bytes())


def font(px: int = BODY_PX, *, bold: bool = False, mono: bool = False) -> QFont:
    """The house font; sizes are at a text scale of 1."""
    f = QFont("B612 Mono" if mono else "B612")
    f.setPixelSize(round(px * _scale()))
    f.setBold(bold)
    return f


def _scale() -> float:
    # The system's text scale, as the platform reports it by its default font (10 pt at 96 dpi counts as 1).
    app = QApplication.instance()
    stored = app.property("yarvicTextScale") if app is not None else None
    return float(stored) if stored else 1.0


def apply_theme(app: QApplication, name: str) -> None:
    """Put a theme in force for the whole application."""
    global _current
    _current = NIGHT if name == "night" else PAPER
    t = _current
    if app.property("yarvicTextScale") is None:
        points = app.font().pointSizeF()
        app.setProperty("yarvicTextScale", min(max(points / 10.0, 1.0), 2.0) if points > 10.5 else 1.0)
    palette = QPalette()
    for role, token in (
        (QPalette.ColorRole.Window, "ground"),
        (QPalette.ColorRole.Base, "sheet"),
        (QPalette.ColorRole.AlternateBase, "ground"),
        (QPalette.ColorRole.Button, "sheet"),
        (QPalette.ColorRole.WindowText, "ink"),
        (QPalette.ColorRole.Text, "ink"),
        (QPalette.ColorRole.ButtonText, "ink"),
        (QPalette.ColorRole.ToolTipBase, "sheet"),
        (QPalette.ColorRole.ToolTipText, "ink"),
        (QPalette.ColorRole.PlaceholderText, "quiet"),
        (QPalette.ColorRole.Highlight, "working"),
        (QPalette.ColorRole.HighlightedText, "sheet"),
        (QPalette.ColorRole.Link, "working"),
    ):
        palette.setColor(role, t.color(token))
    app.setPalette(palette)
    app.setFont(font())
    look = _style(t)
    if look != app.styleSheet():  # every widget is styled anew, also with the same
        app.setStyleSheet("")  # from one sheet to another Qt takes three times as long as by way of none
        app.setStyleSheet(look)


def _style(t: Tokens) -> str:
    tinted = mix(t.color("sheet"), t.color("working"), 0.12).name()
    return f"""
    QWidget {{ color: {t.ink}; font-family: "B612"; font-size: {round(BODY_PX * _scale())}px; }}
    QMainWindow, QWidget#ground, QScrollArea, QScrollArea > QWidget > QWidget {{ background: {t.ground}; }}
    QWidget#plain, QFrame#sheet QScrollArea {{ background: {t.sheet}; }}
    QFrame#line {{ background: transparent; border: none; border-bottom: 1px solid {t.line}; }}
    QLabel#title {{ font-size: {round(TITLE_PX * _scale())}px; font-weight: bold; }}
    QLabel#big {{ font-size: {round(BIG_PX * _scale())}px; font-weight: bold; }}
    QLabel#caption {{ font-size: {round(CAPTION_PX * _scale())}px; color: {t.quiet}; }}
    QLabel#quiet {{ color: {t.quiet}; }}
    QLabel#fault {{ color: {t.stop}; }}
    QLabel#watch {{ color: {t.watch}; }}
    QFrame#card, QFrame#sheet {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 4px; }}
    QFrame#notice {{ background: {t.sheet}; border: 2px solid {t.stop}; border-radius: 4px; }}
    QFrame#rule {{ background: {t.line}; border: none; }}
    QPushButton#word {{ background: transparent; border: 1px solid transparent; border-radius: 4px;
      color: {t.working}; padding: 3px 6px; text-align: left; }}
    QPushButton#name {{ background: transparent; border: 1px solid transparent; border-radius: 4px;
      font-size: {round(TITLE_PX * _scale())}px; font-weight: bold; padding: 1px 6px; text-align: left; }}
    QPushButton#name:hover {{ background: {tinted}; }}
    QPushButton#name:focus {{ border: 1px solid {t.working}; }}
    QPushButton#word:hover {{ background: {tinted}; }}
    QPushButton#word:disabled {{ color: {t.quiet}; }}
    QPushButton#word:checked {{ background: {tinted}; font-weight: bold; }}
    QPushButton#act {{ background: {t.working}; color: {t.sheet}; border: 1px solid {t.working}; border-radius: 4px;
      padding: 5px 14px; font-weight: bold; }}
    QPushButton#act:disabled {{ background: {t.ground}; color: {t.quiet}; border-color: {t.line}; }}
    QPushButton:focus, QLineEdit:focus, QPlainTextEdit:focus, QTableView:focus, QListWidget:focus,
    QSpinBox:focus, QDoubleSpinBox:focus {{ border: 2px solid {t.working}; }}
    QPushButton#word:focus {{ border: 1px solid {t.working}; }}
    QPushButton#act:focus {{ border: 2px solid {t.ink}; }}
    QLineEdit, QPlainTextEdit, QSpinBox, QDoubleSpinBox {{ background: {t.sheet}; border: 1px solid {t.line};
      border-radius: 4px; padding: 3px 6px; selection-background-color: {t.working}; selection-color: {t.sheet}; }}
    QPlainTextEdit#mono {{ font-family: "B612 Mono"; }}
    QLineEdit[own="true"] {{ font-weight: bold; }}
    QLineEdit[wrong="true"] {{ border: 2px solid {t.stop}; }}
    QDoubleSpinBox:disabled {{ color: {t.quiet}; background: {t.ground}; }}
    QCheckBox {{ spacing: 6px; padding: 2px; border: 1px solid transparent; border-radius: 4px; }}
    QCheckBox:focus {{ border: 1px solid {t.working}; }}
    QCheckBox::indicator {{ width: 12px; height: 12px; border: 1px solid {t.quiet}; border-radius: 2px;
      background: {t.sheet}; }}
    QCheckBox::indicator:checked {{ background: {t.working}; border-color: {t.working}; }}
    QTableView, QListWidget {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 4px;
      gridline-color: {t.line}; }}
    QTableView::item {{ padding: 0 6px; }}
    QTableView#small {{ font-size: {round(CAPTION_PX * _scale())}px; }}
    QTableView::item:selected, QListWidget::item:selected {{ background: {tinted}; color: {t.ink}; }}
    QListWidget::item {{ padding: 4px 8px; }}
    QHeaderView, QHeaderView::section {{ background: {t.ground}; color: {t.quiet}; border: none;
      font-size: {round(CAPTION_PX * _scale())}px; }}
    QHeaderView::section {{ padding: 2px 6px; }}
    QTableCornerButton::section {{ background: {t.ground}; border: none; }}
    QMenu {{ background: {t.sheet}; border: 1px solid {t.line}; padding: 4px; }}
    QMenu::item {{ padding: 4px 18px; }}
    QMenu::item:selected {{ background: {tinted}; }}
    QProgressBar {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: 4px; text-align: center;
      max-height: 14px; font-size: {round(CAPTION_PX * _scale())}px; }}
    QProgressBar::chunk {{ background: {tinted}; border-right: 2px solid {t.working}; }}
    QScrollBar:vertical {{ background: {t.ground}; width: 10px; }}
    QScrollBar:horizontal {{ background: {t.ground}; height: 10px; }}
    QScrollBar::handle {{ background: {t.line}; border-radius: 4px; min-height: 24px; min-width: 24px; }}
    QScrollBar::add-line, QScrollBar::sub-line {{ width: 0; height: 0; }}
    QToolTip {{ background: {t.sheet}; color: {t.ink}; border: 1px solid {t.line}; }}
    QSplitter::handle {{ background: {t.line}; }}
    """
