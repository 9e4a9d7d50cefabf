"""The runs of a job: logs in columns, with their conditions, where they are from and how their columns are read."""

from __future__ import annotations

import sqlite3
from collections import OrderedDict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from yarvic.core.document import Document
from yarvic.core.errors import JobError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.evidence.raw import RawLog
from yarvic.core.job import columns
from yarvic.core.job.columns import encode_log, encode_raw
from yarvic.core.job.history import digest
from yarvic.core.job.model import Evidence
from yarvic.core.job.notes import with_notes
from yarvic.core.job.records import Records

if TYPE_CHECKING:
    from yarvic.core.evidence.origin import Heads, Joined, NoteKind, Origin, PullAssigned, Reading

EVIDENCE = "evidence"
NOTES = "what was said of runs"


def _bytes_of(log: Log) -> int:
    return sum(c.values.nbytes for c in log.channels.values())


def _topic(revision_id: int | None) -> str:
    return f"{EVIDENCE} of {revision_id}"


# Kept in memory: what is looked at, its reference, and what is judged beside them; the last one however large it is.
MOST_LOGS, MOST_LOG_BYTES = 24, 1_500_000_000


@dataclass(frozen=True)
class NewRun:
    """A run to be stored. One from a file is stored as it stood there, with where it is from and how it is read."""

    title: str
    log: Log | RawLog
    conditions: Conditions | None
    origin: Origin | None = None
    reading: Reading | None = None
    joined: Joined | None = None
    pulls: tuple[PullAssigned, ...] = ()


Ready = tuple[NewRun, list[columns.Row], list[str]]  # with the sums of its columns, for the journal


