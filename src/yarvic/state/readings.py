"""Yarvic's judgement beside each figure: sentences with numbers, limits, margins and a way to the evidence."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from yarvic.core.calibration.compare import compare
from yarvic.core.checks.confidence import in_words
from yarvic.core.checks.finding import NO_DATA, ORDER, PASS, STOP, WATCH
from yarvic.core.checks.run import Summary
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.dyno import Curve
from yarvic.core.evidence.expected import answer
from yarvic.core.evidence.repeatability import Interval, mean_curve, peak_trend
from yarvic.core.physics.correction import title
from yarvic.core.plan.readiness import Readiness
from yarvic.core.units import UNITS, from_canonical
from yarvic.state.causes import causes_reading
from yarvic.state.flash_readings import flash_readings
from yarvic.state.gains import gain_between
from yarvic.state.reading import Reading
from yarvic.state.results import FULL_THROTTLE, RevisionResults, apart, unlike
from yarvic.state.selection import DRAFT
from yarvic.state.session import Session
from yarvic.state.sheet_readings import job_readings, job_state, lacking, plan_readings, plan_state

# A fall of peak power from pull to pull that matters, as a share of it. Our choice: three pulls at this cost as much as
# a healthy vehicle's whole spread.
MOST_DIFFERENCES = 30  # that are read out one by one
HEAT_SOAK_SHARE = 0.01
WORTH_SAYING = 0.01  # a smaller chance to pass a limit is not worth a word where the check passes. Our choice.
# Why runs from files give no number by a standard.
NO_NUMBER = "its air, or the correction that its numbers have, is unknown: state it, or choose another standard"


def ranked(readings: list[Reading]) -> list[Reading]:
    """What stops a release first, then what is not known, what to watch, what holds."""
    return sorted(readings, key=lambda r: ORDER[r.severity])


def of_summary(summary: Summary, units: Mapping[str, str]) -> Reading:
    """The card of one check over the pulls; it leads to the log, or to the curve that a number was read from."""
    worst = summary.worst
    step = "dyno" if worst.check in ("power", "torque") else "logs"
    return Reading(
        worst.severity,
        summary.sentence(),
        _with_chance(summary, worst.numbers(units)),
        worst.share_of_limit(),
        worst.watch_share(),
        worst.where,
        step,
    )


def _with_chance(summary: Summary, numbers: str) -> str:
    """The numbers, with the chance that another pull is past the limit where a decision may hang on it."""
    chance = summary.chance_past
    if chance is None or (summary.worst.severity == PASS and chance < WORTH_SAYING):
        return numbers
    return f"{numbers.removesuffix('.')}. {in_words(chance)}" if numbers else numbers


def readings(session: Session, step: str) -> list[Reading]:
    """The cards for a step."""
    if session.job is None:
        return []
    if step == "job":
        found = job_readings(session)
    elif step == "plan":
        found = plan_readings(session)
    elif not session.revisions():
        found = lacking(session, step)
    elif step == "maps":
        found = _maps(session)
    elif step == "flash":
        found = flash_readings(session)
    elif step == "dyno":
        found = _dyno(session)
    else:
        found = _evidence(session)
    return ranked([*_half(session), *found])


def _half(session: Session) -> list[Reading]:
    """Said wherever one looks: an engine's unit and a gearbox's that do not belong together."""
    job = session.job
    if job is None or not job.has_maps or not session.bench_ready or not job.pairings():
        return []
    half = session.link.half_a_pair()
    return [Reading(STOP, "Half a pair", f"{half}: do not drive", step="flash")] if half else []


def _evidence(session: Session) -> list[Reading]:
    results = session.working_results()
    revision = session.evidence_revision()
    name = revision.name if revision else ""
    found = [Reading(WATCH, "The evidence has faults", p.sentence) for p in (results.problems if results else ())]
    if results is None or not results.pulls:
        way = "import a log or a dyno sheet" if session.from_outside else "flash it, then pull it, or import a log"
        found.append(Reading(NO_DATA, f"No pulls of {name} yet", way, step="dyno"))
        return found + [of_summary(s, session.settings.units) for s in (results.summaries if results else ())]
    found += causes_reading(session, results)
    return [*found, *_expected(session, results), *(of_summary(s, session.settings.units) for s in results.summaries)]


def _expected(session: Session, results: RevisionResults) -> list[Reading]:
    """What was expected of the revision whose evidence is read, beside what its pulls say."""
    job, revision = session.job, session.evidence_revision()
    if job is None or revision is None:
        return []
    found = []
    asked = [e for e in job.expectations() if e.revision_id == revision.id]
    runs = [(p.log, p.pull) for p in results.pulls if not p.evidence.is_sheet] if asked else []
    for each in asked:
        value = answer(each.expected, runs)
        words = each.expected.sentence()
        if value is None:
            found.append(Reading(NO_DATA, f"Expected: {words}", "no pull of it heard that"))
            continue
        held = each.expected.holds(value)
        said = f"it was {value:.3g} {each.expected.unit}; expected by {each.name}"
        found.append(Reading(PASS if held else WATCH, f"{'As' if held else 'Not as'} expected: {words}", said))
    return found


def _maps(session: Session) -> list[Reading]:
    found = []
    if session.working == DRAFT and session.draft is not None:
        differences = session.draft.differences()
        if differences:
            found.append(
                Reading(WATCH, f"This draft on {session.draft.parent.name} has not been flashed", "commit it first")
            )
        else:
            found.append(Reading(NO_DATA, "The draft does not differ from its parent", "change a cell"))
        found += [
            Reading(NO_DATA, d.sentence(), f"slot {slot}, against {session.draft.parent.name}")
            for slot, d in differences[:MOST_DIFFERENCES]
        ]
    elif session.reference is not None:
        now, then = session.image(session.working), session.image(session.reference)
        if now is not None and then is not None:
            name, slot = session.name_of(session.reference), session.slot
            listed = compare(then[slot], now[slot], now.changed_keys(then, slot)[:MOST_DIFFERENCES])
            found += [Reading(NO_DATA, d.sentence(), f"against {name}") for d in listed]
    evidence = [r for r in _evidence(session) if r.severity != PASS]
    return found + evidence


def _dyno(session: Session) -> list[Reading]:
    found = []
    job, results, reference = session.job, session.working_results(), session.reference_results()
    assert job is not None
    throttle = throttle_of(session, results)
    if results is None or not results.curves(session.standard, throttle):
        by_others = results is not None and any(p.curves for p in results.pulls)
        lacking = Reading(NO_DATA, f"No number by {title(session.standard)}", NO_NUMBER)
        return ([lacking] if by_others else []) + _evidence(session)
    curves = results.curves(session.standard, throttle)
    if reference is not None and reference.curves(session.standard, throttle) and reference is not results:
        found += _gain(session)
    found.append(_heat_soak(curves, session.settings.units.get("power", "kW")))
    found += _left_out(results, throttle, session.standard)
    correction = curves[0].correction
    if correction.warnings:
        found.append(Reading(WATCH, f"About {correction.title}", "; ".join(correction.warnings)))
    return found + [of_summary(s, session.settings.units) for s in results.summaries if s.worst.severity != PASS]


def _heat_soak(curves: list[Curve], power: str) -> Reading:
    """Whether the peak falls in the order of the pulls, and how small a fall these pulls could have shown."""
    trend = peak_trend(curves)
    if trend is None:
        return Reading(NO_DATA, "Too few pulls to see heat soak", f"{len(curves)} pulled, three show a trend")
    size = f"{interval_words(trend, power)} each pull"
    if trend.distinguishable and trend.mean < 0:
        return Reading(WATCH, "Peak falls from pull to pull: cool down longer", size)
    # The largest fall that the interval still allows is what could have stayed unseen.
    hidden = max(-trend.low, 0.0)
    shown = f"{hidden / UNITS[power].factor:.{UNITS[power].decimals}f} {power}"
    if hidden > HEAT_SOAK_SHARE * float(np.mean([c.peak_power[0] for c in curves])):
        return Reading(
            NO_DATA,
            "Too few pulls to rule out heat soak",
            f"a fall of up to {shown} each pull could hide in the spread of {len(curves)}; {size}",
        )
    return Reading(PASS, f"No heat soak of {shown} or more each pull", size)


def throttle_of(session: Session, results: RevisionResults | None) -> float:
    """The throttle at which curves are compared: the chosen one, else the widest there is."""
    throttles = results.throttles if results is not None else []
    return session.throttle if session.throttle in throttles else throttles[0] if throttles else FULL_THROTTLE


def _left_out(results: RevisionResults, throttle: float, standard: str) -> list[Reading]:
    """Pulls at a throttle that do not stand in the mean, and why."""
    together = results.together(throttle, standard=standard)
    out = [p for p in results.pulls if p.curves and p.throttle == throttle and p.sweeps and p not in together]
    if not out:
        return []
    reasons = apart(out[-1], together[-1]) if together else []
    if standard not in out[-1].curves:
        reasons.append(f"its air, or the correction that it has, is unknown: it has no number by {title(standard)}")
    count = "1 run is" if len(out) == 1 else f"{len(out)} runs are"
    return [Reading(WATCH, f"{count} left out of the mean", f"{out[-1].title}: {'; '.join(reasons)}")]


def _gain(session: Session) -> list[Reading]:
    job, results, reference = session.job, session.working_results(), session.reference_results()
    assert job is not None and results is not None and reference is not None
    names = f"{session.name_of(results.revision_id)} over {session.name_of(reference.revision_id)}"
    found = []
    power = session.settings.units.get("power", "kW")
    throttle = throttle_of(session, results)
    try:
        g, assumed = gain_between(
            results.together(throttle, standard=session.standard),
            reference.together(throttle, results, session.standard),
            session.standard,
            job.sheet.band_rpm,
        )
    except EvidenceError as error:
        return [Reading(NO_DATA, f"No gain of {names}", str(error))]
    basis = results.together(throttle, standard=session.standard)[-1].basis
    band = f"{g.band_rpm[0]:,.0f}-{g.band_rpm[1]:,.0f} rpm, {basis}"
    if len(results.throttles) > 1:
        band += ", full throttle" if throttle == FULL_THROTTLE else f", {throttle * 100:.0f} % throttle"
    band += f"; {assumed}"
    told = g.over_band.distinguishable
    if told is None:
        text = f"{interval_words(g.over_band, power)}, {band}: pull more often, or the two maps in turn"
        found.append(Reading(NO_DATA, f"Gain of {names} is not certain", text))
    elif told:
        gains = g.over_band.mean > 0
        sentence = f"{'Gain' if gains else 'Loss'} of {names}, mean in the band"
        found.append(Reading(PASS if gains else WATCH, sentence, f"{interval_words(g.over_band, power)}, {band}"))
    else:
        found.append(
            Reading(
                WATCH,
                f"{names}: not distinguishable",
                f"{interval_words(g.over_band, power)}, {band}: within the spread. The two maps pulled in turn tell more",
            )
        )
    found.append(Reading(*compared(results, reference, throttle, session.standard)))
    return found


def compared(
    results: RevisionResults | None,
    reference: RevisionResults | None,
    throttle: float = FULL_THROTTLE,
    standard: str = "none",
) -> tuple[str, str, str]:
    """What a comparison is a test of, and whether it may be read in absolute terms: severity, sentence, details."""
    if results is None or reference is None or not results.pulls or not reference.pulls:
        return NO_DATA, "Nothing to compare yet", "both need pulls"
    last = (results.together(throttle, standard=standard) or results.pulls)[-1]
    before = (reference.together(throttle, results, standard) or reference.pulls)[-1]
    one, other = last.evidence, before.evidence
    if one.conditions is None or other.conditions is None:
        return NO_DATA, "Conditions are missing", "the two cannot be compared"
    reasons = unlike(last, before)
    if reasons:
        return WATCH, "Compare gains over each one's own baseline only", "; ".join(reasons)
    maps = results.revision_id != reference.revision_id
    parts = one.build != other.build
    if maps and parts:
        return (
            WATCH,
            "Map and parts changed: the gain is of both",
            f"build {other.build} to {one.build}, same dyno and gear",
        )
    what = "the map" if maps else "the parts" if parts else "nothing: one revision, one build"
    return PASS, f"A test of {what}", "same dyno, gear, fuel and throttle: read in absolute terms"


def interval_words(interval: Interval, label: str) -> str:
    """A difference with its interval in a unit, or that its spread is not known."""
    factor = UNITS[label].factor
    d = UNITS[label].decimals
    mean = f"{interval.mean / factor:+.{d}f} {label}"
    if interval.low != interval.low:
        return f"{mean}, spread: no data"
    return f"{mean} ({interval.low / factor:+.{d}f} to {interval.high / factor:+.{d}f} at 95 %)"


def reduction_words(curves: list[Curve], label: str) -> str:
    """What the reduction from roller to power can tell: the width it resolves, its error and bias at the peak."""
    resolution = sum(c.resolution_rpm for c in curves) / len(curves)
    at = [int(c.power_w.argmax()) for c in curves]
    factor, d = UNITS[label].factor, UNITS[label].decimals
    if resolution != resolution or any(c.error_w[i] != c.error_w[i] for c, i in zip(curves, at, strict=True)):
        return f"As its sheet gives it, every {resolution:.0f} rpm; its noise and smoothing are unknown."
    error = max(1.96 * float(c.error_w[i]) for c, i in zip(curves, at, strict=True)) / factor
    bias = max((float(c.bias_w[i]) for c, i in zip(curves, at, strict=True)), key=abs) / factor
    return (
        f"Resolves {resolution:.0f} rpm; at the peak noise leaves ±{error:.{d}f} {label} a pull and smoothing"
        f" {round(bias, d + 1) + 0.0:+.{d + 1}f} {label}."
    )


def peaks(
    session: Session, results: RevisionResults | None, throttle: float = FULL_THROTTLE
) -> tuple[str, str] | None:
    """Peak power and torque of the mean curve at a throttle in words; None without curves."""
    curves = results.curves(session.standard, throttle) if results is not None else []
    if not curves:
        return None
    mean = mean_curve(curves)
    power, torque = session.settings.units.get("power", "kW"), session.settings.units.get("torque", "N m")
    (p, at_p), (t, at_t) = mean.peak_power, mean.peak_torque
    return (
        f"{from_canonical(p, power):.1f} {power} at {at_p:,.0f} rpm",
        f"{from_canonical(t, torque):.1f} {torque} at {at_t:,.0f} rpm",
    )


def route_state(session: Session, step: str) -> str:
    """State of a step for the route: a severity, or `unknown` for one that is empty."""
    if session.job is None:
        return NO_DATA
    results, revision = session.working_results(), session.working_revision()
    if step == "job":
        return job_state(session)
    if step == "plan":
        return plan_state(session)
    if not session.revisions():
        return NO_DATA
    need = session.job.sheet.pulls_required
    pulls = len(results.pulls) if results and revision is not None else 0
    if step == "maps":
        return WATCH if session.working == DRAFT else PASS
    if revision is None:
        return NO_DATA
    if step == "flash":
        if Readiness(session.job.sheet.readiness).of("stop"):
            return STOP
        held = session.unit_holds()
        return PASS if held is not None and held.image == revision.image else NO_DATA
    if step in ("dyno", "logs"):
        return PASS if pulls >= need else WATCH if pulls else NO_DATA
    if step == "checks":
        return results.verdict if results and results.pulls else NO_DATA
    released = any(r.revision_id == revision.id for r in session.job.releases())
    if released:
        return PASS
    return STOP if results and results.pulls and results.verdict == STOP else NO_DATA
