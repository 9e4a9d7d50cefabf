"""Logs: interpolation, gaps, faults that are named, pulls that are found."""

import math
from unittest import mock

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence import log as log_module
from yarvic.core.evidence import pulls
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import GAP_STEPS, Channel, Log
from yarvic.core.evidence.problems import problems
from yarvic.core.evidence.pulls import GEAR_CHANGE_RPM, MIN_SWEEP_RPM, find_pulls


def channel(key, t, v):
    kind = CHANNELS[key]
    return Channel(key, kind.title, kind.quantity, "", np.asarray(t, float), np.asarray(v, float))


def sweep(seconds=8.0, low=1800.0, high=6200.0, throttle=1.0, rate=50.0, lead=2.0):
    """A synthetic run: lead-in at part throttle, a sweep, a lift."""
    t = np.arange(0.0, lead + seconds + 2.0, 1.0 / rate)
    inside = (t >= lead) & (t <= lead + seconds)
    position = np.where(inside, throttle, 0.12)
    rpm = np.interp(t, [0.0, lead, lead + seconds, lead + seconds + 2.0], [low, low, high, low + 500.0])
    return Log({"throttle": channel("throttle", t, position), "engine_speed": channel("engine_speed", t, rpm)})


def test_values_between_samples():
    log = Log({"throttle": channel("throttle", [0, 1, 2], [0.0, 1.0, 0.0])})
    assert log.at("throttle", np.array([0.5, 1.5, 2.5, -1.0]))[:2] == pytest.approx([0.5, 0.5])
    assert np.isnan(log.at("throttle", np.array([2.5, -1.0]))).all()


def test_nothing_is_drawn_across_a_gap_or_a_hole():
    t = np.concatenate([np.arange(0, 1, 0.01), np.arange(3, 4, 0.01)])
    v = np.ones(t.size)
    v[20] = np.nan
    log = Log({"throttle": channel("throttle", t, v)})
    at = log.at("throttle", np.array([0.5, 2.0, 0.205, 3.5]))
    assert at[0] == 1.0 and at[3] == 1.0
    assert np.isnan(at[1]) and np.isnan(at[2])


def test_a_missing_channel_is_named():
    log = Log({"throttle": channel("throttle", [0, 1], [0, 1])})
    with pytest.raises(EvidenceError, match="Rail pressure is not in this log"):
        log.channel("rail_pressure")
    with pytest.raises(EvidenceError, match="no samples"):
        Log({"throttle": channel("throttle", [], [])}).span()


def test_faults_are_named():
    t = [0.0, 0.01, 0.02, 0.02, 0.03, 0.025, 0.04, 0.05, 0.06, 0.5]
    log = Log({"throttle": channel("throttle", t, [1, 1, np.nan, 1, 1, 1, 1, 1, 1, 1])})
    said = " ".join(p.sentence for p in problems(log))
    assert "1 sample of 10 without a value" in said
    assert "time runs backward at 1 sample" in said
    assert "1 time stamp repeated" in said
    assert "1 gap of" in said


def test_a_clean_log_has_no_faults(pulled):
    assert problems(pulled[0]) == []


def test_cut_keeps_its_ends():
    log = Log({"throttle": channel("throttle", [0, 1, 2, 3], [0, 1, 2, 3])})
    assert log.cut(1.0, 2.0).channel("throttle").values.tolist() == [1.0, 2.0]


def test_a_sweep_is_a_pull():
    pulls = find_pulls(sweep())
    assert len(pulls) == 1
    p = pulls[0]
    assert p.start_s == pytest.approx(2.0, abs=0.1) and p.end_s == pytest.approx(10.0, abs=0.1)
    assert p.from_rpm == pytest.approx(1800.0, abs=50.0) and p.to_rpm == pytest.approx(6200.0, abs=50.0)
    assert p.throttle == pytest.approx(1.0, abs=0.01)


def test_part_throttle_sweeps_are_pulls_too():
    assert find_pulls(sweep(throttle=0.5))[0].throttle == pytest.approx(0.5, abs=0.01)


@pytest.mark.parametrize(
    "log",
    [
        sweep(seconds=1.0),  # too short
        sweep(low=3000.0, high=3800.0),  # climbs too little
        sweep(throttle=0.10),  # throttle hardly open
        Log({"throttle": channel("throttle", np.arange(100) / 50, np.ones(100))}),  # no engine speed
    ],
)
def test_what_is_no_pull(log):
    assert find_pulls(log) == []


def driven(pedal, rate=100.0, seconds=14.0, after_s=2.0, noise=0.0):
    """A sweep from 1,800 to 6,200 rpm that begins when the pedal does, with the throttle that `pedal` gives of s since."""
    t = np.arange(0.0, seconds, 1.0 / rate)
    since = np.clip(t - after_s, 0.0, None)
    speed = np.clip(1800.0 + 440.0 * since, 1800.0, 6200.0)
    rng = np.random.default_rng(1)
    throttle = np.where(t < after_s, 0.22, [pedal(s) for s in since]) + noise * rng.normal(size=t.size)
    return Log({"engine_speed": channel("engine_speed", t, speed), "throttle": channel("throttle", t, throttle)})


