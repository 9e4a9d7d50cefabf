"""All checks on all pulls."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from yarvic.core.checks.against_baseline import against_baseline, deviations_of
from yarvic.core.checks.baseline import Baseline, Deviation
from yarvic.core.checks.beside_pulls import beside_pulls
from yarvic.core.checks.best_torque import best_torque
from yarvic.core.checks.boost import boost
from yarvic.core.checks.charge_air import charge_air
from yarvic.core.checks.confidence import chance_past
from yarvic.core.checks.cross_checks import cross_checks
from yarvic.core.checks.curve import curve
from yarvic.core.checks.drivetrain import drivetrain
from yarvic.core.checks.evidence_of_pull import EngineKind, Family, PullEvidence, worst_of
from yarvic.core.checks.filling import filling
from yarvic.core.checks.finding import ORDER, PASS, STOP, WATCH, Finding
from yarvic.core.checks.fuel_pressure import fuel_pressure
from yarvic.core.checks.ignition_and_supply import ignition_and_supply
from yarvic.core.checks.knock import knock
from yarvic.core.checks.limits import Limits
from yarvic.core.checks.mixture import mixture
from yarvic.core.checks.temperatures import temperatures
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.dyno import Curve, dyno_curve
from yarvic.core.evidence.health import Health
from yarvic.core.evidence.log import Doubt, Log
from yarvic.core.evidence.pulls import Pull, pulls_of, steady_span

# In the order in which practitioners read the evidence.
FAMILIES: tuple[tuple[str, Family], ...] = (
    ("Boost", boost),
    ("Charge air", charge_air),
    ("Fuel pressure", fuel_pressure),
    ("Mixture", mixture),
    ("Knock", knock),
    ("Temperatures", temperatures),
    ("Power and torque", curve),
    ("Filling", filling),
    ("Drivetrain", drivetrain),
    ("Ignition and supply", ignition_and_supply),
    ("Sensors", cross_checks),
)
# Judged where their channels were logged; a log without them is not asked.
WHERE_LOGGED = ("Filling", "Drivetrain", "Ignition and supply", "Sensors")


@dataclass(frozen=True)
class CheckedPull:
    """A pull with its findings, and its uncorrected curve where a roller was logged."""

    pull: Pull
    findings: tuple[Finding, ...]
    curve: Curve | None
    off: Mapping[str, Deviation] = field(default_factory=dict)  # how far it lies from its baseline


def families_of(engine: EngineKind) -> list[str]:
    """The titles of the families that an engine's evidence must answer."""
    left_out = set(WHERE_LOGGED) | (set() if engine.boosted else {"Boost"})
    if engine.ignition != "spark":
        left_out.add("Knock")
    return [title for title, _ in FAMILIES if title not in left_out]


def check_log(
    evidence: str,
    log: Log,
    limits: Limits,
    conditions: Conditions | None = None,
    engine: EngineKind | None = None,
    curves: Mapping[int, Curve] | None = None,
    baseline: Baseline | None = None,
    spans: Mapping[int, tuple[float, float]] | None = None,
) -> list[CheckedPull]:
    """Every pull of a log judged, in time order; without pulls the list is empty.

    A run at a held speed or a climb is judged as one span, by what does not need a sweep. `curves` are uncorrected
    ones of a dyno's sheet, by the number of the pull that they were measured in. A `baseline` is what the same build
    gave before: pulls of one log are held against its pulls one after the other.
    """
    engine = engine or EngineKind()
    log = _in_order(log)
    steady = conditions is not None and conditions.run in ("hold", "climb")
    applies = (*families_of(engine), *WHERE_LOGGED)
    results = []
    health = Health(log)
    pulls, first_charge = steady_span(log) if steady else pulls_of(log, spans or {}), None
    for number, pull in enumerate(pulls):
        found_curve = (curves or {}).get(number)
        if found_curve is None and conditions is not None and not steady and "roller_speed" in log.channels:
            try:
                found_curve = dyno_curve(log, pull, conditions, "none", boost_controlled=True)
            except EvidenceError:
                found_curve = None  # the curve family says that there is none
        margin = 1.0
        part = log.cut(pull.start_s - margin, pull.end_s + margin)
        before = replace(baseline, place=baseline.place + number) if baseline is not None else None
        data = PullEvidence(
            evidence,
            part,
            pull,
            limits,
            conditions,
            found_curve,
            engine,
            sweeps=not steady,
            baseline=before,
            charge_first_k=first_charge,
            first=number == 0,
            health=health,
            whole=log,
        )
        if first_charge is None and "charge_temperature" in part.channels:
            first_charge = float(part.at("charge_temperature", np.array([pull.start_s]))[0])
        off = deviations_of(data)
        found = [f for title, family in FAMILIES if title in applies for f in _of_family(data, title, family)]
        if number == 0 and not steady:
            found += beside_pulls(data, log, pulls)
        order = [title for title, _ in FAMILIES]
        found += best_torque(data, found)
        found = sorted((*found, *against_baseline(data, off)), key=lambda f: order.index(f.family))
        results.append(CheckedPull(pull, tuple(found), found_curve, off))
    return results


