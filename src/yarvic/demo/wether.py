"""The supply carrier's job: it smokes as it came; the clean map is released; the strong one breaks its gearbox's tag.

Stock (rating B with somebody's smoke limit) smokes at low speed. A1 holds the fuel to the air and starts injection
earlier: released. With a lift pump fitted, B1 takes the family's rating D: more than the gearbox's tag, and hot on
the long climb. The draft goes back to rating C.
"""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np

from yarvic.bench.vehicles import ratings
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.table import Table
from yarvic.core.physics.air import Air
from yarvic.demo.story import Change, DemoJob, Story, scaled

COLD = Air(94_300.0, 268.15, 0.70)
THAW = Air(94_050.0, 281.15, 0.62)
CLIMB = {
    "kind": "climb", "gear": 2, "grade": 0.21, "tow_kg": 1800.0, "climb_km_h": 18.5, "climb_s": 100.0,
}  # fmt: skip
RUNS = 12


def _told(story: Story) -> None:
    story.weather(COLD, 8.0)
    story.flash("Stock")
    story.measure("Stock")
    story.measure("Stock", 1, **CLIMB)
    first = story.revise("Stock", "fuel held to the air, earlier start at low speed", clean)
    story.flash(first)
    story.measure(first)
    story.measure(first, 1, **CLIMB)
    story.release(first)
    story.wait(days=5)
    story.fit(
        "lift pump", {"fuel": "lift pump"}, parts=("lift-pump",), engine_hours=3_212.0, cost=410.0, labour_hours=2.5
    )
    second = story.revise(first, "rating D for the long grade", _rating("D"))
    story.weather(THAW, 12.0)
    story.flash(second)
    story.measure(second)
    story.measure(second, 1, **CLIMB)
    story.edit(second, _rating("C"))


def clean(maps: Calibration) -> list[tuple[Table, str]]:
    """Fuel held to the air, and an earlier start of injection."""
    smoke, start = maps.table("smoke_limit"), maps.table("start_of_injection")
    held = scaled(smoke, [800, 1400, 2200, 3000, 4200], [0.80, 0.82, 0.88, 0.90, 0.90])
    more = np.interp(start.x.values, [800, 1400, 2200, 3600, 4200], [1.0, 1.8, 1.4, 0.8, 0.6])
    loaded = np.interp(start.y.values, [10.0, 35.0, 95.0], [0.0, 1.0, 1.0])
    earlier = start.values + loaded[:, None] * more[None, :]
    return [
        (held, "fuel held to lambda 1.35"),
        (start.with_values(np.round(earlier, 2)), "start of injection earlier under load"),
    ]


def _rating(key: str) -> Change:
    def change(maps: Calibration) -> list[tuple[Table, str]]:
        limit = maps.table("torque_limit")
        rating = ratings("wether")[key]
        curve = np.interp(limit.x.values, rating.speed_rpm, rating.torque_nm)
        values = np.tile(curve, (limit.y.values.size, 1))
        return [(limit.with_values(values), f"torque limit of {rating.title}")]

    return change


WETHER = DemoJob(
    "wether", "Wether, supply carrier, 3.2 turbo diesel", datetime(2024, 11, 18, 7, 30, tzinfo=UTC), RUNS, _told
)
