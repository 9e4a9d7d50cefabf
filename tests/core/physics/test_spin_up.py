"""Spin-ups made from a known torque: the derivative, its error, its peaks, and what must be refused."""

import numpy as np
import pytest

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.dyno import local_peak
from yarvic.core.physics.power import RAD_PER_S_PER_RPM
from yarvic.core.physics.spin_up import even_clock, smoothed, spin_up

PER_ROLLER = 7.0
LOW, HIGH = 1700.0, 6450.0


def turbo(rpm):
    x = np.clip((rpm - LOW) / (HIGH - LOW) - 0.55, 0.0, 1.0)
    return 120.0 + 90.0 / (1.0 + np.exp(-(rpm - 2400.0) / 180.0)) - 60.0 * x**1.5


def tuned(rpm):
    humps = 18 * np.exp(-(((rpm - 3200) / 350) ** 2)) - 14 * np.exp(-(((rpm - 4100) / 300) ** 2))
    return 150.0 + humps + 20 * np.exp(-(((rpm - 5200) / 450) ** 2)) - 60 * np.clip((rpm - 5500) / 4750, 0, 1)


def narrow(rpm):
    return 150.0 + 25.0 * np.exp(-(((rpm - 4000.0) / 300.0) ** 2)) - 40.0 * np.clip((rpm - 5600) / 850, 0, 1)


class Spun:
    """A roller spun up by an engine of this torque in so many s, seen by an encoder of so many counts a turn."""

    def __init__(self, torque, counts, seconds, seed, rate=100.0, lost=0, jitter_s=0.0, white=0.0):
        rpm = np.linspace(LOW, HIGH, 4001)
        slowness = RAD_PER_S_PER_RPM / torque(rpm)
        times = np.concatenate(([0.0], np.cumsum(0.5 * (slowness[1:] + slowness[:-1]) * np.diff(rpm))))
        self.torque, self.at_engine = torque, seconds / times[-1]
        rng = np.random.default_rng(seed)
        fine = np.arange(0.0, seconds + 0.05, 0.0005)
        turns = np.cumsum(np.interp(fine, times * self.at_engine, rpm) / PER_ROLLER / 60.0 * 0.0005) + rng.random()
        t = np.arange(rng.random() / rate, seconds, 1.0 / rate)
        if counts:
            seen = np.floor((np.interp(t, fine, turns) + 2e-5 * rng.normal(size=t.size)) * counts) / counts
        else:
            seen = np.interp(t, fine, turns)
        speed = np.diff(seen) * rate * 60.0 * RAD_PER_S_PER_RPM
        self.t, self.speed = t[1:] + jitter_s * rng.random(t.size - 1), speed + white * rng.normal(size=speed.size)
        keep = np.ones(self.t.size, dtype=bool)
        keep[rng.integers(5, self.t.size - 5, lost)] = False
        self.t, self.speed = self.t[keep], self.speed[keep]

    def curve(self):
        """Engine speed, power, its error and the true power."""
        found = spin_up(self.t, self.speed)
        at = np.linspace(found.start_s, found.end_s, 96)
        turning = found.speed(at)
        inertia = self.at_engine * PER_ROLLER**2
        rpm = turning / RAD_PER_S_PER_RPM * PER_ROLLER
        grid = np.arange(np.ceil(rpm[0] / 50) * 50, rpm[-1], 50.0)

        def on(values):
            return np.interp(grid, rpm, values)

        power = on(inertia * turning * found.acceleration(at))
        return grid, power, on(inertia * turning * found.error(at)), self.torque(grid) * grid * RAD_PER_S_PER_RPM

    def misses(self):
        """How far peak power, peak torque and the whole curve miss the truth, as shares; and whether its error covers."""
        rpm, power, error, truth = self.curve()
        fine = np.linspace(rpm[0], rpm[-1], 3000)
        w = rpm * RAD_PER_S_PER_RPM
        peak = local_peak(rpm, power, error)[0] / (self.torque(fine) * fine * RAD_PER_S_PER_RPM).max() - 1.0
        top = local_peak(rpm, power / w, error / w)[0] / self.torque(fine).max() - 1.0
        covered = float(np.mean(np.abs(power - truth) < 1.96 * error + 5e-4 * truth))
        return peak, top, float(np.sqrt(np.mean((power / truth - 1.0) ** 2))), covered


