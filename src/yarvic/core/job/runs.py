"""The runs of a job: logs in columns, with their conditions."""

from __future__ import annotations

from collections.abc import Iterable

from yarvic.core.errors import JobError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.job import columns
from yarvic.core.job.columns import encode_log
from yarvic.core.job.model import Evidence
from yarvic.core.job.records import Records


class Runs(Records):
    """Evidence is added and read, never changed."""

    def evidence(self) -> list[Evidence]:
        """All runs in the order in which they were recorded."""
        found = []
        for r in self._rows(
            "SELECT id, title, revision_id, build, time, source, conditions FROM evidence ORDER BY rowid"
        ):
            conditions = None if r[6] is None else self._document(Conditions.model_validate_json, r[6], "conditions")
            found.append(Evidence(r[0], r[1], r[2], r[3], r[4], r[5], conditions))
        return found

    def add_evidence(
        self, title: str, revision_id: int, log: Log, conditions: Conditions | None, *, source: str
    ) -> Evidence:
        """Store a run, on the present build."""
        encoded = encode_log(log)
        time = self._stamp()
        with self._committing() as db:
            number = db.execute("SELECT count(*) FROM evidence").fetchone()[0] + 1
            evidence_id = f"R{number:04d}"
            build = db.execute("SELECT max(number) FROM build").fetchone()[0]
            document = None if conditions is None else conditions.model_dump_json()
            db.execute(
                "INSERT INTO evidence VALUES (?, ?, ?, ?, ?, ?, ?)",
                (evidence_id, title, revision_id, build, time, source, document),
            )
            db.executemany(
                "INSERT INTO evidence_column VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                [(evidence_id, *row) for row in encoded],
            )
            self._write_journal(db, evidence_id, f"{title} recorded ({source}).")
        return Evidence(evidence_id, title, revision_id, build, time, source, conditions)

    def log(self, evidence_id: str, keys: Iterable[str] | None = None) -> Log:
        """The log of a run, or only some of its channels. Raises JobError when a column is damaged."""
        rows = self._rows(
            "SELECT position, key, title, quantity, unit, time_position FROM evidence_column"
            " WHERE evidence_id = ? ORDER BY position",
            (evidence_id,),
        )
        if not rows:
            raise JobError(f"there is no log for {evidence_id!r}", concerns=str(self.path))
        wanted = None if keys is None else set(keys)
        chosen = [r for r in rows if r[5] is not None and (wanted is None or r[1] in wanted)]
        needed = sorted({r[0] for r in chosen} | {r[5] for r in chosen})
        stored = [self._stored(evidence_id, position) for position in needed]
        numbers = dict(zip(needed, columns.decode(stored, concerns=f"{self.path.name}, {evidence_id}"), strict=True))
        channels = {}
        for position, key, title, quantity, unit, time_position in chosen:
            values, times = numbers[position], numbers[time_position]
            if values.size != times.size:
                raise JobError(f"{title} has {values.size} samples but other time stamps", concerns=str(self.path))
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
        count, crc32, data = rows[0]
        return count, crc32, data
