"""Knock from the raw signal of a sensor: the energy in the bore's tone, cycle by cycle, against a background that follows
engine speed.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import MOST_CYLINDERS
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.physics import FloatArray
from yarvic.core.physics.knock import knock_tones

# The band about a tone, as a share of it to both sides. Our choice.
BAND_SHARE = 0.12
# Gas is hotter or colder than the formula takes it, and the tone goes with it: three bands lie side by side. Our choice.
TONES = (0.86, 1.0, 1.14)
# The block's own noise is read where no tone of the first three modes can lie, as shares of the first; the other two
# where the signal was sampled too slowly for that.
BESIDE = ((0.50, 0.74), (2.50, 2.90))
BESIDE_SLOW = ((0.50, 0.74), (1.29, 1.41))
# A window of one cycle ends where the signal is silent for longer than so many samples.
APART_SAMPLES = 4.0
LEAST_SAMPLES, LEAST_WINDOWS = 32, 20
# A cycle that noise would make so loud once in so many counts as knock. Our choice.
FALSE_ALARM_RATE = 1e-4
# About the second mode a block may ring by itself, which is no noise: there so many times rarer. Our choice, tried with
# the resonances of the simulated block: 8 runs of 300 quiet cycles.
RARER_SECOND = 100.0
# The shares of the quiet cycles by which their level and spread are told; they lie low, for the others may knock. Ours.
QUIET_LOW, QUIET_HIGH = 0.05, 0.25
# By how many independent numbers less than a noise has the quiet cycles may spread, and one step more is taken. Ours.
FREEDOMS = (1.0, 0.8, 0.64, 0.5, 0.4, 0.32, 0.25, 0.2, 0.15, 0.1)
# A cycle so unlikely is left out where the quiet ones are placed, and how often that is done anew. Our choice.
LOUD, ROUNDS = 0.01, 12
# Below so much throttle nothing knocks: what is heard there is the block. Our choice.
LIGHT_THROTTLE = 0.35
MOST_LIGHT = 200  # windows of a cylinder at light load that are listened to beside those asked about
# From so many times the power of the other cylinders' quiet ones on, one has no quiet cycle to be held against. Ours.
MOST_APART = 2.0
# A Hann window leaves two thirds of the independent numbers of a periodogram (Harris 1978, Proc. IEEE 66, 51: equivalent
# noise bandwidth 1.5).
HANN = 2.0 / 3.0


@dataclass(frozen=True)
class Cycles:
    """What was heard of one cylinder: for each cycle its time (s), engine speed (rpm), rms in the band (V), that over what
    the noise beside the tones leads one to expect in the loudest band, and the chance that noise alone is so loud. By
    chance a share `false_alarm_rate` of quiet cycles knocks.
    """

    cylinder: int
    band_hz: tuple[float, float]
    time_s: FloatArray
    speed_rpm: FloatArray
    level_v: FloatArray
    intensity: FloatArray
    chance: FloatArray
    colour: (
        float  # by how many times in power the bands are louder where it is quiet than beside, or than at light load
    )
    tone_hz: FloatArray  # the middle of the loudest band
    apart: float = 1.0  # by how many times its quiet cycles are louder in a band than those of the other cylinders
    false_alarm_rate: float = FALSE_ALARM_RATE

    @property
    def knocks(self) -> NDArray[np.bool_]:
        """Which cycles knock."""
        return np.asarray(self.chance < self.false_alarm_rate)

    @property
    def expected_by_chance(self) -> float:
        """How many cycles of these would be past the threshold without any knock."""
        return self.false_alarm_rate * self.time_s.size

    @property
    def usual_tone_hz(self) -> float:
        """The tone of most of the cycles that knock; NaN where none does."""
        tones = self.tone_hz[self.knocks]
        return float(np.median(tones)) if tones.size else float("nan")


def band_of(bore_m: float) -> tuple[float, float]:
    """The band about the first mode of a bore, Hz. Draper's formula: `physics.knock.knock_tones`."""
    tone = float(knock_tones(bore_m)[0])
    return tone * (1.0 - BAND_SHARE), tone * (1.0 + BAND_SHARE)