@pytest.mark.parametrize("takes", [0.05, 0.3, 0.8])
def test_a_pull_begins_where_the_pedal_has_arrived_at_any_rate(takes):
    def pedal(s):
        return min(0.22 + 0.78 * s / takes, 1.0)

    starts = [find_pulls(driven(pedal, rate))[0] for rate in (10, 25, 50, 100, 333)]
    for p, rate in zip(starts, (10, 25, 50, 100, 333), strict=True):
        arrived = 2.0 + takes * (0.96 - 0.22) / 0.78
        assert arrived - 1e-9 <= p.start_s <= arrived + 2.1 / rate
        assert p.throttle == pytest.approx(1.0, abs=0.01)


@pytest.mark.parametrize("rate", [10, 50, 200])
@pytest.mark.parametrize("seconds", [4.0, 10.0])
def test_a_ramp_of_the_throttle_is_no_pull(rate, seconds):
    assert find_pulls(driven(lambda s: min(0.22 + 0.78 * s / seconds, 1.0) if s < seconds else 0.0, rate)) == []


def test_a_throttle_that_wavers_within_its_band_is_held():
    assert len(find_pulls(driven(lambda s: 0.80, noise=0.01))) == 1


def test_a_single_wrong_sample_of_the_throttle_ends_no_pull():
    log = driven(lambda s: 1.0)
    throttle = log.channel("throttle").values.copy()
    throttle[700] = 0.0
    both = {**log.channels, "throttle": channel("throttle", log.channel("throttle").time_s, throttle)}
    assert len(find_pulls(Log(both))) == 1


def test_a_gear_change_at_full_throttle_ends_a_sweep():
    t = np.arange(0.0, 20.0, 0.01)
    speed = np.where(t < 8.0, 2000.0 + 500.0 * t, 4200.0 + 180.0 * (t - 8.0))
    log = Log(
        {"engine_speed": channel("engine_speed", t, speed), "throttle": channel("throttle", t, np.ones(t.size))}
    )
    pulls = find_pulls(log)
    assert [(round(p.from_rpm, -2), round(p.to_rpm, -2)) for p in pulls] == [(2000.0, 6000.0), (4200.0, 6400.0)]


def limited(rng, limiter, hold_s=3.0):
    """A sweep at full throttle from a hold at 1,800 rpm, 440 rpm/s up to 6,200, and the limiter behind it."""
    t = np.arange(0.0, hold_s + 14.0, 0.02)
    speed = np.clip(1800.0 + 440.0 * (t - hold_s), 1800.0, 6200.0)
    speed = np.where(t > hold_s + 10.0, limiter(t - hold_s - 10.0), speed) + 8.0 * rng.normal(size=t.size)
    return Log(
        {"engine_speed": channel("engine_speed", t, speed), "throttle": channel("throttle", t, np.ones(t.size))}
    )


@pytest.mark.parametrize(
    "limiter",
    [
        lambda s: np.full(s.shape, 6200.0),  # a governor holds
        lambda s: 6200.0 - 150.0 * ((s / 0.22) % 1.0),  # a cut lets it fall and come back
        lambda s: 6200.0 - 60.0 * (1.0 + np.sin(s * 9.0)),
    ],
)
def test_a_pull_ends_at_the_limiter_and_begins_behind_the_hold_whatever_the_noise(limiter):
    spans = [find_pulls(limited(np.random.default_rng(seed), limiter)) for seed in range(8)]
    assert all(len(found) == 1 for found in spans)
    for (p,) in spans:
        assert 2.45 < p.start_s < 3.3 and 12.7 < p.end_s < 13.5


def test_a_sweep_that_slows_down_is_found_whole():
    """As with a big roller: 30 s, at 60 rpm/s in the end."""
    t = np.arange(0.0, 30.0, 0.05)
    speed = 1800.0 + 4400.0 * (1.0 - np.exp(-t / 14.0)) / (1.0 - np.exp(-30.0 / 14.0))
    speed += 8.0 * np.random.default_rng(2).normal(size=t.size)
    log = Log(
        {"engine_speed": channel("engine_speed", t, speed), "throttle": channel("throttle", t, np.ones(t.size))}
    )
    (p,) = find_pulls(log)
    assert p.start_s < 0.3 and p.end_s > 29.0


def test_two_pulls_in_one_log():
    one = sweep()
    shift = one.span()[1] + 1.0
    both = {}
    for key, c in one.channels.items():
        t = np.concatenate([c.time_s, c.time_s + shift])
        both[key] = channel(key, t, np.concatenate([c.values, c.values]))
    assert len(find_pulls(Log(both))) == 2


