"""The head of the window: the job's name with what can be done with jobs, its verdict, the commands, and help."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QWidget

from yarvic.core.checks.finding import VERDICT_WORDS
from yarvic.core.errors import MOST_NAME, in_plain
from yarvic.desk.names import DEMO_NAMES
from yarvic.desk.widgets.glyphs import Glyph
from yarvic.desk.widgets.words import Elided, label, show_choice, word
from yarvic.state.settings import kept_path

if TYPE_CHECKING:
    from yarvic.desk.views.view import Desk

HEIGHT = 28
# What can be done, in groups: words, key, doing. A group may have a name, and then folds out.
Doing = tuple[str, str, Callable[[], object]]
Group = tuple[str, Sequence[Doing]]


class Head(QWidget):
    """One line above the ladder; nobody needs to know a key to begin."""

    def __init__(
        self,
        desk: Desk,
        groups: Callable[[], list[Group]],
        commands: Callable[[], None],
        help_: Callable[[], None],
        appeared: QWidget,
    ) -> None:
        super().__init__()
        self.setObjectName("ground")
        self.setFixedHeight(HEIGHT)
        self.setAccessibleName("Head")
        self.session = desk.session
        self._groups = groups
        self.job = QPushButton()
        self.job.setObjectName("name")
        self.job.setAccessibleName("Jobs: open, new, import, close")
        self.job.setToolTip("Open, begin, import into, copy and close jobs")
        self.job.clicked.connect(self._open_menu)
        self.about = Elided()
        self.glyph = Glyph("no_data")
        self.verdict = label()
        self.bring = word("Import", desk.ask_for_logs, "Ctrl+I")
        self.commands = word("Commands  Ctrl+K", commands, "Ctrl+K")
        self.help = word("Keys  F1", help_, "F1")
        line = QHBoxLayout(self)
        line.setContentsMargins(10, 2, 12, 0)
        line.setSpacing(8)
        line.addWidget(self.job)
        line.addWidget(self.about, 1)
        for widget in (self.glyph, self.verdict, appeared, self.bring, self.commands, self.help):
            line.addWidget(widget)
        s = self.session
        for signal in (s.job_changed, s.sheet_changed, s.selection_changed, s.results_changed, s.theme_changed):
            signal.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show which job is open, and what was found of the revision in hand."""
        job = self.session.job
        self.bring.setEnabled(job is not None)
        if job is None:
            show_choice(self.job, "Yarvic")
            self.about.setText("")
        else:
            sheet, build = job.sheet, job.builds()[-1]
            show_choice(self.job, in_plain(sheet.title, 40))
            text = f"{sheet.vehicle.in_words()} · build {build.number}: {build.title}"
            self.about.setText(f"{text} · read only" if job.read_only else text)
        results, revision = self.session.working_results(), self.session.evidence_revision()
        judged = results is not None and bool(results.pulls) and revision is not None
        self.glyph.setVisible(judged)
        self.verdict.setVisible(judged)
        if results is not None and revision is not None and judged:
            self.glyph.show_severity(results.verdict)
            self.verdict.setText(f"{revision.name} {VERDICT_WORDS[results.verdict]}")

    def menu(self) -> QMenu:
        """What can be done with jobs, each with its key."""
        menu = QMenu(self)
        for title, doings in self._groups():
            target = menu
            if title:
                folded = menu.addMenu(title)
                if folded is None:
                    continue
                target = folded
                folded.setEnabled(bool(doings))
            for text, keys, do in doings:
                action = target.addAction(f"{text}\t{keys}" if keys else text)
                if action is not None:
                    action.triggered.connect(lambda _=False, do=do: do())
            if not title:
                menu.addSeparator()
        return menu

    def _open_menu(self) -> None:
        self.menu().popup(self.job.mapToGlobal(self.job.rect().bottomLeft()))


def job_groups(
    desk: Desk,
    *,
    close: Callable[[], object],
    quit_: Callable[[], object],
    copy: Callable[[], object],
    image: Callable[[], object],
    watch: Callable[[], object],
) -> list[Group]:
    """What can be done with jobs now."""
    session = desk.session
    there = session.job is not None
    recent = [kept_path(p) for p in session.settings.recent]
    found: list[Group] = [
        ("", [("New job", "Ctrl+N", desk.new_job), ("Open a job", "Ctrl+O", desk.ask_for_job)]),
        ("Recent", [(in_plain(p.stem, MOST_NAME), "", partial(desk.open_job, p)) for p in recent]),
        ("Demo jobs", [(title, "", partial(desk.open_demo, name)) for name, title in DEMO_NAMES]),
    ]
    if there:
        bring: list[Doing] = [("Import logs and dyno sheets", "Ctrl+I", desk.ask_for_logs)]
        if desk.arrivals.waiting:
            bring.append((f"What waits to be imported: {len(desk.arrivals.waiting)}", "", desk.open_import))
        bring.append(("Watch a folder for them", "", watch))
        bring.append(("Import maps from an image", "", image))
        found += [
            ("", bring),
            ("", [("Save a copy of the job", "", copy), ("Close the job", "Ctrl+W", close)]),
        ]
    return [*found, ("", [("Quit", "Ctrl+Q", quit_)])]