def listened_to(bore_m: float) -> tuple[float, float]:
    """From where to where the first mode is looked for, Hz."""
    tone = float(knock_tones(bore_m)[0])
    return tone * TONES[0] * (1.0 - BAND_SHARE), tone * TONES[-1] * (1.0 + BAND_SHARE)


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


@dataclass(frozen=True)
class _Bands:
    """The bands that are listened to, in Hz, first mode and second; and those that are listened to for the noise."""

    tones: tuple[tuple[float, float], ...]
    second: NDArray[np.bool_]
    beside: tuple[tuple[float, float], ...]

    @property
    def widths(self) -> FloatArray:
        """How wide each is."""
        return np.array([high - low for low, high in self.tones])


@dataclass(frozen=True)
class _Heard:
    """The windows of one cylinder: time, speed, length, level in the tone's band, and each band's power over the noise."""

    time_s: FloatArray
    speed_rpm: FloatArray
    length_s: FloatArray
    level_v: FloatArray
    ratio: FloatArray

    def where(self, keep: NDArray[np.bool_]) -> _Heard:
        """Some of them."""
        return _Heard(
            *(part[keep] for part in (self.time_s, self.speed_rpm, self.length_s, self.level_v, self.ratio))
        )


def heard(log: Log, cylinder: int, bore_m: float, start_s: float = -np.inf, end_s: float = np.inf) -> Cycles:
    """What the raw signal of a cylinder says between two times. Raises EvidenceError where it says too little."""
    found = hear(log, bore_m, start_s, end_s, (cylinder,))[cylinder]
    if isinstance(found, EvidenceError):
        raise found
    return found


def hear(
    log: Log,
    bore_m: float,
    start_s: float = -np.inf,
    end_s: float = np.inf,
    cylinders: Sequence[int] = (),
    before: Callable[[int, float], None] = lambda cylinder, share: None,
) -> dict[int, Cycles | EvidenceError]:
    """What the raw signals say between two times, by cylinder (all that were recorded): its cycles, or why there are none.

    What is quiet is told by the quietest cycles of all cylinders: one that knocks in most of its cycles does not set its
    own background. Where none is quiet, what was recorded at light load says how loud the block is. `before` is called
    ahead of each cylinder with the share of the work that is done; what it raises ends the work.
    """
    recorded = [n for n in range(1, MOST_CYLINDERS + 1) if f"knock_signal_{n}" in log.channels]
    read: dict[int, _Heard] = {}
    lost: dict[int, EvidenceError] = {}
    bands: _Bands | None = None
    wanted = list(dict.fromkeys((*cylinders, *recorded)))
    for place, cylinder in enumerate(wanted):
        before(cylinder, place / len(wanted))
        try:
            channel = log.channel(f"knock_signal_{cylinder}")
            own = _bands(channel, bore_m)
            bands = bands or own
            if own.tones != bands.tones:
                raise EvidenceError(f"{channel.title} was sampled at another rate", remedy="Record all alike.")
            read[cylinder] = _listened(log, channel, bands, bore_m, (start_s, end_s))
        except EvidenceError as error:
            lost[cylinder] = error
    inside = {n: h.where((h.time_s >= start_s) & (h.time_s <= end_s)) for n, h in read.items()}
    for n in [n for n, h in inside.items() if h.time_s.size < LEAST_WINDOWS]:
        title = log.channel(f"knock_signal_{n}").title
        count = inside.pop(n).time_s.size
        lost[n] = EvidenceError(
            f"{title} holds {count} cycles there: too few for a background", remedy="Record more."
        )
    if bands is None or not inside:
        return dict(lost)
    light = [h.where(~((h.time_s >= start_s) & (h.time_s <= end_s)) & _light(log, h.time_s)) for h in read.values()]
    quiet = [_quiet(list(inside.values()), bands, b) for b in range(len(bands.tones))]
    block = [_quiet(light, bands, b)[0] for b in range(len(bands.tones))]
    found = {n: _cycles(n, h, bands, quiet, block, list(inside.values())) for n, h in inside.items()}
    return {**lost, **found}


