"""Rail pressure against its target, and the window the injectors need."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import Finding
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.stretches import longest
from yarvic.core.physics import FloatArray

# A slope is told by so many samples over so many rpm, and stated for 1,000. Our choice.
LEAST_SAMPLES, LEAST_SPAN_RPM, PER_RPM = 10, 1000.0, 1000.0
SECONDS_PER_MINUTE, TURNS_PER_CYCLE = 60.0, 2.0


def fuel_pressure(data: PullEvidence) -> list[Finding]:
    """Deepest sag of the rail relative to its target, and the most of the injection window used."""
    findings = [_rail(data), *_falling(data)] if data.engine.rail else []
    if "feed_pressure" in data.log.channels and data.sweeps:
        findings.append(_feed(data))
    if "injector_window" not in data.log.channels and "injection_time" in data.log.channels and not data.engine.rail:
        return [*findings, _duty(data), *_components(data)]
    try:
        t, window = data.series("injector_window")
        top = int(np.argmax(window))
        where = data.where("injector_window", float(t[top]))
        findings.append(data.found("injector_window", float(window[top]), "Injector window used", where))
    except EvidenceError as error:
        findings.append(data.not_known("injector_window", str(error), "injector_window"))
    return findings + _components(data)


def _duty(data: PullEvidence) -> Finding:
    """The share of its cycle, of two turns, for which an injector is open: into a port it may be all of it."""
    try:
        t, seconds = data.series("injection_time")
        data.series("engine_speed")
    except EvidenceError as error:
        return data.not_known("injector_window", str(error), "injection_time")
    duty = seconds * data.log.at("engine_speed", t) / SECONDS_PER_MINUTE / TURNS_PER_CYCLE
    if not np.isfinite(duty).any():
        return data.not_known(
            "injector_window", "engine speed was not logged where injection time was", "injection_time"
        )
    top = int(np.nanargmax(duty))
    where = data.where("injection_time", float(t[top]))
    return data.found("injector_window", float(duty[top]), "Injector duty by injection time and engine speed", where)


def _feed(data: PullEvidence) -> Finding:
    """How far the pressure of the low-pressure side falls in the pull from where it began. One that feeds a high-pressure
    pump gives way to what that draws.
    """
    check = "feed_sag_rail" if data.engine.rail else "feed_sag"
    try:
        t, feed = data.series("feed_pressure")
        begins = float(np.median(feed[t <= data.pull.start_s + data.limits.sensor["settle"]]))
    except EvidenceError as error:
        return data.not_known(check, str(error), "feed_pressure")
    low = int(np.argmin(feed))
    sag = float(feed[low] / begins - 1.0) if begins > 0.0 else float("nan")
    return data.found(
        check,
        min(sag, 0.0),
        "Feed pressure sags",
        data.where("feed_pressure", float(t[low])),
        holds="Feed pressure holds",
    )


def _components(data: PullEvidence) -> list[Finding]:
    """What the job's own ledger allows of duty, window and sag, where it does."""
    findings = []
    for key, words in (("injector_duty", "Injector duty"), ("injector_window", "Injection window")):
        limit = data.limits.component(key)
        if limit is not None:
            rule = limit.rule(f"{words} against the components")
            statement = f"{words} for the {limit.component}"
            findings.append(data.highest(f"{key}_limit", "injector_window", statement, rule))
    limit = data.limits.component("rail_sag")
    if limit is not None and data.engine.rail:
        rule = limit.rule("Rail sag against the components")
        try:
            t, off = _off_target(data)
            low = int(np.nanargmin(off))
            where = data.where("rail_pressure", float(t[low]))
            sag = max(-float(off[low]), 0.0)
            findings.append(
                data.found("rail_sag_limit", sag, f"Rail sag for the {limit.component}", where, rule=rule)
            )
        except (EvidenceError, ValueError) as error:
            findings.append(data.not_known("rail_sag_limit", str(error), "rail_pressure"))
    return findings


def _off_target(data: PullEvidence) -> tuple[FloatArray, FloatArray]:
    """Time, and rail pressure less its target in Pa; NaN until it has settled. Raises EvidenceError."""
    t, rail = data.series("rail_pressure")
    data.series("rail_target")
    settled = t >= data.pull.start_s + data.limits.sensor["settle"]
    return t, np.where(settled, rail - data.log.at("rail_target", t), np.nan)


def _rail(data: PullEvidence) -> Finding:
    try:
        t, difference = _off_target(data)
        off = difference / data.log.at("rail_target", t)
        low = int(np.nanargmin(off))
    except (EvidenceError, ValueError) as error:
        return data.not_known("rail_sag", str(error), "rail_pressure")
    where = data.where("rail_pressure", float(t[low]))
    return data.found("rail_sag", min(float(off[low]), 0.0), "Rail pressure sags", where, holds="Rail pressure holds")


def _falling(data: PullEvidence) -> list[Finding]:
    """How rail pressure goes with engine speed, and for how long it stays low: a pump that runs out, or comes back late.

    The slope is that of a line of least squares through what is off target; nothing is said where there is no rail.
    """
    if not data.sweeps:
        return []
    try:
        t, difference = _off_target(data)
        off = difference / data.log.at("rail_target", t)
        speed = data.log.at("engine_speed", t)
    except EvidenceError:
        return []
    good = np.isfinite(off) & np.isfinite(speed)
    if np.count_nonzero(good) < LEAST_SAMPLES or np.ptp(speed[good]) < LEAST_SPAN_RPM:
        return []
    t, off, speed = t[good], off[good], speed[good]
    away = speed / PER_RPM - speed.mean() / PER_RPM
    slope = float(np.dot(away, off) / np.dot(away, away))
    seconds, began = longest(t, off < data.rule("rail_sag").watch_canonical)
    end, low = data.where("rail_pressure", float(t[-1])), data.where("rail_pressure", began)
    late = (
        "It is not back by the end of the pull."
        if seconds and off[-1] < data.rule("rail_sag").watch_canonical
        else ""
    )
    return [
        data.found("rail_slope", min(slope, 0.0), "Rail pressure falls with engine speed", end,
                   note="For each 1,000 rpm.", holds="Rail pressure does not fall with engine speed"),
        data.found("rail_low", seconds, "Rail pressure stays low", low, note=late,
                   holds="Rail pressure comes back at once"),
    ]  # fmt: skip