def test_a_bench_pull_is_found_whole(pulled):
    log, _ = pulled
    pulls = find_pulls(log)
    assert len(pulls) == 1
    assert pulls[0].to_rpm > 6300.0 and pulls[0].from_rpm < 1920.0


@given(
    steps=st.lists(st.sampled_from([0.01, 0.02, 0.5, 3.0]), min_size=3, max_size=60),
    times=st.lists(st.floats(-1.0, 40.0), min_size=1, max_size=30),
)
def test_no_value_inside_any_gap(steps, times):
    """Against the definition, one gap at a time."""
    t = np.cumsum(steps)
    log = Log({"throttle": Channel("throttle", "Throttle", "ratio", "fraction", t, np.sin(t))})
    asked = np.array(times)
    expected = np.interp(asked, t, np.sin(t), left=np.nan, right=np.nan)
    widths = np.diff(t)
    for i in np.flatnonzero(widths > GAP_STEPS * np.median(widths)):
        expected[(asked > t[i]) & (asked < t[i + 1])] = np.nan
    assert np.array_equal(log.at("throttle", asked), expected, equal_nan=True)


def _sample_by_sample(rpm):
    """Rises of engine speed, told sample by sample: where each begins and ends."""
    found, low, high = [], -1, -1
    for i in [*(k for k in range(rpm.size) if np.isfinite(rpm[k])), -1]:
        if i == -1 or (high >= 0 and rpm[high] - rpm[i] > GEAR_CHANGE_RPM):
            if high > low >= 0 and rpm[high] - rpm[low] >= MIN_SWEEP_RPM:
                found.append((low, high))
            low = high = i
        elif low < 0 or rpm[i] < rpm[low]:
            low = high = i
        elif rpm[i] > rpm[high]:
            high = i
    return found


@given(st.lists(st.sampled_from([-700.0, -200.0, -40.0, 0.0, 0.0, 60.0, 300.0, 900.0, math.nan]), max_size=60))
def test_sweeps_are_those_that_looking_at_every_sample_finds(steps):
    rpm = 3000.0 + np.cumsum(np.nan_to_num(np.array(steps)))
    rpm[np.isnan(np.array(steps))] = np.nan
    by_turns = sweeps_by_turns(rpm)
    assert by_turns == _sample_by_sample(rpm)


def sweeps_by_turns(rpm):
    """The same, told by the turns alone, with the holds left on."""
    with mock.patch.object(pulls, "_without_holds", lambda t, rpm, low, high: (low, high)):
        own = pulls._Range(pulls.MIN_SWEEP_RPM, pulls.MIN_SWEEP_RPM, pulls.GEAR_CHANGE_RPM)
        unknown = np.full(rpm.size, np.nan)
        return pulls._sweeps(np.arange(rpm.size) * 10.0, rpm, unknown, 0, rpm.size, own, 1.0)


@given(
    st.integers(2, 12).flatmap(lambda n: st.tuples(*[st.lists(st.floats(0.01, 1.0), min_size=n, max_size=n)] * 2)),
    st.lists(st.floats(-2.0, 14.0) | st.just(math.nan), max_size=5),
)
def test_values_between_samples_are_those_of_a_library_that_reads_the_whole(made, times):
    t, v = np.cumsum(made[0]), np.array(made[1])
    log = Log({"throttle": channel("throttle", t, v)})
    if log.channel("throttle").clock.gaps.size:
        return
    with mock.patch.object(log_module, "LONG", 1):
        np.testing.assert_array_equal(log.at("throttle", np.array(times)), np.interp(times, t, v, np.nan, np.nan))


def test_a_pull_between_times_stands_in_place_of_the_one_that_was_found():
    log = sweep()
    (found,) = find_pulls(log)
    (set_by_hand,) = pulls.pulls_of(log, {0: (4.0, 8.0)})
    assert set_by_hand.start_s == pytest.approx(4.0) and set_by_hand.end_s == pytest.approx(8.0)
    assert found.from_rpm < set_by_hand.from_rpm < set_by_hand.to_rpm < found.to_rpm
    assert set_by_hand.throttle == pytest.approx(1.0)
    # A number that the log no longer holds, and a span of nothing, change nothing.
    assert pulls.pulls_of(log, {3: (4.0, 8.0), 0: (900.0, 950.0)}) == [found]


@pytest.mark.parametrize(
    ("start", "end", "why"), [(4.0, 4.2, "no pull"), (0.0, 1.5, "a pull sweeps"), (90.0, 99.0, "no pull")]
)
def test_what_is_no_pull_between_two_times_is_said(start, end, why):
    with pytest.raises(EvidenceError, match=why):
        pulls.pull_between(sweep(), start, end)