def _bands(channel: Channel, bore_m: float) -> _Bands:
    rate, modes = rate_hz(channel), [float(tone) for tone in knock_tones(bore_m)[:2]]
    most = listened_to(bore_m)[1]
    if most >= rate / 2.0:
        raise EvidenceError(
            f"{channel.title} was sampled at {rate / 1e3:.1f} kHz, and the bore's tone lies at {modes[0] / 1e3:.1f} kHz",
            remedy="Sample it at over twice that.",
        )
    listed = [(m * s * (1 - BAND_SHARE), m * s * (1 + BAND_SHARE), m > modes[0]) for m in modes for s in TONES]
    listed = [b for b in listed if b[1] < rate / 2.0]
    fast = BESIDE[-1][1] * modes[0] < rate / 2.0
    beside = [(a * modes[0], b * modes[0]) for a, b in (BESIDE if fast else BESIDE_SLOW) if b * modes[0] < rate / 2.0]
    return _Bands(tuple((a, b) for a, b, _ in listed), np.array([second for *_, second in listed]), tuple(beside))


def _listened(log: Log, channel: Channel, bands: _Bands, bore_m: float, span: tuple[float, float]) -> _Heard:
    """The windows of a cylinder in a span, and some at light load outside of it; those without speed or without any signal
    are left out.
    """
    rate, low_high = rate_hz(channel), band_of(bore_m)
    rows: list[tuple[float, float, float, FloatArray]] = []
    found = windows(channel)
    for a, b in (found[n] for n in _worth_hearing(log, np.array([channel.time_s[a] for a, _ in found]), span)):
        power, hz = _power(channel.values[a:b], rate)
        noise = float(np.mean([_mean_in(power, hz, each) for each in bands.beside]))
        tones = np.array([_mean_in(power, hz, each) for each in bands.tones])
        inside = (hz >= low_high[0]) & (hz <= low_high[1])
        level = float(np.sqrt(power[inside].sum() * rate / (b - a)))
        with np.errstate(divide="ignore", invalid="ignore"):
            rows.append((float(channel.time_s[a]), (b - a) / rate, level, tones / noise))
    t = np.array([r[0] for r in rows])
    length, level_v = (np.array([r[n] for r in rows]) for n in (1, 2))
    ratio = np.array([r[3] for r in rows]).reshape(t.size, len(bands.tones))
    speed = log.at("engine_speed", t) if t.size else t
    good = np.isfinite(speed) & (speed > 0.0) & (level_v > 0.0) & np.isfinite(ratio).all(axis=1)
    return _Heard(t, speed, length, level_v, ratio).where(good)


def _power(signal: FloatArray, rate: float) -> tuple[FloatArray, FloatArray]:
    """The power density of a window (V2/Hz) and its frequencies: a periodogram under a Hann window."""
    taper = np.hanning(signal.size)
    spectrum = np.abs(np.fft.rfft((signal - signal.mean()) * taper)) ** 2
    hz = np.asarray(np.fft.rfftfreq(signal.size, 1.0 / rate), dtype=np.float64)
    return np.asarray(2.0 * spectrum / (rate * np.sum(taper**2))), hz


def _mean_in(power: FloatArray, hz: FloatArray, band_hz: tuple[float, float]) -> float:
    """The mean power density in a band; of one narrower than the window resolves, that of the nearest frequency."""
    inside = (hz >= band_hz[0]) & (hz <= band_hz[1])
    return float(power[inside].mean() if inside.any() else power[int(np.argmin(np.abs(hz - np.mean(band_hz))))])


def _worth_hearing(log: Log, time_s: FloatArray, span: tuple[float, float]) -> NDArray[np.intp]:
    """Which windows lie in a span, and at most so many at light load, spread over what lies outside."""
    inside = (time_s >= span[0]) & (time_s <= span[1])
    light = np.flatnonzero(~inside & _light(log, time_s))
    if light.size > MOST_LIGHT:
        light = light[np.linspace(0, light.size - 1, MOST_LIGHT).astype(np.intp)]
    return np.sort(np.concatenate((np.flatnonzero(inside), light)))


def _light(log: Log, time_s: FloatArray) -> NDArray[np.bool_]:
    """Which times are of light load; none where the throttle was not logged."""
    key = next((k for k in ("throttle", "pedal") if k in log.channels), "")
    if not key:
        return np.zeros(time_s.size, dtype=bool)
    return np.asarray(log.at(key, time_s) < LIGHT_THROTTLE)


