"""Which runs are the baseline of another: the first pulls of the same revision on the same build, or those of the
nearest other revision on that build.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from weakref import WeakKeyDictionary

from yarvic.core.checks.baseline import Baseline
from yarvic.core.checks.signature import Signature, first_signature
from yarvic.core.errors import YarvicError
from yarvic.core.job.model import Evidence, Revision
from yarvic.core.job.store import Job

# So many first pulls are the baseline; pulls nearer together than this are one set, in which heat grows. Our choice.
PULLS, ONE_SET_S = 3, 1200.0

# A run never changes: what was read of it is kept with its job while that is open, by what was said of its first pull.
_Key = tuple[str, tuple[float, float] | None, bool]
_KEPT: WeakKeyDictionary[Job, dict[_Key, Signature | None]] = WeakKeyDictionary()


@dataclass(frozen=True)
class Against:
    """A baseline and the runs that it is made of, by id: what was judged against it stands while they do."""

    baseline: Baseline
    runs: tuple[str, ...]


def baseline_of(job: Job, item: Evidence) -> Against | None:
    """What a run is held against; None where nothing like it was pulled before on its build."""
    if item.is_sheet or item.revision_id is None:
        return None
    mine = job.runs_of(item.revision_id)
    first = _alike(item, mine)[:PULLS]
    if first and item.id not in {e.id for e in first}:
        return _made(job, item, first, "the first pulls of this revision", True)
    for revision in _nearest(job, item.revision_id):
        found = _alike(item, job.runs_of(revision.id))[:PULLS]
        if found and (made := _made(job, item, found, revision.name, False)) is not None:
            return made
    return None


def _nearest(job: Job, revision_id: int) -> list[Revision]:
    """The revisions before one, the nearest first, then all others, the newest first."""
    every = {r.id: r for r in job.revisions()}
    before, at = [], every.get(revision_id)
    while at is not None and at.parent_id is not None and (at := every.get(at.parent_id)) is not None:
        before.append(at)
    return [*before, *(r for r in reversed(every.values()) if r not in before and r.id != revision_id)]


def baselines_of(job: Job) -> tuple[Baseline, ...]:
    """The first pulls of every revision on each build, the newest first: for a log of which nobody said whose it is."""
    found = []
    for revision in reversed(job.revisions()):
        runs = [e for e in job.runs_of(revision.id) if not e.is_sheet]
        for build in sorted({e.on_build for e in runs}, reverse=True):
            first = next((e for e in runs if e.on_build == build), None)
            alike = _alike(first, runs)[:PULLS] if first is not None else []
            pulls = tuple(s for e in alike if (s := _signature(job, e)) is not None)
            if pulls:
                found.append(Baseline(f"{revision.name} on build {build}", pulls))
    return tuple(found)


def _alike(item: Evidence, runs: Sequence[Evidence]) -> list[Evidence]:
    """Sound pulls that compare with a run, on the same build, in the order in which they were recorded."""
    return [e for e in runs if e.on_build == item.on_build and None not in e.aside and not _unlike(item, e)]


def _unlike(item: Evidence, other: Evidence) -> bool:
    if other.is_sheet or (item.origin is None) != (other.origin is None):
        return True
    one, two = item.conditions, other.conditions
    if two is not None and two.faults:
        return True  # broken on purpose: no baseline
    if one is None or two is None:
        return False  # the logs themselves tell
    return bool(one.model_copy(update={"faults": {}}).comparable_with(two)) or two.run in ("hold", "climb", "coast")


def _made(job: Job, item: Evidence, runs: Sequence[Evidence], title: str, same_maps: bool) -> Against | None:
    found = [(e.id, s) for e in runs if (s := _signature(job, e)) is not None]
    if not found:
        return None
    pulls = tuple(s for _, s in found)
    return Against(Baseline(title, pulls, same_maps, _place(job, item)), tuple(i for i, _ in found))


def _place(job: Job, item: Evidence) -> int:
    """How many pulls came right before it, of whichever revision, without a longer rest between."""
    place, at = 0, _time(item)
    before = sorted((e for e in job.evidence() if e.origin is None and e.time < item.time), key=lambda e: e.time)
    for e in reversed(before):
        then = _time(e)
        if at is None or then is None or (at - then).total_seconds() > ONE_SET_S or e.on_build != item.on_build:
            break
        place, at = place + 1, then
    return place


def _time(item: Evidence) -> datetime | None:
    try:
        return datetime.fromisoformat(item.time)
    except ValueError:
        return None


def _signature(job: Job, item: Evidence) -> Signature | None:
    """What its first pull was like; None where it holds none, or cannot be read."""
    kept, key = _KEPT.setdefault(job, {}), (item.id, item.spans.get(0), 0 in item.aside)
    if key not in kept:
        try:
            log = job.whole_log(item.id) if 0 not in item.aside else None
            kept[key] = first_signature(log, item.conditions, item.spans) if log is not None else None
        except YarvicError:
            return None  # its own judgement says what is wrong with it
    return kept[key]
