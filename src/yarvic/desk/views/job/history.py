"""The build history: what was fitted and removed, when, for how much, and what was measured on each build."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableWidget, QTableWidgetItem, QVBoxLayout, QWidget

from yarvic.core.job.model import Build
from yarvic.desk.widgets.words import label
from yarvic.state.builds import tests_of_builds
from yarvic.state.session import Session

COLUMNS = ("Build", "Fitted or removed", "Date", "Reading", "Cost", "Work", "Revisions made on it", "Measured on it")


class HistoryPanel(QWidget):
    """The builds, and what the measurements between them are tests of."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.table = QTableWidget(0, len(COLUMNS))
        self.table.setHorizontalHeaderLabels(list(COLUMNS))
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setAccessibleName("Build history")
        self.table.setShowGrid(False)
        vertical, horizontal = self.table.verticalHeader(), self.table.horizontalHeader()
        assert vertical is not None and horizontal is not None
        vertical.hide()
        horizontal.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        horizontal.setStretchLastSection(True)
        horizontal.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.total = label("", "quiet", wrap=True)
        self.tests = label("", "", wrap=True)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.table, 1)
        column.addWidget(self.total)
        column.addWidget(self.tests)
        column.addWidget(label("Choose a station above to fit or remove a part.", "caption"))

    def refresh(self) -> None:
        """Show the builds."""
        job = self.session.job
        if job is None:
            return
        builds = job.builds()
        evidence = job.evidence()
        names = {r.id: r.name for r in self.session.revisions()}
        money = f" {job.sheet.plan.currency}".rstrip()
        self.table.setRowCount(len(builds))
        for line, build in enumerate(builds):
            made = ", ".join(r.name for r in self.session.revisions() if r.build == build.number)
            counts: dict[str, int] = {}
            for revision in (r for run in evidence for r, b in run.places if b == build.number):
                name = names.get(revision or 0, "not assigned")
                counts[name] = counts.get(name, 0) + 1
            measured = ", ".join(f"{n} ({c})" for n, c in counts.items())
            e = build.event
            cells = (
                str(build.number),
                build.title,
                e.date or build.time[:10],
                _reading(build),
                f"{e.cost:,.0f}{money}" if e.cost else "",
                f"{e.labour_hours:g} h" if e.labour_hours else "",
                made or "none",
                measured or "nothing yet",
            )
            for at, text in enumerate(cells):
                self.table.setItem(line, at, QTableWidgetItem(text))
        rate = job.sheet.plan.rate
        parts, hours = sum(b.event.cost for b in builds), sum(b.event.labour_hours for b in builds)
        self.total.setText(
            f"Spent so far: {parts:,.0f}{money} on parts, {hours:g} h of work"
            f"{f' at {rate:g}{money} an hour: {parts + hours * rate:,.0f}{money} in all' if rate else ''}."
        )
        found = tests_of_builds(self.session)
        self.tests.setText("\n".join(found) if found else "No two measurements can be set against each other yet.")


def _reading(build: Build) -> str:
    e = build.event
    both = (
        f"{e.odometer_km:,.0f} km" if e.odometer_km is not None else "",
        f"{e.engine_hours:,.0f} h" if e.engine_hours is not None else "",
    )
    return ", ".join(words for words in both if words)
