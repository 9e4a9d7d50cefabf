"""What the lines of the traces are, in words, and what cannot be drawn."""

from __future__ import annotations

from yarvic.core.evidence.align import WAYS
from yarvic.core.evidence.quality import quality
from yarvic.state.results import PullResult


def legend(
    shown: PullResult,
    way: str,
    behind: list[str],
    lost: list[str],
    not_computed: list[str],
    *,
    several: bool,
    by_hand: bool,
) -> str:
    """What the lines are, and what cannot be drawn; `several` where a pane has more than one, `by_hand` where a person set
    the ends of the pull.
    """
    name = f" Dashed ochre: {', '.join(behind)}." if behind else ""
    what = f"{quality(shown.log, shown.pull).sentence}. " if shown.sweeps and not shown.evidence.is_sheet else ""
    what += "Its ends were set by hand. " if by_hand else ""
    if shown.whole:
        what = "No pull was found in it; what needs none is judged. "
    shaded = "" if shown.whole else "Shaded: what is judged. "
    missing = f" Never come to {WAYS[way]}: {', '.join(lost)}." if lost else ""
    faults = f" Not computed: {'; '.join(not_computed)}." if not_computed else ""
    cylinders = " Of several in a pane in turn: dotted, solid blue, dashed." if several else ""
    return (
        f"{what}{shaded}Dashed ink: target or limit of the unit.{name}{cylinders}{missing}{faults}"
        " The mouse or the arrows read values; the wheel zooms."
    )
