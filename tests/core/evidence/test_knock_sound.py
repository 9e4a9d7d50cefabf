"""Knock from the raw signal: band against SciPy, background by speed, the receiver's curve, the false alarm rate."""

import io
import wave

import numpy as np
import pytest
import scipy.signal
from knock_signals import ENGINE, MOST, QUIET, SOME, four

from yarvic.bench.knock_sensor import RATE_HZ, burst
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.knock_sound import band_of, band_rms, hear, heard, slowed_wav, spectrogram, windows
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.physics.knock import knock_tones


def recorded(intensities, speeds, cylinder=0, seed=3):
    """The windows of so many cycles, each with its share of charge that burnt at once."""
    rng = np.random.default_rng(seed)
    times, values, at = [], [], 0.0
    for intensity, speed in zip(intensities, speeds, strict=True):
        v = burst(ENGINE, float(speed), float(intensity), 12.0, cylinder, rng)
        times.append(at + np.arange(v.size) / RATE_HZ)
        values.append(v)
        at += 120.0 / speed
    t = np.concatenate(times)
    clock = np.linspace(0.0, at, len(speeds))
    kind = CHANNELS["knock_signal_1"]
    return Log(
        {
            "engine_speed": Channel(
                "engine_speed", "Engine speed", "engine speed", "rpm", clock, np.asarray(speeds, float)
            ),
            "knock_signal_1": Channel(kind.key, kind.title, kind.quantity, "V", t, np.concatenate(values)),
        }
    )


def test_the_band_lies_about_drapers_tone():
    """f = 1.841 c / (pi B): 6.96 kHz for a bore of 80 mm at 950 m/s (Draper, NACA report 493)."""
    low, high = band_of(0.080)
    assert low < 6959.0 < high and (low + high) / 2.0 == pytest.approx(6959.0, rel=0.01)


def test_the_rms_in_a_band_is_that_of_scipys_periodogram_and_of_its_filter():
    rng = np.random.default_rng(1)
    t = np.arange(400) / RATE_HZ
    signal = (
        0.4 * np.sin(2.0 * np.pi * 7000.0 * t)
        + 0.3 * np.sin(2.0 * np.pi * 12_500.0 * t)
        + 0.02 * rng.standard_normal(t.size)
    )
    band = band_of(0.080)
    hz, density = scipy.signal.periodogram(signal, RATE_HZ, window=np.hanning(t.size), detrend="constant")
    inside = (hz >= band[0]) & (hz <= band[1])
    by_scipy = np.sqrt(density[inside].sum() * hz[1])
    assert band_rms(signal, RATE_HZ, band) == pytest.approx(by_scipy, rel=1e-6)
    # Rectified and integrated behind a band-pass: rms of a sine of 0.4 V is 0.283 V.
    sos = scipy.signal.butter(4, band, btype="bandpass", fs=RATE_HZ, output="sos")
    filtered = scipy.signal.sosfiltfilt(sos, signal)[100:-100]
    assert band_rms(signal, RATE_HZ, band) == pytest.approx(float(np.sqrt(np.mean(filtered**2))), rel=0.08)


def test_the_receivers_curve_on_the_simulated_signal():
    """Cycles that knock against cycles that do not, over all thresholds: the area under the curve is near one."""
    rng = np.random.default_rng(5)
    speeds = np.linspace(1800.0, 6400.0, 600)
    knocking = rng.random(600) < 0.15
    cycles = heard(recorded(np.where(knocking, 0.12, 0.0), speeds), 1, ENGINE.bore_m)
    scores, truth = -cycles.chance, knocking[: cycles.time_s.size]
    order = np.argsort(-scores)
    hits = np.cumsum(truth[order]) / truth.sum()
    false = np.cumsum(~truth[order]) / (~truth).sum()
    assert np.trapezoid(hits, false) > 0.97
    found = cycles.knocks
    assert found[truth].mean() > 0.8 and found[~truth].mean() < 0.02


def test_the_background_follows_speed_and_the_false_alarm_rate_is_stated_and_kept():
    speeds = np.linspace(1800.0, 6400.0, 800)
    false = 0
    for seed in range(6):
        cycles = heard(recorded(np.zeros(800), speeds, seed=seed), 1, ENGINE.bore_m)
        slow, fast = cycles.intensity[:200], cycles.intensity[-200:]
        assert np.mean(slow) == pytest.approx(np.mean(fast), rel=0.25)
        false += int(cycles.knocks.sum())
        assert cycles.false_alarm_rate == 1e-4 and cycles.expected_by_chance == pytest.approx(0.08, abs=0.01)
    assert false <= 24, "in 4,800 quiet cycles"


