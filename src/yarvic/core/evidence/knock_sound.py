"""Knock from the raw signal of a sensor: the energy in the bore's tone, cycle by cycle, against a background that follows
engine speed.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.physics import FloatArray
from yarvic.core.physics.knock import knock_tones

# The band about the tone, as a share of it to both sides. Our choice: gas is hotter and colder, and the tone goes with it.
BAND_SHARE = 0.12
# Beside it the block's own noise is read, in two bands, as shares of the tone. Between Draper's first and second mode.
BESIDE = ((0.60, 0.80), (1.22, 1.42))
# A window of one cycle ends where the signal is silent for longer than so many samples.
APART_SAMPLES = 4.0
LEAST_SAMPLES, LEAST_WINDOWS = 32, 20
# A cycle that noise would make so loud once in so many counts as knock. Our choice.
FALSE_ALARM_RATE = 1e-4
# The share of cycles below which even an engine that knocks is quiet: by it the quiet ones are placed. Our choice.
QUIET_SHARE = 0.3
# A Hann window leaves two thirds of the independent numbers of a periodogram (Harris 1978, Proc. IEEE 66, 51: equivalent
# noise bandwidth 1.5).
HANN = 2.0 / 3.0


@dataclass(frozen=True)
class Cycles:
    """What was heard of one cylinder: for each cycle its time (s), engine speed (rpm), rms in the band (V), that over what
    the noise beside the band leads one to expect, and the chance that noise alone is so loud. By chance a share
    `false_alarm_rate` of quiet cycles knocks.
    """

    cylinder: int
    band_hz: tuple[float, float]
    time_s: FloatArray
    speed_rpm: FloatArray
    level_v: FloatArray
    intensity: FloatArray
    chance: FloatArray
    colour: float  # by how many times in power the band is louder than beside it where it is quiet
    false_alarm_rate: float = FALSE_ALARM_RATE

    @property
    def knocks(self) -> NDArray[np.bool_]:
        """Which cycles knock."""
        return np.asarray(self.chance < self.false_alarm_rate)

    @property
    def expected_by_chance(self) -> float:
        """How many cycles of these would be past the threshold without any knock."""
        return self.false_alarm_rate * self.time_s.size


def band_of(bore_m: float) -> tuple[float, float]:
    """The band about the first mode of a bore, Hz. Draper's formula: `physics.knock.knock_tones`."""
    tone = float(knock_tones(bore_m)[0])
    return tone * (1.0 - BAND_SHARE), tone * (1.0 + BAND_SHARE)


def windows(channel: Channel) -> list[tuple[int, int]]:
    """Where the recorded windows lie, as (first sample, one past the last). Raises EvidenceError where there is none."""
    t = channel.time_s
    if t.size < LEAST_SAMPLES:
        raise EvidenceError(f"{channel.title} holds too few samples", remedy="Record it anew.")
    steps = np.diff(t)
    step = float(np.median(steps))
    if step <= 0.0:
        raise EvidenceError(f"{channel.title}: its time does not rise", remedy="Export it again.")
    cuts = np.flatnonzero(steps > APART_SAMPLES * step) + 1
    edges = np.concatenate(([0], cuts, [t.size]))
    return [(int(a), int(b)) for a, b in pairwise(edges) if b - a >= LEAST_SAMPLES]


def rate_hz(channel: Channel) -> float:
    """The rate of the samples within a window, Hz."""
    return float(1.0 / np.median(np.diff(channel.time_s)))


def band_rms(signal: FloatArray, rate: float, band_hz: tuple[float, float]) -> float:
    """The rms of a signal in a band, V, by its periodogram under a Hann window (Parseval)."""
    taper = np.hanning(signal.size)
    spectrum = np.abs(np.fft.rfft((signal - signal.mean()) * taper)) ** 2
    hz = np.fft.rfftfreq(signal.size, 1.0 / rate)
    inside = (hz >= band_hz[0]) & (hz <= band_hz[1])
    # One-sided: what is not at nought or at the end stands for two.
    return float(np.sqrt(2.0 * spectrum[inside].sum() / (signal.size * np.sum(taper**2))))


def band_density(signal: FloatArray, rate: float, band_hz: tuple[float, float]) -> float:
    """The mean power density of a signal in a band, V2/Hz."""
    return band_rms(signal, rate, band_hz) ** 2 / (band_hz[1] - band_hz[0])


