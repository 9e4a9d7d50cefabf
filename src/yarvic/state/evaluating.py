"""Judging: what each run of a revision gives, from captured requests, beside the interface."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import partial

from yarvic.core.checks.limits import Limits
from yarvic.core.checks.run import check_curve, check_log, check_whole, families_of, summarize
from yarvic.core.errors import Cancelled, EvidenceError, FormatError, JobError, UnitError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.dyno import Curve, Held, held_power
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.problems import Problem, problems
from yarvic.core.evidence.pulls import Pull
from yarvic.core.job.model import Evidence, parts_on
from yarvic.core.job.store import Job
from yarvic.core.physics.correction import STANDARDS
from yarvic.core.plan.vehicle import Vehicle
from yarvic.state.baselines import Against, baseline_of
from yarvic.state.results import FULL_THROTTLE, OF_CURVE, JudgedRun, PullResult, RevisionResults, apart
from yarvic.state.work import Asked, Progress


def evaluate(
    job: Job,
    revision_ids: list[int],
    progress: Progress,
    cancelled: Asked,
    before: Mapping[int, RevisionResults] | None = None,
) -> dict[int, RevisionResults]:
    """Findings and curves of the given revisions. Raises Cancelled, JobError.

    A run never changes: what `before` holds of it is kept where it was judged by the same limits and vehicle.
    """
    builds, vehicle = job.builds(), job.sheet.vehicle
    limits = {b.number: job.sheet.limits_with(parts_on(builds, b.number)) for b in builds}
    wanted = {r: job.runs_of(r) for r in revision_ids}
    count, total = 0, max(sum(map(len, wanted.values())), 1)
    made = {}
    for revision_id, items in wanted.items():
        runs: dict[str, JudgedRun] = {}
        wrong: list[Problem] = []
        joined = joined_to(items)
        known = before[revision_id].runs if before and revision_id in before else {}
        for item in items:
            if cancelled():
                raise Cancelled("judging was cancelled")
            progress(count / total, f"Judging {item.title}")
            count += 1
            # Of a run whose pulls are of several builds each build has its part.
            part = item.id if item.id not in runs else f"{item.id}, build {item.build}"
            old, by = known.get(part), limits.get(item.on_build)
            if by is None:
                wrong.append(Problem(item.id, f"{item.title} belongs to no build: assign it"))
                continue
            sheets = tuple(
                s for s in joined.values() if s.joined and s.joined[0] == item.id and item.holds(s.joined[1])
            )
            if None in item.aside or item.id in {s.id for s in joined.values()}:
                continue
            if item.joined is not None:
                why = "the pull it is joined to is of another revision, is left out, or has another curve"
                wrong.append(Problem(item.id, f"{item.title} stands alone: {why}"))
            against = baseline_of(job, item)
            asked = (item, sheets, by, vehicle, against.runs if against is not None else ())
            if old is not None and (old.evidence, old.sheets, old.limits, old.vehicle, old.against) == asked:
                runs[part] = old
                continue
            try:
                runs[part] = (
                    _judge_sheet(job, item, by, vehicle)
                    if item.is_sheet
                    else _judge_run(job, item, by, vehicle, sheets, against)
                )
            except (JobError, FormatError) as error:
                # One damaged run does not take the others with it; it is named and counts as not there.
                wrong.append(Problem(item.id, f"{item.title} cannot be read: {error.what}"))
        made[revision_id] = _judged(revision_id, runs, wrong, families_of(vehicle.asked))
    return made


def joined_to(items: Sequence[Evidence]) -> dict[tuple[str, int], Evidence]:
    """The curves that are joined to a pull among these runs that counts, by log and pull; of two the last one counts.

    A curve whose pull is elsewhere, or left out, stands alone: it does not vanish with it.
    """
    logs = [e for e in items if not e.is_sheet and None not in e.aside]
    found: dict[tuple[str, int], Evidence] = {}
    for e in items:
        if not e.is_sheet or e.joined is None or None in e.aside:
            continue
        log, pull = e.joined
        if any(each.id == log and each.holds(pull) and pull not in each.aside for each in logs):
            found[e.joined] = e
    return found


def _judge_sheet(job: Job, item: Evidence, limits: Limits, vehicle: Vehicle) -> JudgedRun:
    """A curve without a log: it answers what a curve does, and nothing else."""
    log = job.log(item.id)
    try:
        found = _curve_of(job, item, log)
    except EvidenceError as error:
        return JudgedRun(item, limits, vehicle, (), (Problem(item.id, f"{item.title} gives no curve: {error}"),))
    conditions = item.conditions or Conditions(simulated=False, run="", fan=None)
    throttle = conditions.throttle if conditions.throttle is not None else FULL_THROTTLE
    checked = check_curve(item.id, log, _uncorrected(found), limits, conditions, throttle)
    read = partial(job.whole_log, item.id)
    drawn = "engine_speed" in log.channels and any(k in CHANNELS and k not in OF_CURVE for k in log.channels)
    pull = PullResult(item, read, checked.pull, checked.findings, _curves(item, found, vehicle), traces=drawn)
    return JudgedRun(item, limits, vehicle, (pull,), ())


def _curve_of(job: Job, item: Evidence, log: Log) -> Curve:
    """The curve of a sheet, as it stands there. Raises EvidenceError where something of it is not known."""
    from yarvic.core.evidence.sheet.curve import sheet_curve

    reading = job.reading(item.id)
    if reading is None or reading.mapping.curve is None:
        raise EvidenceError("what its numbers are was never said", remedy="Read its columns anew.")
    return sheet_curve(log, reading.mapping.curve, reading.understood.columns, item.conditions)


def _judge_run(
    job: Job,
    item: Evidence,
    limits: Limits,
    vehicle: Vehicle,
    sheets: tuple[Evidence, ...],
    against: Against | None,
) -> JudgedRun:
    log = job.whole_log(item.id)  # it is looked at next
    beside: dict[int, tuple[Evidence, Curve]] = {}
    wrong = []
    for sheet in sheets:
        assert sheet.joined is not None
        try:
            beside[sheet.joined[1]] = sheet, _curve_of(job, sheet, job.log(sheet.id))
        except EvidenceError as error:
            wrong.append(Problem(sheet.id, f"{sheet.title} gives no curve: {error}"))
    plain = {n: _uncorrected(c) for n, (_, c) in beside.items()}
    baseline = against.baseline if against is not None else None
    found = check_log(item.id, log, limits, item.conditions, vehicle.asked, plain, baseline, item.spans)
    pulls = tuple(
        PullResult(
            _with_sheet(item, beside.get(number)),
            partial(job.whole_log, item.id),
            checked.pull,
            checked.findings,
            _curves(*(beside.get(number) or (item, checked.curve)), vehicle),
            _held(item, log, checked.pull),
            number,
            len(found),
            beside[number][0] if number in beside else None,
            off=checked.off,
            held_against=baseline.title if baseline is not None and checked.off else "",
        )
        for number, checked in enumerate(found)
        if number not in item.aside and item.holds(number)
    )
    gone = [s for s in sheets if s.joined is not None and s.joined[1] >= len(found)]
    wrong += [Problem(s.id, f"{s.title} is joined to a pull that {item.title} does not hold") for s in gone]
    runs = against.runs if against is not None else ()
    whole = None if found else _whole(job, item, log, limits, vehicle)
    return JudgedRun(item, limits, vehicle, pulls, (*problems(log), *wrong), sheets, runs, whole)


def _whole(job: Job, item: Evidence, log: Log, limits: Limits, vehicle: Vehicle) -> PullResult | None:
    """A log without a pull, to be looked at, judged by what needs none; None where it holds nothing, or is left out."""
    if 0 in item.aside or not item.holds(0):
        return None
    try:
        checked = check_whole(item.id, log, limits, item.conditions, vehicle.asked)
    except EvidenceError:
        return None
    return PullResult(item, partial(job.whole_log, item.id), checked.pull, checked.findings, {}, whole=True)


def _uncorrected(curve: Curve) -> Curve:
    """The curve as it was measured, which is what it loaded; still corrected where its factor is not known."""
    if curve.correction.factor != curve.correction.factor:
        return curve
    return curve.corrected(Conditions(simulated=False), "none", boost_controlled=False)


def _with_sheet(item: Evidence, beside: tuple[Evidence, Curve] | None) -> Evidence:
    """A log's run with the conditions of the curve that was measured in it, and its own where that says none.

    The throttle is the log's own: a sheet only supposes it.
    """
    if beside is None:
        return item
    sheet, own = beside[0].conditions, item.conditions
    if sheet is None:
        return item
    own = own or Conditions(simulated=False, run="", fan=None)
    unknown = {k: v for k, v in own.entries().items() if getattr(sheet, k) in (None, "")}
    return replace(item, conditions=sheet.changed(**{**unknown, "throttle": own.throttle}))


def _judged(
    revision_id: int, runs: Mapping[str, JudgedRun], wrong: list[Problem], families: list[str]
) -> RevisionResults:
    pulls = tuple(p for run in runs.values() for p in run.pulls)
    beside = tuple(run.whole for run in runs.values() if run.whole is not None)
    judged_by = (*pulls, *(p for p in beside if p.findings))
    noun = "pulls" if all(p.sweeps for p in judged_by) else "runs"
    last = judged_by[-1] if judged_by else None
    alike = noun == "pulls" and not any(last and (apart(p, last) or p.throttle != last.throttle) for p in judged_by)
    summaries = summarize([list(p.findings) for p in judged_by], noun, alike=alike)
    judged = {s.family for s in summaries}
    unjudged = tuple(f for f in families if f not in judged)
    found = (*wrong, *(p for run in runs.values() for p in run.problems))
    return RevisionResults(revision_id, pulls, tuple(summaries), found, unjudged, runs, beside)


def _held(item: Evidence, log: Log, span: Pull) -> Held | None:
    if item.conditions is None or item.conditions.run != "hold":
        return None
    try:
        return held_power(log, span)
    except EvidenceError:
        return None  # the table then says that there is no number


def _curves(item: Evidence, raw: Curve | None, vehicle: Vehicle) -> dict[str, Curve]:
    if raw is None or item.conditions is None:
        return {}
    diesel, found = vehicle.ignition == "compression", {}
    for n in STANDARDS:
        try:
            found[n] = raw.corrected(
                item.conditions, n, boost_controlled=vehicle.boost_controlled, compression_ignition=diesel
            )
        except (EvidenceError, UnitError):
            continue  # what a standard needs is not known: the curve does not stand by it
    return found