def check_whole(
    evidence: str, log: Log, limits: Limits, conditions: Conditions | None = None, engine: EngineKind | None = None
) -> CheckedPull:
    """A log that holds no pull, as one span, judged by what needs none. Raises EvidenceError for one without samples."""
    start, end = log.span()
    speed, throttle = (log.channels.get(k) for k in ("engine_speed", "throttle"))
    rpm = speed.values[np.isfinite(speed.values)] if speed is not None else np.empty(0)
    opened = throttle.values[np.isfinite(throttle.values)] if throttle is not None else np.empty(0)
    pull = Pull(
        start,
        end,
        float(opened.mean()) if opened.size else 0.0,
        *((float(rpm.min()), float(rpm.max())) if rpm.size else (0.0, 0.0)),
    )
    data = PullEvidence(
        evidence, log, pull, limits, conditions, engine=engine or EngineKind(), sweeps=False, health=Health(log)
    )
    return CheckedPull(pull, tuple(beside_pulls(data, log, [])), None)


def _of_family(data: PullEvidence, title: str, family: Family) -> list[Finding]:
    """The findings of a family, with what it read."""
    data.reads.clear()
    found = family(data)
    read = tuple(sorted(k for k in data.reads if k in data.log.channels))
    return [f.of_family(title, read) for f in found]


def check_curve(
    evidence: str, log: Log, curve_found: Curve, limits: Limits, conditions: Conditions, throttle: float
) -> CheckedPull:
    """A curve without a log, judged by what a curve answers: what the components carry."""
    rows = next(iter(log.channels.values())).time_s
    low, high = float(curve_found.speed_rpm[0]), float(curve_found.speed_rpm[-1])
    pull = Pull(float(rows[0]), float(rows[-1]), throttle, low, high)
    data = PullEvidence(evidence, log, pull, limits, conditions, curve_found, sweeps=True)
    return CheckedPull(pull, tuple(replace(f, family="Power and torque") for f in curve(data)), curve_found)


def _in_order(log: Log) -> Log:
    """The log, with a doubt about each channel whose time runs backward: what lies in a pull cannot be told."""
    why = "its time runs backward: sort the rows by time, or export the log again"
    clocks = {id(c.time_s): c.time_s for c in log.channels.values()}
    wrong = {key for key, t in clocks.items() if np.any(np.diff(t) < 0)}
    backward = {k: replace(c, doubt=Doubt("time", why)) for k, c in log.channels.items() if id(c.time_s) in wrong}
    return replace(log, channels={**log.channels, **backward}) if backward else log


@dataclass(frozen=True)
class Summary:
    """One check over several pulls: the worst finding, and in how many pulls it does not hold."""

    check: str
    worst: Finding
    failing: int
    pulls: int
    noun: str = "pulls"
    values: tuple[float, ...] = ()  # of all pulls, where one limit judged them

    @property
    def chance_past(self) -> float | None:
        """The chance that another pull goes past the stop limit; None where too few tell."""
        return chance_past(self.values, self.worst.rule) if self.worst.rule is not None else None

    @property
    def family(self) -> str:
        """The family of the check, in words."""
        return self.worst.family

    def sentence(self) -> str:
        """The worst finding's statement, with how many pulls show it."""
        if self.worst.severity == PASS or self.worst.value is None:
            return self.worst.statement
        return f"{self.worst.statement} in {self.failing} of {self.pulls} {self.noun}"


def summarize(per_pull: list[list[Finding]], noun: str = "pulls", *, alike: bool = True) -> list[Summary]:
    """Findings of several pulls by check, worst first: by severity, then by the share of the limit used.

    `noun` is what they are together, such as runs where not all are pulls. Only pulls that are `alike` tell what one more
    would give.
    """
    by_check: dict[str, list[Finding]] = {}
    for findings in per_pull:
        for finding in findings:
            by_check.setdefault(finding.check, []).append(finding)

    summaries = [
        Summary(
            check,
            worst_of(found),
            sum(f.severity in (STOP, WATCH) for f in found),
            len(per_pull),
            noun,
            _values(found) if alike else (),
        )
        for check, found in by_check.items()
    ]
    return sorted(summaries, key=lambda s: (ORDER[s.worst.severity], -(s.worst.share_of_limit() or 0.0)))


def _values(found: list[Finding]) -> tuple[float, ...]:
    """The values of all findings of a check; none where pulls were held to different limits, or one was not judged."""
    rules = {(f.rule.stop_canonical, f.rule.side) if f.rule is not None else None for f in found}
    values = [f.value for f in found if f.value is not None]
    return tuple(values) if len(rules) == 1 and len(values) == len(found) else ()
