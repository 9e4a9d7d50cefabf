"""The ice racer's job: it came with somebody's map, far too rich at the top and lean at half throttle.

Stock lies flat on the wideband's rich end above two thirds of its speed. A1 leans out the top at full throttle; A2
mends half throttle and moves the intake switch up to where the lengths cross: released. Short stacks and an open
filter are fitted, the same fuel leaves B1 lean where it now breathes better, and the draft feeds it there.
"""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.table import Table
from yarvic.core.physics.air import Air
from yarvic.demo.story import DemoJob, Story, scaled

FROST = Air(98_600.0, 266.15, 0.78)
CLEAR = Air(99_200.0, 271.15, 0.60)
PART_THROTTLE = (0.25, 0.5, 0.75)
RUNS = 18


def _told(story: Story) -> None:
    story.weather(FROST, 9.0)
    story.flash("Stock")
    story.measure("Stock")
    for throttle in PART_THROTTLE:
        story.measure("Stock", 1, throttle=throttle)
    first = story.revise("Stock", "leaner at the top, full throttle", lean_the_top)
    story.flash(first)
    story.measure(first)
    second = story.revise(
        first, "fuel at half throttle; intake switch to 9,050 rpm", feed_the_middle, intake_switch=9050
    )
    story.flash(second)
    story.measure(second)
    for throttle in PART_THROTTLE:
        story.measure(second, 1, throttle=throttle)
    story.waive(
        second,
        "check Knock",
        "spark is as it came; listened to with a microphone on the block over all pulls, nothing heard",
    )
    story.release(second)
    story.wait(days=9)
    story.fit(
        "short stacks, open filter",
        {"intake": "short stacks", "filter": "open filter"},
        parts=("short-stacks", "open-filter"),
        engine_hours=61.0,
        cost=195.0,
        labour_hours=2.3,
    )
    third = story.revise(
        second, "intake switch to 9,600 rpm for the short stacks", lambda maps: [], intake_switch=9600
    )
    story.weather(CLEAR, 10.0)
    story.flash(third)
    story.measure(third)
    story.edit(third, _feed_the_stacks)


def lean_the_top(maps: Calibration) -> list[tuple[Table, str]]:
    """What was far too rich at full throttle."""
    table = maps.table("injection_time")
    wide = np.interp(table.y.values, [35.0, 70.0], [0.0, 1.0])
    leaner = scaled(table, [7200, 8500, 9800, 11500], [1.0, 1 / 1.15, 1 / 1.30, 1 / 1.30], wide)
    return [(leaner, "fuel down to what lambda showed")]


def feed_the_middle(maps: Calibration) -> list[tuple[Table, str]]:
    """Fuel at half throttle, and for the long intake."""
    table = maps.table("injection_time")
    half = np.exp(-(((table.y.values - 52.0) / 17.0) ** 2))
    speeds = [3500.0, 5000.0, 7400.0, 8600.0, 9300.0, 11000.0]
    fed = scaled(table, speeds, [1.0, 1 / 0.885, 1 / 0.885, 1 / 0.97, 1 / 0.92, 1 / 0.895], half)
    # The long intake fills on to 9,050 rpm: it gets the fuel that the short one did not need.
    open_enough = np.interp(table.y.values, [20.0, 75.0], [0.0, 1.0])
    longer = scaled(fed, [7500, 8000, 8500, 9000, 9500], [1.0, 1.128, 1.095, 1.014, 1.0], open_enough)
    return [(longer, "fuel up to what lambda showed, and for the long intake to 9,050 rpm")]


def _feed_the_stacks(maps: Calibration) -> list[tuple[Table, str]]:
    table = maps.table("injection_time")
    wide = np.interp(table.y.values, [40.0, 75.0], [0.0, 1.0])
    speeds, shares = [7500, 8000, 8500, 9000, 9500, 10000], [0.95, 0.97, 1.03, 1.10, 1.05, 0.98]
    return [(scaled(table, [*speeds, 11000], [*shares, 1.02], wide), "fuel for the short stacks")]


FIELDFARE = DemoJob(
    "fieldfare",
    "Fieldfare, ice-race twin, 0.47 naturally aspirated",
    datetime(2024, 1, 9, 9, 0, tzinfo=UTC),
    RUNS,
    _told,
)
