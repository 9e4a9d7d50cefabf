"""The patrol wagon's job: nothing of it is simulated. Its logs and its dyno sheet come as files and wait to be dropped.

Stock was logged by one logger; A1 asks for more boost and for spark that cylinder 4 does not bear on a warm evening.
"""

from __future__ import annotations

from datetime import UTC, datetime

from yarvic.demo.outside import more_boost
from yarvic.demo.story import DemoJob, Story


def _told(story: Story) -> None:
    story.wait(hours=2)
    story.revise("Stock", "boost to 205 kPa, 3 deg more spark under load", more_boost)


WHINCHAT = DemoJob(
    "whinchat", "Whinchat, forest-fire patrol wagon, 2.0 turbo petrol", datetime(2024, 5, 13, 8, 0, tzinfo=UTC), 0,
    _told, outside=True,
)  # fmt: skip
