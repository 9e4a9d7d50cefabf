"""Knock by the raw signal as a verdict: engines whose every cycle is loud are never said to be quiet."""

import numpy as np
import pytest
from knock_signals import ENGINE, MOST, QUIET, four

from yarvic.core.checks.evidence_of_pull import EngineKind, PullEvidence
from yarvic.core.checks.finding import NO_DATA, PASS, STOP
from yarvic.core.checks.knock_heard import knock_heard
from yarvic.core.checks.limits import default_limits
from yarvic.core.evidence.pulls import Pull

KIND = EngineKind(cylinders=4, bore_m=ENGINE.bore_m)


def verdict(strengths, **more):
    log = four(strengths, **more)
    clock = log.channels["engine_speed"].time_s
    pull = Pull(float(clock[0]), float(clock[-1]) + 0.1, 1.0, 2000.0, 6200.0)
    [found] = knock_heard(PullEvidence("x", log, pull, default_limits(), engine=KIND))
    return found


EVERY = np.full(240, 8.0)


@pytest.mark.parametrize(
    ("strengths", "severity", "words"),
    [
        ([QUIET] * 4, PASS, ""),
        ([QUIET, MOST, QUIET, QUIET], STOP, "Cylinder 2 knocks"),
        ([MOST] * 4, STOP, "knocks"),
        ([QUIET, QUIET, EVERY, QUIET], NO_DATA, "nearly all cycles of cylinder 3"),
        ([EVERY] * 4, NO_DATA, "knocks throughout"),
    ],
)
def test_most_cycles_loud_is_never_a_pass(strengths, severity, words):
    found = verdict(strengths)
    assert found.severity == severity and words in f"{found.statement} {found.note}", found


def test_the_tone_is_said_where_it_is_not_the_bores():
    found = verdict([QUIET, MOST, QUIET, QUIET], tone=1.15)
    assert found.severity == STOP and "Its tone lies at" in found.note


def test_light_load_anywhere_in_the_log_says_how_loud_the_block_is():
    """All cylinders knock in every cycle of the pull: what lies about the pull holds nothing quiet, the log does."""
    speeds = np.concatenate((np.full(60, 2500.0), np.linspace(2500.0, 4500.0, 240)))
    throttle = np.concatenate((np.full(60, 0.1), np.ones(240)))
    loud = np.concatenate((np.zeros(60), np.full(240, 1.5)))
    log = four([loud] * 4, speeds=speeds, throttle=throttle)
    clock = log.channels["engine_speed"].time_s
    pull = Pull(float(clock[60]), float(clock[-1]) + 0.1, 1.0, 2500.0, 4500.0)
    part = log.cut(pull.start_s, pull.end_s)
    [alone] = knock_heard(PullEvidence("x", part, pull, default_limits(), engine=KIND))
    [found] = knock_heard(PullEvidence("x", part, pull, default_limits(), engine=KIND, whole=log))
    assert found.severity == NO_DATA and "as at light load" in found.note
    assert alone.severity == PASS, "what the pull alone would say"
