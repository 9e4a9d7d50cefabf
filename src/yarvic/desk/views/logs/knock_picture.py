"""The raw knock signal as a picture: its tones over engine speed, the band that is listened to, how loud each cycle is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np
import pyqtgraph as pg
from PyQt6.QtWidgets import QFileDialog, QFrame, QVBoxLayout

from yarvic.core.calibration.table import Table
from yarvic.core.errors import Cancelled, EvidenceError, YarvicError
from yarvic.core.evidence.cells import hits_by_cell
from yarvic.core.evidence.channels import MOST_CYLINDERS
from yarvic.core.evidence.knock_sound import Cycles, hear, listened_to, slowed_wav, spectrogram
from yarvic.core.evidence.log import Log
from yarvic.core.formats.files import write_whole
from yarvic.core.physics import FloatArray
from yarvic.desk.theme import mix, tokens
from yarvic.desk.widgets.plot import add_chart, inked, penned, sheet
from yarvic.desk.widgets.words import chooser, label, row, show_choice, word
from yarvic.state.results import PullResult
from yarvic.state.session import Session
from yarvic.state.work import Asked, Progress

STEP_RPM, SLOWER, SHADES = 250.0, 10.0, 64
MOST_CELLS = 3  # named of those in which it knocks


@dataclass(frozen=True)
class Heard:
    """What was heard of a pull: the cycles of one cylinder with its spectrogram, how many of each cylinder knock, and in
    which cells of a table those of the one lie.
    """

    cycles: Cycles
    hz: FloatArray
    power: FloatArray
    edges_rpm: FloatArray
    by_cylinder: dict[int, int]
    by_cell: str


class KnockPicture(QFrame):
    """It is about the pull that is drawn; what is computed of another meanwhile is dropped."""

    def __init__(
        self, session: Session, shown: Callable[[], PullResult | None], table: Callable[[], Table | None]
    ) -> None:
        super().__init__()
        self.session, self._shown, self._table = session, shown, table
        self.cylinder, self._waits = 1, False
        session.bench_changed.connect(self._when_free)
        self.setObjectName("sheet")
        self.pick = chooser("Cylinder whose signal is shown", self._cylinders)
        self.save = word("Save as WAV, ten times slower", self.ask_where)
        self.words = label("", "caption", wrap=True)
        self.sheet = sheet()
        self.image_plot = add_chart(self.sheet, 0, bottom="Engine speed, rpm", left="kHz", width=62)
        self.image = inked(pg.ImageItem(), lambda i: i.setLookupTable(_shades()))
        self.image_plot.addItem(self.image)
        self.band = [penned(pg.InfiniteLine(angle=0), "stop", 1.4, dashed=True) for _ in range(2)]
        for line in self.band:
            self.image_plot.addItem(line)
        self.loud_plot = add_chart(self.sheet, 1, bottom="Engine speed, rpm", left="over noise", width=62)
        self.quiet = inked(pg.ScatterPlotItem(size=4, pen=None), lambda s: s.setBrush(tokens().color("quiet")))
        self.knocks = inked(
            pg.ScatterPlotItem(size=8, pen=None, symbol="s"), lambda s: s.setBrush(tokens().color("stop"))
        )
        for item in (self.quiet, self.knocks):
            self.loud_plot.addItem(item)
        self.loud_plot.setXLink(self.image_plot)
        column = QVBoxLayout(self)
        column.setContentsMargins(6, 4, 6, 4)
        column.addLayout(row(self.pick, self.save, None))
        column.addWidget(self.sheet, 1)
        column.addWidget(self.words)

    @staticmethod
    def cylinders_of(p: PullResult | None) -> list[int]:
        """The cylinders whose raw signal was recorded with a pull."""
        channels = p.log.channels if p is not None and not p.evidence.is_sheet else {}
        return [n for n in range(1, MOST_CYLINDERS + 1) if f"knock_signal_{n}" in channels]

    def _cylinders(self) -> list[tuple[str, Callable[[], None]]]:
        return [(f"Cylinder {n}", partial(self.choose, n)) for n in self.cylinders_of(self._shown())]

    def choose(self, cylinder: int) -> None:
        """Show another cylinder."""
        self.cylinder = cylinder
        self.refresh()

    def refresh(self) -> None:
        """Listen to the pull that is drawn, beside the window."""
        p, job = self._shown(), self.session.job
        there = self.cylinders_of(p)
        if p is None or job is None or not there:
            return
        self.cylinder = self.cylinder if self.cylinder in there else there[0]
        show_choice(self.pick, f"Cylinder {self.cylinder}")
        bore_mm = job.sheet.vehicle.bore_mm
        if bore_mm is None:
            self.words.setText("The bore is not stated, and with it the tone of its knock: fill it in under Job.")
            return
        if self.session.busy is not None:
            # One work at a time: what was chosen meanwhile is listened to when that one is over.
            self._waits = True
            self.words.setText(f"{self.session.busy} is under way; {p.title} is listened to then.")
            return
        self._waits = False
        cylinder, bore_m = self.cylinder, bore_mm / 1000.0
        edges = np.arange(p.pull.from_rpm // STEP_RPM, p.pull.to_rpm // STEP_RPM + 2) * STEP_RPM

        table = self._table()

        def work(progress: Progress, cancelled: Asked) -> Heard:
            log, span = p.log, (p.pull.start_s, p.pull.end_s)

            def before(number: int, share: float) -> None:
                if cancelled():
                    raise Cancelled("listening was cancelled")
                progress(share, f"cylinder {number}")

            each: dict[int, Cycles] = {}
            for number, found in hear(log, bore_m, *span, there, before).items():
                if isinstance(found, EvidenceError):
                    raise found
                each[number] = found
            cycles, counts = each[cylinder], {n: int(np.count_nonzero(c.knocks)) for n, c in each.items()}
            hz, power = spectrogram(log, cylinder, edges)
            return Heard(cycles, hz, power, edges, counts, _cells_in_words(table, log, cycles.time_s[cycles.knocks]))

        def apply(found: Heard) -> None:
            if self._shown() is p and self.cylinder == cylinder:
                self._draw(p, found, bore_m)

        request = self.session.request("listening", revision=p.evidence.revision_id)
        self.session.start(request, f"Listening to {p.title}", work, apply)

    def _when_free(self) -> None:
        if self._waits and self.session.busy is None and self.isVisible():
            self.refresh()

    def _draw(self, p: PullResult, found: Heard, bore_m: float) -> None:
        cycles, hz, edges = found.cycles, found.hz, found.edges_rpm
        with np.errstate(divide="ignore"):
            decibels = 10.0 * np.log10(found.power)
        low, high = np.nanpercentile(decibels, [5.0, 99.5])
        self.image.setImage(np.nan_to_num(decibels, nan=float(low)), levels=(float(low), float(high)))
        self.image.setRect(edges[0], 0.0, edges[-1] - edges[0], hz[-1] / 1e3)
        for line, edge in zip(self.band, listened_to(bore_m), strict=True):
            line.setPos(edge / 1e3)
        self.image_plot.setRange(xRange=(edges[0], edges[-1]), yRange=(0.0, min(hz[-1] / 1e3, 20.0)), padding=0.0)
        loud = cycles.knocks
        self.quiet.setData(cycles.speed_rpm[~loud], cycles.intensity[~loud])
        self.knocks.setData(cycles.speed_rpm[loud], cycles.intensity[loud])
        count = int(np.count_nonzero(loud))
        others = ", ".join(f"{n}: {k}" for n, k in found.by_cylinder.items())
        self.words.setText(
            f"{p.title}, cylinder {cycles.cylinder}: {count} of {cycles.time_s.size} cycles knock (squares);"
            f" {cycles.expected_by_chance:.2f} would by chance. Dashed: the band that is listened to,"
            f" {cycles.band_hz[0] / 1e3:.1f} to {cycles.band_hz[1] / 1e3:.1f} kHz, by the bore (Draper)."
            f"{f' By cylinder {others}.' if len(found.by_cylinder) > 1 else ''}{found.by_cell}"
        )

    def ask_where(self) -> None:
        """Let a person choose the file."""
        p = self._shown()
        if p is None:
            return
        name = f"{p.title.lower().replace(' ', '-')}-cylinder-{self.cylinder}.wav"
        chosen, _ = QFileDialog.getSaveFileName(self, "Save the knock signal as WAV", name, "WAV (*.wav)")
        if chosen:
            self.save_as(Path(chosen), p, self.cylinder)

    def save_as(self, path: Path, p: PullResult, cylinder: int) -> None:
        """Write what the sensor heard of a cylinder, ten times slower: a tone of 7 kHz is heard at 700 Hz."""
        try:
            write_whole(path, slowed_wav(p.log.channel(f"knock_signal_{cylinder}"), SLOWER))
        except (EvidenceError, YarvicError) as error:
            self.session.failed.emit(error)
            return
        self.session.say(f"Cylinder {cylinder} of {p.title} is in {path}, ten times slower.")


def _cells_in_words(table: Table | None, log: Log, times: FloatArray) -> str:
    """Where in the table that is in hand it knocks; empty where that is not known."""
    hits = hits_by_cell(table, log, times) if table is not None and times.size else []
    if table is None or not hits:
        return ""
    named = "; ".join(f"{n} at {table.place(r, c)}" for r, c, n in hits[:MOST_CELLS])
    more = f"; {len(hits) - MOST_CELLS} cells more" if len(hits) > MOST_CELLS else ""
    return f" By cell of {table.title}: {named}{more}."


def _shades() -> FloatArray:
    """From the sheet to deep water: one hue, more ink where it is louder."""
    t = tokens()
    colors = [mix(t.color("sheet"), t.color("working"), n / (SHADES - 1)) for n in range(SHADES)]
    return np.array([[c.red(), c.green(), c.blue()] for c in colors], dtype=np.ubyte)
