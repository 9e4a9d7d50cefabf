"""Channels chosen by typing: what is drawn, what could be, and what is computed of others."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import QRect
from PyQt6.QtWidgets import QWidget

from yarvic.core.errors import YarvicError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Log
from yarvic.desk.views.logs.track import LANES, Lane, lanes_of
from yarvic.desk.widgets.typed_list import Fitting, TypedList
from yarvic.state.log_panes import COMPUTED, Over, Panes, computed_of, keep_panes, kept_panes, title_of
from yarvic.state.session import Session

HINT = "a channel, or title [unit] = expression: short of target [kPa] = boost_target[kPa] - boost_pressure[kPa]"
WIDTH, HEIGHT, MOST_IN_PANE = 620, 380, 4


def lanes_arranged(panes: Panes, log: Log) -> tuple[Lane, ...]:
    """The lanes of a log as a person arranged them; the usual ones where nobody did, or nothing of it was logged."""
    found = tuple(_lane(pane, log) for pane in panes.panes if any(k in log.channels for k in pane))
    return found or lanes_of(log.channels)


def _lane(pane: tuple[str, ...], log: Log) -> Lane:
    usual = next((lane for lane in (*lanes_of(log.channels), *LANES) if lane.keys == pane), None)
    if usual is not None:
        return usual
    there = tuple(k for k in pane if k in log.channels)
    first = next((lane for lane in LANES if lane.keys == there[:1]), None)
    return Lane(" / ".join(title_of(k, log) for k in there), there, limit_key=first.limit_key if first else "")


class Finder:
    """The list over the figure. What is chosen is kept with the job."""

    def __init__(
        self, view: QWidget, session: Session, log: Callable[[], Log | None], redraw: Callable[[], None]
    ) -> None:
        self._view, self._session, self._log, self._redraw = view, session, log, redraw
        self.list = TypedList(view, "Channels", HINT, self._found)

    def panes(self) -> Panes:
        """How the job's logs are arranged."""
        job = self._session.job
        return kept_panes(job) if job is not None else Panes()

    def open(self) -> None:
        """Show all channels, ready for typing."""
        if self._log() is None:
            return
        wide, high = min(WIDTH, self._view.width() - 40), min(HEIGHT, self._view.height() - 80)
        self.list.show_at(QRect(20, 66, wide, high))

    def as_usual(self) -> None:
        """The usual panes; what is computed stays to be chosen."""
        self._keep(self.panes().changed(panes=()))

    def _usual(self) -> tuple[tuple[str, ...], ...]:
        log = self._log()
        return tuple(lane.keys for lane in lanes_of(log.channels)) if log is not None else ()

    def _keep(self, panes: Panes) -> None:
        job = self._session.job
        if job is None:
            return
        try:
            keep_panes(job, panes)
        except YarvicError as error:
            self._session.failed.emit(error)
            return
        self._redraw()

    def keep_over(self, over: Over) -> None:
        """Keep what stands over what."""
        self._keep(self.panes().changed(over=over))

    def _found(self, text: str) -> tuple[Fitting, str]:
        log = self._log()
        if log is None:
            return (), ""
        made = computed_of(text)
        if made is not None:
            try:
                panes = self.panes().with_computed(made, self._usual())
            except YarvicError as error:
                return (), str(error)
            return [(f"Compute {made.title} and draw it", lambda: self._keep(panes))], made.expression
        drawn = {k for pane in (self.panes().panes or self._usual()) for k in pane}
        words = text.casefold().split()
        found: list[tuple[str, Callable[[], object]]] = []
        for key in sorted(log.channels, key=lambda k: (k not in drawn, title_of(k, log).casefold())):
            title = title_of(key, log)
            if all(w in f"{title} {key}".casefold() for w in words):
                mark = "drawn: choose to take it away" if key in drawn else "draw it"
                found.append((f"{title}  ({self._about(key, log)}), {mark}", partial(self._toggle, key)))
                found += self._more_of(key, title) if words else []
        if not words:
            found.append(("Panes as usual", self.as_usual))
        return found, f"{len(log.channels)} channels logged, {len(drawn & set(log.channels))} drawn"

    def _more_of(self, key: str, title: str) -> list[tuple[str, Callable[[], object]]]:
        """What else can be done with a channel that was typed: its pane further up or down, a computed one forgotten."""
        panes, usual = self.panes(), self._usual()
        found: list[tuple[str, Callable[[], object]]] = []
        now = panes.panes or usual
        at = next((n for n, pane in enumerate(now) if key in pane), None)
        for by, way in ((-1, "up"), (1, "down")) if at is not None else ():
            moved = panes.moved(at or 0, by, usual)
            if moved != panes:
                found.append((f"{title}: its pane {way}", partial(self._keep, moved)))
        if at is not None and len(now[at]) > 1:
            found.append((f"{title}: in a pane of its own", partial(self._keep, panes.joined(key, usual))))
        elif at and self._alike(key, now[at - 1]):
            found.append((f"{title}: into the pane above", partial(self._keep, panes.joined(key, usual))))
        if key.startswith(COMPUTED):
            found.append((f"{title}: forget it", partial(self._keep, panes.without_computed(title))))
        return found

    def _alike(self, key: str, pane: tuple[str, ...]) -> bool:
        """Whether a channel can stand on the axis of a pane: it is of the same quantity and in the same unit."""
        log = self._log()
        if log is None or len(pane) >= MOST_IN_PANE:
            return False
        of = [(log.channels[k].quantity, log.channels[k].unit) for k in (key, *pane) if k in log.channels]
        return len(of) == len(pane) + 1 and len(set(of)) == 1

    @staticmethod
    def _about(key: str, log: Log) -> str:
        kind = CHANNELS.get(key)
        if kind is not None and not kind.waveform:
            return f"{key}, {kind.unit}"
        return log.channels[key].unit or ("computed" if key.startswith(COMPUTED) else key)

    def _toggle(self, key: str) -> None:
        self._keep(self.panes().toggled(key, self._usual()))
