"""What a rule is given: one pull with its log, conditions, curve and limits."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from functools import cache, cached_property

import numpy as np

from yarvic.core.checks.baseline import Baseline
from yarvic.core.checks.finding import NO_DATA, ORDER, PASS, STOP, Finding, Where, judge
from yarvic.core.checks.limits import Limits
from yarvic.core.checks.rule import Rule
from yarvic.core.checks.sensors import SensorRange, sensor_ranges
from yarvic.core.checks.signature import Signature, signature
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import CHANNELS, members
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.dyno import Curve
from yarvic.core.evidence.health import Health, Illness
from yarvic.core.evidence.log import GAP_STEPS, Clock, Log
from yarvic.core.evidence.pulls import Pull
from yarvic.core.evidence.stretches import longest_run
from yarvic.core.physics import FloatArray
from yarvic.core.physics.fuel import ethanol_share
from yarvic.core.units import to_canonical

# More missing numbers than this share of a pull, and the check says that it cannot judge. Our choice.
MOST_MISSING = 0.05
MOST_PAST_IN_A_ROW = 2  # samples past a sensor's range that are a glitch, and no reading. Our choice.
MUCH_ETHANOL = 0.5  # of a blend by volume: from here on it is judged as ethanol. Our choice.


@cache
def _range_of(key: str) -> SensorRange | None:
    return sensor_ranges().get(CHANNELS[key].family if key in CHANNELS else key)


@dataclass(frozen=True)
class EngineKind:
    """What of an engine decides which questions can be asked of it; `rail` says that its fuel has a pressure target.

    `cylinders` is None where nobody was asked, and 0 where the sheet was asked and does not say.
    """

    ignition: str = "spark"
    boosted: bool = True
    rail: bool = True
    knock_control: bool = True
    cylinders: int | None = None
    bore_m: float | None = None

    @property
    def kinds(self) -> tuple[str, ...]:
        """What it is called where limits differ by kind, the nearest first."""
        return tuple(k for k, is_so in (("diesel", self.ignition != "spark"), ("natural", not self.boosted)) if is_so)


@dataclass(frozen=True)
class _Inside:
    """What of a clock lies in a pull, and the share of the pull that it does not show."""

    clock: Clock  # held, so that what is known of it by its identity stays known
    keep: slice
    time_s: FloatArray
    step_s: float
    unseen: float


@dataclass(frozen=True)
class PullEvidence:
    """One pull as rules see it. `curve` is uncorrected; it and `conditions` are None where no dyno was logged.

    `sweeps` is False for a held speed or a climb: then nothing is asked that only a sweep can answer.
    """

    evidence: str
    log: Log
    pull: Pull
    limits: Limits
    conditions: Conditions | None = None
    curve: Curve | None = None
    engine: EngineKind = EngineKind()
    sweeps: bool = True
    baseline: Baseline | None = None
    charge_first_k: float | None = None  # charge temperature as the first pull of the log began
    first: bool = True  # of the pulls of its log
    health: Health | None = None  # of the sensors, over the whole log
    whole: Log | None = None  # the whole log, where `log` is what lies about the pull
    reads: set[str] = field(default_factory=set, init=False, repr=False, compare=False)  # what checks have asked for
    # What was read of each channel: several checks ask for the same.
    _series: dict[tuple[str, str], tuple[FloatArray, FloatArray]] = field(
        default_factory=dict, init=False, repr=False, compare=False
    )
    _speeds: dict[float, float | None] = field(default_factory=dict, init=False, repr=False, compare=False)
    _clocks: dict[int, _Inside] = field(default_factory=dict, init=False, repr=False, compare=False)

    def limit_key(self, check: str) -> str:
        """The key of the limit of a check for this use, fuel and kind of engine."""
        own = (f"{check}_{kind}" for kind in self._kinds)
        return next((k for k in own if k in self.limits.rules), check)

    def rule(self, check: str) -> Rule:
        """The limit of a check for this use, fuel and kind of engine."""
        return self.limits.rules[self.limit_key(check)]

    @cached_property
    def signature(self) -> Signature:
        """What the pull was like by engine speed, to be laid beside another."""
        return signature(self.log, self.pull, self.conditions, self.curve)

    @cached_property
    def _kinds(self) -> tuple[str, ...]:
        fuel = self.conditions.fuel if self.conditions is not None else ""
        share = ethanol_share(fuel) if fuel else None
        much = fuel == "methanol" or (share is not None and share >= MUCH_ETHANOL)
        by_use = ("closed_course",) if self.limits.use == "closed course" else ()
        return (*by_use, *(("ethanol",) if much else ()), *self.engine.kinds)

    def series(self, key: str, *, despite: str = "") -> tuple[FloatArray, FloatArray]:
        """Time stamps and values of a channel inside the pull, missing numbers left out.

        Raises EvidenceError when it was not logged there, too much of it is missing, what its numbers mean is in doubt,
        or its sensor stands still or on its end; `despite` names what of this does not matter to the question.
        """
        self.reads.add(key)
        if (key, despite) not in self._series:
            self._series[key, despite] = self._read(key, despite)
        return self._series[key, despite]

    def _read(self, key: str, despite: str) -> tuple[FloatArray, FloatArray]:
        c = self.log.channel(key)
        if c.doubt is not None and c.doubt.about not in despite.split():
            raise EvidenceError(f"{c.title}: {c.doubt.sentence}")
        ill = self.illness(key)
        if ill is not None and ill.about not in despite.split():
            raise EvidenceError(ill.sentence, remedy="Check the sensor, its wiring and the logger, and pull again.")
        inside = self._inside(c.clock)
        t, v = inside.time_s, c.values[inside.keep]
        if t.size < 5:
            raise EvidenceError(f"{c.title} was not logged through the pull", remedy="Log it and pull again.")
        good, r, what = np.isfinite(v), _range_of(key), "missing"
        if r is not None:
            reads = r.reads(v)
            if not reads[good].all():
                past = good & ~reads
                good &= reads
                what = f"missing or past what it can read ({r.least:g} to {r.most:g} {r.unit})"
                if longest_run(past) > MOST_PAST_IN_A_ROW:
                    # What lies past the range is a sample too: it says that the truth is further out than was read.
                    raise EvidenceError(f"{c.title} goes past what it can read ({r.least:g} to {r.most:g} {r.unit})")
        whole = bool(good.all())
        share = inside.unseen
        if not whole:
            share = max(np.count_nonzero(~good) / v.size, self._unseen(t[good], Clock(t[good]).step_s))
        if share > MOST_MISSING:
            raise EvidenceError(f"{share * 100.0:.0f} % of {c.title} is {what} in the pull", remedy="Pull again.")
        if r is not None and r.reaches is not None and v[good].max() < to_canonical(r.reaches, r.unit):
            raise EvidenceError(
                f"{c.title} stays below {r.reaches:g} {r.unit}, and no engine under load does",
                remedy="Check the sensor and its wiring, and pull again.",
            )
        return (t, v) if whole else (t[good], v[good])

    def illness(self, key: str) -> Illness | None:
        """What is wrong with the sensor of a channel in the pull; None where nothing is known to be."""
        return self.health.illness(key, self.pull.start_s, self.pull.end_s) if self.health is not None else None

    def _inside(self, clock: Clock) -> _Inside:
        """What of a clock lies in the pull, once for all channels that share it."""
        found = self._clocks.get(id(clock.time_s))
        if found is None:
            keep = slice(*np.searchsorted(clock.time_s, [self.pull.start_s, np.nextafter(self.pull.end_s, np.inf)]))
            t = clock.time_s[keep]
            step = Clock(t).step_s
            found = self._clocks[id(clock.time_s)] = _Inside(clock, keep, t, step, self._unseen(t, step))
        return found

    def step_s(self, time_s: FloatArray) -> float:
        """The usual step of the time stamps of a series, s."""
        known = (i.step_s for i in self._clocks.values() if i.time_s is time_s)
        return next(known, None) or Clock(time_s).step_s

    def _unseen(self, time_s: FloatArray, usual: float) -> float:
        """The share of the pull that lies in gaps between these time stamps, and before and behind them."""
        if time_s.size < 2:
            return 1.0
        steps = np.diff(np.concatenate(([self.pull.start_s], time_s, [self.pull.end_s])))
        return float(np.sum(steps[steps > GAP_STEPS * usual] - usual)) / max(self.pull.length_s, 1e-9)

    def where(self, channel: str, time_s: float | None = None, cylinder: int | None = None) -> Where:
        """The place of a finding, with the engine speed at that time."""
        speed = self._speed_at(time_s) if time_s is not None else None
        return Where(self.evidence, self.pull.start_s, self.pull.end_s, time_s, speed, channel, cylinder)

    def _speed_at(self, time_s: float) -> float | None:
        if time_s not in self._speeds:
            told = "engine_speed" in self.log.channels
            at = float(self.log.at("engine_speed", np.array([time_s]))[0]) if told else float("nan")
            self._speeds[time_s] = at if np.isfinite(at) else None
        return self._speeds[time_s]

    def when_at(self, speed_rpm: float) -> float | None:
        """The time at which the pull passed an engine speed; None where the log does not say it."""
        speed = self.log.channels.get("engine_speed")
        if speed is None:
            return None
        inside = (speed.time_s >= self.pull.start_s) & (speed.time_s <= self.pull.end_s) & np.isfinite(speed.values)
        if not inside.any():
            return None
        return float(speed.time_s[inside][int(np.argmin(np.abs(speed.values[inside] - speed_rpm)))])

    def found(
        self,
        check: str,
        value: float,
        statement: str,
        where: Where,
        *,
        rule: Rule | None = None,
        note: str = "",
        holds: str = "",
    ) -> Finding:
        """A finding with its severity by the rule of this check (or the one given); `holds` is said where it passes."""
        limit = "" if rule is not None else self.limit_key(check)
        rule = rule or self.limits.rules[limit]
        if not np.isfinite(value):
            return self.not_known(check, f"{statement}: no number follows from what was logged", where.channel or "")
        severity = judge(rule, value)
        return Finding(
            check, severity, holds if holds and severity == PASS else statement, rule, value, where, note, limit=limit
        )

    def members(self, family: str) -> list[str]:
        """The channels of a family that were logged (bank 1 and bank 2); the family itself where none was."""
        return members(family, self.log.channels) or [family]

    def highest(self, check: str, family: str, statement: str, rule: Rule | None = None) -> Finding:
        """The highest value of all channels of a family against a limit, or why it is not known."""
        return worst_of([self._highest(check, key, statement, rule) for key in self.members(family)])

    def _highest(self, check: str, key: str, statement: str, rule: Rule | None) -> Finding:
        try:
            t, values = self.series(key, despite="end")
        except EvidenceError as error:
            return self.not_known(check, str(error), key)
        top = int(np.argmax(values))
        found = self.found(check, float(values[top]), statement, self.where(key, float(t[top])), rule=rule)
        ill = self.illness(key)
        # A sensor on its end reads at least so much: that may stop, and never passes.
        return found if ill is None or found.severity == STOP else self.not_known(check, ill.sentence, key)

    def not_known(self, check: str, why: str, channel: str) -> Finding:
        """A finding that says why the question cannot be answered."""
        limit = self.limit_key(check)
        rule = self.limits.rules.get(limit)
        title = rule.title if rule else check.replace("_", " ").capitalize()
        return Finding(
            check,
            NO_DATA,
            f"No data: {title[0].lower()}{title[1:]}",
            rule,
            None,
            self.where(channel),
            why,
            limit=limit if rule is not None else "",
        )


def worst_of(findings: Sequence[Finding]) -> Finding:
    """The worst of the findings of one check: by severity, then by the share of the limit used."""
    return min(findings, key=lambda f: (ORDER[f.severity], -(f.share_of_limit() or 0.0)))


def worst_by_check(findings: Iterable[Finding]) -> list[Finding]:
    """The worst finding of each check, in the order in which the checks came."""
    by_check: dict[str, list[Finding]] = {}
    for finding in findings:
        by_check.setdefault(finding.check, []).append(finding)
    return [worst_of(each) for each in by_check.values()]


Family = Callable[[PullEvidence], list[Finding]]
