"""Knock, read from what the unit takes off the spark, cylinder by cylinder: how deep, how long, how often."""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence
from yarvic.core.checks.finding import NO_DATA, STOP, WATCH, Finding
from yarvic.core.checks.knock_heard import knock_heard
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import CHANNELS, SPARK_CORRECTION, SPARK_CORRECTIONS, members, which_in_words
from yarvic.core.evidence.stretches import longest
from yarvic.core.physics import FloatArray

CHECKS = ("knock_retard", "knock_duration", "knock_repeats")
SPREAD = "knock_spread"
GROWS = 3  # times, each deeper than the one before, and it grows. Our choice.


@dataclass(frozen=True)
class Retard:
    """What was taken off one cylinder's spark: deg, never negative, over s. `cylinder` is None for all alike."""

    cylinder: int | None
    key: str
    time_s: FloatArray
    deg: FloatArray

    @property
    def name(self) -> str:
        """The cylinder, or the bank, in words."""
        which = CHANNELS[self.key].which
        if which:
            words = which_in_words(which)
            return f"{words[:1].upper()}{words[1:]}"
        return f"Cylinder {self.cylinder}" if self.cylinder is not None else "The engine"

    def events(self, rise_deg: float, apart_s: float) -> list[float]:
        """How deep each knock took the spark, deg: a rise of `rise_deg` or more, whatever the rate of the samples.

        Rises less than `apart_s` apart are one: an edge that was sampled in several steps.
        """
        if not self.deg.any():
            return []
        rising = np.flatnonzero(np.diff(self.deg) > 1e-6)
        found: list[float] = []
        group: list[int] = []

        def close() -> None:
            if group and self.deg[group[-1] + 1] - self.deg[group[0]] >= rise_deg:
                found.append(float(self.deg[group[-1] + 1]))

        for i in rising:
            if group and self.time_s[i] - self.time_s[group[-1] + 1] > apart_s:
                close()
                group = []
            group.append(int(i))
        close()
        if self.deg.size and self.deg[0] >= rise_deg:
            found.insert(0, float(self.deg[0]))  # it came in retarded
        return found

    def longest(self, over_deg: float) -> tuple[float, float]:
        """The longest time in one stretch over a depth, s, and when it began."""
        return longest(self.time_s, self.deg > over_deg)


def knock(data: PullEvidence) -> list[Finding]:
    """Depth, duration and repetition of the worst cylinder, and the spread between cylinders.

    A cylinder that was not heard makes every one of them not known, unless what was heard stops already.
    """
    by_sensor = knock_heard(data)
    if not data.engine.knock_control and by_sensor and by_sensor[0].severity != NO_DATA:
        return by_sensor  # nobody took anything off the spark; the sensor beside heard what there was
    if not data.engine.knock_control:
        why = "no knock control: nothing heard the knock. Record a knock sensor, or keep the spark on the safe side"
        return [data.not_known("knock_retard", why, "spark_advance"), *by_sensor]
    heard, unheard = _heard(data)
    if not heard:
        asked = CHECKS if data.engine.cylinders == 1 else (*CHECKS, SPREAD)
        return [*(data.not_known(c, unheard, SPARK_CORRECTIONS[0]) for c in asked), *by_sensor]
    found = [_depth(data, heard), _duration(data, heard), _repeats(data, heard), *_spread(data, heard)]
    if unheard:
        found = [f if f.severity == STOP else data.not_known(f.check, unheard, SPARK_CORRECTIONS[0]) for f in found]
    elif data.engine.cylinders is None and heard[-1].cylinder is not None:
        count = sum(r.cylinder is not None for r in heard)
        words = f"{count} cylinders were heard; how many there are was not stated."
        found[0] = replace(found[0], note=f"{found[0].note} {words}".strip())
    return [*found, *by_sensor]


def _heard(data: PullEvidence) -> tuple[list[Retard], str]:
    """What was heard of each cylinder, and why it is not all there is (empty when it is)."""
    numbers = [i for i, key in enumerate(SPARK_CORRECTIONS, 1) if key in data.log.channels]
    # What stands for a bank, or for all, is heard as well: the deepest retard may stand there alone.
    others = [k for k in members(SPARK_CORRECTION, data.log.channels) if k not in SPARK_CORRECTIONS]
    if not numbers and not others:
        return [], "no cylinder's spark correction was logged"
    if numbers and data.engine.cylinders == 0:
        return [], "the sheet does not say how many cylinders there are: fill it in under Job"
    wanted = range(1, max(data.engine.cylinders or 0, *numbers) + 1) if numbers else range(0)
    heard, why = [], ""
    for key in others:
        try:
            heard.append(_retard(data, None, key))
        except EvidenceError as error:
            why = why or str(error)
    for i in wanted:
        try:
            heard.append(_retard(data, i, SPARK_CORRECTIONS[i - 1]))
        except EvidenceError as error:
            why = why or f"cylinder {i} was not heard: {error.what}"
    return heard, why


