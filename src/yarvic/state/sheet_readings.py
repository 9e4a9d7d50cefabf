"""Readings of Job and Plan, and of what a step lacks."""

from __future__ import annotations

from yarvic.core.checks.finding import NO_DATA, ORDER, PASS, STOP, WATCH
from yarvic.core.job.lacks import lacks
from yarvic.core.plan.plan import not_fitted
from yarvic.core.plan.readiness import Readiness
from yarvic.state.plan import PlanState
from yarvic.state.reading import Reading
from yarvic.state.session import Session


def lacking(session: Session, step: str) -> list[Reading]:
    """A card for each thing that the sheet lacks for a step."""
    job = session.job
    if job is None:
        return []
    return [
        Reading(NO_DATA, f"The sheet lacks {lack.what}", lack.costs, step=lack.step, panel=lack.panel)
        for lack in lacks(job.sheet, job.has_maps, step)
    ]


def job_readings(session: Session) -> list[Reading]:
    """Readiness, baseline, builds and what is missing."""
    job = session.job
    assert job is not None
    found = [
        Reading(i.severity, f"{i.title}: {i.state}", i.in_words(), step="job", panel="readiness")
        for i in job.sheet.readiness
        if i.state in ("watch", "stop")
    ]
    ready = Readiness(job.sheet.readiness)
    unseen = ready.of("")
    if unseen:
        count = f"{len(unseen)} of {len(ready.items)} items were not looked at"
        found.append(Reading(NO_DATA, count, f"first: {unseen[0].title}", step="job", panel="readiness"))
    elif ready.items and not ready.of("stop"):
        found.append(Reading(PASS, "Nothing stops the vehicle", f"{len(ready.of('pass'))} items pass", step="job"))
    found += lacking(session, "job")
    if job.has_maps:
        found += _measured(session)
    else:
        found.append(Reading(NO_DATA, "This job has no maps yet", "import its stock image", step="maps"))
    if job.read_only:
        found.append(Reading(WATCH, "This job is open read only", "it is being written elsewhere"))
    return found


def _measured(session: Session) -> list[Reading]:
    job = session.job
    assert job is not None
    baseline = session.results.get(session.revisions()[0].id)
    pulls = len(baseline.pulls) if baseline else 0
    need = job.sheet.pulls_required
    enough = pulls >= need
    found = [
        Reading(
            PASS if enough else STOP,
            "Stock baseline is on file" if enough else "Stock baseline is missing",
            f"{pulls} pulls, {need} wanted",
            step="dyno",
        )
    ]
    latest = job.builds()[-1]
    found.append(Reading(PASS, f"Build {latest.number} is on the vehicle", latest.title, step="job", panel="history"))
    measured_on = {p.evidence.build for r in session.results.values() for p in r.pulls}
    if latest.number not in measured_on:
        found.append(Reading(WATCH, f"Nothing was measured on build {latest.number} yet", "pull it", step="dyno"))
    return found


def plan_readings(session: Session) -> list[Reading]:
    """The weakest link, what moves it and what that costs, the next one; stages that lack their parts; what is missing."""
    job = session.job
    assert job is not None
    plan = PlanState(session)
    found = lacking(session, "plan")
    for d, name in zip(plan.demands(), ("Weakest link", "Then", "Then"), strict=False):
        share = min(d.share, 1.2)
        found.append(
            Reading(
                d.severity, f"{name}: {d.limit.component}", plan.in_words(d), share=share, step="plan", panel="target"
            )
        )
    working = session.working_revision()
    stage = job.sheet.plan.stage_of(working.name) if working is not None else None
    if working is not None and stage is not None:
        off = not_fitted(job.sheet.plan.required(stage, job.sheet.parts), plan.fitted, job.sheet.parts)
        if off:
            found.append(
                Reading(
                    STOP,
                    f"{working.name} may not be released on this build",
                    f"it needs {', '.join(off)}",
                    step="release",
                )
            )
        else:
            found.append(
                Reading(
                    PASS,
                    f"{working.name} belongs to {stage.title}",
                    "its parts are fitted",
                    panel="stages",
                    step="plan",
                )
            )
    found += [
        Reading(PASS, f"Worked out: {a.sheet}", a.sentence, step="plan", panel="sizing")
        for a in job.sheet.plan.answers
    ]
    return found


def job_state(session: Session) -> str:
    """State of the Job step: the vehicle's readiness, and watch while the sheet lacks something."""
    job = session.job
    if job is None:
        return NO_DATA
    severity = Readiness(job.sheet.readiness).severity
    if severity == PASS and lacks(job.sheet, job.has_maps, "job"):
        return WATCH
    begun = any(i.state for i in job.sheet.readiness)
    return WATCH if severity == NO_DATA and begun else severity


def plan_state(session: Session) -> str:
    """State of the Plan step: whether the target clears its limits with what is planned."""
    if session.job is None:
        return NO_DATA
    if lacks(session.job.sheet, session.job.has_maps, "plan"):
        return NO_DATA
    plan = PlanState(session)
    return min((d.severity for d in plan.demands(plan.planned())), key=lambda s: ORDER[s], default=NO_DATA)
