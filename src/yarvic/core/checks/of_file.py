"""A log's file judged without a job: what the command line prints, as one document a recording."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from yarvic.core.checks.against_baseline import kind_of
from yarvic.core.checks.baseline import THROTTLE_ALIKE, Baseline
from yarvic.core.checks.causes import causes
from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.finding import NO_DATA, VERDICT_WORDS, Finding, verdict
from yarvic.core.checks.for_owner import owners_page
from yarvic.core.checks.limits import Limits
from yarvic.core.checks.run import CheckedPull, check_log, check_whole, families_of, summarize
from yarvic.core.checks.signature import first_signature
from yarvic.core.errors import EvidenceError, FormatError, YarvicError, in_plain, name_of
from yarvic.core.evidence.dictionary import Dictionary
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.mapping import Column, Facts, Mapping
from yarvic.core.evidence.problems import problems
from yarvic.core.evidence.quality import quality
from yarvic.core.formats.logs.import_log import Imported, import_logs

MOST_NAMED = 6


@dataclass(frozen=True)
class Judging:
    """By what a file is judged: limits, the kind of engine, what its columns mean, and what is known beside them."""

    limits: Limits
    engine: EngineKind = field(default_factory=EngineKind)
    mapping: Mapping | None = None
    facts: Facts = field(default_factory=Facts)
    words: Dictionary | None = None
    baselines: tuple[Baseline, ...] = ()  # of a job, the newest first: the first one with the same maps counts
    fuel: str = ""  # as it was stated with the files
    same_drive: bool = False  # it was stated that they drove what the baselines drove


def check_file(path: Path, by: Judging) -> list[dict[str, Any]]:
    """A document for each recording that holds a pull: pulls, verdict, problems, notes, columns, checks.

    Raises FormatError for a file that is no log, and for one without any pull.
    """
    found = import_logs(path, mapping=by.mapping, facts=by.facts, words=by.words)
    documents, without = [], []
    for each in found:
        document = _judged(path, each, by)
        if document["pulls"]:
            documents.append(document)
        else:
            without.append(each.part)
    if not documents:
        raise _no_pull(path, found[0], by)
    documents[0]["notes"] += [f"{part} holds no pull" for part in without]
    return documents


def not_judged(path: Path, error: YarvicError) -> dict[str, Any]:
    """The document of a file that could not be used, beside those of others: it says why, and passes nothing."""
    empty: dict[str, Any] = {
        k: [] for k in ("pull_list", "problems", "notes", "not_asked", "columns", "checks", "causes", "unexplained")
    }
    return {"log": str(path), "part": "", "pulls": 0, "verdict": NO_DATA, "error": str(error), **empty}


def _judged(path: Path, found: Imported, by: Judging) -> dict[str, Any]:
    baseline, why = _baseline(found.log, by)
    results = check_log(name_of(path), found.log, by.limits, engine=by.engine, baseline=baseline)
    opened = [r.pull.throttle for r in results]
    alike = not opened or max(opened) - min(opened) <= THROTTLE_ALIKE
    summaries = summarize([list(r.findings) for r in results], alike=alike)
    judged = {s.family for s in summaries}
    pointed_at = causes([f for r in results for f in r.findings], [r.off for r in results], kind_of(by.engine))
    unjudged = [f for f in families_of(by.engine) if f not in judged]
    page = owners_page(name_of(path), "", summaries, unjudged, pointed_at, simulated=False)
    return {
        "log": str(path),
        "part": found.part,
        "pulls": len(results),
        "pull_list": [_pull_document(found.log, r) for r in results],
        "verdict": verdict([s.worst for s in summaries]),
        "problems": [p.sentence for p in problems(found.log)],
        "notes": [*found.log.notes, *([why] if why else [])],
        "baseline": baseline.title if baseline is not None else None,
        "not_asked": unjudged,
        "columns": [column_document(c, found.log) for c in (found.understood.time, *found.understood.columns)],
        "checks": [
            {
                "check": s.check,
                "severity": s.worst.severity,
                "sentence": s.sentence(),
                "numbers": s.worst.numbers({}),
                "value": s.worst.value,
                "limit": s.worst.rule.stop_canonical if s.worst.rule else None,
                "margin": s.worst.margin,
                "chance_past_limit": s.chance_past,
                "source": s.worst.rule.source if s.worst.rule else "",
                "limit_key": s.worst.limit,
                "read": list(s.worst.read),
            }
            for s in summaries
        ],
        "causes": [
            {
                "cause": c.key,
                "title": c.title,
                "share": c.share,
                "explains": list(c.explains),
                "lacks": list(c.lacks),
                "look": c.look,
            }
            for c in pointed_at.ranked
        ],
        "causes_together": pointed_at.together,
        "unexplained": list(pointed_at.unexplained),
        "next_look": pointed_at.next_look,
        "for_the_owner": {"in_a_sentence": page.headline, **{heading: list(lines) for heading, lines in page.parts}},
    }


def _pull_document(log: Log, checked: CheckedPull) -> dict[str, Any]:
    pull = checked.pull
    found = quality(log, pull)
    return {
        "start_s": pull.start_s,
        "end_s": pull.end_s,
        "from_rpm": pull.from_rpm,
        "to_rpm": pull.to_rpm,
        "throttle": pull.throttle,
        "kind": found.kind,
        "ends": found.ends,
        "reasons": list(found.reasons),
        "findings": [_finding_document(f) for f in checked.findings],
    }


def _finding_document(f: Finding) -> dict[str, Any]:
    """A cell of the matrix: numbers in canonical units."""
    return {
        "check": f.check,
        "family": f.family,
        "severity": f.severity,
        "statement": f.statement,
        "value": f.value,
        "limit": f.rule.stop_canonical if f.rule is not None else None,
        "margin": f.margin,
        "at_s": f.where.time_s,
        "at_rpm": f.where.speed_rpm,
        "channel": f.where.channel,
        "cylinder": f.where.cylinder,
    }


def _baseline(log: Log, by: Judging) -> tuple[Baseline | None, str]:
    """The first of the baselines that a log can be held against, and in words why, or why none."""
    if not by.baselines:
        return None, ""
    own = first_signature(log, None)
    if own is None:
        return None, ""
    reasons = [_other_fuel(b, by.fuel) or b.unlike(own) for b in by.baselines]
    for each, reason in zip(by.baselines, reasons, strict=True):
        if not reason:
            words = f"held against {each.title}: by what the unit asks for, it held the same maps"
            return replace(each, same_drive=by.same_drive), f"{words}{_taken(each, by)}"
    return None, f"held against no baseline of the job: {reasons[0]}"


def _other_fuel(baseline: Baseline, stated: str) -> str:
    fuels = {s.drive.fuel for s in baseline.pulls if s.drive.fuel}
    return f"the baseline was pulled on {' and '.join(sorted(fuels))}" if stated and fuels - {stated} else ""


def _taken(baseline: Baseline, by: Judging) -> str:
    """What a baseline's record states, and a file does not: said, for it was taken as the same."""
    drive = baseline.pulls[0].drive
    own = [f"fuel ({drive.fuel})" if drive.fuel and not by.fuel else ""]
    if drive.dyno and not by.same_drive:
        own.append(f"dyno ({drive.dyno})")
    taken = [o for o in own if o]
    words = f"; {' and '.join(taken)} taken as the same, for the file does not say" if taken else ""
    return f"{words}; the baseline was simulated" if drive.simulated else words


