"""The logger: sensors as they are, in blocks whose cuts change nothing, in memory that does not grow past the log."""

import tracemalloc

import numpy as np
import pytest

from yarvic.bench.recorder import BLOCK_ROWS, Recorder
from yarvic.bench.sensors import LAMBDA_DELAY_KG, LAMBDA_DELAY_S, SENSORS, Probe, Sensor

DT = 0.01


def seen(key, truth, sensor=None, flow=None, blocks=1, lost=0.0, jitter=0.0, seed=(1,)):
    probe = Probe(key, sensor or SENSORS[key], DT, seed, lost=lost, jitter=jitter)
    t = np.arange(truth.size) * DT
    for part in np.array_split(np.arange(truth.size), blocks):
        probe.sample(t[part], truth[part], None if flow is None else flow[part])
    return probe.channel()


def test_a_sensor_lags():
    t = np.arange(0.0, 5.0, DT)
    step = np.where(t > 1.0, 400.0, 300.0)
    c = seen("charge_temperature", step)
    # First order: 63 % of the step after one time constant.
    assert np.interp(1.0 + SENSORS["charge_temperature"].lag_s, c.time_s, c.values) == pytest.approx(363.2, abs=2.5)


def test_a_wideband_has_ends_and_a_delay_that_flow_decides():
    rich = seen("lambda_measured", np.full(300, 0.5))
    assert rich.values.min() == rich.values.max() == pytest.approx(0.65)
    t = np.arange(0.0, 3.0, DT)
    truth = np.where(t > 1.0, 0.85, 1.0)
    bare = Sensor(100.0, delayed=True)
    for flow in (0.1, 0.01):
        c = seen("lambda_measured", truth, bare, np.full(t.size, flow))
        arrival = float(c.time_s[np.argmax(c.values < 0.9)])
        assert arrival == pytest.approx(1.0 + LAMBDA_DELAY_S + LAMBDA_DELAY_KG / flow, abs=0.02)


def test_steps_and_rates():
    for key, sensor in SENSORS.items():
        if sensor.counts:
            continue
        c = seen(key, np.linspace(0.9, 1.1, 800) * max(sensor.step, 1e-3) * 100.0)
        assert 1.0 / np.median(np.diff(c.time_s)) == pytest.approx(sensor.rate_hz)
        if sensor.step:
            inside = (c.values > sensor.low) & (c.values < sensor.high)
            off = c.values[inside] / sensor.step
            assert np.allclose(off, np.round(off), atol=1e-6), key


def test_an_encoder_counts_whole_steps_and_keeps_the_mean():
    truth = np.full(1000, 873.0)
    c = seen("roller_speed", truth)
    # No speed can lie between two counts of the angle.
    counts = c.values / 60.0 / 100.0 * SENSORS["roller_speed"].counts
    assert np.allclose(counts, np.round(counts), atol=1e-4)
    assert c.values.mean() == pytest.approx(873.0, rel=1e-4)
    assert 0.05 < c.values.std() < 1.0


def test_a_log_loses_and_shifts_samples_and_the_cells_own_clock_does_not():
    truth = np.linspace(1000.0, 6000.0, 20_000)
    c = seen("engine_speed", truth, lost=0.02, jitter=0.002)
    assert 0.01 < 1.0 - c.time_s.size / 20_000 < 0.03
    off = c.time_s - np.round(c.time_s, 2)
    assert np.all(np.diff(c.time_s) > 0.0)
    assert off.max() > 0.0015
    assert seen("roller_speed", truth, lost=0.02, jitter=0.002).time_s.size == 20_000


@pytest.mark.parametrize(
    "key", ["engine_speed", "lambda_measured", "roller_speed", "charge_temperature", "gps_speed"]
)
def test_where_the_blocks_are_cut_changes_nothing(key):
    rng = np.random.default_rng(4)
    truth = 1.0 + 0.05 * rng.random(5000).cumsum() / 50.0
    flow = np.linspace(0.01, 0.1, 5000)
    whole, cut = (seen(key, truth, flow=flow, blocks=n, lost=0.01, jitter=0.001) for n in (1, 37))
    assert np.allclose(whole.time_s, cut.time_s)
    assert np.allclose(whole.values, cut.values, rtol=1e-9, atol=1e-9)


def test_one_channel_more_leaves_the_others_as_they_were():
    def log(names):
        recorder = Recorder(names, DT, (5,))
        for i in range(500):
            recorder.add(tuple(100.0 + i for _ in names))
        return recorder.log()

    few, more = log(("engine_speed",)), log(("rail_pressure", "engine_speed"))
    assert np.array_equal(few.channels["engine_speed"].values, more.channels["engine_speed"].values)


def test_every_channel_can_be_had_at_100_hz():
    recorder = Recorder(("coolant_temperature", "gps_speed"), DT, (5,), rate_hz=100.0, lost=0.0)
    for _ in range(1000):
        recorder.add((300.0, 10.0))
    assert all(c.time_s.size == 1000 for c in recorder.log().channels.values())


def test_an_hour_needs_the_memory_of_its_log():
    """360,000 steps of 30 channels, without the engine behind them: what is kept is the log, and a block."""
    names = tuple(SENSORS)[:30]
    row = tuple(1.0 for _ in names)
    tracemalloc.start()
    try:
        recorder = Recorder(names, DT, (1,))
        for _ in range(360_000):
            recorder.add(row)
        before_joining = tracemalloc.get_traced_memory()[1]
        log = recorder.log()
    finally:
        tracemalloc.stop()
    size = sum(c.time_s.nbytes + c.values.nbytes for c in log.channels.values())
    assert recorder.rows == 360_000
    # Beside the log itself: one block of rows, and what is under way in it.
    assert before_joining < size + 12 * BLOCK_ROWS * len(names) * 8
