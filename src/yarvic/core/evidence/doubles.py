"""Columns of one log that name the same channel: one is taken, the others are kept apart, and what differs is asked."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from yarvic.core.evidence.bounds import glance
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.mapping import AFR, PHI, Column
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.physics import FloatArray
from yarvic.core.units import unit

# Two columns show the same where nine in ten of their numbers are within this share of their span. Our choice.
SAME = 0.03
# A column with less than this share of the numbers of its twin is empty beside it. Our choice.
EMPTY = 0.1


@dataclass(frozen=True)
class _Of:
    """A column with where it stands."""

    place: int
    raw: RawColumn
    meant: Column


def settle_doubles(raw: RawLog, columns: list[Column]) -> list[Column]:
    """The columns with no channel named twice; the first of several of a family (bank 1) stands where one alone would."""
    found = list(columns)
    groups: dict[str, list[_Of]] = {}
    for i, (column, meant) in enumerate(zip(raw.columns, columns, strict=True)):
        if meant.channel:
            groups.setdefault(meant.channel, []).append(_Of(i, column, meant))
    for group in groups.values():
        if len(group) > 1:
            _settle(group, found, raw.time)
    _first_of_several(found)
    return found


def _settle(group: list[_Of], found: list[Column], time: RawColumn | None) -> None:
    # A column that holds hardly a number never stands for one that does, whatever it is called; of two rasters of one
    # signal the finer one is taken.
    most = max(_count(o) for o in group)
    best = min(
        group,
        key=lambda o: (
            _count(o) < EMPTY * most,
            bool(o.meant.question),
            o.meant.how != "confirmed",
            -o.meant.confidence,
            o.meant.unit == AFR,
            -_count(o),
        ),
    )
    differs = [o for o in group if o is not best and not _alike(best, o, time)]
    for o in group:
        if o is best:
            continue
        if _count(o) < EMPTY * most:
            shown = f"{_count(o):,} numbers" if _count(o) else "no number"
            found[o.place] = o.meant.left_aside(f"holds {shown}; '{best.meant.name}' names the same and was taken")
            continue
        why = f"names {CHANNELS[o.meant.channel].title.lower()} as '{best.meant.name}' does, which was taken"
        found[o.place] = o.meant.left_aside(why)
    if differs and best.meant.how != "confirmed" and not best.meant.question:
        others = " and ".join(f"'{o.meant.name}'" for o in differs[:2])
        question = f"{others} names the same and shows something else: say which one it is"
        found[best.place] = best.meant.changed(question=question, about="column", confidence=0.5, how="guessed")


def _count(o: _Of) -> int:
    """How many numbers a column holds."""
    return int(np.count_nonzero(np.isfinite(o.raw.values)))


def _on_one_clock(one: _Of, other: _Of, time: RawColumn | None) -> tuple[FloatArray, FloatArray] | None:
    """The numbers of two columns at the same moments: of two rasters at those of the coarser; None without stamps."""
    if one.raw.time_s is other.raw.time_s and one.raw.values.shape == other.raw.values.shape:
        return _canonical(one, glance(one.raw.values)), _canonical(other, glance(other.raw.values))
    a, b = _canonical(one, one.raw.values), _canonical(other, other.raw.values)
    t, u = (
        o.raw.time_s if o.raw.time_s is not None else time.values if time is not None else None for o in (one, other)
    )
    if t is None or u is None or t.shape != a.shape or u.shape != b.shape or min(t.size, u.size) < 2:
        return None
    if t.size >= u.size:
        return np.interp(u, t, a, left=np.nan, right=np.nan), b
    return a, np.interp(t, u, b, left=np.nan, right=np.nan)


def _alike(one: _Of, other: _Of, time: RawColumn | None = None) -> bool:
    """Whether two columns show the same, as far as what is known of them says; a zero that is elsewhere does not count."""
    both = _on_one_clock(one, other, time)
    if both is None:
        return False
    a, b = both
    good = np.isfinite(a) & np.isfinite(b)
    if not good.any():
        return True
    a, b = a[good], b[good]
    free = {one.meant.reference, other.meant.reference} == {"absolute", "gauge"}
    scaled = bool({AFR, PHI} & {one.meant.unit, other.meant.unit}) and one.meant.unit != other.meant.unit
    unknown = not one.meant.unit or not other.meant.unit
    if scaled or unknown:
        return bool(np.ptp(a) == 0.0 or np.ptp(b) == 0.0 or abs(float(np.corrcoef(a, b)[0, 1])) > 0.98)
    apart = np.abs(a - b - (np.median(a - b) if free else 0.0))
    span = max(float(np.ptp(a)), float(np.ptp(b)), 1e-9)
    level = max(abs(float(np.median(a))), abs(float(np.median(b))))
    return float(np.percentile(apart, 90)) <= max(SAME * span, 2e-3 * level)


def _canonical(o: _Of, values: FloatArray) -> FloatArray:
    values = values * o.meant.sign
    if o.meant.unit in ("", AFR, PHI):
        return values
    return np.asarray(values * unit(o.meant.unit).factor + unit(o.meant.unit).offset)


def _first_of_several(found: list[Column]) -> None:
    """Give the first bank, sensor or number of a family the bare channel where no column has it."""
    there = {c.channel for c in found}
    families: dict[str, list[int]] = {}
    for i, c in enumerate(found):
        kind = CHANNELS.get(c.channel)
        if kind is not None and kind.which and kind.family not in there:
            families.setdefault(kind.family, []).append(i)
    for family, places in families.items():
        first = min(places, key=lambda i: (len(found[i].channel), found[i].channel))
        which = CHANNELS[found[first].channel].which.replace("_", " ")
        first_of = f"the first of {len(places)}" if len(places) > 1 else "the only one there is"
        reason = f"{found[first].reason}; {which} stands for {first_of}"
        found[first] = found[first].changed(channel=family, reason=reason)
