"""What is said of an edit at once: the table in hand held against what is known of engine, fuel, parts and evidence."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from yarvic.core.checks.plausibility import Doubt, Known, doubts_of_table, doubts_of_value
from yarvic.core.errors import UnitError
from yarvic.core.evidence.cells import CellEvidence
from yarvic.core.job.model import parts_on
from yarvic.core.physics.fuel import fuel
from yarvic.state.selection import DRAFT
from yarvic.state.shown_table import ShownTable

MOST_RUNS = 8  # whose channels say where the engine ran


class Doubts:
    """Of the draft in hand, against the revision that it stands on."""

    def __init__(self, maps: ShownTable, evidence: Callable[[], CellEvidence | None]) -> None:
        self.maps, self._evidence = maps, evidence
        self._ran: tuple[object, dict[str, tuple[float, float]]] = ((), {})

    def of_table(self) -> list[Doubt]:
        """What is to be said of the table in hand; nothing outside a draft."""
        session, table = self.maps.session, self.maps.table()
        if session.draft is None or session.working != DRAFT or table is None:
            return []
        before = session.draft.base[session.slot].table(table.key)
        evidence = self._evidence()
        return doubts_of_table(before, table, self._known(table.key, evidence.retard_deg if evidence else None))

    def of_value(self, key: str) -> list[Doubt]:
        """What is to be said of a single value; nothing outside a draft."""
        session = self.maps.session
        if session.draft is None or session.working != DRAFT:
            return []
        base, now = session.draft.base[session.slot], session.draft.image[session.slot]
        if key not in now.scalars:
            return []
        return doubts_of_value(base.scalar(key), now.scalar(key), self._known(key, None))

    def _known(self, key: str, retard: np.ndarray | None) -> Known:
        job = self.maps.session.job
        assert job is not None
        vehicle, limits = job.sheet.vehicle, job.sheet.limits_at_crank(parts_on(job.builds()))
        return Known(
            role=job.layout.role_of(key),
            ron=self._ron(),
            limits=limits,
            ran=self._where_it_ran(),
            retard_deg=retard,
            retard_limit_deg=self.maps.retard_limits_deg()[0],
            spark_ignition=vehicle.ignition == "spark",
        )

    def _ron(self) -> float | None:
        """The octane of the fuel that the slot in hand is for; None where it is not known."""
        session = self.maps.session
        assert session.job is not None
        fuels = session.job.sheet.vehicle.fuels
        key = fuels.get(session.slot) or (next(iter(fuels.values())) if len(fuels) == 1 else "")
        try:
            found = fuel(key).ron if key else None
        except UnitError:
            return None
        return float(found) if found else None

    def _where_it_ran(self) -> dict[str, tuple[float, float]]:
        """By channel of the table's axes, between which values the engine ran in the evidence that is read."""
        results, table = self.maps.session.working_results(), self.maps.table()
        if results is None or table is None:
            return {}
        runs = self.maps.runs_of_slot(results)[-MOST_RUNS:]
        inputs = tuple(a.input for a in (table.x, table.y) if a.input)
        key = (results.revision_id, tuple(id(r) for r in runs), inputs)
        if self._ran[0] != key:
            found: dict[str, tuple[float, float]] = {}
            for channel in inputs:
                ends = []
                for run in runs:
                    log = run.log
                    if channel in log.channels:
                        values = log.channel(channel).values
                        values = values[np.isfinite(values)]
                        ends += [float(values.min()), float(values.max())] if values.size else []
                if ends:
                    found[channel] = min(ends), max(ends)
            self._ran = key, found
        return self._ran[1]
