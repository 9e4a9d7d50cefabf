"""Evidence in the cells of the table in hand: chosen runs laid over it, worked out beside the window."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Literal

import numpy as np
from psygnal import Signal

from yarvic.core.calibration.table import Table
from yarvic.core.checks.finding import Where
from yarvic.core.errors import CalibrationError
from yarvic.core.evidence.cells import (
    CellEvidence,
    Mask,
    Reading,
    axis_channels,
    moments,
    reading_at,
)
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.coverage import Suggested, suggested
from yarvic.core.evidence.log import Log
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, from_canonical
from yarvic.state.acts import CELLS
from yarvic.state.cell_facts import Facts, gather
from yarvic.state.results import PullResult
from yarvic.state.shown_table import ShownTable
from yarvic.state.work import Asked, Progress

Shows = Literal["value", "time", "samples", "mean", "spread", "error", "retard", "often", "hits"]
SHOWS: Mapping[Shows, str] = MappingProxyType(
    {
        "value": "Value",
        "time": "Time in s",
        "samples": "Samples",
        "mean": "Mean of a channel",
        "spread": "Spread of a channel",
        "error": "Error to target",
        "retard": "Deepest knock retard",
        "often": "Share of time retarded",
        "hits": "Pulls with knock",
    }
)
# What a table of a role asks for, and the channel that answers.
MEASURED: Mapping[str, str] = MappingProxyType(
    {"lambda_target": "lambda_measured", "boost_target": "boost_pressure", "spark_advance": "spark_advance"}
)

MOST_KNOWN = 24  # tables whose facts are kept


@dataclass(frozen=True)
class _Asked:
    """What facts are of; those of something else are not shown."""

    table: str
    slot: str
    revisions: tuple[int, ...]
    whole: bool
    channel: str
    axes: tuple[bytes, bytes]
    runs: tuple[int, ...]
    retard_limit_deg: float


class EvidenceInCells:
    """What is chosen, and what came of it. `changed`: other facts, or shown otherwise."""

    changed = Signal()

    def __init__(self, maps: ShownTable) -> None:
        self.maps = maps
        self.revisions: frozenset[int] = frozenset()  # besides the one whose evidence is read
        self.whole = False
        self.shows: Shows = "value"
        self.channel = "lambda_measured"
        self.trace_shown = False
        self.cursor: tuple[str, float] | None = None  # a run and a time in it, as the cursor under Logs stands
        self._asked: _Asked | None = None
        self._facts: Facts | None = None
        self._known: dict[_Asked, Facts] = {}

    # -- choosing

    def choose(self, shows: Shows) -> None:
        """What the cells show."""
        self.shows = shows
        self.changed.emit()

    def choose_channel(self, key: str) -> None:
        """The channel whose mean is shown."""
        self.channel = key
        if self.shows not in ("mean", "spread", "error"):
            self.shows = "mean"
        self.changed.emit()

    def toggle_whole(self) -> None:
        """Over the whole of each run, or over its pulls alone."""
        self.whole = not self.whole
        self.changed.emit()

    def toggle_revision(self, revision_id: int) -> None:
        """Take the runs of another revision in, where its table was the same, or leave them aside again."""
        self.revisions = self.revisions ^ {revision_id}
        self.changed.emit()

    def forget(self) -> None:
        """The runs are other ones."""
        self._known.clear()
        self._asked, self._facts = None, None

    # -- what came of it

    def facts(self) -> Facts | None:
        """What the chosen runs say; None while that is worked out, and where there is nothing to say."""
        asked = self._ask()
        if asked is None:
            return None
        if asked in self._known:
            return self._known[asked]
        if asked != self._asked:
            self._asked = asked
            self._submit(asked)
        return self._known.get(asked)

    def _base(self) -> Table | None:
        """The table as the revision whose evidence is read has it: what was measured was measured on that."""
        session = self.maps.session
        revision = session.evidence_revision()
        maps = session.calibration(revision.id, session.slot) if revision is not None else None
        table = maps.tables.get(self.maps.key) if maps is not None else None
        now = self.maps.table()
        if table is None or now is None or table.values.shape != now.values.shape:
            return now
        same = np.array_equal(table.x.values, now.x.values) and np.array_equal(table.y.values, now.y.values)
        return table if same else now

    def _runs(self) -> list[tuple[int, PullResult]]:
        session = self.maps.session
        revision = session.evidence_revision()
        if revision is None:
            return []
        found = []
        for revision_id in (revision.id, *sorted(self.revisions - {revision.id})):
            results = session.results.get(revision_id)
            if results is not None:
                found += [(revision_id, p) for p in self.maps.runs_of_slot(results)]
        return found

    def _ask(self) -> _Asked | None:
        table = self._base()
        if table is None or axis_channels(table) is None:
            return None
        runs = self._runs()
        if not runs:
            return None
        return _Asked(
            table.key,
            self.maps.session.slot,
            tuple(dict.fromkeys(r for r, _ in runs)),
            self.whole,
            self.channel,
            (table.x.values.tobytes(), table.y.values.tobytes()),
            tuple(id(p) for _, p in runs),
            self.maps.retard_limits_deg()[0],
        )

    def _submit(self, asked: _Asked) -> None:
        session = self.maps.session
        table = self._base()
        assert table is not None and session.job is not None
        runs = self._runs()
        same, left_out = self._same(table, [r for r, _ in runs])
        target = MEASURED.get(session.job.layout.role_of(table.key), "")
        limit = asked.retard_limit_deg
        whole, channel = self.whole, self.channel

        def work(progress: Progress, cancelled: Asked) -> Facts:
            return gather(table, [p for _, p in runs], same, whole, channel, target, limit, left_out)

        def apply(facts: Facts) -> None:
            if len(self._known) >= MOST_KNOWN:
                self._known.clear()
            self._known[asked] = facts
            self.changed.emit()

        session.requests.submit(session.request(CELLS), "Evidence in the cells", work, apply, visible=False)

    def _same(self, table: Table, revisions: list[int]) -> tuple[list[Mask | None], tuple[str, ...]]:
        """For each run in which cells its table was this one; and the revisions whose axes were others."""
        session = self.maps.session
        own = session.evidence_revision()
        masks: dict[int, Mask | None] = {}
        left_out = []
        for revision_id in dict.fromkeys(revisions):
            if own is not None and revision_id == own.id:
                masks[revision_id] = None
                continue
            maps = session.calibration(revision_id, session.slot)
            other = maps.tables.get(table.key) if maps is not None else None
            if other is None or not (
                np.array_equal(other.x.values, table.x.values) and np.array_equal(other.y.values, table.y.values)
            ):
                masks[revision_id] = np.zeros(table.values.shape, dtype=bool)
                left_out.append(session.name_of(revision_id))
            else:
                masks[revision_id] = np.isclose(other.values, table.values, rtol=1e-12, atol=0.0, equal_nan=True)
        return [masks[r] for r in revisions], tuple(left_out)

    # -- what the cells show

    def shown(self) -> tuple[FloatArray, str, int] | None:
        """What stands in the cells in place of the values: numbers (NaN: unknown), their unit and digits.

        None where the values themselves are shown, or there is nothing to show.
        """
        facts = self.facts()
        if self.shows == "value" or facts is None or facts.evidence is None:
            return None
        e = facts.evidence
        if self.shows == "time":
            return np.where(e.visited, e.seconds, np.nan), "s", 2
        if self.shows == "samples":
            return np.where(e.visited, e.samples, np.nan), "", 0
        if self.shows == "retard":
            return e.retard_deg, "deg", 1
        if self.shows == "often":
            return e.retard.often * 100.0, "%", 0
        if self.shows == "hits":
            return np.where(e.retard.pulls > 0, e.retard.hits, np.nan).astype(np.float64), "pulls", 0
        return self._of_channel(facts)

    def _of_channel(self, facts: Facts) -> tuple[FloatArray, str, int] | None:
        source = facts.error if self.shows == "error" else facts.mean
        if source is None or facts.channel not in CHANNELS:
            return None
        unit, decimals = self.unit_of(facts.channel)
        if self.shows == "mean":
            return np.asarray(from_canonical(source.mean, unit), dtype=np.float64), unit, decimals
        values = source.mean if self.shows == "error" else source.spread
        return np.asarray(values / UNITS[unit].factor, dtype=np.float64), unit, decimals

    def unit_of(self, key: str) -> tuple[str, int]:
        """The unit in which a channel is shown, and its digits."""
        kind = CHANNELS[key]
        unit = self.maps.session.settings.units.get(kind.unit_choice, kind.unit)
        return unit, UNITS[unit].decimals

    def channels(self) -> list[str]:
        """The channels whose mean can be shown: those that the chosen runs heard."""
        heard: set[str] = set()
        for _, p in self._runs()[:8]:
            heard |= set(p.log.channels)
        return [key for key in CHANNELS if key in heard and not CHANNELS[key].waveform]

    def words(self, row: int, column: int) -> str:
        """What the chosen runs say of a cell, in words; empty where nobody knows."""
        facts = self.facts()
        if facts is None or facts.evidence is None:
            return ""
        e = facts.evidence
        if not (0 <= row < e.seconds.shape[0] and 0 <= column < e.seconds.shape[1]):
            return ""
        if e.seconds[row, column] <= 0.0:
            return "never visited"
        parts = [f"{e.seconds[row, column]:.2f} s, {e.samples[row, column]:.0f} samples"]
        if facts.mean is not None and facts.mean.count[row, column] > 0.0:
            unit, d = self.unit_of(facts.channel)
            mean, spread = (
                float(from_canonical(facts.mean.mean[row, column], unit)),
                float(facts.mean.spread[row, column] / UNITS[unit].factor),
            )
            name = CHANNELS[facts.channel].title.lower()
            parts.append(f"{name} {mean:.{d}f} ± {spread:.{d}f}{'' if unit == name else f' {unit}'}")
        parts += self._knock_words(e, row, column)
        return ", ".join(parts)

    def _knock_words(self, e: CellEvidence, row: int, column: int) -> list[str]:
        r = e.retard
        if not r.pulls[row, column]:
            return []
        if not (r.deepest_deg[row, column] > 0.0):
            return [f"no knock retard in {r.pulls[row, column]} pulls"]
        deep = [
            f"cylinder {n} {r.by_cylinder[i, row, column]:.1f} deg"
            if n
            else f"{r.by_cylinder[i, row, column]:.1f} deg"
            for i, n in enumerate(r.cylinders)
            if r.by_cylinder[i, row, column] > 0.0
        ]
        past = f"retarded past {self.maps.retard_limits_deg()[0]:g} deg"
        return [f"{past} in {r.hits[row, column]} of {r.pulls[row, column]} pulls: {', '.join(deep)}"]

    # -- to the logs and back

    def moments(self, row: int, column: int) -> list[tuple[str, int, Where]]:
        """The stretches of the chosen runs that touched a cell: what each is called, its revision, and the place."""
        table = self._base()
        if table is None:
            return []
        found = []
        for revision_id, p in self._runs():
            span = None if self.whole else (p.pull.start_s, p.pull.end_s)
            for start, end in moments(table, p.log, row, column, span):
                title = f"{p.title}: {start - p.pull.start_s:.2f} to {end - p.pull.start_s:.2f} s"
                found.append((title, revision_id, Where(p.evidence.id, start, end, (start + end) / 2.0)))
        return found

    def point_at(self, run: str, time_s: float) -> None:
        """The cursor under Logs stands at a time of a run."""
        if self.cursor != (run, time_s):
            self.cursor = run, time_s
            self.changed.emit()

    def reading(self) -> Reading | None:
        """What the table in hand gives where the cursor under Logs stands, with its four cells."""
        table = self.maps.table()
        log = self._log_of(self.cursor[0]) if self.cursor is not None else None
        if table is None or log is None or self.cursor is None:
            return None
        return reading_at(table, log, self.cursor[1])

    def _log_of(self, run: str) -> Log | None:
        results = self.maps.session.working_results()
        found = next((p for p in results.pulls if p.evidence.id == run), None) if results is not None else None
        return found.log if found is not None else None

    # -- what would cover it

    def cover(self) -> list[Suggested]:
        """The runs that would visit the most cells that nobody knows: those that the draft touched first.

        Raises CalibrationError where that cannot be said.
        """
        table, facts = self._base(), self.facts()
        if table is None or axis_channels(table) is None:
            raise CalibrationError(
                "nobody knows which channels measure its axes",
                concerns=self.maps.key,
                remedy="Say it under Roles.",
            )
        unknown = ~facts.evidence.visited if facts is not None and facts.evidence is not None else None
        wanted = unknown if unknown is not None else np.ones(table.values.shape, dtype=bool)
        touched = self._touched_in_draft(table)
        if (wanted & touched).any():
            wanted = wanted & touched
        logs = [p.log for _, p in self._runs()]
        return suggested(table, wanted, logs, self._speeds(table))

    def _touched_in_draft(self, table: Table) -> Mask:
        now = self.maps.table()
        if now is None or now.values.shape != table.values.shape:
            return np.zeros(table.values.shape, dtype=bool)
        return np.asarray(~np.isclose(now.values, table.values, rtol=1e-12, atol=0.0, equal_nan=True))

    def _speeds(self, table: Table) -> tuple[float, float]:
        """Between which engine speeds a run may go: what the sheet says, else what the axis covers."""
        job = self.maps.session.job
        assert job is not None
        axis = next((a for a in (table.x, table.y) if a.input == "engine_speed"), None)
        low, high = (float(axis.values[0]), float(axis.values[-1])) if axis is not None else (1000.0, 6000.0)
        vehicle = job.sheet.vehicle
        return max(vehicle.idle_rpm or low, low), min(vehicle.redline_rpm or high, high)