def column_document(c: Column, log: Log) -> dict[str, Any]:
    """How a column was read, and what is asked of it, or has to be known beside it; a confirmed one was used as told."""
    channel = log.channels.get(c.channel)
    doubt = channel.doubt if channel is not None else None
    beside = doubt.sentence if doubt is not None and doubt.about in ("reference", "fuel") else ""
    return {
        "name": c.name,
        "channel": c.channel,
        "unit": c.unit_in_words,
        "scale": c.scale_in_words,
        "how": "used" if c.how == "confirmed" else c.how,
        "confidence": c.confidence,
        "reason": c.reason,
        "question": c.question or beside,
    }


def _no_pull(path: Path, found: Imported, by: Judging) -> FormatError:
    remedy = (
        "A pull holds throttle for 1.5 s or more and climbs 1200 rpm, or half of what the engine goes through with"
    )
    remedy += " an open throttle; log throttle and engine speed."
    asked = [c for c in found.understood.columns if c.question and c.channel in ("throttle", "engine_speed")]
    unknown = [c.name for c in found.understood.columns if not c.channel]
    for c in asked:
        remedy += f" '{in_plain(c.name, 60)}': {c.question}."
    lacks = {"throttle", "engine_speed"} - {c.channel for c in found.understood.columns}
    if lacks and unknown:
        names = ", ".join(f"'{in_plain(n, 40)}'" for n in unknown[:MOST_NAMED])
        more = " and more" if len(unknown) > MOST_NAMED else ""
        remedy += f" Not understood were {names}{more}: a mapping says what they are."
    remedy += _still_judged(path, found, by)
    return FormatError(f"no pull was found in it{_why_none(found.log)}", concerns=str(path), remedy=remedy)


def _still_judged(path: Path, found: Imported, by: Judging) -> str:
    """What can be judged of a log without a pull, in words; empty where nothing can."""
    try:
        findings = check_whole(name_of(path), found.log, by.limits, engine=by.engine).findings
    except EvidenceError:
        return ""
    said = [f"{f.statement} ({VERDICT_WORDS[f.severity]}, {f.numbers({})})" for f in findings]
    return f" Judged without a pull: {'; '.join(said)}." if said else " Nothing of it can be judged without a pull."


def _why_none(log: Log) -> str:
    """What of a log lets no pull be found; empty where it is simply not driven so."""
    words = {"throttle": "throttle", "engine_speed": "engine speed"}
    missing = [word for key, word in words.items() if key not in log.channels]
    if missing:
        return f": {' and '.join(missing)} {'was' if len(missing) == 1 else 'were'} not logged"
    for key, word in words.items():
        channel = log.channels[key]
        if channel.time_s.size > 1 and np.any(np.diff(channel.time_s) < 0.0):
            return f": the time of {word} runs backward"
        known = channel.values[np.isfinite(channel.values)]
        if not known.size:
            return f": {word} holds no number"
        if known.max() == known.min():
            shown = f"{known[0] * 100.0:.0f} %" if key == "throttle" else f"{known[0]:,.0f} rpm"
            return f": {word} stays at {shown} all along"
    return ""
