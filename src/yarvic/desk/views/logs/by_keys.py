"""The keys and commands of the view: letters press the words that name them, arrows move the cursor."""

from __future__ import annotations

from functools import partial
from typing import Protocol

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QPushButton

from yarvic.desk.overlays import Command
from yarvic.desk.views.logs.axis import DISTANCE, SPEED, TIME
from yarvic.desk.views.logs.events import Events
from yarvic.desk.views.logs.figures import CYLINDERS, KNOCK, OVER, Figures
from yarvic.desk.views.logs.finder import Finder
from yarvic.desk.views.logs.laying import Laying
from yarvic.desk.views.logs.marking import Marking
from yarvic.desk.views.logs.spans import Spans
from yarvic.desk.views.logs.traces import Traces

# The letter of each figure beside the traces, and in words what it is.
FIGURES = (
    ("V", "one channel over another, tinted by a third", OVER),
    ("Y", "cylinders side by side", CYLINDERS),
    ("K", "the raw knock signal over engine speed", KNOCK),
)
# How far an arrow moves the cursor, by what stands on the axis; with Shift so many times further.
STEPS, FURTHER = {SPEED: 50.0, TIME: 0.05, DISTANCE: 1.0}, 10


class Pressed(Protocol):
    """What keys and commands do something with."""

    laying: Laying
    traces: Traces
    figures: Figures
    events: Events
    marking: Marking
    spans: Spans
    finder: Finder
    whole: QPushButton
    second: QPushButton
    channels_word: QPushButton

    def move_cursor(self, x: float) -> None: ...

    def open_channels(self) -> None: ...


class ByKeys:
    """What is pressed, and what it is called."""

    def __init__(self, view: Pressed) -> None:
        self._view = view

    def take(self, event: QKeyEvent) -> bool:
        """Do what a key asks for; whether it asks for anything here."""
        view, shift = self._view, bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        step = STEPS[view.laying.axis()] * (FURTHER if shift else 1)
        key, named = event.key(), ("Shift+" if shift else "") + event.text().upper()
        pressed = {letter: button for letter, _, button in self._letters()}
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right) and view.traces.place is not None:
            view.move_cursor(view.traces.place + (step if key == Qt.Key.Key_Right else -step))
        elif named in pressed:
            pressed[named].click()
        elif figure := next((f for letter, _, f in FIGURES if letter == named), ""):
            view.figures.toggle(figure)
        else:
            return False
        return True

    def _letters(self) -> list[tuple[str, str, QPushButton]]:
        """The letters of this view: what each does, and the word that it presses."""
        view = self._view
        return [
            ("X", "over time or over engine speed", view.laying.by_speed),
            ("G", "reference on or off", view.laying.ghost),
            ("A", "all pulls of the revision, or one", view.laying.all_pulls),
            ("S", "second cursor where the first stands: differences, means, areas", view.second),
            ("C", "channels: choose by typing, compute", view.channels_word),
            ("N", "to the next event", view.events.on),
            ("Shift+N", "back to the event before", view.events.back),
            ("M", "mark the place, or the span between the cursors", view.marking.word),
            ("W", "whole pull", view.whole),
        ]

    def named(self) -> list[tuple[str, str]]:
        """The keys, with what each does."""
        letters = [(letter, what) for letter, what, _ in self._letters()]
        figures = [(letter, f"{what}, or the traces again") for letter, what, _ in FIGURES]
        return [("Left, Right", "move the cursor; with Shift further"), *letters, *figures]

    def commands(self) -> list[Command]:
        """The commands of the view."""
        view = self._view
        return [
            Command("Show traces over engine speed", "X", view.laying.by_speed.click),
            Command("Show traces over distance", "", view.laying.by_distance.click),
            Command("Show the reference in the traces", "G", view.laying.ghost.click),
            Command("Show all pulls of the revision in the traces", "A", view.laying.all_pulls.click),
            *(Command(f"Show {what}", letter, partial(view.figures.toggle, f)) for letter, what, f in FIGURES),
            Command("Put a second cursor", "S", view.second.click),
            Command("Choose the channels that are drawn", "C", view.open_channels),
            Command("Arrange the panes as usual", "", view.finder.as_usual),
            Command("Judge the pull between the cursors", "", view.spans.adjust),
            Command("To the next event in the log", "N", view.events.on.click),
            Command("Mark a place in the log", "M", view.marking.word.click),
        ]
