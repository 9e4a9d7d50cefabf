"""The patrol wagon's job: nothing of it is simulated. Its logs and its dyno sheet come as files and wait to be dropped.

Stock was logged by one logger; A1 asks for more boost and for spark that cylinder 4 does not bear on a warm evening.
"""

from __future__ import annotations

from datetime import UTC, datetime

from yarvic.core.calibration.roles import propose, with_roles
from yarvic.demo.outside import more_boost
from yarvic.demo.story import AUTHOR, DemoJob, Story


def _told(story: Story) -> None:
    job = story.job
    likeliest = {p.role: p.key for p in reversed(propose(job.layout))}
    layout = with_roles(job.layout, {role: [key] for role, key in likeliest.items()}, AUTHOR)
    job.save_layout(layout, f"{AUTHOR} confirmed what {len(likeliest)} tables and values do.")
    story.wait(hours=2)
    why = "boost to 205 kPa, 3 deg more spark under load"
    story.revise("Stock", why, lambda maps: more_boost(maps, likeliest))


WHINCHAT = DemoJob(
    "whinchat", "Whinchat, forest-fire patrol wagon, 2.0 turbo petrol", datetime(2024, 5, 13, 8, 0, tzinfo=UTC), 0,
    _told, outside=True,
)  # fmt: skip
