"""What the list of commands offers."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Protocol

from yarvic.core.physics.correction import STANDARDS, title
from yarvic.desk.ladder import Ladder
from yarvic.desk.names import DEMO_NAMES
from yarvic.desk.overlays import Command
from yarvic.desk.views.view import Desk, View
from yarvic.state.selection import DRAFT
from yarvic.state.session import STEP_TITLES, STEPS

# The steps from which the bench is reached.
WITH_BENCH = ("flash", "dyno", "logs")


COMMON_KEYS = [
    ("Alt+1 … Alt+8", "go to a step"),
    ("Ctrl+K", "commands"),
    ("F1", "these keys"),
    ("Ctrl+O, Ctrl+N, Ctrl+W", "open a job, new job, close the job"),
    ("Ctrl+I", "import logs and dyno sheets"),
    (
        "Ctrl+Z, Ctrl+Shift+Z",
        "undo, redo: of the sheet in Job, Plan and Checks, of runs from files in Dyno and Logs, else of the draft",
    ),
    ("F6", "move between ladder, figure and readings"),
    ("Esc", "close what lies on top"),
]


class Watches(Protocol):
    """What watches a folder."""

    @property
    def watch(self) -> object | None:
        """What is known of the folder; None while none is watched."""

    def ask(self) -> None:
        """Let a person choose the folder."""

    def stop(self) -> None:
        """Watch nothing any more."""


class Commanded(Desk, Protocol):
    """What the commands act on: the window, and what stands in it."""

    ladder: Ladder

    @property
    def watching(self) -> Watches:
        """The watched folder."""

    def shown(self) -> View:
        """The figure that is in sight."""

    def ask_for_image(self) -> None:
        """Let a person choose an image file."""

    def ask_for_job_to_read(self) -> None:
        """Let a person choose a job that is opened read only."""

    def ask_to_discard(self) -> None:
        """Ask whether the draft is to be discarded."""

    def open_keys(self) -> None:
        """Show the keys of the view."""

    def close(self) -> bool:
        """Close the window."""


def commands_of(window: Commanded) -> list[Command]:
    """The commands that can be given now, those of the view in sight first. One that is given later, when that cannot be
    done any more, says so and does nothing.
    """
    return [replace(command, action=partial(_give, window, command.title)) for command in _possible(window)]


def _give(window: Commanded, title: str) -> None:
    """Give the command of this title as it is now."""
    command = next((c for c in _possible(window) if c.title == title), None)
    if command is None:
        window.session.say(f"{title}: this cannot be done now.", trouble=True)
    else:
        command.action()


def _possible(window: Commanded) -> list[Command]:
    s = window.session
    found = [Command(f"Go to {STEP_TITLES[p]}", f"Alt+{i}", partial(s.go, p)) for i, p in enumerate(STEPS, 1)]
    found += window.shown().commands()
    if s.job is not None and s.settings.step in WITH_BENCH:
        found.append(Command("Bench: weather, run, fuel, faults", "B", window.open_bench))
    if s.job is not None:
        rungs = window.ladder.rungs()
        found += [Command(f"Make {r.name} the working map", "", partial(s.choose_working, r.rung)) for r in rungs]
        revisions = [r for r in rungs if r.rung > DRAFT]
        found += [Command(f"Make {r.name} the reference", "", partial(s.choose_reference, r.rung)) for r in revisions]
        found.append(Command("Import logs and dyno sheets", "Ctrl+I", window.ask_for_logs))
        found.append(Command("Watch a folder for logs and dyno sheets", "", window.watching.ask))
        if window.watching.watch is not None:
            found.append(Command("Stop watching the folder", "", window.watching.stop))
        if window.arrivals.waiting:
            found.append(Command("What waits to be imported", "", window.open_import))
        found.append(Command("Import maps from an image file", "", window.ask_for_image))
        if s.draft is not None:
            found.append(Command("Discard the draft", "", window.ask_to_discard))
        if s.job.has_maps and s.job.discarded():
            keys = "Ctrl+Z" if s.can_bring_back() else ""
            found.append(
                Command("Bring the draft back that was discarded last", keys, partial(s.attempt, s.bring_back))
            )
        found += [Command(f"Correct by {title(n)}", "", partial(s.choose_standard, n)) for n in STANDARDS]
    return [
        *found,
        Command("New job", "Ctrl+N", window.new_job),
        Command("Open a job", "Ctrl+O", window.ask_for_job),
        Command("Close the job", "Ctrl+W", window.session.leave_job),
        *(Command(f"Open the demo job {t}", "", partial(window.open_demo, n)) for n, t in DEMO_NAMES),
        Command("Open a job read only", "", window.ask_for_job_to_read),
        Command("Switch to Night", "", partial(s.choose_theme, "night")),
        Command("Switch to Paper", "", partial(s.choose_theme, "paper")),
        Command("Compare two images byte by byte", "", window.open_comparing),
        Command("Look for tables in an image without a description", "", window.open_searching),
        Command("Keys of this view", "F1", window.open_keys),
        Command("Quit", "Ctrl+Q", window.close),
    ]
