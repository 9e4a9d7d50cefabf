"""Numbers of a channel with their unit, and with what is in doubt about them: a guess is never shown as if it were known."""

from __future__ import annotations

import numpy as np

from yarvic.core.checks.finding import amount
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel
from yarvic.core.physics import FloatArray
from yarvic.core.units import UNITS, from_canonical

UNKNOWN_RATIO = "AFR of unknown fuel"


def _ratio(channel: Channel) -> bool:
    return channel.doubt is not None and channel.doubt.about == "fuel"


def in_unit(channel: Channel, values: FloatArray, unit: str) -> FloatArray:
    """Values as they are drawn in a unit; as they are where the channel has none of ours, or is a ratio of unknown fuel."""
    known = channel.key in CHANNELS and unit in UNITS and not _ratio(channel)
    return np.asarray(from_canonical(values, unit)) if known else values


def axis_words(channel: Channel, unit: str) -> str:
    """What stands at an axis of the channel."""
    if _ratio(channel):
        return UNKNOWN_RATIO
    return f"{unit} ?" if channel.doubt is not None else unit


def amount_words(channel: Channel, value: float, unit: str) -> str:
    """A value of the channel as it is read."""
    if channel.key not in CHANNELS:
        return f"{value:.4g} {channel.unit}".rstrip()
    if _ratio(channel):
        return f"{value:.2f} {UNKNOWN_RATIO}"
    return f"{amount(value, unit)}{' ?' if channel.doubt is not None else ''}"