class Runs(Records):
    """Evidence is added and read, never changed; what is said of it lies beside it, and the latest word counts."""

    def evidence(self) -> list[Evidence]:
        """All runs in the order in which they were recorded."""
        return list(self._remember(EVIDENCE, self._read_evidence))

    def runs_of(self, revision_id: int | None) -> list[Evidence]:
        """The runs of one revision, or those that belong to none yet, in the order in which they were recorded; of a run
        whose pulls belong to several the part that is of this one.
        """

        def read() -> list[Evidence]:
            where = (
                "WHERE revision_id IS ? OR id IN"
                " (SELECT evidence_id FROM evidence_note WHERE kind IN ('assigned', 'pull_assigned'))"
            )
            return [part for e in self._read_evidence(where, (revision_id,)) for part in e.parts_of(revision_id)]

        return list(self._remember(_topic(revision_id), read))

    def revisions_with_runs(self) -> set[int | None]:
        """The revisions that runs were recorded for, or assigned to at any time; of another there is none."""
        from yarvic.core.evidence.origin import Assigned, PullAssigned

        kinds = {"assigned": Assigned.model_validate_json, "pull_assigned": PullAssigned.model_validate_json}
        found = set(self._records(lambda one: one, (int | None,), "SELECT DISTINCT revision_id FROM evidence"))
        for notes in self._notes().values():
            for _, kind, text in notes:
                if kind in kinds:
                    found.add(self._document(kinds[kind], text, "assignment of a run").revision_id)
        return found

    def _read_evidence(self, where: str = "", values: tuple[int | None, ...] = ()) -> list[Evidence]:
        notes = self._notes()

        def evidence(*entries: Any) -> Evidence:
            text = entries[-1]
            document = None if text is None else self._document(Conditions.model_validate_json, text, "conditions")
            told: Any = (*entries[:-1], document)
            said = notes.get(entries[0])
            return with_notes(Evidence(*told), said, self._document) if said else Evidence(*told)

        columns = "id, title, revision_id, build, time, source, conditions"
        return self._records(
            evidence,
            (str, str, int | None, int | None, str, str, str | None),
            f"SELECT {columns} FROM evidence {where} ORDER BY rowid",  # noqa: S608
            *values,
        )

    def _notes(self) -> dict[str, list[tuple[int, str, str]]]:
        """What was said of each run, without the long documents. Notes are only ever added: the new ones are read."""
        with self._turn:
            known: dict[str, list[tuple[int, str, str]]] = self._kept.setdefault(NOTES, {})
            last = max((notes[-1][0] for notes in known.values()), default=0)
            for number, evidence_id, kind, text in self._records(
                lambda *row: row,
                (int, str, str, str),
                "SELECT id, evidence_id, kind, CASE WHEN kind IN ('header', 'reading') THEN '' ELSE document END"
                " FROM evidence_note WHERE id > ? ORDER BY id",
                last,
            ):
                known.setdefault(evidence_id, []).append((number, kind, text))
            return known

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
        self, runs: Sequence[NewRun], revision_id: int | None, *, source: str, build: int | None = None
    ) -> list[Evidence]:
        """Store runs that were made in a row, all or none, on the build they were made on.

        Without a revision they arrive unassigned, and belong to no build where none is named.
        """
        return self.add_ready(self.ready_runs(runs), revision_id, source=source, build=build)

    @staticmethod
    def ready_runs(runs: Sequence[NewRun]) -> list[Ready]:
        """Runs with their columns packed, ready to be stored: the long part, that needs no job. Raises JobError."""
        found = []
        for run in runs:
            rows = encode_raw(run.log) if isinstance(run.log, RawLog) else encode_log(run.log)
            found.append((run, rows, [digest(row) for row in rows]))
        return found

    def add_ready(
        self, ready: Sequence[Ready], revision_id: int | None, *, source: str, build: int | None = None
    ) -> list[Evidence]:
        """Store runs that are packed already, all or none."""
        made = []
        with self._committing() as db:
            there = {r[0] for r in db.execute("SELECT number FROM build")}
            on = max(there) if build is None and revision_id is not None else build
            if on is not None and on not in there:
                raise JobError(f"there is no build {on}", concerns=str(self.path), remedy="Open the job again.")
            number = db.execute("SELECT count(*) FROM evidence").fetchone()[0]
            for run, rows, sums in ready:
                number += 1
                made.append(self._insert_run(db, f"R{number:04d}", run, rows, sums, revision_id, on, source))
        with self._turn:
            if EVIDENCE in self._kept:
                self._kept[EVIDENCE] = [*self._kept[EVIDENCE], *made]
            for place in {revision_id, *(r for e in made for r, _ in e.pulls.values())}:
                topic = _topic(place)
                if topic in self._kept:
                    self._kept[topic] = [*self._kept[topic], *(p for e in made for p in e.parts_of(place))]
        return made

    def _insert_run(
        self,
        db: sqlite3.Connection,
        evidence_id: str,
        run: NewRun,
        rows: list[columns.Row],
        sums: list[str],
        revision_id: int | None,
        build: int | None,
        source: str,
    ) -> Evidence:
        from yarvic.core.evidence.origin import heads_of

        time, c = self._stamp(), run.conditions
        db.execute(
            "INSERT INTO evidence VALUES (?, ?, ?, ?, ?, ?, ?)",
            (evidence_id, run.title, revision_id, build, time, source, None if c is None else c.model_dump_json()),
        )
        db.executemany(
            "INSERT INTO evidence_column VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            [(evidence_id, *row) for row in rows],
        )
        records, reading = [(EVIDENCE, evidence_id)], 0
        said: tuple[tuple[NoteKind, Document | None], ...] = (
            ("source", run.origin),
            ("header", heads_of(run.log) if isinstance(run.log, RawLog) else None),
            ("joined", run.joined),
            ("reading", run.reading),
            *(("pull_assigned", p) for p in run.pulls),
        )
        for kind, document in said:
            if document is not None:
                note = self._insert_note(db, evidence_id, kind, document)
                records.append(("evidence_note", str(note)))
                reading = note if kind == "reading" else reading
        where = (
            f"{run.title} recorded ({source})."
            if run.origin is None
            else f"{run.title} imported from {run.origin.name}."
        )
        self._write_journal(db, evidence_id, where, *records, columns=sums)
        to = (run.joined.run, run.joined.pull) if run.joined is not None and run.joined.run else None
        return Evidence(
            evidence_id, run.title, revision_id, build, time, source, c, run.origin, reading=reading, joined=to,
            pulls={p.pull: (p.revision_id, p.build) for p in run.pulls},
        )  # fmt: skip

    def _insert_note(self, db: sqlite3.Connection, evidence_id: str, kind: NoteKind, document: Document) -> int:
        cursor = db.execute(
            "INSERT INTO evidence_note (evidence_id, kind, document, time) VALUES (?, ?, ?, ?)",
            (evidence_id, kind, document.model_dump_json(exclude_defaults=kind != "conditions"), self._stamp()),
        )
        assert cursor.lastrowid is not None
        return cursor.lastrowid

    def say_of(self, said: Sequence[tuple[str, NoteKind, Document]], sentence: str) -> None:
        """Say something of runs, all or none: how they are read, where they belong, under what conditions they were
        made, what is set aside. What was said before stays in the file.
        """
        with self._committing() as db:
            records = []
            for evidence_id, kind, document in said:
                if not db.execute("SELECT 1 FROM evidence WHERE id = ?", (evidence_id,)).fetchone():
                    raise JobError(
                        f"there is no run {evidence_id}", concerns=str(self.path), remedy="Choose another."
                    )
                records.append(("evidence_note", str(self._insert_note(db, evidence_id, kind, document))))
            self._write_journal(db, said[0][0] if said else EVIDENCE, sentence, *records)
        with self._turn:
            for topic in [t for t in self._kept if t.startswith(EVIDENCE)]:
                del self._kept[topic]
            lately = self._kept.get("logs", {})
            for evidence_id, kind, _ in said:
                if kind == "reading":
                    lately.pop(evidence_id, None)

    def reading(self, evidence_id: str) -> Reading | None:
        """How the columns of a run from a file are read now; None for one that was recorded here."""
        from yarvic.core.evidence.origin import Reading

        found: Reading | None = self._latest(evidence_id, "reading", Reading)
        return found

    def heads(self, evidence_id: str) -> Heads | None:
        """What stood around the numbers of a run from a file."""
        from yarvic.core.evidence.origin import Heads

        found: Heads | None = self._latest(evidence_id, "header", Heads)
        return found

    def _latest(self, evidence_id: str, kind: str, document: type[Any]) -> Any:
        rows = self._rows(
            "SELECT document FROM evidence_note WHERE evidence_id = ? AND kind = ? ORDER BY id DESC LIMIT 1",
            (evidence_id, kind),
        )
        return self._document(document.model_validate_json, rows[0][0], f"{kind} of a run") if rows else None

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
            while len(lately) > 1 and (
                len(lately) > MOST_LOGS or sum(map(_bytes_of, lately.values())) > MOST_LOG_BYTES
            ):
                lately.popitem(last=False)
        return log

    def raw(self, evidence_id: str) -> RawLog:
        """A run from a file as it stood there. Raises JobError."""
        rows, heads = self._places(evidence_id), self.heads(evidence_id)
        if heads is None:
            raise JobError("this run is from no file", concerns=str(self.path), remedy="Choose another run.")
        return self._raw(evidence_id, heads, rows, range(len(heads.columns)))

    def log(self, evidence_id: str, keys: Iterable[str] | None = None) -> Log:
        """The log of a run, or only some of its channels. Raises JobError when a column is damaged."""
        rows = self._places(evidence_id)
        reading = self.reading(evidence_id)
        if reading is not None:
            return self._read_by(evidence_id, reading, rows, keys)
        wanted = None if keys is None else set(keys)
        chosen = [r for r in rows if r[5] is not None and (wanted is None or r[1] in wanted)]
        numbers = self._numbers(evidence_id, {r[0] for r in chosen} | {r[5] for r in chosen})
        channels = {}
        for position, key, title, quantity, unit, time_position in chosen:
            values, times = self._alike(title, numbers[position], numbers[time_position])
            channels[key] = Channel(key, title, quantity, unit, times, values)
        return Log(channels)

    def _read_by(self, evidence_id: str, reading: Reading, rows: list[Any], keys: Iterable[str] | None) -> Log:
        """The log of a run from a file: its columns as they were stored, read by what they are said to mean."""
        from yarvic.core.evidence.as_told import needed
        from yarvic.core.evidence.taking import take, tells

        heads = self.heads(evidence_id)
        if heads is None or len(reading.mapping.columns) != len(heads.columns) + 1:
            raise self._misfit()
        understood = reading.understood
        wanted = None if keys is None else set(keys)
        asked = (
            n
            for n, c in enumerate(understood.columns)
            if wanted is None or (c.channel or heads.columns[n].name) in wanted or tells(c)
        )
        chosen = needed(understood.time, understood.columns, [c.name for c in heads.columns], asked)
        meant = replace(understood, columns=tuple(understood.columns[n] for n in chosen))
        raw = self._raw(evidence_id, heads, rows, chosen)
        log = take(raw, meant, reading.facts, f"{self.path.name}, {evidence_id}")
        if wanted is None:
            return log
        return replace(log, channels={k: c for k, c in log.channels.items() if k in wanted})

    def _places(self, evidence_id: str) -> list[Any]:
        rows = self._rows(
            "SELECT position, key, title, quantity, unit, time_position FROM evidence_column"
            " WHERE evidence_id = ? ORDER BY position",
            (evidence_id,),
        )
        if not rows:
            raise JobError(
                f"there is no log for {evidence_id!r}", concerns=str(self.path), remedy="Choose another run."
            )
        return [self._row(r, (int, str, str, str, str, int | None)) for r in rows]

    def _raw(self, evidence_id: str, heads: Heads, rows: list[Any], chosen: Sequence[int]) -> RawLog:
        """Some columns of a run from a file, as they stood there."""
        from yarvic.core.evidence.origin import raw_of

        places = [r for r in rows if r[5] is not None]
        clock = next((r[0] for r in rows if r[5] is None), None)
        if clock is None or len(places) != len(heads.columns):
            raise self._misfit()
        mine = [places[n] for n in chosen]
        numbers = self._numbers(evidence_id, {clock} | {r[0] for r in mine} | {r[5] for r in mine})
        values = []
        for row in mine:
            found, times = self._alike(row[2], numbers[row[0]], numbers[row[5]])
            values.append((found, None if row[5] == clock else times))
        part = heads.model_copy(update={"columns": tuple(heads.columns[n] for n in chosen)})
        return raw_of(part, numbers[clock], values)

    def _misfit(self) -> JobError:
        return JobError(
            "a run's columns do not fit what is said of them",
            concerns=str(self.path),
            remedy="Restore the job from a copy.",
        )

    def _numbers(self, evidence_id: str, positions: Iterable[int]) -> dict[int, Any]:
        needed = sorted(positions)
        stored = [self._stored(evidence_id, position) for position in needed]
        return dict(zip(needed, columns.decode(stored, concerns=f"{self.path.name}, {evidence_id}"), strict=True))

    def _alike(self, title: str, values: Any, times: Any) -> tuple[Any, Any]:
        if values.size != times.size:
            raise JobError(
                f"{title} has {values.size} samples but other time stamps",
                concerns=str(self.path),
                remedy="Restore the job from a copy.",
            )
        return values, times

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
