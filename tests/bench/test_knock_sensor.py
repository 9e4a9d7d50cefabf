"""The raw knock sensor: its tones, its background, its windows, and the bursts of real knock."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import welch

from yarvic.bench.knock_sensor import RATE_HZ, RESONANCES_HZ, WINDOW_FROM_DEG, WINDOW_TO_DEG, burst
from yarvic.bench.plant import load_plant
from yarvic.bench.rig import usual_settings
from yarvic.core.physics.knock import knock_tones

ENGINES = {name: load_plant(name).engine for name in ("ptarmigan", "fieldfare")}


def spectrum(engine, speed, intensity, count=300, cylinder=0):
    """Mean power density of many windows."""
    rng = np.random.default_rng(2)
    windows = [burst(engine, speed, intensity, 12.0, cylinder, rng) for _ in range(count)]
    size = min(w.size for w in windows)
    hz, power = welch(np.array([w[:size] for w in windows]), RATE_HZ, nperseg=size)
    return hz, power.mean(axis=0)


@pytest.mark.parametrize("name", sorted(ENGINES))
def test_knock_rings_at_the_tone_of_its_bore(name):
    """Draper's first mode, f = 1.841 c / (pi B): 7.0 kHz for 80 mm, 7.7 kHz for 72 mm at 950 m/s."""
    engine = ENGINES[name]
    tone = float(knock_tones(engine.bore_m)[0])
    assert tone == pytest.approx({"ptarmigan": 6959.0, "fieldfare": 7732.0}[name], rel=0.01)
    hz, loud = spectrum(engine, 3000.0, 0.3)
    _, quiet = spectrum(engine, 3000.0, 0.0)
    excess = loud - quiet
    assert hz[np.argmax(excess)] == pytest.approx(tone, abs=1.5 * hz[1])
    assert loud[np.argmin(abs(hz - tone))] > 20.0 * quiet[np.argmin(abs(hz - tone))]


def test_the_block_has_its_own_resonances():
    hz, quiet = spectrum(ENGINES["ptarmigan"], 3000.0, 0.0)
    floor = np.median(quiet)
    for tone in RESONANCES_HZ[:2]:
        assert quiet[np.argmin(abs(hz - tone))] > 1.5 * floor


def test_the_background_follows_speed():
    rng = np.random.default_rng(1)
    levels = [
        np.std(np.concatenate([burst(ENGINES["ptarmigan"], n, 0.0, 0.0, 0, rng) for _ in range(40)]))
        for n in (1500.0, 3000.0, 6000.0)
    ]
    assert levels[1] / levels[0] == pytest.approx(2.0**1.5, rel=0.1)
    assert levels[2] / levels[1] == pytest.approx(2.0**1.5, rel=0.1)


def test_a_farther_cylinder_is_heard_less_and_more_knock_more():
    rng = np.random.default_rng(1)

    def loud(intensity, cylinder):
        return float(
            np.mean([np.std(burst(ENGINES["ptarmigan"], 2500.0, intensity, 10.0, cylinder, rng)) for _ in range(60)])
        )

    assert loud(0.2, 1) > 1.05 * loud(0.2, 0)
    assert loud(0.3, 1) > loud(0.15, 1) > loud(0.0, 1)


@pytest.fixture(scope="module")
def recorded(bench):
    """A run with more spark than the fuel bears, and its raw sensor."""
    rig = bench.rig("ptarmigan", image=bench.image("ptarmigan", {"spark_advance": lambda v: v + 5.0}))
    return rig.pull(replace(usual_settings(rig.plant), knock_signal=True))[0]


def test_a_window_for_every_cylinder_and_cycle(recorded):
    assert RATE_HZ >= 60_000.0
    # Without fuel there is no cycle to hear: the lift at the end does not count.
    speed, last = recorded.channels["engine_speed"], recorded.channels["knock_signal_1"].time_s[-1]
    under_way = speed.time_s <= last
    turned = np.trapezoid(speed.values[under_way], speed.time_s[under_way]) / 60.0 / 2.0
    for i in (1, 2, 3):
        c = recorded.channels[f"knock_signal_{i}"]
        assert np.all(np.diff(c.time_s) > 0.0)
        starts = np.flatnonzero(np.diff(c.time_s, prepend=-1.0) > 2.0 / RATE_HZ)
        assert starts.size == pytest.approx(turned, rel=0.06)
        # The window is so many degrees of crank: shorter in time at speed.
        lengths = np.diff(np.append(starts, c.time_s.size)) / RATE_HZ
        rpm = recorded.at("engine_speed", c.time_s[starts])
        good = np.isfinite(rpm)
        degrees = lengths[good] * rpm[good] * 6.0
        assert np.median(degrees) == pytest.approx(WINDOW_TO_DEG - WINDOW_FROM_DEG, rel=0.03)
        assert np.abs(c.values).max() <= 5.0


def test_where_the_unit_took_spark_off_the_sensor_rang(recorded):
    """Cycles in which cylinder 2 was retarded ring louder at its tone than the rest, at like speeds."""
    from scipy.signal import butter, sosfilt

    c = recorded.channels["knock_signal_2"]
    starts = np.flatnonzero(np.diff(c.time_s, prepend=-1.0) > 2.0 / RATE_HZ)
    band = butter(3, (6200.0, 7800.0), "bandpass", fs=RATE_HZ, output="sos")
    ring = np.array([np.max(np.abs(sosfilt(band, w))) for w in np.split(c.values, starts[1:])])
    t = c.time_s[starts]
    correction = recorded.at("spark_correction_2", t + 0.05) - recorded.at("spark_correction_2", t - 0.05)
    rpm = recorded.at("engine_speed", t)
    inside = (rpm > 2200) & (rpm < 5000) & np.isfinite(correction)
    retarded = inside & (correction < -0.5)
    assert np.count_nonzero(retarded) >= 3
    assert np.median(ring[retarded]) > 2.0 * np.median(ring[inside & ~retarded])


def test_it_is_not_recorded_unless_asked_for(healthy):
    assert not any(k.startswith("knock_signal") for k in healthy["ptarmigan"][0].channels)


def test_the_twin_has_no_control_and_still_a_sensor(bench):
    """Bad fuel and too much spark: nothing is retarded, and the sensor hears it."""
    hot = bench.image("fieldfare", {"spark_advance": lambda v: v + 18.0})
    peaks = []
    for rig in (bench.rig("fieldfare"), bench.rig("fieldfare", image=hot, faults={"bad_fuel": 1.0})):
        log, _ = rig.pull(replace(usual_settings(rig.plant), knock_signal=True))
        assert "spark_correction_1" not in log.channels
        c = log.channels["knock_signal_2"]
        slow = log.at("engine_speed", c.time_s) < 5000.0
        peaks.append(float(np.percentile(np.abs(c.values[slow]), 99.9)))
    assert peaks[1] > 1.5 * peaks[0]