@pytest.mark.parametrize("seconds", [5.0, 10.0, 22.0])
@pytest.mark.parametrize("counts", [36000, 3600, 1024])
@pytest.mark.parametrize("torque", [turbo, tuned, narrow])
def test_peak_within_one_per_cent_and_rms_within_one_and_a_half(torque, counts, seconds):
    """Against the torque that the spin-up was made from, in closed form (Newton's second law for rotation)."""
    misses = np.array([Spun(torque, counts, seconds, seed).misses() for seed in (1, 2, 3)])
    assert np.abs(misses[:, 0]).max() < 0.013 and abs(misses[:, 0].mean()) < 0.0105
    assert np.abs(misses[:, 1]).max() < 0.013 and abs(misses[:, 1].mean()) < 0.01
    assert misses[:, 2].max() < 0.015
    assert misses[:, 3].mean() > 0.9  # the stated error covers the truth


@pytest.mark.parametrize("counts", [3600, 1024])
def test_no_peak_is_read_high_by_noise(counts):
    """The mean over many pulls: a highest sample would stand above the truth every time."""
    peaks = np.array([Spun(tuned, counts, 10.0, seed).misses()[:2] for seed in range(12)])
    assert np.all(np.abs(peaks.mean(axis=0)) < 0.004)


@pytest.mark.parametrize(("rate", "lost", "jitter_s"), [(25, 0, 0.0), (200, 3, 0.0), (100, 5, 0.002)])
def test_rate_jitter_and_lost_samples_change_little(rate, lost, jitter_s):
    peak, top, rms, _ = Spun(turbo, 3600, 10.0, 4, rate=rate, lost=lost, jitter_s=jitter_s).misses()
    assert abs(peak) < 0.015 and abs(top) < 0.015 and rms < 0.03


def test_the_kind_of_noise_is_told():
    assert spin_up(*_of(Spun(turbo, 3600, 10.0, 1))).counted
    assert not spin_up(*_of(Spun(turbo, 0, 10.0, 1, white=0.02))).counted


def _of(spun):
    return spun.t, spun.speed


def test_constant_torque_against_the_closed_form():
    # w = w0 + (M/J) t (Newton's second law for rotation).
    t = np.arange(0.0, 10.0, 0.01)
    found = spin_up(t, 20.0 + 5.0 * t)
    at = np.linspace(0.0, 9.9, 40)
    assert np.allclose(found.acceleration(at), 5.0, rtol=1e-6)
    assert np.allclose(found.speed(at), 20.0 + 5.0 * at, rtol=1e-6)


def test_smoothing_states_what_it_takes_off():
    spun = Spun(narrow, 1024, 5.0, 2)
    found = spin_up(spun.t, spun.speed)
    at = np.linspace(found.start_s, found.end_s, 200)
    top = int(np.argmax(found.acceleration(at)))
    assert found.bias(at)[top] < 0.0  # a peak is smoothed down
    assert 4.0 < found.freedom < 63.0


def test_a_signal_is_smoothed_as_far_as_its_noise():
    t = np.arange(0.0, 8.0, 0.01)
    truth = 300.0 + 40.0 * np.sin(t)
    noisy = truth + np.random.default_rng(1).normal(0.0, 5.0, t.size)
    assert np.sqrt(np.mean((smoothed(t, noisy, "it")(t) - truth) ** 2)) < 1.0


@pytest.mark.parametrize(
    ("time", "message"),
    [
        (np.arange(15) * 0.01, "fewer"),
        (np.concatenate((np.arange(200), np.arange(260, 400))) * 0.01, "holes"),
        (np.zeros(40), "still"),
        (np.arange(40)[::-1] * 0.01, "backward"),
    ],
)
def test_what_cannot_be_derived_is_refused(time, message):
    with pytest.raises(EvidenceError, match=message):
        spin_up(time, np.linspace(10.0, 20.0, time.size))


def test_an_even_clock_is_found_under_jitter_and_losses():
    rng = np.random.default_rng(2)
    t = np.delete(np.arange(500) * 0.01 + 0.001 * rng.random(500), [40, 41, 300])
    step, place = even_clock(t)
    assert step == pytest.approx(0.01, rel=1e-3) and place[-1] == 499 and place.size == 497
    assert even_clock(np.cumsum(rng.uniform(0.005, 0.02, 300))) is None