def heard(log: Log, cylinder: int, bore_m: float, start_s: float = -np.inf, end_s: float = np.inf) -> Cycles:
    """What the raw signal of a cylinder says between two times. Raises EvidenceError where it says too little.

    The background is what the noise beside the tone leads one to expect in the band; which ratio of both is quiet is told
    by the cycles themselves.
    """
    channel = log.channel(f"knock_signal_{cylinder}")
    band = band_of(bore_m)
    rate = rate_hz(channel)
    if band[1] >= rate / 2.0:
        raise EvidenceError(
            f"{channel.title} was sampled at {rate / 1e3:.1f} kHz, and the bore's tone lies at {sum(band) / 2e3:.1f} kHz",
            remedy="Sample it at over twice that.",
        )
    tone = 0.5 * (band[0] + band[1])
    beside = [(low * tone, high * tone) for low, high in BESIDE]
    times, levels, noises, lengths = [], [], [], []
    for a, b in windows(channel):
        begins = float(channel.time_s[a])
        if start_s <= begins <= end_s:
            times.append(begins)
            lengths.append((b - a) / rate)
            signal = channel.values[a:b]
            levels.append(band_rms(signal, rate, band))
            noises.append(float(np.sqrt(np.mean([band_density(signal, rate, each) for each in beside]))))
    t, level, noise, length = np.array(times), np.array(levels), np.array(noises), np.array(lengths)
    speed = log.at("engine_speed", t) if t.size else t
    good = np.isfinite(speed) & (speed > 0.0) & (level > 0.0) & (noise > 0.0)
    t, level, speed, noise, length = t[good], level[good], speed[good], noise[good], length[good]
    if t.size < LEAST_WINDOWS:
        raise EvidenceError(
            f"{channel.title} holds {t.size} cycles there: too few for a background", remedy="Record more."
        )
    wide, wide_beside = band[1] - band[0], sum(high - low for low, high in beside)
    ratio = level**2 / wide / noise**2
    chance, expected = _chance(ratio, 2.0 * HANN * wide * length, 2.0 * HANN * wide_beside * length)
    return Cycles(cylinder, band, t, speed, level, np.sqrt(ratio / expected), chance, expected)


def _chance(ratio: FloatArray, freedom: FloatArray, freedom_beside: FloatArray) -> tuple[FloatArray, float]:
    """The chance that a ratio of two noise powers is so high, by the F distribution of their degrees of freedom, and the
    ratio that is expected of noise. Where the block colours its noise, that is told by the quietest of the cycles.
    """
    from scipy.special import fdtrc, fdtri  # not needed at start

    usual = fdtri(np.median(freedom), np.median(freedom_beside), QUIET_SHARE)
    expected = float(np.quantile(ratio, QUIET_SHARE) / usual)
    return np.asarray(fdtrc(freedom, freedom_beside, ratio / expected)), expected


def spectrogram(log: Log, cylinder: int, bands_rpm: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Frequencies (Hz) and the mean power density (V2/Hz) of a cylinder's windows by band of engine speed: shape
    (bands, frequencies); NaN for a band without windows. `bands_rpm` are the edges. Raises EvidenceError.
    """
    channel = log.channel(f"knock_signal_{cylinder}")
    rate = rate_hz(channel)
    found = windows(channel)
    speed = log.at("engine_speed", np.array([float(channel.time_s[a]) for a, _ in found]))
    size = int(np.median([b - a for a, b in found]))
    hz = np.asarray(np.fft.rfftfreq(size, 1.0 / rate), dtype=np.float64)
    power: FloatArray = np.full((bands_rpm.size - 1, hz.size), np.nan)
    place = np.searchsorted(bands_rpm, speed, side="right") - 1
    for n in range(bands_rpm.size - 1):
        rows = [channel.values[a:b] for (a, b), p in zip(found, place, strict=True) if p == n]
        if rows:
            power[n] = np.mean([_density(r, size, rate) for r in rows], axis=0)
    return hz, power


def _density(signal: FloatArray, size: int, rate: float) -> FloatArray:
    part = signal[:size] if signal.size >= size else np.pad(signal, (0, size - signal.size))
    taper = np.hanning(size)
    spectrum = np.abs(np.fft.rfft((part - part.mean()) * taper)) ** 2
    density = spectrum / (rate * np.sum(taper**2))
    density[1:] *= 2.0
    return np.asarray(density)


def slowed_wav(channel: Channel, slower: float) -> bytes:
    """The windows of a cylinder one after the other as a WAV file of 16 bits, played so many times slower.

    The loudest sample is full scale. Raises EvidenceError for a rate that no player takes.
    """
    import io
    import wave

    rate = round(rate_hz(channel) / slower)
    if not 1000 <= rate <= 192_000:
        raise EvidenceError(f"{rate} samples a second cannot be played", remedy="Slow it down otherwise.")
    parts = [channel.values[a:b] for a, b in windows(channel)]
    signal = np.concatenate(parts)
    peak = float(np.max(np.abs(signal))) or 1.0
    out = io.BytesIO()
    with wave.open(out, "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(rate)
        file.writeframes(np.round(signal / peak * 32767.0).astype("<i2").tobytes())
    return out.getvalue()