def _freedoms(bands: _Bands, band: int, length: FloatArray) -> tuple[FloatArray, float]:
    """The independent numbers of the power in a band, and (for the usual window) of the noise beside."""
    beside = sum(high - low for low, high in bands.beside)
    return 2.0 * HANN * bands.widths[band] * length, float(2.0 * HANN * beside * np.median(length))


def _quiet(heard_of: Sequence[_Heard], bands: _Bands, band: int) -> tuple[float, float]:
    """What a band's ratio is where it is quiet, and the share of a noise's independent numbers by which it spreads.

    The cycles' lowest quantiles tell both; those that are too loud for what was found are left out, and again. NaN where
    there are too few.
    """
    from scipy.special import fdtrc, fdtri  # not needed at start

    ratio = np.concatenate([h.ratio[:, band] for h in heard_of]) if heard_of else np.empty(0)
    if ratio.size < LEAST_WINDOWS:
        return float("nan"), 1.0
    freedom, beside = _freedoms(bands, band, np.concatenate([h.length_s for h in heard_of]))
    usual = float(np.median(freedom))
    ends = [(fdtri(k * usual, beside, QUIET_LOW), fdtri(k * usual, beside, QUIET_HIGH)) for k in FREEDOMS]
    loud, expected, share = 0.0, 1.0, 1.0
    for _ in range(ROUNDS):
        low, high = np.quantile(ratio, [QUIET_LOW * (1.0 - loud), QUIET_HIGH * (1.0 - loud)])
        spread = np.log(high / low) if low > 0.0 else np.inf
        nearest = int(np.argmin([abs(np.log(b / a) - spread) for a, b in ends]))
        at = min(nearest + 1, len(FREEDOMS) - 1)
        share, expected = FREEDOMS[at], float(high / ends[at][1])
        past = float(np.mean(fdtrc(share * freedom, beside, ratio / expected) < LOUD))
        now = max(past - LOUD, 0.0) / (1.0 - LOUD)
        if abs(now - loud) < 1.0 / ratio.size:
            break
        loud = 0.5 * (loud + now)
    return expected, share


def _cycles(
    cylinder: int,
    h: _Heard,
    bands: _Bands,
    quiet: Sequence[tuple[float, float]],
    block: Sequence[float],
    all_heard: Sequence[_Heard],
) -> Cycles:
    """Each cycle by the band that says most: how much louder it is, and how likely noise is to be so loud."""
    from scipy.special import fdtrc

    chance, louder = np.empty(h.ratio.shape), np.empty(h.ratio.shape)
    for band, (expected, share) in enumerate(quiet):
        freedom, beside = _freedoms(bands, band, h.length_s)
        louder[:, band] = h.ratio[:, band] / expected
        rarer = RARER_SECOND if bands.second[band] else 1.0
        # One of several bands: the chance is that of any of them, and so it is at most their sum.
        chance[:, band] = np.minimum(fdtrc(share * freedom, beside, louder[:, band]) * rarer * len(TONES), 1.0)
    first = [n for n in range(len(quiet)) if not bands.second[n]]
    middle, best, rows = first[len(first) // 2], np.argmin(chance, axis=1), np.arange(len(chance))
    least = chance[rows, best]
    # Where no band says anything, the middle one is shown: the loudest of several is loud by choice.
    best = np.where(least < FALSE_ALARM_RATE, best, middle)
    colours = [quiet[n][0] / (block[n] if np.isfinite(block[n]) else 1.0) for n in first]
    everywhere = np.concatenate([each.ratio for each in all_heard])
    apart = np.quantile(h.ratio[:, first], QUIET_HIGH, axis=0) / np.quantile(everywhere[:, first], QUIET_HIGH, axis=0)
    middles = np.array([0.5 * (low + high) for low, high in bands.tones])
    return Cycles(
        cylinder,
        bands.tones[middle],
        h.time_s,
        h.speed_rpm,
        h.level_v,
        np.sqrt(louder[rows, best]),
        least,
        max(colours),
        middles[best],
        float(apart.max()),
    )


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
