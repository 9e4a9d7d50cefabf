"""Numbers as a small picture: a cell is a pixel, tinted from the least to the greatest."""

from __future__ import annotations

import numpy as np
from PyQt6.QtGui import QImage

from yarvic.core.physics import FloatArray
from yarvic.desk.theme import tokens

TINTS, FLAT = 64, 0.4


def tinted(values: FloatArray, low: float, high: float) -> QImage:
    """A block of numbers as a picture of one pixel a cell."""
    t = tokens()
    tints = np.array([t.ramp(n / (TINTS - 1)).rgb() for n in range(TINTS)], dtype=np.uint32)
    share = np.nan_to_num((values - low) / (high - low) if high > low else np.full(values.shape, FLAT))
    pixels = np.ascontiguousarray(tints[np.clip(share * (TINTS - 1), 0, TINTS - 1).astype(np.intp)])
    rows, columns = pixels.shape
    return QImage(pixels.tobytes(), columns, rows, 4 * columns, QImage.Format.Format_RGB32).copy()
