"""The byte order of an image: that in which more wide numbers rise by even steps, as axes and the rows of tables do."""

from __future__ import annotations

from typing import Literal

import numpy as np

from yarvic.core.calibration.storing import SIZES
from yarvic.core.calibration.undescribed.axes_alone import LEAST_ALONE, evenly
from yarvic.core.calibration.undescribed.behind_axes import MOST_POINTS
from yarvic.core.calibration.undescribed.numbers_seen import NumbersSeen

Order = Literal["big", "little"]
SIGNS: dict[Order, str] = {"big": ">", "little": "<"}
SAMPLE, SAMPLES = 1 << 16, 16  # bytes by which it is told, and at how many places
WIDE = ("u16", "f32")  # types of numbers by which it is told
# How much steps may change, of the mean one. High bytes of one number before low ones of the next rise too, less evenly.
UNEVEN = 0.35


def likely_order(data: bytes) -> Order:
    """The byte order in which more wide numbers rise evenly, by some parts of the image; big where none do."""
    starts = sorted({int(s) for s in np.linspace(0, max(len(data) - SAMPLE, 0), SAMPLES)})
    sample = b"".join(data[s : s + SAMPLE] for s in starts) if len(data) > SAMPLE * SAMPLES else data
    big, little = (_rising_evenly(NumbersSeen(sample, sign)) for sign in SIGNS.values())
    return "big" if big >= little else "little"


def _rising_evenly(seen: NumbersSeen) -> int:
    """How many numbers continue runs that rise by even steps."""
    found = 0
    for storage in WIDE:
        for phase in range(SIZES[storage]):
            view = seen.seen(storage, phase)
            last = np.flatnonzero(view.ends & (view.rising >= LEAST_ALONE) & (view.rising <= MOST_POINTS))
            counts = view.rising[last].astype(np.int64)
            even = evenly(view.numbers, last - counts + 1, counts, UNEVEN)
            found += int((counts[even] - LEAST_ALONE + 1).sum())
    return found
