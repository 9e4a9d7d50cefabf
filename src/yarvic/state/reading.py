"""What a reading is."""

from __future__ import annotations

from dataclasses import dataclass

from yarvic.core.checks.finding import Where


@dataclass(frozen=True)
class Reading:
    """One card: severity, a sentence, the numbers, a bar to the limit, and where a click leads.

    `panel` is a part of the step that it leads to.
    """

    severity: str
    sentence: str
    numbers: str = ""
    share: float | None = None
    watch_share: float | None = None
    where: Where | None = None
    step: str = ""
    panel: str = ""
