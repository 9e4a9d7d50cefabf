"""A log as CSV: a header of names with their units in brackets, one row per time stamp."""

from __future__ import annotations

import io

import numpy as np

from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Log
from yarvic.core.formats.plain_cell import plain_cell
from yarvic.core.physics import FloatArray
from yarvic.core.units import from_canonical, to_places, unit


def write_csv_log(log: Log, step_s: float | None = None) -> str:
    """A log as CSV text, all channels on the time stamps of the fastest one (or an even `step_s`), in usual units.

    Raw sensor signals are left out: they stand in no table beside others.
    """
    import polars as pl

    tabled = {k: c for k, c in log.channels.items() if k not in CHANNELS or not CHANNELS[k].waveform}
    fastest = max(tabled.values(), key=lambda c: c.time_s.size).time_s
    times = fastest if step_s is None else np.arange(fastest[0], fastest[-1] + step_s / 2, step_s)
    columns: dict[str, FloatArray] = {"time [s]": to_places(times, 4)}
    for key, c in tabled.items():
        if key in CHANNELS:
            label = CHANNELS[key].unit
            places = unit(label).decimals + 2
            # An absolute pressure says so, or whoever reads it would have to guess.
            unit_words = f"{label} abs" if CHANNELS[key].reference == "absolute" else label
            columns[f"{c.title} [{unit_words}]"] = to_places(from_canonical(log.at(key, times), label), places)
        else:
            columns[f"{c.title} [{c.unit}]" if c.unit else c.title] = log.at(key, times)
    out = io.BytesIO()
    pl.DataFrame({plain_cell(name): values for name, values in columns.items()}).fill_nan(None).write_csv(out)
    return out.getvalue().decode("utf-8")
