"""A log from a file, understood and in canonical units: what the desk and the command line both go through."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from yarvic.core.errors import Cancelled, EvidenceError, FormatError, name_of
from yarvic.core.evidence.as_told import with_rows
from yarvic.core.evidence.dictionary import Dictionary, dictionary
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.mapping import Facts, Mapping
from yarvic.core.evidence.origin import Origin
from yarvic.core.evidence.raw import RawLog
from yarvic.core.evidence.sheet.facts import Facts as SheetFacts
from yarvic.core.evidence.sheet.facts import read_facts
from yarvic.core.evidence.sheet.runs import is_sheet, sheet_runs, summed, untitled
from yarvic.core.evidence.taking import Understood, might_be_log, no_time, take, understand
from yarvic.core.formats.logs.read import MOST_BYTES, read_recordings
from yarvic.core.reading import reader


@dataclass(frozen=True)
class Imported:
    """One recording of a file: its log, what its columns were taken for, which part of the file it is."""

    log: Log
    understood: Understood
    mapping: Mapping
    part: str = ""
    started: str = ""


def import_logs(
    path: Path, *, mapping: Mapping | None = None, facts: Facts | None = None, words: Dictionary | None = None
) -> list[Imported]:
    """The recordings of a file as logs. What is not known of a channel stays with it as its doubt.

    Raises FormatError naming file, place and remedy.
    """
    raw = tables(path, words).raw
    if all(each.sheet for each in raw):
        raise FormatError(
            "is a dyno sheet: curves over a speed, and no log", concerns=str(path), remedy="Read it by `yarvic dyno`."
        )
    found = []
    while raw:
        each = raw.pop(0)
        if not each.sheet:
            found.append(_imported(each, path, mapping, facts, words))
    return found


@dataclass(frozen=True)
class Tables:
    """What a file holds, raw, with the count of the bytes that were read, and their SHA-256 where it was wanted."""

    raw: list[RawLog]
    sha256: str
    size: int


@reader("log or sheet", "Log or dyno sheet", "", MOST_BYTES)
def tables(
    path: Path,
    words: Dictionary | None = None,
    cancelled: Callable[[], bool] = lambda: False,
    *,
    with_sum: bool = False,
) -> Tables:
    """What a file holds, raw: recordings, and the runs of a dyno sheet; with its sum if wanted.

    Raises FormatError, Cancelled.
    """
    words = words or dictionary()
    found: list[RawLog] = []
    read = read_recordings.read(path, cancelled, summed=with_sum)
    raw = read.value
    while raw:
        each = raw.pop(0)
        try:
            each = untitled(summed(each, words), words) if each.time is None else each
            found += sheet_runs(each, words) if is_sheet(each, words) else [each]
        except EvidenceError as error:
            raise FormatError(error.what, concerns=str(path), remedy=error.remedy) from None
    return Tables(found, read.sha256, read.size)


def _imported(
    raw: RawLog, path: Path, mapping: Mapping | None, facts: Facts | None, words: Dictionary | None
) -> Imported:
    source = str(path)
    understood = understand(raw, mapping, words, source)
    if raw.clock == "row" and understood.time.question:
        raise no_time(raw, source)  # here nobody can be asked
    kept = understood.mapping(raw, name_of(Path(path.stem)))
    return Imported(take(raw, understood, facts, source), understood, kept, raw.part, raw.started)


@dataclass(frozen=True)
class Recording:
    """One recording of a file, or one run of a dyno sheet, as it stands there: where it is from, and what its columns
    seem to mean. `said` is what the lines above a curve say of its conditions.
    """

    raw: RawLog
    origin: Origin
    understood: Understood
    said: SheetFacts | None = None

    def log(self, understood: Understood, facts: Facts | None = None) -> Log:
        """The log by what its columns are said to mean. The recording itself stays as it is."""
        return take(replace(self.raw, columns=list(self.raw.columns)), understood, facts, self.origin.name)


def read_file(
    path: Path,
    known: Callable[[RawLog], Mapping | None] = lambda raw: None,
    words: Dictionary | None = None,
    cancelled: Callable[[], bool] = lambda: False,
    altitude_m: float | None = None,
) -> list[Recording]:
    """The recordings of a file for a person to look at; `known` gives what was confirmed for files of this header.

    `altitude_m` of the shop tells a station's barometer from one that is reduced to sea level. Raises FormatError,
    Cancelled.
    """
    read = tables(path, words, cancelled, with_sum=True)
    found = []
    for raw in read.raw:
        if cancelled():
            raise Cancelled(f"reading {path.name} was cancelled")
        with_rows(raw)
        understood = understand(raw, known(raw), words, str(path))
        if raw.clock == "row" and not raw.sheet and not might_be_log(raw, understood):
            raise no_time(raw, str(path))
        said = _said(raw, understood, path, altitude_m) if raw.sheet else None
        origin = Origin(
            name=name_of(path),
            sha256=read.sha256,
            size=read.size,
            reader=raw.reader,
            part=raw.part[:400],
            started=raw.started or (said.date if said is not None else ""),
            sheet=raw.sheet,
        )
        found.append(Recording(raw, origin, understood, said))
    return found


def _said(raw: RawLog, understood: Understood, path: Path, altitude_m: float | None) -> SheetFacts:
    """What a sheet says of its conditions, in the lines above it and in columns of weather."""
    beside = take(replace(raw, columns=list(raw.columns)), understood, None, str(path))
    return read_facts(raw.facts, beside, altitude_m)
