"""Knock as a sensor's raw signal has it, beside what the unit took off the spark for it."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.evidence_of_pull import PullEvidence, worst_of
from yarvic.core.checks.finding import STOP, Finding
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import MOST_CYLINDERS, SPARK_CORRECTIONS
from yarvic.core.evidence.knock_sound import MOST_APART, Cycles, band_of, hear

CHECK = "knock_heard"
# The unit answers a knock it heard within so many s by at least so many deg. Our choice.
ANSWERS_S, ANSWERS_DEG = 0.25, 0.3
# Where it is quiet the band is about as loud as beside it; past so many times the power it may not be quiet. Our choice.
MOST_COLOUR = 4.0
MOST_LOUD = 0.8  # of the cycles of one cylinder, from which on its sensor is as likely as its charge. Our choice.


def knock_heard(data: PullEvidence) -> list[Finding]:
    """How often each cylinder knocked by the raw signal, the worst of them; nothing is asked where none was recorded."""
    cylinders = [n for n in range(1, MOST_CYLINDERS + 1) if f"knock_signal_{n}" in data.log.channels]
    if not cylinders:
        return []
    if data.engine.bore_m is None:
        why = "the bore is not stated, and with it the tone of its knock: fill it in under Job"
        return [data.not_known(CHECK, why, f"knock_signal_{cylinders[0]}")]
    # What was recorded at light load anywhere in the log says how loud the block is by itself.
    cycles = hear(data.whole or data.log, data.engine.bore_m, data.pull.start_s, data.pull.end_s)
    found = worst_of([_of_cylinder(data, n, cycles[n], data.engine.bore_m) for n in cylinders])
    if found.severity == STOP:
        return [found]
    unheard = [str(n) for n in range(1, (data.engine.cylinders or 0) + 1) if n not in cylinders]
    if unheard:
        why = f"of cylinder {', '.join(unheard)} no raw signal was recorded"
        return [data.not_known(CHECK, why, found.where.channel or "")]
    if not data.engine.cylinders:
        why = f"{len(cylinders)} cylinders were recorded, and how many there are was not stated"
        return [data.not_known(CHECK, why, found.where.channel or "")]
    return [found]


def _of_cylinder(data: PullEvidence, cylinder: int, cycles: Cycles | EvidenceError, bore_m: float) -> Finding:
    key = f"knock_signal_{cylinder}"
    if isinstance(cycles, EvidenceError):
        return data.not_known(CHECK, str(cycles), key)
    count = int(np.count_nonzero(cycles.knocks))
    loudest = float(cycles.time_s[int(np.argmax(cycles.intensity))])
    words = f"Cylinder {cylinder} knocks by its raw signal"
    if cycles.colour > MOST_COLOUR:
        loud = f"the band is {cycles.colour:.0f} times as loud as beside it, or as at light load, all along"
        return data.not_known(CHECK, f"{loud}: it knocks throughout, or the block has a tone there", key)
    if cycles.apart > MOST_APART and count > MOST_LOUD * cycles.time_s.size:
        loud = f"nearly all cycles of cylinder {cylinder} are louder than any of the others"
        return data.not_known(CHECK, f"{loud}: it knocks throughout, or its sensor hears a tone of the block", key)
    where, holds = data.where(key, loudest, cylinder), "" if count else "No knock in the raw signal"
    return data.found(CHECK, float(count), words, where, note=_beside(data, cycles, count, bore_m), holds=holds)


def _beside(data: PullEvidence, cycles: Cycles, count: int, bore_m: float) -> str:
    """How much of it is chance, at which tone it lies, and what the unit made of it."""
    tone = cycles.usual_tone_hz
    low, high = band_of(bore_m)
    apart = f" Its tone lies at {tone / 1e3:.1f} kHz, that of the bore is taken as {(low + high) / 2e3:.1f} kHz."
    chance = f"Of {cycles.time_s.size} cycles {cycles.expected_by_chance:.2f} would be so loud by chance."
    chance += apart if count and not low <= tone <= high else ""
    correction = SPARK_CORRECTIONS[cycles.cylinder - 1]
    if not count or correction not in data.log.channels:
        return chance
    times = cycles.time_s[cycles.knocks]
    before, after = (data.log.at(correction, times + shift) for shift in (-0.02, ANSWERS_S))
    answered = int(np.count_nonzero(before - after >= ANSWERS_DEG))
    return f"{chance} The unit retarded behind {answered} of {count}."
