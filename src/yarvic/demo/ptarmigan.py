"""The rescue buggy's job: from its first pull over a released map to the one that falls short, and a draft in hand.

Stock runs a little lean at the top; A1 mends that and is released. Then a front intercooler is fitted, B1 asks for
more boost, and in warm weather cylinder 2 knocks while the rail begins to sag.
"""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.table import Table
from yarvic.core.physics.air import Air
from yarvic.demo.story import DemoJob, Story, scaled

MILD = Air(97_420.0, 290.15, 0.52)
WARM = Air(96_980.0, 302.65, 0.41)
RUNS = 9


def _told(story: Story) -> None:
    story.weather(MILD, 9.0)
    story.flash("Stock")
    story.measure("Stock")
    first = story.revise("Stock", "fuel to target above 4,500 rpm", fuel_to_target)
    story.flash(first)
    story.measure(first)
    story.release(first)
    story.wait(days=2)
    story.fit(
        "front intercooler",
        {"intercooler": "front intercooler"},
        parts=("front-intercooler",),
        odometer_km=18_420.0,
        cost=640.0,
        labour_hours=3.5,
    )
    second = story.revise(first, "boost to 210 kPa for the front intercooler", _more_boost)
    story.wait(hours=3)
    story.weather(WARM, 13.0)
    story.flash(second)
    story.measure(second)
    story.edit(second, lambda maps: [], shutters_open_above=25.0)


def fuel_to_target(maps: Calibration) -> list[tuple[Table, str]]:
    """Fuel at the top to what lambda showed."""
    table = maps.table("cylinder_filling")
    growth = scaled(table, [4499.0, 4500.0, 5500.0, 6000.0, 7000.0], [1.0, 1.006, 1.022, 1.032, 1.036])
    return [(growth, "filling up to what lambda showed")]


def _more_boost(maps: Calibration) -> list[tuple[Table, str]]:
    boost = maps.table("boost_target")
    open_wide = (boost.y.values >= 75.0).astype(np.float64)
    raised = scaled(boost, [1500, 2500, 4500, 5500, 6500, 7000], [1.06, 1.13, 1.14, 1.13, 1.10, 1.08], open_wide)
    limit = maps.table("torque_limit")
    return [
        (raised, "boost target raised at full throttle"),
        (limit.with_values(np.full_like(limit.values, 240.0)), "torque request limit to 240 N m"),
    ]


PTARMIGAN = DemoJob(
    "ptarmigan", "Ptarmigan, rescue buggy, 1.4 turbo petrol", datetime(2024, 3, 4, 8, 0, tzinfo=UTC), RUNS, _told
)
