"""What was said of a run since it was recorded: of each kind the last word counts, and what was said before stays."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any

from yarvic.core.evidence.conditions import Conditions
from yarvic.core.job.model import Evidence

# Validates a text as a document of a kind, in words; raises JobError.
Read = Callable[[Callable[[str], Any], str, str], Any]


def with_notes(run: Evidence, notes: Iterable[tuple[int, str, str]], read: Read) -> Evidence:
    """A run with its notes (number, kind, document), in their order. Raises JobError for one that is no such thing."""
    said = list(notes)
    for number, kind, text in said:
        run = _with_note(run, number, kind, text, read)
    elsewhere = _elsewhere(run, said, read)
    aside = _aside(said, read)
    markers, spans = _markers(said, read), _spans(said, read)
    if aside or elsewhere or markers or spans:
        return replace(run, aside=aside, pulls=elsewhere, markers=markers, spans=spans)
    return run


def _with_note(run: Evidence, number: int, kind: str, text: str, read: Read) -> Evidence:
    from yarvic.core.evidence.origin import Assigned, Joined, Origin

    if kind == "source":
        return replace(run, origin=read(Origin.model_validate_json, text, "source of a run"))
    if kind == "reading":
        return replace(run, reading=number)
    if kind == "assigned":
        found = read(Assigned.model_validate_json, text, "assignment of a run")
        return replace(run, revision_id=found.revision_id, build=found.build)
    if kind == "conditions":
        return replace(run, conditions=read(Conditions.model_validate_json, text, "conditions"))
    if kind == "joined":
        to = read(Joined.model_validate_json, text, "run that was joined")
        return replace(run, joined=(to.run, to.pull) if to.run else None)
    return run


def _elsewhere(run: Evidence, said: Iterable[tuple[int, str, str]], read: Read) -> dict[int, Any]:
    """The pulls that belong elsewhere: one that was given back to where its run is belongs nowhere else."""
    from yarvic.core.evidence.origin import PullAssigned

    pulls = {}
    for _, kind, text in said:
        if kind == "pull_assigned":
            one = read(PullAssigned.model_validate_json, text, "assignment of a pull")
            pulls[one.pull] = one.revision_id, one.build
    return {n: at for n, at in pulls.items() if at != (run.revision_id, run.build)}


def _aside(said: Iterable[tuple[int, str, str]], read: Read) -> dict[int | None, str]:
    from yarvic.core.evidence.origin import SetAside

    aside: dict[int | None, str] = {}
    for _, kind, text in said:
        if kind == "set_aside":
            each = read(SetAside.model_validate_json, text, "run that was left out")
            aside.pop(each.pull, None)
            if each.aside:
                aside[each.pull] = each.reason
    return aside


def _spans(said: Iterable[tuple[int, str, str]], read: Read) -> dict[int, tuple[float, float]]:
    from yarvic.core.evidence.origin import Spanned

    spans: dict[int, tuple[float, float]] = {}
    for _, kind, text in said:
        if kind == "spanned":
            each = read(Spanned.model_validate_json, text, "span of a pull")
            spans.pop(each.pull, None)
            if each.start_s is not None and each.end_s is not None:
                spans[each.pull] = each.start_s, each.end_s
    return spans


def _markers(said: Iterable[tuple[int, str, str]], read: Read) -> tuple[Any, ...]:
    from yarvic.core.evidence.origin import Marker

    markers: dict[str, Any] = {}
    for _, kind, text in said:
        if kind == "marker":
            marker = read(Marker.model_validate_json, text, "marker of a run")
            markers.pop(marker.key, None)
            if not marker.gone:
                markers[marker.key] = marker
    return tuple(sorted(markers.values(), key=lambda m: m.time_s))