def _retard(data: PullEvidence, cylinder: int | None, key: str) -> Retard:
    t, correction = data.series(key)
    step = data.step_s(t)
    if step > data.limits.sensor["knock_step"] * (1.0 + 1e-6):
        title = data.log.channel(key).title
        raise EvidenceError(f"{title} was logged every {step:.1f} s: a knock can come and go in between")
    return Retard(cylinder, key, t, np.maximum(-correction, 0.0))


def _depth(data: PullEvidence, heard: list[Retard]) -> Finding:
    """The deepest retard. One short dip is no proof and is watched only, up to a depth that noise does not reach."""
    sensor = data.limits.sensor
    worst = max(heard, key=lambda r: float(r.deg.max()))
    at = int(np.argmax(worst.deg))
    value = float(worst.deg[at])
    statement = f"{worst.name} knocked" if value > 0.0 else "No cylinder was retarded"
    where = data.where(worst.key, float(worst.time_s[at]), worst.cylinder)
    found = data.found("knock_retard", value, statement, where)
    events = worst.events(sensor["knock_rise"], sensor["knock_apart"])
    if len(events) > 1:
        grows = len(events) >= GROWS and all(b > a for a, b in pairwise(events))
        depths = f", deeper each time: {', '.join(f'{depth:.1f}' for depth in events)} deg" if grows else ""
        return replace(found, note=f"Retarded {len(events)} times in the pull{depths}.")
    stays = worst.longest(data.limits.rules["knock_retard"].stop_canonical)[0]
    brief = stays <= data.limits.rules["knock_duration"].watch_canonical
    if found.severity == STOP and brief and value < sensor["knock_single"]:
        return replace(found, severity=WATCH, note="One short dip only, which may be noise: pull again.")
    return found


def _duration(data: PullEvidence, heard: list[Retard]) -> Finding:
    """The longest time in one stretch deeper than the depth that is watched."""
    deep = data.limits.rules["knock_retard"].stop_canonical
    spans = [(r.longest(deep), r) for r in heard]
    (seconds, began), worst = max(spans, key=lambda s: s[0][0])
    statement = f"{worst.name} stays retarded" if seconds > 0.0 else "No cylinder stays retarded"
    where = data.where(worst.key, began, worst.cylinder)
    return data.found("knock_duration", seconds, statement, where, note=f"Deeper than {deep:g} deg.")


def _repeats(data: PullEvidence, heard: list[Retard]) -> Finding:
    """How often the spark of a cylinder was taken past the depth that is watched."""
    sensor, past = data.limits.sensor, data.limits.rules["knock_retard"].watch_canonical
    counts = [
        (sum(depth > past for depth in r.events(sensor["knock_rise"], sensor["knock_apart"])), r) for r in heard
    ]
    count, worst = max(counts, key=lambda c: c[0])
    statement = f"{worst.name} knocked again and again" if count > 1 else "Knock does not repeat"
    at = float(worst.time_s[int(np.argmax(worst.deg))])
    where = data.where(worst.key, at, worst.cylinder)
    return data.found("knock_repeats", float(count), statement, where, note=f"Past {past:g} deg.")


def _spread(data: PullEvidence, heard: list[Retard]) -> list[Finding]:
    """The largest difference between cylinders at one time; nothing to ask of a single cylinder."""
    cylinders = [r for r in heard if r.cylinder is not None]
    heard = cylinders if cylinders else heard
    if len(heard) < 2:
        if data.engine.cylinders != 1 and heard[0].cylinder is None:
            why = "the log has one spark correction for all cylinders"
            return [data.not_known(SPREAD, why, heard[0].key)]
        return []
    grid = heard[0].time_s
    stack = np.stack([np.interp(grid, r.time_s, r.deg) for r in heard])
    spread = stack.max(axis=0) - stack.min(axis=0)
    at = int(np.argmax(spread))
    worst = heard[int(np.argmax(stack[:, at]))]
    where = data.where(worst.key, float(grid[at]), worst.cylinder)
    return [data.found(SPREAD, float(spread[at]), "Cylinders differ in knock retard", where)]
