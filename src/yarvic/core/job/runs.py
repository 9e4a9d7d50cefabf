"""The runs of a job: logs in columns, with their conditions."""

from __future__ import annotations

import sqlite3
from collections import OrderedDict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from yarvic.core.errors import JobError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.job import columns
from yarvic.core.job.columns import encode_log
from yarvic.core.job.model import Evidence
from yarvic.core.job.records import Records

EVIDENCE = "evidence"


def _topic(revision_id: int) -> str:
    return f"{EVIDENCE} of {revision_id}"


MOST_LOGS = 24  # kept in memory; what is looked at, its reference, and what is judged beside them


@dataclass(frozen=True)
class NewRun:
    """A run to be stored."""

    title: str
    log: Log
    conditions: Conditions | None


class Runs(Records):
    """Evidence is added and read, never changed."""

    def evidence(self) -> list[Evidence]:
        """All runs in the order in which they were recorded."""
        return list(self._remember(EVIDENCE, self._read_evidence))

    def runs_of(self, revision_id: int) -> list[Evidence]:
        """The runs of one revision, in the order in which they were recorded."""
        where = "WHERE revision_id = ?"
        return list(self._remember(_topic(revision_id), lambda: self._read_evidence(where, (revision_id,))))

    def _read_evidence(self, where: str = "", values: tuple[int, ...] = ()) -> list[Evidence]:
        def evidence(*entries: Any) -> Evidence:
            text = entries[-1]
            document = None if text is None else self._document(Conditions.model_validate_json, text, "conditions")
            told: Any = (*entries[:-1], document)
            return Evidence(*told)

        columns = "id, title, revision_id, build, time, source, conditions"
        return self._records(
            evidence,
            (str, str, int, int, str, str, str | None),
            f"SELECT {columns} FROM evidence {where} ORDER BY rowid",  # noqa: S608
            *values,
        )

    def add_evidence(
        self,
        title: str,
        revision_id: int,
        log: Log,
        conditions: Conditions | None,
        *,
        source: str,
        build: int | None = None,
    ) -> Evidence:
        """Store a run, on the present build where none is named."""
        return self.add_runs([NewRun(title, log, conditions)], revision_id, source=source, build=build)[0]

    def add_runs(
        self, runs: Sequence[NewRun], revision_id: int, *, source: str, build: int | None = None
    ) -> list[Evidence]:
        """Store runs that were made in a row, all or none, on the build they were made on."""
        encoded = [encode_log(run.log) for run in runs]
        made = []
        with self._committing() as db:
            there = {r[0] for r in db.execute("SELECT number FROM build")}
            on = max(there) if build is None else build
            if on not in there:
                raise JobError(f"there is no build {on}", concerns=str(self.path), remedy="Open the job again.")
            number = db.execute("SELECT count(*) FROM evidence").fetchone()[0]
            for run, rows in zip(runs, encoded, strict=True):
                number += 1
                made.append(self._insert_run(db, f"R{number:04d}", run, rows, revision_id, on, source))
        with self._turn:
            for topic in (EVIDENCE, _topic(revision_id)):
                if topic in self._kept:
                    self._kept[topic] = [*self._kept[topic], *made]
        return made

    def _insert_run(
        self,
        db: sqlite3.Connection,
        evidence_id: str,
        run: NewRun,
        rows: list[columns.Row],
        revision_id: int,
        build: int,
        source: str,
    ) -> Evidence:
        time, c = self._stamp(), run.conditions
        db.execute(
            "INSERT INTO evidence VALUES (?, ?, ?, ?, ?, ?, ?)",
            (evidence_id, run.title, revision_id, build, time, source, None if c is None else c.model_dump_json()),
        )
        db.executemany(
            "INSERT INTO evidence_column VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            [(evidence_id, *row) for row in rows],
        )
        self._write_journal(db, evidence_id, f"{run.title} recorded ({source}).", ("evidence", evidence_id))
        return Evidence(evidence_id, run.title, revision_id, build, time, source, c)

    def whole_log(self, evidence_id: str) -> Log:
        """The log of a run, from memory where it was looked at lately. Raises JobError."""
        with self._turn:
            lately: OrderedDict[str, Log] = self._kept.setdefault("logs", OrderedDict())
            if evidence_id in lately:
                lately.move_to_end(evidence_id)
                return lately[evidence_id]
        log = self.log(evidence_id)
        with self._turn:
            lately[evidence_id] = log
            while len(lately) > MOST_LOGS:
                lately.popitem(last=False)
        return log

    def log(self, evidence_id: str, keys: Iterable[str] | None = None) -> Log:
        """The log of a run, or only some of its channels. Raises JobError when a column is damaged."""
        rows = self._rows(
            "SELECT position, key, title, quantity, unit, time_position FROM evidence_column"
            " WHERE evidence_id = ? ORDER BY position",
            (evidence_id,),
        )
        if not rows:
            raise JobError(
                f"there is no log for {evidence_id!r}", concerns=str(self.path), remedy="Choose another run."
            )
        rows = [self._row(r, (int, str, str, str, str, int | None)) for r in rows]
        wanted = None if keys is None else set(keys)
        chosen = [r for r in rows if r[5] is not None and (wanted is None or r[1] in wanted)]
        needed = sorted({r[0] for r in chosen} | {r[5] for r in chosen})
        stored = [self._stored(evidence_id, position) for position in needed]
        numbers = dict(zip(needed, columns.decode(stored, concerns=f"{self.path.name}, {evidence_id}"), strict=True))
        channels = {}
        for position, key, title, quantity, unit, time_position in chosen:
            values, times = numbers[position], numbers[time_position]
            if values.size != times.size:
                raise JobError(
                    f"{title} has {values.size} samples but other time stamps",
                    concerns=str(self.path),
                    remedy="Restore the job from a copy.",
                )
            channels[key] = Channel(key, title, quantity, unit, times, values)
        return Log(channels)

    def _stored(self, evidence_id: str, position: int) -> columns.Stored:
        rows = self._rows(
            "SELECT count, crc32, data FROM evidence_column WHERE evidence_id = ? AND position = ?",
            (evidence_id, position),
        )
        if not rows:
            raise JobError(
                "a column of evidence is missing", concerns=str(self.path), remedy="Restore the job from a copy."
            )
        count, crc32, data = self._row(rows[0], (int, int, bytes))
        return count, crc32, data