def test_what_cannot_be_heard_is_said():
    log = recorded(np.zeros(30), np.full(30, 3000.0))
    with pytest.raises(EvidenceError, match="too few for a background"):
        heard(log, 1, ENGINE.bore_m, 0.0, 0.3)
    with pytest.raises(EvidenceError, match="kHz"):
        heard(log, 1, 0.008)
    with pytest.raises(EvidenceError, match="not in this log"):
        heard(log, 2, ENGINE.bore_m)
    short = Channel("knock_signal_1", "Knock sensor", "voltage", "V", np.arange(5.0), np.zeros(5))
    with pytest.raises(EvidenceError, match="too few samples"):
        windows(short)


def test_the_spectrogram_shows_the_tone_where_it_knocks():
    speeds = np.linspace(2000.0, 6000.0, 300)
    log = recorded(np.where((speeds > 3000.0) & (speeds < 4000.0), 0.3, 0.0), speeds)
    edges = np.arange(2000.0, 6001.0, 1000.0)
    hz, power = spectrogram(log, 1, edges)
    low, high = band_of(ENGINE.bore_m)
    tone = (hz >= low) & (hz <= high)
    excess = power[:, tone].max(axis=1) / np.median(power, axis=1)
    assert np.argmax(excess) == 1 and power.shape == (4, hz.size)


def test_it_can_be_heard_slowed_down():
    log = recorded(np.full(40, 0.2), np.full(40, 3000.0))
    with wave.open(io.BytesIO(slowed_wav(log.channel("knock_signal_1"), 10.0))) as file:
        assert (file.getnchannels(), file.getsampwidth(), file.getframerate()) == (1, 2, 8000)
        samples = np.frombuffer(file.readframes(file.getnframes()), "<i2")
    assert samples.size == log.channel("knock_signal_1").values.size and np.abs(samples).max() == 32767
    with pytest.raises(EvidenceError, match="cannot be played"):
        slowed_wav(log.channel("knock_signal_1"), 1000.0)


def test_an_engine_that_knocks_in_every_cycle_is_not_taken_for_a_quiet_one():
    """Nothing in it is quiet: then the band is many times as loud as beside it, and that is told."""
    speeds = np.linspace(2500.0, 4500.0, 300)
    assert heard(recorded(np.zeros(300), speeds), 1, ENGINE.bore_m).colour < 2.0
    assert heard(recorded(np.full(300, 0.3), speeds), 1, ENGINE.bore_m).colour > 8.0


# -- engines of another make: other tones, other modes, cylinders that hardly know a quiet cycle


def counted(log):
    return {n: int(c.knocks.sum()) for n, c in hear(log, ENGINE.bore_m).items()}


def test_a_cylinder_that_knocks_in_two_of_three_cycles_does_not_set_its_own_background():
    found = counted(four([QUIET, MOST, QUIET, QUIET]))
    assert found[2] > 0.7 * np.count_nonzero(MOST) and max(found[n] for n in (1, 3, 4)) <= 2
    # All of them at once: then the quiet third of each tells what is quiet.
    assert min(counted(four([MOST] * 4)).values()) > 0.7 * np.count_nonzero(MOST)


@pytest.mark.parametrize(
    ("tone", "modes"),
    [
        (0.85, (1.0, 0.45, 0.25)),
        (1.15, (1.0, 0.45, 0.25)),
        (1.15, (1.0, 0.0, 0.0)),
        (0.93, (1.0, 0.0, 0.0)),
        (1.0, (0.0, 2.0, 0.0)),
    ],
)
def test_a_tone_beside_the_bores_and_the_second_mode_are_heard(tone, modes):
    found = counted(four([QUIET, SOME, QUIET, QUIET], tone=tone, modes=modes))
    assert found[2] > 0.7 * np.count_nonzero(SOME) and max(found[n] for n in (1, 3, 4)) <= 2


def test_where_its_tone_lies_is_told():
    cycles = hear(four([SOME, QUIET, QUIET, QUIET], tone=1.15, modes=(1.0, 0.0, 0.0)), ENGINE.bore_m)[1]
    assert cycles.usual_tone_hz == pytest.approx(1.15 * float(knock_tones(ENGINE.bore_m)[0]), rel=0.08)


def test_quiet_cycles_of_four_cylinders_are_quiet():
    assert sum(sum(counted(four([QUIET] * 4, seed=seed)).values()) for seed in range(3)) <= 4, "of 2,880"


def test_knock_in_every_cycle_of_every_cylinder_is_told_by_light_load():
    """Beside the noise a block may be loud by itself; against light load it may not."""
    speeds = np.concatenate((np.full(60, 2500.0), np.linspace(2500.0, 4500.0, 240)))
    throttle = np.concatenate((np.full(60, 0.1), np.ones(240)))
    loud = np.concatenate((np.zeros(60), np.full(240, 2.2)))
    log = four([loud] * 4, speeds=speeds, throttle=throttle)
    begins = float(log.channels["engine_speed"].time_s[60])
    knocking = hear(log, ENGINE.bore_m, begins)[1].colour
    quiet = hear(four([0.0 * loud] * 4, speeds=speeds, throttle=throttle), ENGINE.bore_m, begins)[1].colour
    assert quiet < 1.6 < knocking / quiet
