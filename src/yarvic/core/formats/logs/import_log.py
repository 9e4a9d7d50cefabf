"""A log from a file, understood and in canonical units: what the desk and the command line both go through."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from yarvic.core.evidence.dictionary import Dictionary
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.mapping import Facts, Mapping
from yarvic.core.evidence.raw import RawLog
from yarvic.core.evidence.taking import Understood, take, understand
from yarvic.core.formats.logs.read import read_recordings


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
    raw = read_recordings(path)
    found = []
    while raw:
        found.append(_imported(raw.pop(0), path, mapping, facts, words))
    return found


def _imported(
    raw: RawLog, path: Path, mapping: Mapping | None, facts: Facts | None, words: Dictionary | None
) -> Imported:
    source = str(path)
    understood = understand(raw, mapping, words, source)
    kept = understood.mapping(raw, path.stem)
    return Imported(take(raw, understood, facts, source), understood, kept, raw.part, raw.started)
