"""Raw signals of knock as engines of another make have them: other tones, other modes, any share of loud cycles."""

import numpy as np

from yarvic.bench.knock_sensor import BACKGROUND_EXPONENT, BACKGROUND_V, RATE_HZ, RING_S, burst
from yarvic.bench.plant import load_plant
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.physics.knock import knock_tones

ENGINE = load_plant("ptarmigan").engine


def rung(loud, speeds, rng, tone=1.0, modes=(1.0, 0.45, 0.25)):
    """Windows with a knock that is `loud` times the noise, at a tone beside Draper's, in some of its modes."""
    parts = []
    for strength, speed in zip(loud, speeds, strict=True):
        v = burst(ENGINE, float(speed), 0.0, 12.0, 0, rng)
        since = np.arange(v.size) / RATE_HZ - 7.0 / (6.0 * speed)
        ring = np.where(since >= 0.0, np.exp(-np.maximum(since, 0.0) / RING_S), 0.0)
        level = BACKGROUND_V * (speed / 1000.0) ** BACKGROUND_EXPONENT
        for hz, share in zip(knock_tones(ENGINE.bore_m), modes, strict=True):
            v = v + strength * level * share * ring * np.sin(2.0 * np.pi * float(hz) * tone * since)
        parts.append(v)
    return parts


def four(strengths, seed=1, speeds=None, throttle=None, **ring):
    """A log of four cylinders, each with its own strengths of knock cycle by cycle."""
    rng = np.random.default_rng(seed)
    speeds = np.linspace(2000.0, 6200.0, len(strengths[0])) if speeds is None else speeds
    starts = np.concatenate(([0.0], np.cumsum(120.0 / speeds)[:-1]))
    found = {"engine_speed": Channel("engine_speed", "Engine speed", "engine speed", "rpm", starts, speeds)}
    if throttle is not None:
        found["throttle"] = Channel("throttle", "Throttle", "ratio", "", starts, throttle)
    for n, loud in enumerate(strengths, 1):
        parts = rung(loud, speeds, rng, **ring)
        t = np.concatenate([at + np.arange(v.size) / RATE_HZ for at, v in zip(starts, parts, strict=True)])
        kind = CHANNELS[f"knock_signal_{n}"]
        found[kind.key] = Channel(kind.key, kind.title, kind.quantity, "V", t, np.concatenate(parts))
    return Log(found)


QUIET = np.zeros(240)
SOME = np.where(np.arange(240) % 10 == 0, 10.0, 0.0)
MOST = np.where(np.arange(240) % 3 != 0, 8.0, 0.0)
